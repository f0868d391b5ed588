"""Clients of other networks: their requests are sent to servers as a relay would (RFC 1542)."""

from __future__ import annotations

import errno
import select
import socket
import sys
from collections.abc import Mapping, Sequence
from dataclasses import replace

from reservoir.core.values.addresses import format_address, parse_address
from reservoir.rehearsal.clients.client import Client
from reservoir.rehearsal.messages.agent import LINK_SELECTION
from reservoir.rehearsal.messages.message import SERVER_PORT, Message, Option
from reservoir.rehearsal.wires.interface import LARGEST, MOST_AT_ONCE, UnusableInterfaceError
from reservoir.rehearsal.wires.live import Live


class AsRelay(Live):
    """Sends requests from an address of this machine, with the subnet that they are for (RFC 3527).

    Where that address is in the subnet, it says so by itself.
    """

    def __init__(
        self, own: int, servers: Sequence[int], links: Mapping[str, int], most: int
    ) -> None:
        """Open the socket.

        Args:
            own: The address of this machine to which servers answer.
            servers: The addresses of the servers that are asked.
            links: An address in each network, by its name; 0 where the relay's own says it.
            most: Messages that are sent at most.

        Raises:
            UnusableInterfaceError: the address isn't this machine's, the port is taken, or the
                right is missing.
        """
        super().__init__(most)
        self._own, self._servers, self._links = own, servers, links
        self._socket = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
        try:
            self._socket.bind((format_address(own), SERVER_PORT))
        except OSError as error:
            self._socket.close()
            raise UnusableInterfaceError(_why(own, error)) from None
        self._socket.setblocking(False)

    def close(self) -> None:
        """Let go of the socket."""
        self._socket.close()

    def unicast(self, client: Client, message: Message, target: int) -> None:
        """Nothing: what has no address here sends none."""

    def holder(self, client: Client, address: int) -> str:
        """Nobody here can be asked."""
        return ""

    def _to_all(self, client: Client, message: Message) -> None:
        link, options = self._links[self._network_of[client]], message.options
        if link:
            told = bytes((LINK_SELECTION, 4)) + link.to_bytes(4, "big")
            agent = options.get(Option.RELAY_AGENT, b"") + told
            options = {**options, Option.RELAY_AGENT: agent}
        relayed = replace(message, hops=1, relay=self._own, options=options)
        for server in self._servers:
            shown = format_address(server)
            try:
                self._socket.sendto(relayed.encode(), (shown, SERVER_PORT))
            except OSError as error:
                why = f"{shown} can't be sent anything: {error.strerror}."
                raise UnusableInterfaceError(why) from None

    def _wait(self, seconds: float) -> None:
        if not select.select([self._socket], [], [], seconds)[0]:
            return
        for _ in range(MOST_AT_ONCE):
            try:
                data, (source, _) = self._socket.recvfrom(LARGEST)
            except BlockingIOError:
                return
            except OSError:
                continue  # a server's machine refused an earlier message
            self._take(data, parse_address(source), None)


def _why(own: int, error: OSError) -> str:
    """Why requests can't be sent from an address, and what to do."""
    shown = format_address(own)
    if error.errno == errno.EADDRNOTAVAIL:
        return f"{shown} is not an address of this machine."
    if error.errno == errno.EADDRINUSE:
        return f"{shown}: a DHCP server or relay of this machine has port {SERVER_PORT} already."
    if error.errno in (errno.EACCES, errno.EPERM):
        return (
            f"{shown}: port {SERVER_PORT} needs a right that you don't have. Run it as root, or "
            f"let `sudo setcap cap_net_bind_service+ep {sys.executable}` give it to this Python."
        )
    return f"{shown} can't be used: {error.strerror}."
