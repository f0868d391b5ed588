"""A pool as a device assigns from it, and what it offers to whom."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property

from reservoir.core.offers import Offer
from reservoir.core.plan.own_values import OwnValues, own_values_of
from reservoir.core.values.address_set import EMPTY, AddressSet
from reservoir.core.values.addresses import Prefix
from reservoir.core.values.client_classes import ClassWords, Said
from reservoir.core.values.clients import Client
from reservoir.dialects.behaviour.lift_classes import classes_of
from reservoir.dialects.behaviour.lift_offer import OfferLifter
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.facts.spans import each_span


@dataclass(frozen=True)
class BoundClient:
    """A client that always gets one address, and what it is offered."""

    address: int
    own: OwnValues | None = None
    """What is laid over the pool's offer; None if nothing."""
    whole: Offer | None = None
    """All that it is offered, where its binding is a pool of its own."""


@dataclass(frozen=True, eq=False)
class ServingClass:
    """A class that a device tells apart in a network."""

    name: str
    words: ClassWords
    own: OwnValues | None
    """What its members are offered otherwise; None if nothing."""
    has_ranges: bool
    """Whether they get their addresses from ranges of their own."""
    is_admitted: bool
    whole: Offer | None = None
    """All that they are offered, where they have a pool of their own."""


@dataclass(eq=False)
class ServingPool:
    """A pool, or the part of it that serves a class from ranges of its own."""

    fact: Fact
    subnet: Prefix
    interface: str | None
    """The interface that it names."""
    assignable: AddressSet
    """What those may get whom it serves."""
    offer: Offer
    probes: bool
    """Whether an address is probed before it is offered."""
    bound: dict[Client, BoundClient] = field(default_factory=dict)
    classes: Sequence[ServingClass] = ()
    """The classes that the network tells apart, in the order in which they are tried."""
    own_class: ServingClass | None = None
    """The class that it serves, if it serves the members of one alone."""
    admits_others: bool = True
    """Whether it serves clients of no class."""
    _offers: dict[object, Offer] = field(default_factory=dict, repr=False)
    """What has been laid over another offer, made once."""

    @cached_property
    def label(self) -> str:
        """What to call it."""
        is_named = self.fact.label != self.fact.kind
        own = f" for {self.own_class.name}" if self.own_class and not self.own_class.whole else ""
        return (self.fact.label if is_named else f"its pool for {self.subnet}") + own

    def class_of(self, client: Said) -> ServingClass | None:
        """The class of a client in this network; None if it is in none."""
        return next((its for its in self.classes if its.words.matches(client)), None)

    def offer_to(self, its: ServingClass | None) -> Offer | None:
        """What clients of a class, or of none, are offered; None if it doesn't serve them.

        Those with a binding are served whatever their class.
        """
        if its is None:
            return self.offer if self.own_class is None and self.admits_others else None
        is_elsewhere = its is not self.own_class and (its.has_ranges or self.own_class is not None)
        if not its.is_admitted or is_elsewhere:
            return None
        return self._offered(its)

    def offer_to_bound(self, bound: BoundClient, its: ServingClass | None) -> Offer:
        """What a bound client is offered that is of a class, or of none."""
        if bound.whole is not None:
            return bound.whole
        offer = self._offered(its) if its is not None and its.whole is None else self.offer
        return offer if bound.own is None else self._laid_over(offer, bound, bound.own)

    def _offered(self, its: ServingClass) -> Offer:
        if its.whole is not None:
            return its.whole
        return self.offer if its.own is None else self._laid_over(self.offer, its, its.own)

    def _laid_over(self, offer: Offer, whose: object, own: OwnValues) -> Offer:
        key = id(offer), id(whose)
        if key not in self._offers:
            self._offers[key] = offer.with_own(own)
        return self._offers[key]


def class_parts(
    pool: ServingPool,
    defined: Mapping[str, ClassWords],
    offers: OfferLifter,
    excluded: AddressSet,
) -> Iterator[ServingPool]:
    """Take a pool apart by what it says of classes: the parts for those with ranges of their own.

    The pool itself is left with the rest.

    Args:
        pool: The pool, as it would serve everybody alike.
        defined: The classes that are defined for the whole device.
        offers: Tells what is offered.
        excluded: What is excluded from it.
    """
    classes: list[tuple[ServingClass, AddressSet]] = []
    admits: Sequence[str] | None = pool.fact.get("admits")
    for fact, stated in classes_of(pool.fact, defined):
        if stated is None:
            continue
        own = offers.own(fact)
        ranges = AddressSet(each_span(fact.of_kind("range"), pool.subnet.span.first))
        is_admitted = admits is None or stated.name in admits
        values = own_values_of(own) if own else None
        made = ServingClass(stated.name, stated.words, values, bool(ranges), is_admitted)
        classes.append((made, ranges))
    named = {its.name for its, _ in classes}
    for name in admits or ():
        if name in defined and name not in named:
            classes.append((ServingClass(name, defined[name], None, False, True), EMPTY))
    pool.classes = [its for its, _ in classes]
    pool.admits_others = admits is None
    hosts = AddressSet([pool.subnet.hosts])
    for _, ranges in classes:
        pool.assignable = pool.assignable - ranges
    for its, ranges in classes:
        if its.has_ranges:
            there = (ranges & hosts) - excluded
            yield replace(pool, assignable=there, own_class=its, bound={}, _offers={})


def join_class_pools(pools: Sequence[ServingPool]) -> None:
    """Let the pools of each network know which of them are for a class alone."""
    groups: dict[object, list[ServingPool]] = {}
    for pool in pools:
        groups.setdefault((pool.subnet, pool.interface), []).append(pool)
    for some in groups.values():
        of_classes = [pool for pool in some if pool.own_class is not None]
        classes = [pool.own_class for pool in of_classes if pool.own_class is not None]
        own = AddressSet(span for pool in of_classes for span in pool.assignable.spans())
        for pool in some if classes else ():
            pool.classes = classes
            if pool.own_class is None:
                pool.assignable = pool.assignable - own
