"""Where packets go by the devices' own routes, hop by hop, as far as the plan knows.

A device that lists no routes learns them, and a next hop that no device of the plan holds leads out
of it: nothing is claimed of what lies beyond either.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from enum import Enum
from typing import TypeVar

from reservoir.core.plan.model import Plan
from reservoir.core.topology import Attachment, Topology
from reservoir.core.values.addresses import mask_of

Entry = TypeVar("Entry")

_Length = tuple[int, dict[int, list[Entry]]]
"""A mask, and what there is for each subnet of its length."""

MOST_HOPS = 64
"""Routers that a packet passes at most; further ways aren't followed."""


class End(Enum):
    """How a way ends."""

    ARRIVED = "arrived"
    UNKNOWN = "unknown"
    """It leaves what the plan knows."""
    DOWN = "down"
    """It ends at an interface that is disabled."""
    NO_ROUTE = "no route"
    LOOP = "loop"


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

    def after(self, entered: Attachment) -> Way:
        """The same way, one device further from its beginning."""
        return Way(self.end, self.at, (entered, *self.entered), self.down)


class Routing:
    """The routes of all devices, indexed once: n log n in routes and interfaces."""

    def __init__(self, plan: Plan, topology: Topology) -> None:
        """Nothing is indexed before it is asked for."""
        self._plan = plan
        self._topology = topology
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

    def _follow(self, device: str, address: int, passed: set[str], left: int) -> Way:
        """The best way on from a device; each device is passed once, however many ways lead to it.

        What was passed before was looked at before, so nothing is missed from where it all began.
        """
        if any(a.device == device for a in self._topology.holders(address)):
            return Way(End.ARRIVED, device)
        connected = self.connected(device, address)
        if connected:
            return self._onto(device, address, connected)
        if not self._plan.devices[device].routes or not left:
            return Way(End.UNKNOWN, device)
        hops = self._table(device).next_hops(address)
        if not hops:
            return Way(End.NO_ROUTE, device)
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
        return Way(End.UNKNOWN, device)

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
            yield Way(End.UNKNOWN, device)
        for neighbour in there:
            if not self._topology.is_up(neighbour):
                yield Way(End.DOWN, neighbour.device, down=neighbour)
            elif neighbour.device in passed:
                yield Way(End.LOOP, device)
            else:
                passed.add(neighbour.device)
                yield self._follow(neighbour.device, address, passed, left - 1).after(neighbour)

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
