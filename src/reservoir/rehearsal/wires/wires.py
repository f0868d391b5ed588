"""Segments and the ways between them: carries each message, as a frame, to whoever hears it.

The topology is the plan's; what devices do with a message is theirs. A message that goes from one
device to another takes the way of the devices' routes, hop by hop.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from random import Random
from typing import NamedTuple

from reservoir.core.off import NOTHING_OFF, Off
from reservoir.core.pools import Pools
from reservoir.core.routing import End, Routing, Way
from reservoir.core.values.addresses import format_address
from reservoir.core.values.clients import Mac
from reservoir.rehearsal.clients.client import Client
from reservoir.rehearsal.clock import Clock
from reservoir.rehearsal.devices.claims import Arrival
from reservoir.rehearsal.devices.pairs import InStep
from reservoir.rehearsal.devices.stand_in import StandIn
from reservoir.rehearsal.messages import frame, message
from reservoir.rehearsal.messages.frame import EVERY_MAC, EVERYBODY, Datagram
from reservoir.rehearsal.messages.message import (
    BROADCAST_FLAG,
    CLIENT_PORT,
    SERVER_PORT,
    Kind,
    Message,
    Option,
)
from reservoir.rehearsal.wires.laying import laid, on_one_lan
from reservoir.rehearsal.wires.segment import Port, Segment

DELAY = 0.001
"""Seconds that a frame is under way at least, and half of what it is at most."""

FIRST_DEVICE_MAC = 0x020000000000
"""The hardware address of the first device; those of the others follow. Locally administered."""

MOST_NOTES = 12
"""Reasons that are kept of one client."""


Ends = tuple[int, int, int, int]
"""The address and the port that a datagram is sent from, and those that it is sent to."""


@dataclass(frozen=True)
class Disturbance:
    """What goes wrong under way: shares of all frames, 0 to 1."""

    loss: float = 0.0
    duplication: float = 0.0
    reordering: float = 0.0

    def __bool__(self) -> bool:
        return bool(self.loss or self.duplication or self.reordering)


UNDISTURBED = Disturbance()
"""Every frame arrives, once, in order."""


class Event(NamedTuple):
    """A message that was sent, or what a device did with one."""

    at: float
    """Seconds of virtual time."""
    client: Mac
    who: str
    """Who sent it, or decided."""
    message: Message | None = None
    to: str = ""
    """Who a message was sent to."""
    what: str = ""
    """What a device did, and why."""


class Wires:
    """All segments of a plan, with the devices and clients on them."""

    def __init__(
        self,
        pools: Pools,
        seed: int = 0,
        disturbance: Disturbance = UNDISTURBED,
        *,
        complete: bool = True,
    ) -> None:
        """Lay the wires of a plan; devices and clients are connected later."""
        self.clock = Clock()
        self.random = Random(seed)  # noqa: S311 - so that the same seed gives the same bytes
        self.devices: dict[str, StandIn] = {}
        self.lost: dict[Mac, list[str]] = {}
        """Why each client's messages were not answered, the last reasons."""
        self.refused: set[Mac] = set()
        """Clients for which a server had no free address."""
        self.frames = 0
        """Frames that were sent."""
        self.last_frame: dict[Mac, int] = {}
        """The number of the last frame that was sent by or to each client."""
        self.watch: Callable[[Event], None] | None = None
        self.capture: Callable[[float, bytes], None] | None = None
        self._pools = pools
        self._topology = pools.topology
        self._complete = complete
        self._routing = Routing(pools, is_complete=complete)
        self._off: Off = NOTHING_OFF
        self._switched = float("-inf")
        self.in_step: list[InStep] = []
        """The pairs of servers, which are told when something has been switched off or on."""
        self._disturbance = disturbance or UNDISTURBED
        self._segments: dict[str, Segment] = {}
        self._at_port: dict[tuple[str, str], Segment] = {}
        self._home: dict[Client, Segment] = {}
        self._homes: dict[Mac, list[Segment]] = {}
        """The segments on which a client of this MAC address is: one machine may be on several."""
        self._macs = {
            name: Mac(FIRST_DEVICE_MAC + number) for number, name in enumerate(pools.plan.devices)
        }
        for name in pools.names:
            if name not in self._segments:
                segment = laid(pools, on_one_lan(pools, name))
                self._segments |= dict.fromkeys(segment.networks, segment)
                for port in segment.ports:
                    self._at_port.setdefault((port.device, port.interface), segment)

    def segment(self, network: str) -> Segment:
        """The segment that a network is on."""
        return self._segments[network]

    def connect(self, client: Client, network: str) -> None:
        """Connect a client to a network's segment."""
        segment = self._segments[network]
        segment.clients[client.mac] = client
        self._home[client] = segment
        homes = self._homes.setdefault(client.mac, [])
        if segment not in homes:
            homes.append(segment)

    def way(self, device: str, address: int) -> Way:
        """The way of a packet from a device to an address."""
        return self._routing.way(device, address)

    def switch_off(self, off: Off) -> None:
        """Let devices and interfaces be off from now on; all others are on."""
        self._off = off
        plan = off.taken_from(self._pools.plan)
        self._routing = Routing(Pools(plan), is_complete=self._complete)
        self._switched = self.clock.now
        for pair in self.in_step:
            pair.update()

    def out_of_reach_for(self, devices: tuple[str, str], at: tuple[int, int]) -> float:
        """Seconds for which two devices haven't reached each other; 0 if they do.

        Args:
            devices: The devices.
            at: The address of each at which the other one asks.
        """
        is_off = not self._off.devices.isdisjoint(devices)
        lost = is_off or any(
            self.way(device, address).is_lost
            for device, address in zip(devices, reversed(at), strict=True)
        )
        return max(self.clock.now - self._switched, 1e-9) if lost else 0.0

    def are_apart(self, devices: tuple[str, str], at: tuple[int, int]) -> bool:
        """Whether two devices are both on, and don't reach each other."""
        return self._off.devices.isdisjoint(devices) and self.out_of_reach_for(devices, at) > 0

    # What clients do.

    def broadcast(self, client: Client, message: Message) -> None:
        """Send a client's message to every port of its segment."""
        segment = self._home[client]
        ends = 0, CLIENT_PORT, EVERYBODY, SERVER_PORT
        data = self._framed(message, ends, client.mac, EVERY_MAC)
        self._tell(message, "client", "everybody")
        if not segment.ports:
            why = f": {segment.elsewhere}" if segment.elsewhere else ""
            self.note(message, "", f"no device hears this network{why}")
        if client.mac >> 40 & 1:
            self.note(message, "", f"{client.mac} is a group address: no switch takes its frames")
            return
        for port in segment.ports:
            self._carry(data, self._arrive, port, False)

    def unicast(self, client: Client, message: Message, target: int) -> None:
        """Send a client's message to one address: on the segment, or by way of its gateway."""
        segment = self._home[client]
        ends = client.address, CLIENT_PORT, target, SERVER_PORT
        data = self._framed(message, ends, client.mac, EVERY_MAC)
        self._tell(message, "client", format_address(target))
        ports = [port for port in segment.ports if self._is_on(port.device, port.interface)]
        here = next((p for p in ports if self._holds(p.device, target)), None)
        if here is not None and target in segment.held:
            self._carry(data, self._arrive, here._replace(address=target), True)
            return
        gateway = client.acknowledged.address(Option.ROUTER) if client.acknowledged else None
        first = next((p for p in ports if self._answers(p, gateway)), None)
        if first is None:
            shown = format_address(gateway) if gateway else "no gateway"
            self.note(message, "", f"{format_address(target)} isn't reached by {shown}")
            return
        if self._holds(first.device, target):
            self._carry(data, self._arrive, first._replace(address=target), True)
            return
        self._send_on(first.device, target, data, message)

    def holder(self, client: Client, address: int) -> str:
        """Who else on a client's segment answers at an address; empty if nobody does."""
        segment = self._home[client]
        other = segment.online.get(address)
        if other is not None and other is not client and other.is_online:
            return f"client {other.mac}"
        return segment.held.get(address, "")

    def is_used(self, device: str, interface: str, relay: int, address: int) -> bool:
        """Whether somebody answers at an address that a server probes."""
        segment = self._at_port.get((device, interface))
        for attachment in self._topology.holders(relay) if relay else ():
            segment = self._at_port.get((attachment.device, attachment.interface), segment)
        return segment is not None and (address in segment.held or address in segment.online)

    # What devices do.

    def note(
        self,
        message: Message,
        device: str,
        what: str,
        *,
        is_lost: bool = True,
        is_full: bool = False,
    ) -> None:
        """Note what a device did with a client's message; see :class:`stand_in.Wires`."""
        if is_full:
            self.refused.add(message.mac)
        if is_lost:
            reasons = self.lost.setdefault(message.mac, [])
            reasons.append(f"{device} {what}" if device else what)
            if len(reasons) > MOST_NOTES:
                del reasons[0]
        if self.watch is not None:
            self.watch(Event(self.clock.now, message.mac, device, what=what))

    def reply(self, device: StandIn, arrival: Arrival, reply: Message) -> None:
        """Send a server's answer to the client, or to the relay that its request came by."""
        if reply.relay:
            self._reply_to_relay(device, arrival, reply)
            return
        segment = self._at_port.get((device.name, arrival.interface))
        if not arrival.is_unicast:
            self._answered(device.name, arrival, reply)
        if arrival.is_unicast:  # a renewal: the client is where its address is
            segment = self._segment_of(reply)
            way = self.way(device.name, reply.own_address)
            if way.is_lost:
                self.note(reply, "", way.why(reply.own_address))
                return
        self._to_client(device.name, arrival.own_address, segment, reply)

    def _segment_of(
        self, message: Message, interface: str = "", device: str = ""
    ) -> Segment | None:
        """The segment of the client that a message is from or for.

        Of several that a client of its MAC address is on, it is the one at an interface, else that
        with the relay's address or with the address that the client has.
        """
        homes = self._homes.get(message.mac, [])
        if len(homes) < 2:
            return homes[0] if homes else None
        relays = self._topology.holders(message.relay) if message.relay else []
        at = {self._at_port.get((a.device, a.interface)) for a in relays}
        at |= set() if relays else {self._at_port.get((device, interface))}
        own = message.own_address
        there = [s for s in homes if s in at] or [s for s in homes if own and own in s.online]
        return (there or homes)[0]

    def _answered(self, server: str, arrival: Arrival, reply: Message) -> None:
        segment = self._segment_of(reply, arrival.interface, server)
        if segment is not None:
            segment.answered.setdefault(server, set()).add(reply.relay)

    def _reply_to_relay(self, device: StandIn, arrival: Arrival, reply: Message) -> None:
        ends = arrival.own_address, SERVER_PORT, reply.relay, SERVER_PORT
        data = self._framed(reply, ends, self._macs[device.name], EVERY_MAC)
        self._tell(reply, device.name, f"relay {format_address(reply.relay)}")
        relay = self._end_of(device.name, reply.relay, reply, device.name)
        if relay is not None:
            self._answered(device.name, arrival, reply)
            self._carry(data, self._back_at_relay, relay)
        elif (segment := self._segment_of(reply)) is not None:
            why = self.way(device.name, reply.relay).why(reply.relay)
            segment.lost.setdefault(device.name, why)

    def forward(self, device: StandIn, source: int, target: int, message: Message) -> None:
        """Send a relayed request to a server."""
        ends = source, SERVER_PORT, target, SERVER_PORT
        data = self._framed(message, ends, self._macs[device.name], EVERY_MAC)
        self._tell(message, device.name, format_address(target))
        self._send_on(device.name, target, data, message)

    def deliver(self, device: StandIn, interface: str, reply: Message) -> None:
        """Pass a server's answer on to the client behind an interface of a relay."""
        segment = self._at_port.get((device.name, interface))
        self._to_client(device.name, reply.relay, segment, reply)

    # How messages travel.

    def _send_on(self, device: str, target: int, data: bytes, message: Message) -> None:
        """Send a datagram from a device by its routes."""
        end = self._end_of(device, target, message)
        if end is not None:
            port = self._port_of(end, target, device)
            self._carry(data, self._arrive, port, True)

    def _end_of(
        self, device: str, target: int, message: Message, server: str | None = None
    ) -> str | None:
        """The device at which a packet to an address arrives; None if it is lost.

        Where it isn't known how it goes on, it arrives, and what that rests on is noted for the
        server: the one that sends it, or else the one that holds the address.
        """
        way = self.way(device, target)
        if way.end is End.ARRIVED and way.is_held:
            return way.at
        holders = [] if way.is_lost else self._topology.holders(target)
        if not holders:
            nobody = f"nobody known holds {format_address(target)}"
            self.note(message, "", way.why(target) or nobody)
            return None
        end = holders[0].device
        segment, why = self._segment_of(message) if way.is_open else None, way.why(target)
        if segment is not None:
            self.note(message, "", f"{why}: it is taken to arrive", is_lost=False)
            segment.rests_on.setdefault((server or end, message.relay), {})[why] = None
        return end

    def _port_of(self, device: str, target: int, sender: str) -> Port:
        """Where a packet to a device comes in; its own interface with that address, if unknown."""
        entered = self.way(sender, target).entered
        if entered and entered[-1].device == device:
            return Port(device, entered[-1].interface, target)
        own = next((a for a in self._topology.holders(target) if a.device == device), None)
        return Port(device, own.interface if own else "", target)

    def _arrive(self, data: bytes, port: Port, is_unicast: bool) -> None:
        device = self.devices.get(port.device)
        if device is not None and self._is_on(port.device, port.interface):
            arrived = message.decode(frame.decode(data).payload)
            segment = self._segment_of(arrived, port.interface, port.device)
            if segment is not None:
                segment.heard_by.add(port.device)
            if arrived.relay:
                is_unicast = False  # where a relayed request comes from, its relay address says
            device.hears(Arrival(arrived, port.interface, port.address, self.clock.now, is_unicast))

    def _back_at_relay(self, data: bytes, name: str) -> None:
        device = self.devices.get(name)
        if device is not None and self._is_on(name, ""):
            device.passes_on(message.decode(frame.decode(data).payload))

    def _to_client(self, sender: str, source: int, segment: Segment | None, reply: Message) -> None:
        """Send an answer to a client on a segment (RFC 2131 section 4.1)."""
        target = reply.your_address or reply.own_address
        if reply.flags & BROADCAST_FLAG or reply.kind is Kind.NAK or not target:
            target = EVERYBODY
        ends = source, SERVER_PORT, target, CLIENT_PORT
        hardware = EVERY_MAC if target == EVERYBODY else reply.mac
        data = self._framed(reply, ends, self._macs[sender], hardware)
        self._tell(reply, sender, "client")
        client = segment.clients.get(reply.mac) if segment else None
        if client is not None:
            self._carry(data, self._at_client, client)

    def _at_client(self, data: bytes, client: Client) -> None:
        segment = self._home[client]
        before = client.address if client.is_online else 0
        client.receive(message.decode(frame.decode(data).payload))
        now = client.address if client.is_online else 0
        if before != now:
            if segment.online.get(before) is client:
                del segment.online[before]
            if now:
                segment.online[now] = client

    def _framed(self, sent: Message, ends: Ends, source: Mac, target: Mac) -> bytes:
        data = frame.encode(Datagram(*ends, sent.encode()), source, target)
        self.frames += 1
        self.last_frame[sent.mac] = self.frames
        if self.capture is not None:
            self.capture(self.clock.now, data)
        return data

    def _carry(self, data: bytes, action: Callable[..., None], *values: object) -> None:
        """Let a frame arrive a moment later; not at all, twice or late, where that is wanted."""
        chance, disturbed = self.random.random, self._disturbance
        if disturbed is UNDISTURBED:
            self.clock.after(DELAY * (1 + chance()), action, data, *values)
            return
        for _ in range(1 + (chance() < disturbed.duplication)):
            if chance() >= disturbed.loss:
                late = chance() * 2.0 if chance() < disturbed.reordering else 0.0
                self.clock.after(DELAY * (1 + chance()) + late, action, data, *values)

    def _tell(self, sent: Message, who: str, to: str) -> None:
        if self.watch is not None:
            self.watch(Event(self.clock.now, sent.mac, who, sent, to))

    def _is_on(self, device: str, interface: str) -> bool:
        return device not in self._off.devices and (device, interface) not in self._off.interfaces

    def _holds(self, device: str, address: int) -> bool:
        return any(a.device == device for a in self._topology.holders(address))

    def _answers(self, port: Port, address: int | None) -> bool:
        """Whether a port's device answers at an address, its own or one that it shares."""
        return address is not None and self._holds(port.device, address)
