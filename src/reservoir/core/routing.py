"""Where packets go by the devices' own routes, hop by hop, as far as the plan knows.

Routes that are left out are not known, and a next hop that no device of the plan holds may lead out
of it: nothing is claimed of what lies beyond either. Where all who stand in a network are known, a
next hop that nobody there holds leads nowhere.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from enum import Enum
from functools import cached_property
from typing import TypeVar

from reservoir.core.plan.model import Device
from reservoir.core.pools import Pools
from reservoir.core.topology import Attachment
from reservoir.core.values.addresses import format_address, mask_of

Entry = TypeVar("Entry")

_Length = tuple[int, dict[int, list[Entry]]]
"""A mask, and what there is for each subnet of its length."""

MOST_HOPS = 64
"""Routers that a packet passes at most; further ways aren't followed."""


OWN = "its own address"
"""What is wrong with a next hop that is one of the device's own addresses."""


class End(Enum):
    """How a way ends, the best first."""

    ARRIVED = "arrived"
    """At a device that holds the address, or on the link where it is and no device holds it."""
    NOT_STATED = "routes not stated"
    """At a device whose routes are left out."""
    BEYOND = "beyond the plan"
    """At a next hop that no device of the plan holds."""
    DOWN = "down"
    """At an interface that is disabled."""
    NO_ROUTE = "no route"
    NOT_HELD = "next hop not held"
    """At a next hop that nobody can hold: off every link, or nobody's where all are known."""
    LOOP = "loop"


_OPEN = frozenset((End.NOT_STATED, End.BEYOND))


@dataclass(frozen=True)
class Way:
    """A way that packets take from a device to an address."""

    end: End
    at: str
    """The device where it ends."""
    entered: tuple[Attachment, ...] = ()
    """The interface at which each further device is entered, in order."""
    down: Attachment | None = None
    """The disabled interface that it ends at."""
    hop: int | None = None
    """The next hop that it ends at, which no device holds."""
    is_held: bool = True
    """Whether a device of the plan holds the address that it leads to, if it arrived."""

    @property
    def is_open(self) -> bool:
        """Whether it isn't known how it goes on."""
        return self.end in _OPEN

    @property
    def is_lost(self) -> bool:
        """Whether what takes it doesn't arrive."""
        return self.end is not End.ARRIVED and not self.is_open

    def after(self, entered: Attachment) -> Way:
        """The same way, one device further from its beginning."""
        return replace(self, entered=(entered, *self.entered))

    def why(self, address: int) -> str:
        """Why a packet to an address doesn't arrive, or may not; empty if it does."""
        shown = format_address(address)
        hop = "" if self.hop is None else format_address(self.hop)
        return {
            End.ARRIVED: "",
            End.NOT_STATED: f"the plan doesn't state the routes of {self.at}",
            End.BEYOND: f"{self.at} sends it out of the plan{f' by {hop}' if hop else ''}",
            End.DOWN: f"{self.down} is disabled",
            End.NO_ROUTE: f"{self.at} has no route to {shown}",
            End.LOOP: f"{self.at} sends what is for {shown} in a circle",
            End.NOT_HELD: f"{self.at} sends what is for {shown} on to {hop}, which nobody holds",
        }[self.end]


