"""A stand-in on real UDP sockets: the same server, another transport. For trials only."""

from __future__ import annotations

import socket
import time
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass

from reservoir.core.values.addresses import format_address, parse_address
from reservoir.core.values.clients import Mac
from reservoir.dialects.behaviour.serving import Serving
from reservoir.dialects.behaviour.serving_pool import ServingPool
from reservoir.rehearsal.devices.claims import Arrival
from reservoir.rehearsal.devices.leases import Lease, PoolLeases
from reservoir.rehearsal.devices.server import StandInServer
from reservoir.rehearsal.messages.message import (
    CLIENT_PORT,
    SERVER_PORT,
    Kind,
    MalformedMessageError,
    Message,
    decode,
)

LARGEST = 65_535
"""Bytes of the largest datagram."""

TURN = 0.5
"""Seconds after which a quiet socket looks whether it is to stop."""

_BIND_TO_DEVICE = getattr(socket, "SO_BINDTODEVICE", 25)  # Linux; missing in some builds


@dataclass(frozen=True)
class Listening:
    """Where a stand-in listens."""

    address: str
    port: int
    system_interface: str | None
    """The system's interface, to which it is bound and on which it broadcasts."""
    interface: str
    """The interface of the device's configuration that this stands for."""
    own_address: int
    """The address by which clients know the server."""

    @property
    def is_real(self) -> bool:
        """Whether it is on the port of DHCP servers, so that real clients are answered there."""
        return self.port == SERVER_PORT


class UdpStandIn:
    """A device that answers real clients, or relays, at a socket."""

    def __init__(
        self,
        serving: Serving,
        listening: Listening,
        tell: Callable[[str], None],
        now: Callable[[], float] = time.time,
    ) -> None:
        """Open the socket.

        Args:
            serving: What the device serves.
            listening: Where.
            tell: Called with a line for each event.
            now: The time in seconds since 1970.

        Raises:
            OSError: the system refuses the address, the port or the interface.
        """
        self.leases: Mapping[ServingPool, PoolLeases] = {
            p: PoolLeases(p.assignable) for p in serving.pools
        }
        self.changes = 0
        """How often a lease was given, prolonged or taken back."""
        self._serving = serving
        # Nobody can be asked for an address over UDP: a pool that probes can't do so here.
        self._server = StandInServer(serving, self.leases, lambda interface, relay, address: False)
        self._listening = listening
        self._tell = tell
        self._now = now
        self._socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        try:
            self._socket.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            self._socket.setsockopt(socket.SOL_SOCKET, socket.SO_BROADCAST, 1)
            if listening.system_interface:
                name = listening.system_interface.encode() + b"\0"
                self._socket.setsockopt(socket.SOL_SOCKET, _BIND_TO_DEVICE, name)
            self._socket.bind((listening.address, listening.port))
            self._socket.settimeout(TURN)
        except OSError:
            self._socket.close()
            raise

    @property
    def port(self) -> int:
        """The port at which it listens."""
        return int(self._socket.getsockname()[1])

    def close(self) -> None:
        """Stop listening."""
        self._socket.close()

    def serve(self, until: Callable[[], bool]) -> None:
        """Answer what comes in, until it is to stop; asked after each message and each turn."""
        while not until():
            try:
                data, sender = self._socket.recvfrom(LARGEST)
            except TimeoutError:
                continue
            self.take(data, sender)

    def take(self, data: bytes, sender: tuple[str, int]) -> None:
        """Take a datagram; whatever is in it, the stand-in goes on."""
        try:
            message = decode(data)
        except MalformedMessageError as error:
            self._tell(f"{sender[0]} ignored: {error}")
            return
        if message.is_reply:
            self._tell(f"{message.mac} {message.kind.name} ignored: it is an answer")
            return
        listening = self._listening
        dropped = self._serving.drops_at(listening.interface, relayed=bool(message.relay))
        if dropped:
            self._tell(f"{message.mac} {message.kind.name} dropped: {dropped}")
            return
        is_unicast = bool(message.own_address and not message.relay)
        arrival = Arrival(
            message, listening.interface, listening.own_address, self._now(), is_unicast
        )
        decision = self._server.answer(arrival)
        self._tell(f"{message.mac} {message.kind.name}: {decision.why}")
        self.changes += message.kind not in (Kind.DISCOVER, Kind.INFORM)
        if decision.reply is not None:
            self._send(decision.reply, sender)

    def _send(self, reply: Message, sender: tuple[str, int]) -> None:
        """Send an answer (RFC 2131 section 4.1); on another port, to where the request came from.

        A client without an address can't be sent anything by its hardware address from here, so it
        is answered by broadcast.
        """
        target = sender
        if self._listening.is_real:
            if reply.relay:
                target = format_address(reply.relay), SERVER_PORT
            elif reply.own_address and reply.kind is not Kind.NAK:
                target = format_address(reply.own_address), CLIENT_PORT
            else:
                target = "255.255.255.255", CLIENT_PORT
        try:
            self._socket.sendto(reply.encode(), target)
        except OSError as error:
            self._tell(f"{reply.mac} the answer can't be sent to {target[0]}: {error.strerror}")

    # What it remembers.

    def present(self) -> Iterator[tuple[ServingPool, Lease]]:
        """The leases that are valid now, by address."""
        now = self._now()
        for pool, leases in self.leases.items():
            leases.expire(now)
            for lease in sorted(leases, key=lambda lease: lease.address):
                if not lease.is_offer:
                    yield pool, lease

    def remember(self, identifier: bytes, mac: Mac, address: int, expires: float) -> bool:
        """Take up a lease of before a stop; False if no pool has the address."""
        for pool, leases in self.leases.items():
            bound = any(client.address == address for client in pool.bound.values())
            if address in leases.free or (bound and address not in leases.by_address):
                leases.confirm(leases.hold(identifier, mac, address, expires), expires)
                return True
        return False


def parse_endpoint(text: str) -> tuple[str, int]:
    """An address and a port, such as ``127.0.0.1:6767``.

    Raises:
        MalformedValueError: the address is none.
        ValueError: the port is none.
    """
    address, _, port = text.rpartition(":")
    number = int(port)
    if not 0 <= number <= 65_535:
        raise ValueError(port)
    return format_address(parse_address(address)), number
