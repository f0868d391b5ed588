"""Pairs of servers in a rehearsal: who answers whom, and whether their leases are in step.

Two devices are a pair in a network if each names an address of the other as its partner, one of
them leads, and both assign the same. While they reach each other, what one remembers the other
knows; who doesn't reach its partner goes on alone.
"""

from __future__ import annotations

import hashlib
from collections.abc import Callable, Iterator, Mapping
from copy import deepcopy
from dataclasses import dataclass
from itertools import combinations

from reservoir.core.values.address_set import EMPTY, AddressSet
from reservoir.dialects.behaviour.device import Behaviour
from reservoir.dialects.behaviour.serving import Serving
from reservoir.dialects.behaviour.serving_pool import ServingPool
from reservoir.rehearsal.leases import PoolLeases


@dataclass(frozen=True)
class Partner:
    """The other one of a pair, as one of them sees it in a pool."""

    name: str
    """Its device; its address if nothing there is in a pair with it."""
    leads: bool
    """Whether this one is the first of the two."""
    behaviour: Behaviour
    out_of_reach_for: Callable[[], float] = lambda: float("inf")
    """Seconds for which it hasn't been reached; 0 if it is."""
    addresses: AddressSet = EMPTY
    """Those that it is known by."""
    after: float = float("inf")
    """Seconds after which this one takes over its half."""

    @property
    def is_there(self) -> bool:
        """Whether it is reached."""
        return self.out_of_reach_for() == 0

    def why_left_to_it(self, identifier: bytes) -> str:
        """Why a client is left to it that asks everybody; empty if it isn't."""
        if not self.is_there:
            return ""
        if self.behaviour.only_one_answers and not self.leads:
            return f"leaves it to {self.name}, the first of the pair"
        if self.behaviour.shares_clients and _is_of_first(identifier) != self.leads:
            return f"leaves it to {self.name}, which answers this client"
        return ""

    @property
    def own_half(self) -> int | None:
        """The half of the addresses that this one assigns, 0 or 1; None for both."""
        if not self.behaviour.assigns_halves or self.out_of_reach_for() >= self.after:
            return None
        return 0 if self.leads else 1


def _is_of_first(identifier: bytes) -> bool:
    """Whether the first of a pair answers a client, where each answers some."""
    return hashlib.sha256(identifier).digest()[0] % 2 == 0


Memory = dict[ServingPool, PoolLeases]
"""What a server remembers of each of its pools."""


@dataclass(frozen=True)
class Pair:
    """The pools of two devices that are a pair in a network."""

    devices: tuple[str, str]
    """The first of the pair first."""
    pools: tuple[ServingPool, ServingPool]

    @property
    def assignable(self) -> AddressSet:
        """What both assign."""
        return self.pools[0].assignable & self.pools[1].assignable


def pairs_in(started: Mapping[str, Serving]) -> Iterator[Pair]:
    """The pools that are in step as long as their devices reach each other."""
    asking: dict[object, list[tuple[str, ServingPool]]] = {}
    for name, serving in started.items():
        for pool in serving.pools if serving.behaviour.pairs else ():
            if pool.fact.get("partner") is not None:
                own = pool.own_class.name if pool.own_class is not None else ""
                asking.setdefault((pool.subnet.subnet, own), []).append((name, pool))
    for some in asking.values():
        for (one, pool), (other, its) in combinations(some, 2):
            if one != other and _are_mutual(started[one], pool, started[other], its):
                found = [(one, pool), (other, its)]
                found.sort(key=lambda each: not each[1].fact.get("leads", True))
                (first, its_pool), (second, other_pool) = found
                yield Pair((first, second), (its_pool, other_pool))


def _are_mutual(one: Serving, pool: ServingPool, other: Serving, its: ServingPool) -> bool:
    names = pool.fact.get("partner") in other.own_addresses
    names &= its.fact.get("partner") in one.own_addresses
    leading = [each.fact.get("leads", True) for each in (pool, its)]
    own = one.own_addresses | other.own_addresses
    same_family = one.behaviour.sheet.trait("pair") == other.behaviour.sheet.trait("pair")
    return (
        names
        and same_family
        and leading[0] != leading[1]
        and not (pool.assignable ^ its.assignable) - own
    )


class InStep:
    """The leases of two pools of a pair: one memory while their devices reach each other."""

    def __init__(
        self,
        devices: tuple[str, str],
        leases: tuple[Memory, Memory],
        pools: tuple[ServingPool, ServingPool],
        are_apart: Callable[[], bool],
    ) -> None:
        """Put them in step.

        Args:
            devices: Which they are, the first of the pair foremost.
            leases: What each device remembers, by its pools.
            pools: The pool of each; the first device's leads.
            are_apart: Whether both are on, and don't reach each other.
        """
        self._leases, self._pools, self._are_apart = leases, pools, are_apart
        self.devices = devices
        self.is_apart = False
        """Whether each goes on alone, with a memory of its own."""
        leases[1][pools[1]] = leases[0][pools[0]]

    def update(self) -> None:
        """Let each go on with a memory of its own if they are apart now, or tell each other."""
        if self._are_apart() == self.is_apart:
            return
        self.is_apart = not self.is_apart
        first, second = (
            memory[pool] for memory, pool in zip(self._leases, self._pools, strict=True)
        )
        if self.is_apart:
            self._leases[1][self._pools[1]] = deepcopy(first)
        else:
            first.learn(second)
            self._leases[1][self._pools[1]] = first
