"""The address space of a plan: what each address is for, what is free, which VLAN tags are."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise

import numpy as np

from reservoir.core.behaviour import DeviceBehaviour, never_assigned
from reservoir.core.in_use import addresses_in_use
from reservoir.core.plan.model import Network
from reservoir.core.pools import Pool, Pools
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.address_sets import SPACE
from reservoir.core.values.addresses import Prefix, Span

KINDS = ("conflicting", "bound", "static", "assignable", "excluded", "free")
"""What an address is for; the first that holds. ``bound`` is what clients of any network are bound
to, ``static`` all that some machine has by itself: static hosts, gateway, interfaces, servers and
next hops that are named anywhere. ``free`` is a host address that the plan says nothing of.
"""

VLAN_TAGS = range(2, 4095)
"""Tags that a new VLAN can have: 1 is everybody's default (IEEE 802.1Q section 9.6)."""

USUAL_BLOCK = 16
"""The prefix length of the blocks in which a plan's subnets are, if none are stated."""


@dataclass(frozen=True)
class NetworkSpace:
    """The addresses of one network's subnet, by what they are for."""

    name: str
    network: Network
    kinds: Mapping[str, AddressSet]
    """By :data:`KINDS`; no address is in two of them. Together the subnet's host addresses, and
    its edges where they conflict."""

    @property
    def subnet(self) -> Prefix:
        """The network's subnet."""
        return self.network.subnet.subnet


