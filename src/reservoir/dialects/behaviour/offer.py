"""Fits what clients are told to a dialect: what has to be written, what a device would add."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

from reservoir.core.findings import Obstacle, Severity
from reservoir.core.plan.edits import Edit
from reservoir.core.plan.model import PlanPath
from reservoir.core.pools import Pool, Told
from reservoir.core.topology import Attachment
from reservoir.core.values.addresses import format_address
from reservoir.core.values.durations import INFINITE, format_duration, parse_duration
from reservoir.dialects.facts.fact import NOTHING
from reservoir.dialects.sheet.model import Sheet


@dataclass(frozen=True)
class FittedWords:
    """What a device is told to tell its clients, and what it tells them in the end."""

    fields: Mapping[str, Any]
    """The pool's fields to write; what is left out is left to the device."""
    told: Told
    obstacles: tuple[Obstacle, ...]


def fit_words(pool: Pool, device: str, attachment: Attachment | None, sheet: Sheet) -> FittedWords:
    """Fit what a pool tells to the device that lends it.

    Args:
        pool: The pool.
        device: The device's name.
        attachment: The device's interface in the network, if it has one.
        sheet: The device's dialect.
    """
    fitter = _Fitter(pool, device, attachment, sheet)
    by_option = not sheet.mentions("pool", "domain") and "option" in sheet.homes
    fields: dict[str, Any] = {"domain": None if by_option else pool.told.domain}
    told = fitter.lease(fitter.dns(fitter.gateway(pool.told, fields), fields), fields)
    present = {name: value for name, value in fields.items() if value is not None}
    return FittedWords(present, told, tuple(fitter.obstacles))


@dataclass
class _Fitter:
    pool: Pool
    device: str
    attachment: Attachment | None
    sheet: Sheet

    def __post_init__(self) -> None:
        self.obstacles: list[Obstacle] = []

    def gateway(self, told: Told, fields: dict[str, Any]) -> Told:
        """The gateway, or that there is none where the device would tell its own address."""
        if told.gateway is not None:
            fields["gateway"] = told.gateway
            return told
        if self.attachment is None or self.sheet.trait("blank-gateway") == "nothing":
            return told
        if self.sheet.says_nothing("pool", "gateway"):
            fields["gateway"] = NOTHING
            return told
        own, wanted = self.attachment.address, self.pool.network.has_no_way_out
        address = format_address(own)
        self._obstacle(
            "not-expressible" if wanted else "gateway-missing",
            f"{self.device} tells clients of {self.pool.name} its own address {address} as "
            "gateway, since the plan names none",
            "gateway",
            f"is told the gateway {address}",
            (Edit((*self.pool.path, "gateway"), None, address),),
            severity=None if wanted else Severity.ADVICE,
        )
        return replace(told, gateway=own)

    def dns(self, told: Told, fields: dict[str, Any]) -> Told:
        """The DNS servers, as many as there is room for."""
        if not told.dns:
            return self._no_dns(told, fields)
        most = self.sheet.limits.get("pool.dns", len(told.dns))
        if len(told.dns) > most:
            self._obstacle(
                "too-many",
                f"{self.pool.name} names {len(told.dns)} DNS servers; {self.device} holds {most}",
                "dns",
                f"is not told the last {len(told.dns) - most} DNS servers",
            )
            told = replace(told, dns=told.dns[:most])
        fields["dns"] = told.dns
        return told

    def _no_dns(self, told: Told, fields: dict[str, Any]) -> Told:
        blank = self.sheet.trait("blank-dns")
        wanted = self.pool.network.dns is not None  # an empty list says that there be none
        rule = "not-expressible" if wanted else "dns-missing"
        if blank == "nothing":
            return told
        if blank != "refused" and self.sheet.says_nothing("pool", "dns"):
            fields["dns"] = NOTHING
            return told
        if blank == "refused":
            message = f"{self.device} refuses a pool without a DNS server, and {self.pool.name} "
            harm = "gets no address: the device refuses the pool"
            self._obstacle(rule, f"{message}names none; name at least one in dns", "dns", harm)
            return told
        own = self.attachment.address if self.attachment and blank == "own-address" else None
        what = "its own address" if blank == "own-address" else "the DNS servers that it asks"
        if own is not None:
            what += f" {format_address(own)}"
        self._obstacle(
            rule,
            f"{self.device} tells clients of {self.pool.name} {what} as DNS server, since the "
            "plan names none",
            "dns",
            f"is told {what} as DNS server",
            (Edit(self._path("dns"), None, format_address(own)),) if own is not None else (),
            severity=None if wanted else Severity.ADVICE,
        )
        return told if own is None else replace(told, dns=(own,))

    def lease(self, told: Told, fields: dict[str, Any]) -> Told:
        """The lease time in the dialect's steps; the device's own where the plan names none."""
        lease, duration = told.lease, self.sheet.duration
        if lease == INFINITE and not duration.infinite:
            self._obstacle(
                "not-expressible",
                f"{self.device} has no infinite lease",
                "lease",
                "is told the device's own lease time",
            )
            lease = None
        if lease is None:
            return replace(told, lease=parse_duration(self.sheet.trait("blank-lease")))
        if lease != INFINITE and lease % duration.step:
            lease = self._rounded(lease, duration.step)
        fields["lease"] = lease
        if self.sheet.mentions("pool", "longest"):
            fields["longest"] = lease
        return replace(told, lease=lease)

    def _rounded(self, lease: int, step: int) -> int:
        rounded = lease + step - lease % step
        self._obstacle(
            "lease-rounded",
            f"{self.device} counts leases in steps of {format_duration(step)}: "
            f"{format_duration(lease)} becomes {format_duration(rounded)}",
            "lease",
            f"is told a lease of {format_duration(rounded)}",
            (Edit(self._path("lease"), format_duration(lease), format_duration(rounded)),),
        )
        return rounded

    def _path(self, key: str) -> PlanPath:
        """Where the network's value of a key stands: in the network, or in the defaults."""
        network = self.pool.network
        in_network = key == "gateway" or getattr(network, key) is not None
        if in_network or not getattr(self.pool.told, key):
            return (*self.pool.path, key)
        return ("defaults", key)

    def _obstacle(
        self,
        rule: str,
        message: str,
        key: str,
        harm: str,
        suggestions: tuple[Edit, ...] = (),
        severity: Severity | None = None,
    ) -> None:
        at = self._path(key) if getattr(self.pool.told, key) else self.pool.path
        self.obstacles.append(
            Obstacle(rule, message, at, self.pool.name, harm, suggestions, severity)
        )
