"""Which networks of a plan can be sized, and what their clients can get."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property, reduce

from reservoir.core.behaviour import DeviceBehaviour
from reservoir.core.findings import Witness
from reservoir.core.pairing import halves_of
from reservoir.core.plan.demand import Demand
from reservoir.core.plan.model import PlanPath
from reservoir.core.pools import Pool, Pools
from reservoir.core.sizing.size import Size, sizable, size
from reservoir.core.values.address_set import AddressSet

A_DAY = 86_400
"""Seconds."""

LINK = 30
"""The prefix length from which on a subnet is a link between two machines."""

Behaviours = Mapping[str, DeviceBehaviour]
"""How devices behave whose dialect is known, by their names."""


@dataclass(frozen=True)
class Sized:
    """A network that states a demand, or a class in it, and the numbers that decide."""

    every: Pools
    """All pools of the plan."""
    index: int
    """The network's place in the plan's order."""
    pools: list[Pool]
    demand: Demand
    lease: int
    """Seconds."""
    assignable: int
    shared: int
    """Addresses beyond its own that its clients get: free ones of other networks on its LAN."""
    bound: int
    headroom: float
    kind: str = ""
    """The class whose members are expected; empty for all others."""

    gone: frozenset[str] = frozenset()
    """The servers that are down, or that nobody reaches."""
    half_at: tuple[str, ...] = ()
    """Those left that go on with their half of a pair's addresses."""

    def without(self, servers: Collection[str], behaviours: Behaviours) -> Sized:
        """What is left of it while some servers are down, or not reached."""
        gone = frozenset(servers) & {pool.server for pool in self.pools if pool.server}
        left = replace(self, gone=gone)
        if not gone:
            return left
        if not left.pools_left:
            return replace(left, assignable=0, shared=0, bound=0)
        half = tuple(str(p.server) for p in left.pools_left if _has_half(p, gone, behaviours))
        left = replace(left, half_at=half)
        return replace(left, assignable=len(_assignable(left.pools_left, self.kind, half)))

    @property
    def pools_left(self) -> list[Pool]:
        """The pools of the other servers."""
        return [pool for pool in self.pools if pool.server not in self.gone]

    @property
    def kept_for(self) -> tuple[int, int] | None:
        """For how long a client keeps its address whose server fails: seconds, least and most.

        It renews at half its lease (RFC 2131 section 4.4.5). None where a partner renews it.
        """
        left = {pool.server for pool in self.pools_left}
        lost = (pool.serving for pool in self.pools if pool.server in self.gone)
        if all(serving is not None and serving.partner in left for serving in lost):
            return None
        return self.lease // 2, self.lease

    @property
    def label(self) -> str:
        """What to call those who are expected: the network, and the class."""
        return f"{self.name}, {self.kind}" if self.kind else self.name

    @property
    def name(self) -> str:
        """The network's name."""
        return self.pools[0].name

    @property
    def path(self) -> PlanPath:
        """Where the demand is."""
        of_class = ("by_class", self.kind) if self.kind else ()
        return (*self.pools[0].path, *of_class, "demand")

    def refused(self, count: int) -> Witness:
        """The case of the client of this number, counted from 1, that gets no address."""
        return Witness("refused", self.name, count=count, member_of=self.kind)

    @property
    def elsewhere(self) -> str:
        """The shared addresses in words; nothing if there are none."""
        return f", {self.shared:,} more elsewhere on its LAN" if self.shared else ""

    @property
    def capacity(self) -> int:
        """Clients that can have an address at once."""
        return self.assignable + self.shared + self.bound

    @cached_property
    def size(self) -> Size:
        """What its demand takes."""
        return size(self.demand, self.lease, self.capacity, self.headroom)

    @cached_property
    def kept(self) -> int:
        """Host addresses of its subnet that somebody has: gateway, static hosts, interfaces."""
        hosts = AddressSet([self.pools[0].network.subnet.hosts])
        return len(self.every.taken(self.index) & hosts)

    @property
    def needed(self) -> int:
        """The fewest addresses that meet the accepted risk."""
        return self.size.needed()

    @property
    def comfortable(self) -> int:
        """The same with headroom."""
        return self.size.comfortable()


