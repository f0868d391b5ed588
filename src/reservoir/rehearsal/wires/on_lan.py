"""Clients on the network at an interface of this machine."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace

from reservoir.core.values.addresses import MalformedValueError
from reservoir.core.values.clients import Mac
from reservoir.rehearsal.clients.client import Client
from reservoir.rehearsal.messages import arp, frame, query
from reservoir.rehearsal.messages.arp import Arp
from reservoir.rehearsal.messages.frame import EVERY_MAC, EVERYBODY, Datagram
from reservoir.rehearsal.messages.message import (
    BROADCAST_FLAG,
    CLIENT_PORT,
    SERVER_PORT,
    Kind,
    Message,
    Option,
)
from reservoir.rehearsal.wires.interface import RESOLVER_PORT, SystemInterface
from reservoir.rehearsal.wires.live import Live

QUESTIONS = 2
"""How often it is asked who has an address, or whether a resolver answers."""

PATIENCE = 0.6
"""Seconds that such an answer is waited for."""

_QUERY_PORT = 49_152
"""The first of the ports that nobody has for long (RFC 6335 section 6)."""


class OnLan(Live):
    """Sends frames from the interface's own hardware address, so that no switch learns another.

    What clients say of themselves is in their messages; they ask for answers by broadcast.
    """

    def __init__(
        self,
        interface: SystemInterface,
        most: int,
        kept_back: int = 0,
        capture: Callable[[float, bytes], None] | None = None,
    ) -> None:
        """Take the open interface; see :class:`Live`."""
        super().__init__(most, kept_back, capture)
        self._interface = interface
        self._neighbours: dict[int, Mac] = {}
        self._taken: set[int] = set()
        """The addresses that clients use, so that their neighbours find them."""
        self._answered: set[int] = set()
        """The queries that were answered, by number."""

    def _to_all(self, client: Client, message: Message) -> None:
        if message.kind in (Kind.DISCOVER, Kind.REQUEST):
            message = replace(message, flags=message.flags | BROADCAST_FLAG)
        ends = 0, CLIENT_PORT, EVERYBODY, SERVER_PORT
        self._send_datagram(Datagram(*ends, message.encode()), EVERY_MAC)

    def unicast(self, client: Client, message: Message, target: int) -> None:
        """Send a client's message to a server, by its gateway where that isn't a neighbour.

        If neither is found, it goes to whoever the client's answer came from.
        """
        self._clients[message.transaction] = client
        self._taken.add(client.address)
        hop = self._next_hop(client, target)
        mac = self.neighbour(client, hop) if hop else None
        if mac is None and message.kind is not Kind.RELEASE:
            return
        if mac is None:
            came = (a.mac for a in self.answers.get(client, ()) if a.server == client.server)
            mac = next((each for each in came if each is not None), EVERY_MAC)
        ends = client.address, CLIENT_PORT, target, SERVER_PORT
        datagram, receiver = Datagram(*ends, message.encode()), mac
        is_last = message.kind is Kind.RELEASE
        self._post(lambda: self._send_datagram(datagram, receiver), is_vital=is_last)
        if is_last:
            self._taken.discard(client.address)

    def holder(self, client: Client, address: int) -> str:
        """Who else answers at an address (RFC 5227 section 2.1.1); empty if nobody does."""
        self._neighbours.pop(address, None)
        mac = self._who_has(0, address)
        return "" if mac is None else f"{mac}"

    def neighbour(self, client: Client, address: int) -> Mac | None:
        """Who has an address on the network, asked by a client that has one; None if nobody."""
        self._taken.add(client.address)
        return self._neighbours.get(address) or self._who_has(client.address, address)

    def resolves(self, client: Client, server: int) -> bool:
        """Whether a DNS server answers a client: a neighbour, or one beyond its gateway."""
        hop = self._next_hop(client, server)
        mac = self.neighbour(client, hop) if hop else None
        if mac is None:
            return False
        number = self.random.getrandbits(16)
        port = _QUERY_PORT + number % (1 << 14)
        asked = Datagram(client.address, port, server, RESOLVER_PORT, query.query(number))
        receiver = mac
        for _ in range(QUESTIONS):
            self._post(lambda: self._send_datagram(asked, receiver))
            self._until(lambda: number in self._answered)
            if number in self._answered:
                return True
        return False

    def _who_has(self, own: int, address: int) -> Mac | None:
        question = arp.encode(Arp(False, self._interface.mac, own, address))
        for _ in range(QUESTIONS):
            self._post(lambda: self._send_frame(question))
            self._until(lambda: address in self._neighbours)
            if address in self._neighbours:
                return self._neighbours[address]
        return None

    def _until(self, is_done: Callable[[], bool]) -> None:
        """Let things happen until something is the case, or long enough for an answer."""
        end = max(self._free_at, self.clock.now) + PATIENCE
        while not is_done() and self.clock.now < end:
            self.clock.run(min(self.clock.now + PATIENCE / 20, end))

    def _next_hop(self, client: Client, target: int) -> int:
        """Who takes a client's packet to an address; 0 if it knows of nobody."""
        given = client.acknowledged
        mask = (given.address(Option.MASK) if given else None) or 0
        gateway = (given.address(Option.ROUTER) if given else None) or 0
        is_near = target & mask == client.address & mask
        return target if is_near else gateway

    # Frames.

    def _send_datagram(self, datagram: Datagram, receiver: Mac) -> None:
        self._send_frame(frame.encode(datagram, self._interface.mac, receiver))

    def _send_frame(self, data: bytes) -> None:
        self._note(data)
        self._interface.send(data)

    def _wait(self, seconds: float) -> None:
        for data in self._interface.received(seconds):
            try:
                if int.from_bytes(data[12:14], "big") == arp.ARP:
                    self._hear(arp.decode(data), data)
                else:
                    self._hear_datagram(frame.decode(data), data)
            except MalformedValueError:
                continue  # not meant for a client

    def _hear(self, heard: Arp, data: bytes) -> None:
        if heard.address:
            self._neighbours[heard.address] = heard.mac
        if not heard.is_reply and heard.target in self._taken:
            self._note(data)
            reply = arp.encode(
                Arp(True, self._interface.mac, heard.target, heard.address), heard.mac
            )
            self._post(lambda: self._send_frame(reply))
        elif heard.is_reply:
            self._note(data)

    def _hear_datagram(self, heard: Datagram, data: bytes) -> None:
        if heard.source_port == RESOLVER_PORT:
            number = int.from_bytes(heard.payload[:2], "big")
            if heard.target in self._taken and query.answers(heard.payload, number):
                self._note(data)
                self._answered.add(number)
            return
        if heard.target_port == CLIENT_PORT:
            sender = Mac.from_bytes(data[6:12], "big")
            if int.from_bytes(heard.payload[4:8], "big") in self._clients:
                self._note(data)
            self._take(heard.payload, heard.source, sender)
