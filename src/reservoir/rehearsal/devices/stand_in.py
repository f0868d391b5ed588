"""A stand-in device: it hears clients, serves them, and relays for other servers."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Protocol

from reservoir.core.values.addresses import format_address
from reservoir.dialects.behaviour.serving import Serving
from reservoir.rehearsal.devices.claims import Arrival
from reservoir.rehearsal.devices.server import StandInServer
from reservoir.rehearsal.messages.agent import of_circuit
from reservoir.rehearsal.messages.message import MOST_HOPS, Kind, Message, Option


class Wired(Protocol):
    """What a device is connected to."""

    def note(
        self,
        message: Message,
        device: str,
        what: str,
        *,
        is_lost: bool = True,
        is_full: bool = False,
    ) -> None:
        """Note what a device did with a client's message, and why.

        Args:
            message: The message.
            device: Who did it; empty if no device did.
            what: What it did, as a sentence without its subject.
            is_lost: Whether the message is lost by it.
            is_full: Whether that is for want of a free address.
        """

    def reply(self, device: StandIn, arrival: Arrival, reply: Message) -> None:
        """Send a server's answer to the client, or to the relay that its request came by."""

    def forward(self, device: StandIn, source: int, target: int, message: Message) -> None:
        """Send a relayed request to a server."""

    def deliver(self, device: StandIn, interface: str, reply: Message) -> None:
        """Pass a server's answer on to the client behind an interface of a relay."""


class StandIn:
    """A device that behaves as its configuration says."""

    def __init__(
        self,
        name: str,
        wires: Wired,
        server: StandInServer | None,
        relays_to: Mapping[str, Sequence[int]],
        addresses: Mapping[int, str],
        refusal: str = "",
        *,
        adds_circuit: bool = False,
    ) -> None:
        """Start it.

        Args:
            name: What it is called.
            wires: What it is connected to.
            server: What it serves; None if it serves nobody.
            relays_to: The servers to which each interface relays.
            addresses: Its own addresses, each with its interface.
            refusal: Why it serves nobody, if it refuses its configuration.
            adds_circuit: Whether it adds to what it relays where that came in.
        """
        self.name = name
        self.server = server
        self._wires = wires
        self._relays_to = relays_to
        self._addresses = addresses
        self._refusal = refusal
        self._adds_circuit = adds_circuit

    @property
    def serving(self) -> Serving | None:
        """What it serves."""
        return self.server.serving if self.server else None

    def hears(self, arrival: Arrival) -> None:
        """Take a client's message that arrives at one of its interfaces."""
        message = arrival.message
        if message.is_reply:
            return
        targets = () if arrival.is_unicast else self._relays_to.get(arrival.interface, ())
        dropped = self._drops(arrival)
        if dropped:
            self._wires.note(message, self.name, f"drops the {message.kind.name}: {dropped}")
            return
        if self.server is not None:
            decision = self.server.answer(arrival)
            relays_only = targets and decision.reply is None
            if not relays_only:
                is_lost = decision.reply is None and message.kind is not Kind.RELEASE
                self._wires.note(
                    message, self.name, decision.why, is_lost=is_lost, is_full=decision.is_full
                )
            if decision.reply is not None:
                self._wires.reply(self, arrival, decision.reply)
        elif not targets:
            why = self._refusal or f"neither serves nor relays at {arrival.interface}"
            self._wires.note(message, self.name, why)
        if message.kind in (Kind.DISCOVER, Kind.REQUEST, Kind.DECLINE, Kind.INFORM):
            for target in targets:
                self._relay(arrival, target)

    def _drops(self, arrival: Arrival) -> str:
        serving = self.serving
        if serving is None:
            return ""
        interface, relay = arrival.interface, arrival.message.relay
        relayed = bool(relay) or arrival.is_unicast
        # A relay needs no DHCP service of its own where it only relays.
        only_relays = self._relays_to.get(interface) and not serving.pools_for(interface, relay)
        return serving.drops_at(interface, relayed=relayed, serves=not only_relays)

    def _relay(self, arrival: Arrival, target: int) -> None:
        """Send a request on to a server (RFC 1542 section 4.1.1)."""
        message = arrival.message
        if message.hops >= MOST_HOPS:
            why = f"drops the {message.kind.name}: {message.hops} relays have passed it on"
            self._wires.note(message, self.name, why)
            return
        source = message.relay or arrival.own_address
        passed_on = replace(message, hops=message.hops + 1, relay=source)
        if self._adds_circuit and not message.relay and Option.RELAY_AGENT not in message.options:
            told = of_circuit(arrival.interface)  # only the first relay does (RFC 3046 section 2.1)
            passed_on.options = {**message.options, Option.RELAY_AGENT: told}
        shown = f"{format_address(target)}, from {format_address(source)}"
        what = f"relays the {message.kind.name} to {shown}"
        self._wires.note(message, self.name, what, is_lost=False)
        self._wires.forward(self, arrival.own_address, target, passed_on)

    def passes_on(self, reply: Message) -> None:
        """Take a server's answer to a request that it relayed (RFC 1542 section 4.1.2)."""
        interface = self._addresses.get(reply.relay)
        if interface is None:
            what = f"drops the {reply.kind.name}: {format_address(reply.relay)} is not its address"
            self._wires.note(reply, self.name, what)
            return
        if self._adds_circuit:
            kept = {c: data for c, data in reply.options.items() if c != Option.RELAY_AGENT}
            reply = replace(reply, options=kept)
        self._wires.deliver(self, interface, reply)
