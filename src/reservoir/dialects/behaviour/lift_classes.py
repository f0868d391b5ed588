"""Lifting kinds of client: who is in a class, and what a pool gives its members."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any, NamedTuple

from reservoir.core.plan.classes import Agent, ClassAnswers, ClientClass
from reservoir.core.plan.model import Network
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.client_classes import ClassWords
from reservoir.dialects.behaviour.device import Behaviour
from reservoir.dialects.behaviour.lift_offer import LeaveOut, OfferLifter, apart
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.facts.kinds import WORDS
from reservoir.dialects.facts.spans import each_span


@dataclass(frozen=True)
class StatedClass:
    """A class that a pool tells apart."""

    name: str
    words: ClassWords
    fact: Fact
    """What says what its members get."""


def words_of(fact: Fact) -> ClassWords | None:
    """What the members of a class say, where a fact states it; None if it states nothing."""
    said = {name: fact.get(name) for name in WORDS if fact.get(name) not in (None, ())}
    if not said:
        return None
    numbers = said.pop("architecture", None)
    beginning = said.pop("mac_beginning", None)
    architecture = frozenset(numbers) if numbers is not None else None
    return ClassWords(**said, architecture=architecture, mac=beginning)


def planned(words: ClassWords) -> ClientClass:
    """A class as a plan has it."""
    agent = Agent.model_construct(circuit=words.circuit, remote=words.remote)
    stated: dict[str, Any] = {
        name: value
        for name in ("vendor_class", "user_class", "mac")
        if (value := getattr(words, name)) is not None
    }
    if words.architecture is not None:
        stated["architecture"] = tuple(sorted(words.architecture))
    if words.circuit is not None or words.remote is not None:
        stated["agent"] = agent
    return ClientClass.model_construct(**stated)


class OwnPool(NamedTuple):
    """A pool that is for the members of a class alone."""

    name: str
    words: ClassWords
    fact: Fact


def own_class(pool: Fact, behaviour: Behaviour) -> ClassWords | None:
    """The words of the class that a pool is for, if it is for one."""
    return words_of(pool) if behaviour.serves_classes_by_pools else None


def without_words(own: Fact) -> Fact:
    """Stands for the pool of clients of no class, where only classes have pools."""
    fields = {key: value for key, value in own.fields.items() if key not in WORDS}
    return replace(own, fields=fields, children=list(own.of_kind("option")))


def defined_classes(device: Fact) -> Mapping[str, ClassWords]:
    """The classes that are defined for a whole device, by name."""
    found: dict[str, ClassWords] = {}
    for fact in device.of_kind("class"):
        words = words_of(fact)
        if words is not None:
            found.setdefault(fact.get("name", ""), words)
    return found


def classes_of(
    pool: Fact, defined: Mapping[str, ClassWords]
) -> Iterator[tuple[Fact, StatedClass | None]]:
    """What a pool says of classes; without the class where nothing says who is in it."""
    for fact in pool.of_kind("class"):
        name = fact.get("name", "")
        words = words_of(fact) or defined.get(name)
        yield fact, None if words is None else StatedClass(name, words, fact)


class ClassLifter:
    """Lifts what the pools of a device say of classes."""

    def __init__(
        self,
        device: Fact,
        behaviour: Behaviour,
        offers: OfferLifter,
        leave_out: LeaveOut,
        classes: dict[str, ClientClass],
    ) -> None:
        """Take the device.

        Args:
            device: Its facts.
            behaviour: Its dialect's.
            offers: Tells what its pools offer.
            leave_out: Reports what a plan can't say.
            classes: The classes of the plan that is made, which are added to.
        """
        self.behaviour, self._offers, self._leave_out = behaviour, offers, leave_out
        self.classes = classes
        self.defined = defined_classes(device)

    def with_classes(
        self, network: Network, pool: Fact, own: Sequence[OwnPool], held: AddressSet
    ) -> Network:
        """A network with what members of classes get, and whom it serves.

        Args:
            network: The network of clients of no class.
            pool: Their pool.
            own: The pools that are for a class alone.
            held: The device's own addresses there.
        """
        by_class: dict[str, ClassAnswers] = {}
        for fact, stated in classes_of(pool, self.defined):
            if stated is None:
                self._leave_out(fact, "nothing says who is in the class", "pool", within=pool)
            else:
                name = self._name_of(stated.name, stated.words)
                by_class.setdefault(name, _answers(fact, self._offers.own(fact)))
        quiet = replace(self._offers, note=_unsaid, leave_out=_unsaid)
        offered = quiet.offered(pool, held) if own else {}
        for its in own:
            values = apart(offered, self._offers.offered(its.fact, held))
            by_class.setdefault(self._name_of(its.name, its.words), _answers(its.fact, values))
        admits = self._admitted(pool)
        if own and pool.place == own[0].fact.place:  # clients of no class have no pool
            admits = tuple(by_class)
        changed: dict[str, object] = {"by_class": by_class} if by_class else {}
        changed |= {"admits": admits} if admits is not None else {}
        return network.model_copy(update=changed) if changed else network

    def _admitted(self, pool: Fact) -> tuple[str, ...] | None:
        """The names of the classes that a pool serves; None if it serves everybody."""
        names = pool.get("admits")
        if names is None:
            return None
        found = []
        for name in names:
            words = self.defined.get(name)
            if words is None:
                self._leave_out(pool, f"it admits {name}, and nothing says who that is", "pool")
            else:
                found.append(self._name_of(name, words))
        return tuple(found)

    def _name_of(self, name: str, words: ClassWords) -> str:
        """The name of the class with these words, which the plan has by then."""
        for known, there in self.classes.items():
            if there.words == words:
                return known
        free, number = name or "class", 2
        while free in self.classes:
            free, number = f"{name}-{number}", number + 1
        self.classes[free] = planned(words)
        return free


def _answers(fact: Fact, own: Mapping[str, Any]) -> ClassAnswers:
    """What members of a class get, as a plan has it."""
    ranges = tuple(each_span(fact.of_kind("range")))
    said: dict[str, Any] = {**own, "ranges": ranges} if ranges else dict(own)
    return ClassAnswers.model_construct(**said)


def _unsaid(fact: Fact, why: object, *states: str, within: Fact | None = None) -> None:
    """Takes a note that is known already."""