class Space:
    """The address space of a plan."""

    def __init__(self, pools: Pools, behaviours: Mapping[str, DeviceBehaviour]) -> None:
        """Take the plan's pools, and how each device behaves whose dialect is known."""
        self._pools = pools
        self._behaviours = behaviours
        self._plan = pools.plan
        self._made: dict[str, NetworkSpace] = {}

    @cached_property
    def networks(self) -> list[NetworkSpace]:
        """The networks, by their addresses; VRFs one after the other."""
        found = map(self.network, self._plan.networks)
        return sorted(found, key=lambda one: (one.network.vrf, one.subnet.span))

    def network(self, name: str) -> NetworkSpace:
        """The addresses of a network.

        Raises:
            KeyError: the plan has no such network.
        """
        if name not in self._made:
            network, index = self._plan.networks[name], self._pools.place_of(name)
            self._made[name] = NetworkSpace(name, network, self._kinds(index))
        return self._made[name]

    @cached_property
    def _subnets_twice(self) -> dict[str, AddressSet]:
        """For each VRF, the addresses that are in the subnets of two networks."""
        by_vrf: dict[str, list[Span]] = {}
        for network in self._pools.networks:
            by_vrf.setdefault(network.vrf, []).append(network.subnet.subnet.span)
        return {vrf: covered_twice(spans) for vrf, spans in by_vrf.items()}

    def _kinds(self, index: int) -> Mapping[str, AddressSet]:
        network = self._pools.networks[index]
        span = network.subnet.subnet.span
        hosts = AddressSet([network.subnet.hosts])
        assignable = self._assignable(index)
        taken = self._pools.taken(index).clipped(span)
        own, others, by_two = self._bound(index)
        bound = own | others
        one_machine = self._listed_clients.get(network.vrf, AddressSet()).clipped(span)
        in_use = self._in_use.get(network.vrf, AddressSet()).clipped(span)
        conflicting = self._subnets_twice[network.vrf].clipped(span) | by_two
        conflicting |= (taken & (assignable | (bound - one_machine))) | (assignable & in_use)
        conflicting |= (assignable & others) | self._assigned_by_two(index)
        conflicting |= self._held_by_two.get(network.vrf, AddressSet()).clipped(span)
        excluded = AddressSet(exclusion.range for exclusion in network.exclusions) & hosts
        parts = (conflicting, bound, taken | (in_use & hosts), assignable, excluded, hosts)
        found, before = {}, AddressSet()
        for kind, part in zip(KINDS, parts, strict=True):
            found[kind] = part - before
            before |= part
        return found

    def _assignable(self, index: int) -> AddressSet:
        """What any server of a network assigns, less what each of them holds and so leaves out."""
        found = AddressSet()
        for pool in self._pools.by_network[index]:
            found |= pool.assignable - never_assigned(pool, self._pools.topology, self._behaviours)
        return found

    @cached_property
    def _in_use(self) -> dict[str, AddressSet]:
        """For each VRF, the addresses of servers and next hops that the plan names."""
        names = {number: name for name, number in self._pools.vrf_of.items()}
        found: dict[str, list[int]] = {}
        for use in addresses_in_use(self._pools):
            found.setdefault(names[use.vrf], []).append(use.address)
        return {vrf: AddressSet.of_addresses(some) for vrf, some in found.items()}

    @cached_property
    def _listed_clients(self) -> dict[str, AddressSet]:
        """For each VRF, addresses of static hosts that are the very client bound there."""
        pools, table, static = self._pools, self._pools.bindings, self._pools.static
        if not len(table) or not len(static):
            return {}
        vrfs = pools.vrf_numbers[static.network]
        rows = pools.bindings_by_address.first_at(vrfs, static.address)
        names = {number: name for name, number in pools.vrf_of.items()}
        found: dict[str, list[int]] = {}
        for host in np.flatnonzero(rows >= 0).tolist():
            if pools.owner(host) == table.name[int(rows[host])] != "":
                found.setdefault(names[int(vrfs[host])], []).append(int(static.address[host]))
        return {vrf: AddressSet.of_addresses(some) for vrf, some in found.items()}

    def _bound(self, index: int) -> tuple[AddressSet, AddressSet, AddressSet]:
        """Addresses in a network's subnet that its clients are bound to, others, and several."""
        pools, table = self._pools, self._pools.bindings
        span = pools.networks[index].subnet.subnet.span
        rows = pools.bindings_by_address.within(int(pools.vrf_numbers[index]), span)
        address, client = table.address[rows], table.client[rows]
        is_own = table.network[rows] == index
        pairs = np.unique(np.stack([address, client]), axis=1)
        which, count = np.unique(pairs[0], return_counts=True)
        return (
            AddressSet.of_addresses(address[is_own]),
            AddressSet.of_addresses(address[~is_own]),
            AddressSet.of_addresses(which[count > 1]),
        )

    def _assigned_by_two(self, index: int) -> AddressSet:
        """What two servers of a network assign without knowing of each other's leases."""
        group = self._pools.by_network[index]
        found = AddressSet()
        before: list[Pool] = []
        for pool in group:
            for other in before:
                if not pool.keeps_in_step_with(other):
                    found |= pool.assignable & other.assignable
            before.append(pool)
        return found

    @cached_property
    def _held_by_two(self) -> dict[str, AddressSet]:
        """For each VRF, the addresses that two machines have set by themselves.

        Addresses that they share on purpose, virtual and anycast ones, are none.
        """
        pools, topology, table = self._pools, self._pools.topology, self._pools.static
        names = {number: name for name, number in pools.vrf_of.items()}
        up = [a for a in topology.addressed if topology.is_up(a)]
        held = [(pools.vrf_of.get(topology.interface(a).vrf, -1), a.address) for a in up]
        keys = np.concatenate(
            [
                np.array([(vrf << SPACE) + address for vrf, address in held], dtype=np.int64),
                (pools.vrf_numbers[table.network] << SPACE) + table.address,
            ]
        )
        order = np.argsort(keys, kind="stable")
        again = np.flatnonzero(keys[order][1:] == keys[order][:-1])
        holders: dict[int, tuple[set[str], list[str]]] = {}
        for place in sorted({*order[again].tolist(), *order[again + 1].tolist()}):
            devices, machines = holders.setdefault(int(keys[place]), (set(), []))
            row = place - len(up)
            if row < 0:
                devices.add(up[place].device)
            elif pools.device_at(row) not in devices:  # else it is that device, listed
                machines.append(pools.owner(row))
        found: dict[str, list[int]] = {}
        for key, (devices, machines) in holders.items():
            vrf, address = key >> SPACE, key & ((1 << SPACE) - 1)
            several = _are_several(devices, machines)
            if vrf >= 0 and several and address not in self._plan.anycast:
                found.setdefault(names[vrf], []).append(address)
        return {vrf: AddressSet.of_addresses(some) for vrf, some in found.items()}

    @cached_property
    def used(self) -> AddressSet:
        """Every address that the plan names or gives a subnet to, in any VRF."""
        plan = self._plan
        subnets = [network.subnet.subnet.span for network in plan.networks.values()]
        for device in plan.devices.values():
            for interface in device.interfaces.values():
                subnets += [prefix.subnet.span for prefix in interface.addresses]
        named = [_named(network) for network in plan.networks.values()]
        every = [address for some in named for address in some]
        every += [*plan.anycast, *plan.listeners, *(plan.defaults.dns or ())]
        for device in plan.devices.values():
            every += [route.via for route in device.routes]
            for interface in device.interfaces.values():
                every += [*interface.virtual, *interface.relay_to]
        tables = [self._pools.bindings.address, self._pools.static.address]
        addresses = np.concatenate([np.array(every, dtype=np.int64), *tables])
        return AddressSet(subnets) | AddressSet.of_addresses(addresses) | self._routed(subnets)

    def _routed(self, subnets: Sequence[Span]) -> AddressSet:
        """Where routes lead besides the plan's own subnets; not what holds some of these."""
        starts = np.sort(np.array([span.first for span in subnets], dtype=np.int64))
        found = []
        for device in self._plan.devices.values():
            for route in device.routes:
                span = route.to.subnet.span
                if np.searchsorted(starts, span.first) == np.searchsorted(starts, span.last + 1):
                    found.append(span)
        return AddressSet(found)

    @cached_property
    def blocks(self) -> list[Prefix]:
        """The blocks that the subnets are in: the /16 around each, if it isn't larger."""
        wanted = {
            Prefix(subnet.address, min(subnet.bits, USUAL_BLOCK)).subnet
            for subnet in (one.subnet for one in self.networks)
        }
        return sorted(wanted, key=lambda block: (block.span.first, block.bits))

    def free(self, bits: int, within: Sequence[Prefix] = ()) -> Iterator[Prefix]:
        """The blocks of a prefix length of which the plan uses no address, ascending.

        Args:
            bits: The prefix length.
            within: Where to look; in :attr:`blocks` if empty.
        """
        for begins in self._free(bits, within):
            yield from (Prefix(address, bits) for address in begins)

    def count_free(self, bits: int, within: Sequence[Prefix] = ()) -> int:
        """How many blocks :meth:`free` has."""
        return sum(map(len, self._free(bits, within)))

    def _free(self, bits: int, within: Sequence[Prefix]) -> Iterator[range]:
        """Where free blocks begin, stretch by stretch."""
        size = 1 << (32 - bits)
        for span in AddressSet(block.subnet.span for block in within or self.blocks).spans():
            for gap in self.used.complement_within(span).spans():
                yield range(-(-gap.first // size) * size, gap.last - size + 2, size)

    @cached_property
    def vlans(self) -> set[int]:
        """The VLAN tags that networks and interfaces have."""
        tags = {network.vlan for network in self._plan.networks.values()}
        for device in self._plan.devices.values():
            tags |= {interface.vlan for interface in device.interfaces.values()}
        return {tag for tag in tags if tag is not None}

    @property
    def free_vlans(self) -> list[tuple[int, int]]:
        """The tags that nothing has: the first and the last of each stretch, ascending."""
        used = sorted(tag for tag in self.vlans if tag in VLAN_TAGS)
        edges = [VLAN_TAGS.start - 1, *used, VLAN_TAGS.stop]
        return [(low + 1, high - 1) for low, high in pairwise(edges) if high - low > 1]


def _are_several(devices: Collection[str], machines: Sequence[str]) -> bool:
    """Whether those who have an address are more than one machine.

    Args:
        devices: The devices with an interface that has it.
        machines: The owners of the static hosts that have it; empty if nobody said.
    """
    # A static host without a name at a device's address is the device.
    others = [machine for machine in machines if machine or not devices]
    return len(devices) + len(set(others)) > 1 or others.count("") > 1


def _named(network: Network) -> list[int]:
    """Addresses that a network names."""
    found = [*(network.dns or ())]
    found += [address for address in (network.gateway, network.next_server) if address]
    return found


def covered_twice(spans: Sequence[Span]) -> AddressSet:
    """The addresses that are in two of the spans or more."""
    if not spans:
        return AddressSet()
    begins, lasts = np.array(spans, dtype=np.int64).T
    at = np.concatenate([begins, lasts + 1])
    step = np.concatenate([np.ones(len(begins), np.int64), -np.ones(len(lasts), np.int64)])
    order = np.lexsort((step, at))
    at, depth = at[order], np.cumsum(step[order])
    twice = np.flatnonzero(depth[:-1] > 1)
    return AddressSet.of_borders(at[twice], at[twice + 1])