def sized_networks(pools: Pools, behaviours: Behaviours) -> list[Sized]:
    """The networks whose demand can be sized, in the plan's order: those whose leases expire.

    Visitors who keep their addresses for good take ever more; `lease-infinite` reports that.
    """
    found = []
    for index, group in enumerate(pools.by_network):
        network = group[0].network
        # Of a link between two there is nothing to keep free.
        headroom = 0.0 if network.subnet.bits >= LINK else pools.plan.checks.headroom
        of_classes = {name: answers.demand for name, answers in network.by_class.items()}
        for kind, demand in {"": network.demand, **of_classes}.items():
            lease = lease_of(group[0], behaviours, kind)
            if demand is None or not sizable(demand, lease):
                continue
            room, bound = len(_assignable(group, kind)), len(group[0].bindings) * (not kind)
            found.append(Sized(pools, index, group, demand, lease, room, 0, bound, headroom, kind))
    return _with_shared(pools, behaviours, found)


def _has_half(pool: Pool, gone: Collection[str], behaviours: Behaviours) -> bool:
    """Whether a pool's server never takes over the half of its partner, which is gone."""
    serving, behaviour = pool.serving, behaviours.get(pool.server or "")
    is_alone = serving is not None and serving.partner in gone and serving.after is None
    return is_alone and behaviour is not None and behaviour.assigns_halves


def _assignable(group: Sequence[Pool], kind: str, half_at: Collection[str] = ()) -> AddressSet:
    """What clients of a class, or of none, may get from any server of a network.

    Of those in ``half_at`` their half of a pair's addresses.
    """
    parts = [
        _part(pool, its.assignable, half_at)
        for pool in group
        for its in (pool.by_class.classes if pool.by_class is not None else ())
        if its.name == kind
    ]
    parts += [] if kind else [_part(pool, pool.common, half_at) for pool in group]
    return reduce(AddressSet.__or__, parts)


def _part(pool: Pool, addresses: AddressSet, half_at: Collection[str]) -> AddressSet:
    if pool.server not in half_at or pool.serving is None:
        return addresses
    return halves_of(addresses)[0 if pool.serving.leads else 1]


def _with_shared(pools: Pools, behaviours: Behaviours, found: list[Sized]) -> list[Sized]:
    """The same, with what their servers assign from other pools of the segment when one is full."""
    shared = pools.topology.segments
    needed = {one.name: one.needed for one in found if not one.kind} if shared else {}
    for number, one in enumerate(found if needed else ()):
        if one.kind:
            continue
        together = segment_served_as_one(pools, behaviours, one.name)
        others = [name for name in together if name != one.name]
        free = sum(_capacity(pools, name) - needed.get(name, 0) for name in others)
        found[number] = replace(one, shared=max(0, free))
    return found


def segment_served_as_one(pools: Pools, behaviours: Behaviours, name: str) -> Sequence[str]:
    """The networks on a network's LAN whose pools one server assigns from when its own is full."""
    topology = pools.topology
    servers = topology.serving(name)
    behaviour = behaviours.get(next(iter(servers))) if len(servers) == 1 else None
    if behaviour is None or not behaviour.assigns_by_secondary:
        return (name,)
    return [n for n in topology.segment_of(name) if topology.serving(n) == servers]


def _capacity(pools: Pools, name: str) -> int:
    own = pools.of(name)
    return sum(len(pool.assignable) for pool in own) + len(own[0].bindings)


def lease_of(pool: Pool, behaviours: Behaviours, kind: str = "") -> int:
    """The lease time of a pool in seconds; the device's default, or a day, if the plan has none.

    Args:
        pool: The pool.
        behaviours: How devices behave.
        kind: The class whose members it is for; empty for clients of none.
    """
    classes = pool.by_class.classes if pool.by_class is not None else ()
    offer = next((its.offer for its in classes if its.name == kind), pool.offer)
    if offer.lease is not None:
        return offer.lease
    behaviour = behaviours.get(pool.server or "")
    return A_DAY if behaviour is None else behaviour.default_lease
