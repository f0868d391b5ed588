"""Fits what clients are offered to a dialect: what to configure, what the device would add."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from reservoir.core.findings import Obstacle, Severity, Witness
from reservoir.core.offers import Offer
from reservoir.core.plan.edits import Edit
from reservoir.core.plan.model import PlanPath
from reservoir.core.plan.offered import OFFERED, SHORT_FOR
from reservoir.core.pools import Pool
from reservoir.core.topology import Attachment
from reservoir.core.values.addresses import format_address
from reservoir.core.values.durations import INFINITE, format_duration
from reservoir.core.values.options import decode
from reservoir.core.wording import listed
from reservoir.dialects.behaviour.device import Behaviour
from reservoir.dialects.facts.fact import NOTHING
from reservoir.dialects.sheet.model import Sheet


@dataclass(frozen=True)
class FittedOffer:
    """What a pool is configured to offer, and what clients are offered in the end."""

    fields: Mapping[str, Any]
    """The pool's fields to configure; what is left out is left to the device."""
    options: Mapping[int, bytes]
    """The options to configure by their codes."""
    offer: Offer
    obstacles: tuple[Obstacle, ...]


def fit_offer(pool: Pool, device: str, attachment: Attachment | None, sheet: Sheet) -> FittedOffer:
    """Fit what a pool offers to the device that serves it.

    Args:
        pool: The pool.
        device: The device's name.
        attachment: The device's interface in the network, if it has one.
        sheet: The device's dialect.
    """
    fitter = OfferFitter(pool, device, attachment, sheet)
    return fitter.whole(pool.offer)


