"""The kinds of client that come to a network, and what they say of themselves."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import reduce

from reservoir.core.by_class import ClassPool
from reservoir.core.pools import Pool, Pools
from reservoir.core.values.address_set import EMPTY, AddressSet
from reservoir.core.values.client_classes import ClassWords, Said, member_of
from reservoir.core.values.clients import Mac


@dataclass(frozen=True)
class Kind:
    """Clients of a network that are served alike: the members of a class, or those of none."""

    name: str
    """The class; empty for clients of none."""
    words: ClassWords
    before: Sequence[ClassWords]
    """Those of the classes that are tried before."""
    assignable: AddressSet
    """What they may get, from any server."""
    has_own: bool
    """Whether nobody else gets it."""
    is_admitted: bool = True

    def members(self, first: Mac) -> Iterator[Said]:
        """Its members, each with another MAC address; as many as there can be.

        Args:
            first: The MAC address of the first, where the class leaves that open.
        """
        specimen = member_of(self.words, self.before)
        if specimen is None:
            return
        beginning = self.words.mac
        size = 1 << 8 * (6 - len(beginning)) if beginning is not None else 1 << 24
        start = int(specimen.mac) % size if beginning is not None else int(first) % size
        base = int(specimen.mac) - int(specimen.mac) % size
        if beginning is None and self._is_member(replace(specimen, mac=first)):
            base = int(first) - start
        for number in range(size):
            said = replace(specimen, mac=Mac(base + (start + number) % size))
            if self._is_member(said):
                yield said

    def _is_member(self, said: Said) -> bool:
        return self.words.matches(said) and not any(words.matches(said) for words in self.before)


def kinds_of(pools: Pools, index: int) -> list[Kind]:
    """The kinds of client that are served in a network without a binding; of no class last."""
    return [kind for kind in every_kind(pools, index) if kind.is_admitted]


def every_kind(pools: Pools, index: int) -> list[Kind]:
    """The kinds of client that a network tells apart, served or not; of no class last."""
    own = pools.by_network[index]
    first = own[0].by_class
    if first is None:
        return [Kind("", ClassWords(), (), pools.assignable_in(index), True)]
    found = []
    for place, its in enumerate(first.classes):
        parts = (_class_at(pool, place).assignable for pool in own)
        there = reduce(AddressSet.__or__, parts, EMPTY)
        has_own = its.ranges is not None
        found.append(
            Kind(its.name, its.words, first.before(place), there, has_own, its.is_admitted)
        )
    there = reduce(AddressSet.__or__, (pool.common for pool in own), EMPTY)
    before = first.before(len(first.classes))
    return [*found, Kind("", ClassWords(), before, there, False, first.admits_others)]


def _class_at(pool: Pool, place: int) -> ClassPool:
    assert pool.by_class is not None  # the pools of a network tell the same classes apart
    return pool.by_class.classes[place]


def assignable_to(pools: Pools, index: int, client: Said) -> AddressSet:
    """What a client without a binding may get in the network at this place, from any server."""
    parts = []
    for pool in pools.by_network[index]:
        its = pool.by_class.class_of(client) if pool.by_class is not None else None
        parts.append(pool.common if its is None else its.assignable)
    return reduce(AddressSet.__or__, parts, EMPTY)


def class_in(pools: Pools, network: str, name: str) -> ClassPool | None:
    """What the members of a class get in a network, from its first server."""
    by_class = pools.of(network)[0].by_class
    return next((c for c in by_class.classes if c.name == name), None) if by_class else None


def member_in(pools: Pools, network: str, name: str) -> Said | None:
    """A client of a class: of none that the network tries before, if there is one."""
    by_class = pools.of(network)[0].by_class
    for place, its in enumerate(by_class.classes if by_class is not None else ()):
        if by_class is not None and its.name == name:
            return member_of(its.words, by_class.before(place)) or member_of(its.words, ())
    return None
