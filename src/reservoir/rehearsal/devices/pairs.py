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

from reservoir.core.pairing import PairEnd, Pairing, why_out_of_step
from reservoir.core.values.address_set import EMPTY, AddressSet
from reservoir.dialects.behaviour.device import Behaviour
from reservoir.dialects.behaviour.serving import Serving
from reservoir.dialects.behaviour.serving_pool import ServingPool
from reservoir.rehearsal.devices.leases import PoolLeases


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
    asking: dict[tuple[int, object, str], tuple[str, ServingPool]] = {}
    for name, serving in started.items():
        for pool in serving.pools if serving.behaviour.pairs else ():
            if pool.fact.get("partner") is not None:
                for address in serving.own_addresses.addresses().tolist():
                    asking.setdefault((address, *_place(pool)), (name, pool))
    for name, serving in started.items():
        for pool in serving.pools if serving.behaviour.pairs else ():
            partner = pool.fact.get("partner")
            other = asking.get((partner, *_place(pool))) if partner is not None else None
            if other is None or not pool.fact.get("leads", True):
                continue  # the first of the two tells of both
            ends = _end(name, pool, serving), _end(*other, started[other[0]])
            families = {s.behaviour.sheet.name for s in (serving, started[other[0]])}
            if other[0] != name and len(families) == 1 and not why_out_of_step(*ends):
                yield Pair((name, other[0]), (pool, other[1]))


def _place(pool: ServingPool) -> tuple[object, str]:
    """What two pools of a pair have in common: the subnet, and the class that they are for."""
    return pool.subnet.subnet, pool.own_class.name if pool.own_class is not None else ""


def _end(name: str, pool: ServingPool, serving: Serving) -> PairEnd:
    fact, partner = pool.fact, pool.fact.get("partner")
    pairing = None
    if partner is not None:
        pairing = Pairing(partner, fact.get("leads", True), fact.get("after"))
    return PairEnd(name, pairing, serving.own_addresses, pool.assignable)


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
