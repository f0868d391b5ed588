"""Fits what some clients are offered otherwise than the others of their network to a dialect."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

from reservoir.core.findings import Obstacle, Witness
from reservoir.core.offers import Offer
from reservoir.core.plan.model import PlanPath
from reservoir.core.plan.offered import OFFERED, SHORT_FOR, title_of
from reservoir.core.plan.own_values import OwnValues
from reservoir.core.pools import Pool
from reservoir.core.topology import Attachment
from reservoir.core.values.clients import Client
from reservoir.dialects.behaviour.offer import FittedOffer, OfferFitter, short_fields
from reservoir.dialects.facts.fact import NOTHING
from reservoir.dialects.sheet.model import Sheet


@dataclass(frozen=True)
class Owner:
    """Clients that are offered values of their own."""

    label: str
    path: PlanPath
    """Where they are in the plan."""
    own: OwnValues
    client: Client | None = None
    """The client that they are, if it is one."""
    of_class: str = ""
    """The class that they are of, if they are."""


def fit_own(
    owner: Owner,
    pool: Pool,
    device: str,
    attachment: Attachment | None,
    sheet: Sheet,
    common: FittedOffer,
) -> FittedOffer:
    """Fit what some clients are offered to the device that serves them.

    Args:
        owner: The clients.
        pool: The pool of the others.
        device: The device's name.
        attachment: The device's interface in the network, if it has one.
        sheet: The device's dialect.
        common: What the others are offered.
    """
    fitter = _OwnFitter(pool, device, attachment, sheet, owner)
    if not fitter.is_by_pool:
        return fitter.beside(common)
    fitted = fitter.whole(pool.offer.with_own(owner.own))
    told = {obstacle.rule for obstacle in common.obstacles}
    return replace(fitted, obstacles=tuple(o for o in fitted.obstacles if o.rule not in told))


@dataclass
class _OwnFitter(OfferFitter):
    owner: Owner

    @property
    def is_by_pool(self) -> bool:
        """Whether they have a pool of their own, so that nothing comes from another one."""
        if self.owner.of_class:
            return self.behaviour.serves_classes_by_pools
        return self.behaviour.binds_by_pools

    @property
    def kind(self) -> str:
        """The kind of fact that is to state it."""
        if self.owner.of_class:
            return "pool" if self.is_by_pool else "class"
        return "binding"

    def beside(self, common: FittedOffer) -> FittedOffer:
        """What is said beside a pool's own offer, of which the device takes the rest."""
        by_number = self.sheet.stands_in("option", self.kind)
        fields, options = dict[str, Any](), dict[int, bytes]()
        for key, value in self.owner.own.values.items():
            if value != common.offer.values[key]:
                self._say(key, value, by_number, fields, options)
        for code, data in self.owner.own.options.items():
            if data:
                options[code] = data
            elif code in common.offer.options:
                self._refuse(
                    "options", f"{self.owner.label} without {title_of(code)}", title_of(code)
                )
        short = short_fields(self.kind, options, self.sheet)
        for code in () if by_number else list(options):
            key = next((key for key, number in SHORT_FOR.items() if number == code), "options")
            self._refuse(key, f"the {title_of(code)} of {self.owner.label}", title_of(code))
            del options[code]
        offer = _laid_over(self._fitted(common.offer, fields), fields, options, short)
        return FittedOffer(fields | short, options, offer, tuple(self.obstacles))

    def _say(
        self,
        key: str,
        value: Any,
        by_number: bool,
        fields: dict[str, Any],
        options: dict[int, bytes],
    ) -> None:
        """Say a value by the field that the dialect has for it, or by its number."""
        field = OFFERED[key]
        if value and self.sheet.mentions(self.kind, key):
            fields[key] = value
        elif value and field.option is not None and by_number and not field.is_required:
            options[field.option] = field.encode(value)
        elif not value and self.sheet.says_nothing(self.kind, key):
            fields[key] = NOTHING
        elif value:
            self._refuse(key, f"the {field.title} of {self.owner.label}", field.title)
        else:
            self._refuse(key, f"{self.owner.label} without {field.title}", field.title)

    def _fitted(self, offer: Offer, fields: dict[str, Any]) -> Offer:
        """The offer with those fields as the device holds them."""
        for key, value in fields.items():
            offer = offer.with_value(key, OFFERED[key].nothing if value == NOTHING else value)
        if fields.get("lease"):
            offer = self.lease(offer, fields)
        return self.dns(offer, fields) if fields.get("dns") else offer

    def _refuse(self, key: str, what: str, missing: str) -> None:
        """Note something that the device can't offer these clients alone."""
        why = f"{self.sheet.name} has no line for it; leave it out, or let another device serve"
        witness = Witness(
            "not-served",
            self.pool.name,
            client=self.owner.client,
            name=self.owner.label,
            value=missing,
            member_of=self.owner.of_class,
        )
        message = f"{self.device} can't be given {what}: {why}"
        self.obstacles.append(Obstacle("not-expressible", message, self.path_of(key), witness))

    @property
    def whose(self) -> str:
        return self.owner.label

    @property
    def clients(self) -> str:
        return self.owner.label

    def path_of(self, key: str) -> PlanPath:
        return (*self.owner.path, key)


def _laid_over(
    offer: Offer, fields: Mapping[str, Any], options: Mapping[int, bytes], short: Mapping[str, str]
) -> Offer:
    """An offer with options over it, some of which are values that have a key."""
    said = {SHORT_FOR[key]: text.encode() for key, text in short.items()}
    by_number = {field.option: field for field in OFFERED.values() if field.option in options}
    for field in by_number.values():
        offer = offer.with_value(field.key, field.decode(options[field.option or 0]))
    others = {code: data for code, data in options.items() if code not in by_number}
    return replace(offer, options={**offer.options, **others, **said})
