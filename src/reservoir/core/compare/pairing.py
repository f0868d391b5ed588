"""Which networks of two sides are the same, though their subnet or their name is another.

A network that is widened, narrowed or renumbered stays one network: its clients are still on the
same LAN. What tells is taken in the order of how sure it is: the interface that is in it, addresses
that both have, the VLAN at the same server, and last the name.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Hashable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import TypeVar

from reservoir.core.plan.model import Network
from reservoir.core.pools import Pool, Pools
from reservoir.core.topology import Topology
from reservoir.core.values.addresses import Prefix
from reservoir.core.values.by_subnet import BySubnet

Key = TypeVar("Key", bound=Hashable)

Port = tuple[str, str]
"""A device and one of its interfaces."""


@dataclass(frozen=True)
class Described:
    """A network, by what it can be known by on another side."""

    name: str
    network: Network
    servers: Collection[str] = ()
    ports: frozenset[Port] = field(default_factory=frozenset)
    """The interfaces that are in it."""

    @classmethod
    def of(
        cls, name: str, network: Network, servers: Collection[str], topology: Topology
    ) -> Described:
        """Describe a network of the plan that a topology is of."""
        ports = frozenset((a.device, a.interface) for a in topology.attachments(network))
        return cls(name, network, servers, ports)

    @classmethod
    def of_pools(cls, pools: Sequence[Pool], topology: Topology) -> Described:
        """Describe a network by the pools of all who serve it; one at least."""
        servers = [pool.server for pool in pools if pool.server is not None]
        return cls.of(pools[0].name, pools[0].network, servers, topology)


def as_planned(planned: Pools, read: Pools) -> dict[str, str]:
    """The planned networks that those are which were read from devices, by the read ones' names.

    One of another subnet is a planned one only if one of its planned servers has it.
    """
    by_subnet: dict[tuple[str, Prefix], str] = {}
    for name, network in planned.plan.networks.items():
        by_subnet.setdefault((network.vrf, network.subnet.subnet), name)
    found = {
        name: by_subnet[n.vrf, n.subnet.subnet]
        for name, n in read.plan.networks.items()
        if (n.vrf, n.subnet.subnet) in by_subnet
    }
    servers = {pool.server for pool in read if pool.server is not None}
    there, here = (
        {
            of[0].name: Described.of_pools(of, pools.topology)
            for of in pools.by_network
            if of[0].name not in known and any(pool.server in servers for pool in of)
        }
        for pools, known in ((planned, set(found.values())), (read, found))
    )
    return found | same_networks(there, here)


def same_networks(old: Mapping[Key, Described], new: Mapping[Key, Described]) -> dict[Key, Key]:
    """The networks of two sides that are the same, of those whose subnet only one side has.

    Args:
        old: The networks of one side, by any keys.
        new: Those of the other side.

    Returns:
        The keys of the old side by those of the new one; each is there once at most.
    """
    before, after = dict(old), dict(new)
    found: dict[Key, Key] = {}
    for pairs in (
        _marked(before, after, lambda described: described.ports),
        _meeting(before, after),
        _marked(before, after, _tags),
        _marked(before, after, lambda described: [described.name]),
    ):
        for there, here in pairs:
            if there in before and here in after:
                del before[there], after[here]
                found[here] = there
    return found


Marks = Callable[[Described], Collection[Hashable]]
"""What a network may be known by."""


def _marked(
    old: Mapping[Key, Described], new: Mapping[Key, Described], marks: Marks
) -> Iterator[tuple[Key, Key]]:
    """The networks that something marks on both sides, and no others there."""
    before = _alone(old, marks)
    for mark, here in _alone(new, marks).items():
        if mark in before:
            yield before[mark], here


def _alone(side: Mapping[Key, Described], marks: Marks) -> dict[Hashable, Key]:
    """What marks one network of a side only, and which."""
    found: dict[Hashable, list[Key]] = {}
    for key, described in side.items():
        for mark in marks(described):
            found.setdefault(mark, []).append(key)
    return {mark: keys[0] for mark, keys in found.items() if len(keys) == 1}


def _meeting(
    old: Mapping[Key, Described], new: Mapping[Key, Described]
) -> Iterator[tuple[Key, Key]]:
    """Those that share addresses; of several the one of the same name, else the first."""
    around = BySubnet((described.network.subnet, key) for key, described in old.items())
    taken: set[Key] = set()
    for here, described in list(new.items()):
        network = described.network
        meeting = [
            key
            for key in around.meeting(network.subnet)
            if key not in taken and _may_be_one(old[key].network.vrf, network.vrf)
        ]
        if meeting:
            there = min(meeting, key=lambda key: old[key].name != described.name)
            taken.add(there)
            yield there, here


def _may_be_one(vrf: str, other: str) -> bool:
    """Whether two VRFs may be the same; most devices' configuration names none."""
    return vrf == other or "" in (vrf, other)


def _tags(described: Described) -> list[Hashable]:
    tag = described.network.vlan
    return [(server, tag) for server in described.servers] if tag is not None else []
