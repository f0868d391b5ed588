"""What a server assigns and offers in a network to each kind of client.

A client's class there is the first that it matches, of those under ``by_class`` and then of those
that are only admitted. The ranges of a class are its own: no other clients get an address there,
and its members get none elsewhere.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import reduce

from reservoir.core.offers import Offer
from reservoir.core.plan.model import Plan, PlanPath
from reservoir.core.values.address_set import EMPTY, AddressSet
from reservoir.core.values.client_classes import ClassWords, Said


@dataclass(frozen=True)
class ClassPool:
    """What one server assigns and offers in one network to the members of a class."""

    name: str
    words: ClassWords
    path: PlanPath
    """Where the network says what they get; where it admits them, if it says no more."""
    ranges: AddressSet | None
    """Their own ranges, before anything is excluded; None if they have those of all others."""
    assignable: AddressSet
    """What they may get."""
    offer: Offer
    is_admitted: bool


@dataclass(frozen=True)
class ByClass:
    """A pool, taken apart by the classes of its clients."""

    classes: Sequence[ClassPool]
    """In the order in which they are tried."""
    others: AddressSet
    """What clients of no class may get."""
    admits_others: bool

    @classmethod
    def of(cls, plan: Plan, name: str, assignable: AddressSet, offer: Offer) -> ByClass:
        """Take apart what a server may assign in the network of this name."""
        network = plan.networks[name]
        own = {kin: AddressSet(given.ranges) for kin, given in network.by_class.items()}
        common = assignable - reduce(AddressSet.__or__, own.values(), EMPTY)
        order = dict.fromkeys((*network.by_class, *(network.admits or ())))
        classes = []
        for kin in order:
            given = network.by_class.get(kin)
            its = own[kin] if given is not None and given.ranges else None
            admitted = network.admits is None or kin in network.admits
            gets = common if its is None else assignable & its
            values = given.own_values if given is not None else None
            path: PlanPath = ("networks", name, "by_class", kin)
            if given is None:
                path = ("networks", name, "admits", (network.admits or ()).index(kin))
            classes.append(
                ClassPool(
                    name=kin,
                    words=plan.classes[kin].words,
                    path=path,
                    ranges=its,
                    assignable=gets if admitted else EMPTY,
                    offer=offer.with_own(values) if values is not None else offer,
                    is_admitted=admitted,
                )
            )
        admits_others = network.admits is None
        return cls(classes, common if admits_others else EMPTY, admits_others)

    @property
    def shared(self) -> AddressSet:
        """What is no class's own, if some client may get it."""
        common = (its.assignable for its in self.classes if its.ranges is None)
        return reduce(AddressSet.__or__, common, self.others)

    @property
    def assignable(self) -> AddressSet:
        """What any client may get."""
        return reduce(AddressSet.__or__, (its.assignable for its in self.classes), self.others)

    @property
    def ranges(self) -> AddressSet:
        """The ranges that are some class's own, before anything is excluded."""
        own = (its.ranges for its in self.classes if its.ranges is not None)
        return reduce(AddressSet.__or__, own, EMPTY)

    def class_of(self, client: Said) -> ClassPool | None:
        """The class of a client; None if it is in none."""
        return next((its for its in self.classes if its.words.matches(client)), None)

    def before(self, place: int) -> list[ClassWords]:
        """The words of the classes that are tried before the one at this place."""
        return [its.words for its in self.classes[:place]]
