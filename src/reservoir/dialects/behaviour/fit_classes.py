"""Fits what the members of classes get in a pool to a dialect."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from reservoir.core.by_class import ClassPool
from reservoir.core.compare.differences import ServedClass
from reservoir.core.findings import Obstacle, Witness
from reservoir.core.pools import Pool
from reservoir.core.topology import Attachment
from reservoir.core.values.address_set import AddressSet
from reservoir.core.wording import listed
from reservoir.dialects.behaviour.device import Behaviour
from reservoir.dialects.behaviour.offer import FittedOffer
from reservoir.dialects.behaviour.own_offer import Owner, fit_own
from reservoir.dialects.facts.kinds import WORDS
from reservoir.dialects.sheet.model import Sheet

_INSTEAD = "give them a network of their own, or let another device serve"

FIELD_OF = {"mac": "mac_beginning"}
"""The field of a fact that states a word, where it is called otherwise."""

_TITLES = {
    "vendor_class": "vendor class",
    "user_class": "user class",
    "architecture": "architecture",
    "mac_beginning": "the beginning of their MAC addresses",
    "circuit": "circuit",
    "remote": "remote identifier",
}


@dataclass(frozen=True)
class FittedClass:
    """What members of a class get from a device."""

    pool: ClassPool
    offered: FittedOffer
    assignable: AddressSet
    """What the device assigns to them."""

    @property
    def served(self) -> ServedClass:
        """The same, to be compared."""
        return ServedClass(self.pool.name, self.pool.words, self.assignable, self.offered.offer)


class ClassFitter:
    """Fits the classes of a pool; what the device can't do becomes an obstacle."""

    def __init__(
        self,
        pool: Pool,
        device: str,
        attachment: Attachment | None,
        sheet: Sheet,
        common: FittedOffer,
        held: AddressSet,
    ) -> None:
        """Take the pool, and how the clients of no class are served.

        Args:
            pool: The pool.
            device: The device that serves it.
            attachment: The device's interface in the network, if it has one.
            sheet: The device's dialect.
            common: What clients of no class are offered.
            held: Addresses that the device itself holds there, and never assigns.
        """
        self.pool, self.device, self.attachment, self.sheet = pool, device, attachment, sheet
        self.behaviour = Behaviour(sheet)
        self.common, self.held = common, held
        self.obstacles: list[Obstacle] = []

    def fit(self) -> tuple[FittedClass, ...]:
        """The classes, as far as the device tells them apart."""
        by_class = self.pool.by_class
        if by_class is None:
            return ()
        self._admission(by_class.classes, by_class.admits_others)
        return tuple(self._fitted(by_class.classes))

    def _fitted(self, classes: Sequence[ClassPool]) -> Iterator[FittedClass]:
        network = self.pool.network
        for its in classes:
            if not self._is_known(its):
                continue
            offered = self.common
            if self.behaviour.answers_by_class:  # they are offered what the others are
                offered = FittedOffer({}, {}, self.common.offer, ())
            given = network.by_class.get(its.name)
            values = given.own_values if given is not None else None
            if values is not None:
                label = f"{its.name} in {self.pool.name}"
                owner = Owner(label, its.path, values, of_class=its.name)
                offered = fit_own(
                    owner, self.pool, self.device, self.attachment, self.sheet, self.common
                )
                self.obstacles += offered.obstacles
            yield FittedClass(its, offered, its.assignable - self.held)

    def _is_known(self, its: ClassPool) -> bool:
        """Whether the device can tell a class apart, and give its members what they get."""
        behaviour, name = self.behaviour, self.sheet.name
        if not (behaviour.answers_by_class or behaviour.serves_classes_by_pools):
            self._refuse(its, f"{name} tells no classes apart")
            return False
        known = [word for word in WORDS if behaviour.tells_apart_by(word)]
        unknown = [w for word in its.words.said if (w := FIELD_OF.get(word, word)) not in known]
        if unknown:
            by, lacks = (listed(_TITLES[word] for word in some) for some in (known, unknown))
            self._refuse(its, f"{name} knows clients by {by}, not by {lacks}")
            return False
        has_own = its.ranges is not None
        if behaviour.serves_classes_by_pools and not has_own:
            self._refuse(its, f"{name} serves a class by a pool of its own, and it has no ranges")
            return False
        if has_own and its.is_admitted and not its.assignable - self.held:
            self._refuse(its, "nothing is left of its ranges")
            return False
        if has_own and behaviour.answers_by_class and not self.sheet.stands_in("range", "class"):
            self._refuse(its, f"{name} has no ranges by class")
            return False
        return True

    def _admission(self, classes: Sequence[ClassPool], admits_others: bool) -> None:
        """That only some classes are served, if the device can't keep the others out."""
        if admits_others or self.sheet.mentions("pool", "admits"):
            return
        by_pools = self.behaviour.serves_classes_by_pools and not self.pool.common
        if by_pools and all(its.ranges is not None for its in classes if its.is_admitted):
            return
        message = (
            f"{self.device} can't keep clients of other classes out of {self.pool.name}: "
            f"{self.sheet.name} has no line for it; {_INSTEAD}"
        )
        witness = Witness("not-served", self.pool.name, value="what it admits")
        path = (*self.pool.path, "admits")
        self.obstacles.append(Obstacle("not-expressible", message, path, witness))

    def _refuse(self, its: ClassPool, why: str) -> None:
        message = (
            f"{self.device} can't serve {its.name} in {self.pool.name} as planned: {why}; "
            f"{_INSTEAD}"
        )
        witness = Witness(
            "not-served", self.pool.name, value="what is planned for it", member_of=its.name
        )
        self.obstacles.append(Obstacle("not-expressible", message, its.path, witness))