@dataclass
class OfferFitter:
    """Fits an offer; what the device can't be given becomes an obstacle."""

    pool: Pool
    device: str
    attachment: Attachment | None
    sheet: Sheet

    def __post_init__(self) -> None:
        self.behaviour = Behaviour(self.sheet)
        self.obstacles: list[Obstacle] = []

    def whole(self, offer: Offer) -> FittedOffer:
        """An offer of which the device takes nothing from elsewhere."""
        fields: dict[str, Any] = {
            key: value for key, value in offer.values.items() if value != OFFERED[key].nothing
        }
        offer = self.lease(self.dns(self.gateway(offer, fields), fields), fields)
        options = dict(offer.options)
        for key, field in OFFERED.items():
            if field.option is not None and self.behaviour.offers_by_option(field):
                fields.pop(key, None)
                if offer.values[key]:
                    options[field.option] = field.encode(offer.values[key])
        said = short_fields(self.kind, options, self.sheet)
        return FittedOffer(fields | said, options, offer, tuple(self.obstacles))

    def gateway(self, offer: Offer, fields: dict[str, Any]) -> Offer:
        """The gateway, or that there is none where the device would offer its own address."""
        if offer.gateway is not None:
            fields["gateway"] = offer.gateway
            return offer
        if self.attachment is None or not self.behaviour.offers_own_gateway:
            return offer
        if self._says_none("gateway", fields):
            return offer
        own, wanted = self.attachment.address, self.pool.network.has_no_gateway
        address = format_address(own)
        self._obstacle(
            "not-expressible" if wanted else "gateway-missing",
            f"{self.device} offers {self.clients} its own address {address} as the "
            "gateway, since the plan has none",
            "gateway",
            self._offered("gateway", address),
            (Edit(self.path_of("gateway"), None, address),),
            severity=None if wanted else Severity.ADVICE,
        )
        return offer.with_value("gateway", own)

    def dns(self, offer: Offer, fields: dict[str, Any]) -> Offer:
        """The DNS servers, as many as the device holds."""
        if not offer.dns:
            return self._no_dns(offer, fields)
        most = self.behaviour.limit("pool.dns")
        if most is not None and len(offer.dns) > most:
            self._obstacle(
                "too-many",
                f"{self.whose} has {len(offer.dns)} DNS servers; {self.device} holds {most}",
                "dns",
                Witness(
                    "offered-only",
                    self.pool.name,
                    option="DNS servers",
                    value=listed(map(format_address, offer.dns[:most])),
                ),
            )
            offer = offer.with_value("dns", offer.dns[:most])
        fields["dns"] = offer.dns
        return offer

    def _no_dns(self, offer: Offer, fields: dict[str, Any]) -> Offer:
        own_address, resolvers = self.behaviour.offers_own_dns, self.behaviour.offers_own_resolvers
        wanted = self.pool.network.dns is not None  # an empty list says that there are none
        rule = "not-expressible" if wanted else "dns-missing"
        if self.behaviour.refuses_pool_without_dns:
            message = f"{self.device} refuses a pool without a DNS server, and {self.whose} "
            witness = Witness("unanswered", self.pool.name)
            self._obstacle(rule, f"{message}has none; set at least one in dns", "dns", witness)
            return offer
        if not (own_address or resolvers):
            return offer
        if self._says_none("dns", fields):
            return offer
        own = self.attachment.address if self.attachment and own_address else None
        what = "its own address" if own_address else "the DNS servers that it uses itself"
        if own is not None:
            what += f" {format_address(own)}"
        self._obstacle(
            rule,
            f"{self.device} offers {self.clients} {what} as DNS server, since the plan has none",
            "dns",
            self._offered("DNS server", "it uses itself" if own is None else format_address(own)),
            (Edit(self.path_of("dns"), None, format_address(own)),) if own is not None else (),
            severity=None if wanted else Severity.ADVICE,
        )
        return offer if own is None else offer.with_value("dns", (own,))

    def lease(self, offer: Offer, fields: dict[str, Any]) -> Offer:
        """The lease time as the dialect rounds it; the device's default where the plan has none."""
        lease, duration = offer.lease, self.sheet.duration
        if lease == INFINITE and not duration.infinite:
            self._obstacle(
                "not-expressible",
                f"{self.device} has no infinite lease",
                "lease",
                self._offered("lease time", format_duration(self.behaviour.default_lease)),
            )
            lease = None
        if lease is None:
            fields.pop("lease", None)
            return offer.with_value("lease", self.behaviour.default_lease)
        if lease != INFINITE and lease % duration.step:
            lease = self._rounded(lease, duration.step)
        fields["lease"] = lease
        if self.sheet.mentions("pool", "longest"):
            fields["longest"] = lease
        return offer.with_value("lease", lease)

    def _says_none(self, key: str, fields: dict[str, Any]) -> bool:
        """Whether the dialect can say that there is none; then it is said."""
        if self.sheet.says_nothing("pool", key):
            fields[key] = NOTHING
        elif self.sheet.mentions("pool", f"says_{key}"):
            fields[f"says_{key}"] = False
        else:
            return False
        return True

    def _offered(self, option: str, value: str) -> Witness:
        return Witness("offered", self.pool.name, option=option, value=value)

    def _rounded(self, lease: int, step: int) -> int:
        rounded = lease + step - lease % step
        self._obstacle(
            "lease-rounded",
            f"{self.device} rounds lease times to {format_duration(step)}: "
            f"{format_duration(lease)} becomes {format_duration(rounded)}",
            "lease",
            self._offered("lease time", format_duration(rounded)),
            (Edit(self.path_of("lease"), format_duration(lease), format_duration(rounded)),),
        )
        return rounded

    @property
    def kind(self) -> str:
        """The kind of fact that is to state it."""
        return "pool"

    @property
    def whose(self) -> str:
        """Who is offered it, or what offers it."""
        return self.pool.name

    @property
    def clients(self) -> str:
        """Those who are offered it."""
        return f"clients of {self.pool.name}"

    def path_of(self, key: str) -> PlanPath:
        """The path of the network's value of a key: in the network, or in the defaults."""
        network = self.pool.network
        in_network = not OFFERED[key].has_default or getattr(network, key) is not None
        if in_network or not self.pool.offer.values[key]:
            return (*self.pool.path, key)
        return ("defaults", key)

    def _obstacle(
        self,
        rule: str,
        message: str,
        key: str,
        witness: Witness,
        suggestions: tuple[Edit, ...] = (),
        severity: Severity | None = None,
    ) -> None:
        at = self.path_of(key) if self.pool.offer.values[key] else self.pool.path
        self.obstacles.append(Obstacle(rule, message, at, witness, suggestions, severity))


def short_fields(kind: str, options: dict[int, bytes], sheet: Sheet) -> dict[str, str]:
    """Options for which a kind of fact has a field; they are removed from the options."""
    return {
        key: options.pop(code).decode()
        for key, code in SHORT_FOR.items()
        if code in options
        and sheet.mentions(kind, key)
        and decode(code, options[code])[0] == "text"
    }