class Routing:
    """The routes of all devices, indexed once: n log n in routes and interfaces."""

    def __init__(self, pools: Pools, *, is_complete: bool = True) -> None:
        """Nothing is indexed before it is asked for.

        Args:
            pools: The plan's pools.
            is_complete: Whether all devices that matter are known; else any next hop may be one's
                that isn't.
        """
        self._pools = pools
        self._plan, self._topology = pools.plan, pools.topology
        self._is_complete = is_complete
        self._tables: dict[str, _Table] = {}
        self._found: dict[tuple[str, int], Way] = {}

    def way(self, device: str, address: int) -> Way:
        """The way from a device to an address, which a device of the plan holds or nobody known."""
        key = device, address
        if key not in self._found:
            self._found[key] = self._follow(device, address, {device}, MOST_HOPS)
        return self._found[key]

    def connected(self, device: str, address: int) -> Sequence[Attachment]:
        """The device's interfaces in its smallest connected subnet that has an address."""
        return self._table(device).connected(address)

    @cached_property
    def named_as_routers(self) -> Mapping[int, set[str | None]]:
        """The addresses of gateways and next hops, with the devices that use them, or None."""
        found: dict[int, set[str | None]] = {}
        for network in self._plan.networks.values():
            if network.gateway is not None:
                found.setdefault(network.gateway, set()).add(None)
        for name, device in self._plan.devices.items():
            for route in device.routes:
                found.setdefault(route.via, set()).add(name)
        return found

    def network_without(self, device: str, hop: int) -> str | None:
        """The network that a next hop of a device is in, where all are known and nobody holds it.

        That is where another device is the router, and nothing else in the plan names the address.
        """
        if self._topology.holders(hop) or self.named_as_routers.get(hop, set()) != {device}:
            return None  # somebody's, a gateway, or a router that other devices know too
        for attachment in self.connected(device, hop):
            home = self._topology.home_of(attachment)
            if home is None or not attachment.prefix.hosts.holds(hop) or hop == attachment.address:
                continue
            network = self._plan.networks[home]
            if network.gateway is not None and network.subnet.hosts.holds(hop):
                if self._pools.static_by_address.at(self._pools.vrf_of[network.vrf], hop):
                    return None
                routers = self._topology.answering(network.gateway, network.vrf)
                if any(router.device != device for router in routers):
                    return home
        return None

    def _follow(self, device: str, address: int, passed: set[str], left: int) -> Way:
        """The best way on from a device; each device is passed once, however many ways lead to it.

        What was passed before was looked at before, so nothing is missed from where it all began.
        """
        if any(a.device == device for a in self._topology.holders(address)):
            return Way(End.ARRIVED, device)
        connected = self.connected(device, address)
        if connected:
            return self._onto(device, address, connected)
        if not self._plan.devices[device].states_routes:
            return Way(End.NOT_STATED, device)
        hops = self._table(device).next_hops(address)
        if not hops:
            return Way(End.NO_ROUTE, device)
        if not left:
            return Way(End.BEYOND, device)
        ways = [way for hop in hops for way in self._by(device, hop, address, passed, left)]
        return min(ways, key=lambda way: list(End).index(way.end))

    def _onto(self, device: str, address: int, connected: Sequence[Attachment]) -> Way:
        """The last step, onto the subnet where the address is."""
        leaving = self._enabled(connected)
        if not leaving:
            return Way(End.DOWN, device, down=connected[0])
        there = self._neighbours(device, leaving[0], address)
        up = self._enabled(there)
        if up:
            return Way(End.ARRIVED, up[0].device, (up[0],))
        if there:
            return Way(End.DOWN, there[0].device, down=there[0])
        return Way(End.ARRIVED, device, is_held=False)

    def _by(
        self, device: str, hop: int, address: int, passed: set[str], left: int
    ) -> Iterator[Way]:
        """The ways by a next hop: one for each device that holds it or shares it."""
        connected = self.connected(device, hop)
        leaving = self._enabled(connected)
        if connected and not leaving:
            yield Way(End.DOWN, device, down=connected[0])
            return
        there = self._neighbours(device, leaving[0], hop) if leaving else []
        if not there:
            yield Way(self._end_at(device, hop, connected), device, hop=hop)
        for neighbour in there:
            if not self._topology.is_up(neighbour):
                yield Way(End.DOWN, neighbour.device, down=neighbour)
            elif neighbour.device in passed:
                yield Way(End.LOOP, device)
            else:
                passed.add(neighbour.device)
                yield self._follow(neighbour.device, address, passed, left - 1).after(neighbour)

    def _end_at(self, device: str, hop: int, connected: Sequence[Attachment]) -> End:
        """What becomes of a packet to a next hop that no other device holds."""
        if self.why_unusable(device, hop) is not None:
            return End.NOT_HELD
        if self._is_complete and self.network_without(device, hop) is not None:
            return End.NOT_HELD
        return End.BEYOND

    def why_unusable(self, device: str, hop: int) -> str | None:
        """Why a device can't send to a next hop, whoever holds it; None if it can, or may."""
        attached, described = self._topology.attachments_of(device), self._plan.devices[device]
        if not attached or has_unknown_address(described):
            return None
        if any(attachment.address == hop for attachment in attached):
            return OWN
        near = [p for a in attached if (p := a.prefix).span.holds(hop)]
        if any(prefix.hosts.holds(hop) for prefix in near):
            return None
        if near:
            return f"the {near[0].edge_word(hop)} address of {near[0].subnet}"
        further = (route for route in described.routes if route.via != hop and route.to.bits > 0)
        if any(route.to.span.holds(hop) for route in further):
            return None  # another route leads there
        return "in none of its connected subnets"

    def _neighbours(self, device: str, leaving: Attachment, address: int) -> list[Attachment]:
        """The interfaces of other devices with an address, in the VRF of an interface."""
        vrf = self._topology.interface(leaving).vrf
        return [a for a in self._topology.answering(address, vrf) if a.device != device]

    def _enabled(self, attachments: Sequence[Attachment]) -> list[Attachment]:
        return [a for a in attachments if self._topology.is_up(a)]

    def _table(self, device: str) -> _Table:
        if device not in self._tables:
            routes = self._plan.devices[device].routes
            attached = self._topology.attachments_of(device)
            self._tables[device] = _Table(
                [(route.to.network, route.to.bits, route.via) for route in routes], attached
            )
        return self._tables[device]


def has_unknown_address(device: Device) -> bool:
    """Whether an interface may have an address that the plan doesn't know."""
    interfaces = device.interfaces
    parts = {i.parent for i in interfaces.values()}
    parts |= {member for i in interfaces.values() for member in i.members}
    return any(not i.addresses and name not in parts for name, i in interfaces.items())


class _Table:
    """A device's routes and connected subnets by prefix length, the longest first."""

    def __init__(
        self, routes: Sequence[tuple[int, int, int]], attached: Sequence[Attachment]
    ) -> None:
        by_bits: dict[int, dict[int, list[int]]] = {}
        for network, bits, via in routes:
            by_bits.setdefault(bits, {}).setdefault(network, []).append(via)
        self._routes = _longest_first(by_bits)
        connected: dict[int, dict[int, list[Attachment]]] = {}
        for attachment in attached:
            subnets = connected.setdefault(attachment.bits, {})
            subnets.setdefault(attachment.prefix.network, []).append(attachment)
        self._subnets = _longest_first(connected)

    def next_hops(self, address: int) -> Sequence[int]:
        """The next hops of the most specific route to an address; several where routes agree."""
        return _longest(self._routes, address)

    def connected(self, address: int) -> Sequence[Attachment]:
        """The interfaces in the smallest connected subnet that has an address."""
        return _longest(self._subnets, address)


def _longest_first(table: dict[int, dict[int, list[Entry]]]) -> list[_Length[Entry]]:
    return [(mask_of(bits), table[bits]) for bits in sorted(table, reverse=True)]


def _longest(table: Sequence[_Length[Entry]], address: int) -> Sequence[Entry]:
    for mask, subnets in table:
        found = subnets.get(address & mask)
        if found:
            return found
    return ()
