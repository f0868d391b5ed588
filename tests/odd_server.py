"""Servers that no plan describes: deaf at first, hostile, mistaken. A program for the lab.

``odd_server.py WAY ADDRESS PLAN`` answers at the interface ``lan`` as the only device of a plan
would, but for what its way changes.
"""

from __future__ import annotations

import random
import signal
import socket
import sys
from collections.abc import Callable, Iterator

import reservoir
from reservoir.core.values.addresses import parse_address
from reservoir.rehearsal.devices.udp import Listening, UdpStandIn
from reservoir.rehearsal.messages.message import Message


class OddServer(UdpStandIn):
    """A stand-in whose datagrams go astray."""

    made: Callable[[bytes], Iterator[bytes]]
    heard: dict[int, int]

    def take(self, data: bytes, sender: tuple[str, int]) -> None:
        """Take every third request of a client only, where it is to be deaf."""
        whose = int.from_bytes(data[28:34], "big")
        self.heard[whose] = self.heard.get(whose, 0) + 1
        if self.made is not deaf or self.heard[whose] > 2:
            super().take(data, sender)

    def _send(self, reply: Message, sender: tuple[str, int]) -> None:
        for data in self.made(reply.encode()):
            self._socket.sendto(data, ("255.255.255.255", 68))


def deaf(data: bytes) -> Iterator[bytes]:
    """The answer; the first two requests of a client are not heard."""
    yield data


def hostile(data: bytes) -> Iterator[bytes]:
    """Hundreds of damaged answers, and then the one that is right."""
    chance = random.Random(7)  # noqa: S311 - the same each time
    for _ in range(300):
        made = bytearray(data)
        for _ in range(chance.randrange(1, 9)):
            made[chance.randrange(240 if chance.random() < 0.2 else 4, len(made))] = (
                chance.randrange(256)
            )
        made[4:8] = data[4:8]
        yield bytes(made[: chance.randrange(len(made))]) if chance.random() < 0.3 else bytes(made)
    yield data


def unreadable(data: bytes) -> Iterator[bytes]:
    """The answer, cut off within an option."""
    yield data[:246]


WAYS: dict[str, Callable[[bytes], Iterator[bytes]]] = {
    "deaf": deaf,
    "hostile": hostile,
    "unreadable": unreadable,
}


def resolve() -> None:
    """Answer queries as a DNS server does, without knowing anything."""
    resolver = socket.socket(socket.AF_INET, socket.SOCK_DGRAM)
    resolver.bind(("0.0.0.0", 53))
    print("ready", flush=True)
    while True:
        query, sender = resolver.recvfrom(512)
        resolver.sendto(query[:2] + b"\x80\x05" + query[4:], sender)


def main(way: str, address: str, file: str) -> None:
    """Serve until the end."""
    if way == "resolver":
        resolve()
    if way == "squatter":  # the system answers for its address
        print("ready", flush=True)
        signal.pause()
    ((_, serving),) = reservoir.served_by(reservoir.load(file)).items()
    interface = next(iter(serving.interfaces))
    listening = Listening("0.0.0.0", 67, "lan", interface, parse_address(address))
    server = OddServer(serving, listening, lambda line: print(line, flush=True))
    server.made, server.heard = WAYS[way], {}
    print("ready", flush=True)
    server.serve(lambda: False)


if __name__ == "__main__":
    main(*sys.argv[1:])
