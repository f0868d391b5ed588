"""A conversation with a server in which clients ask for what they can have, and what they can't.

As a program it talks to the real server behind an interface, in one of its conversations: one JSON
text of what was heard.
"""

from __future__ import annotations

import json
import socket
import subprocess
import sys
from collections.abc import Callable
from itertools import count
from typing import NamedTuple

from reservoir.core.values.addresses import MalformedValueError, format_address, parse_address
from reservoir.core.values.clients import parse_mac
from reservoir.rehearsal.messages import frame, message
from reservoir.rehearsal.messages.frame import EVERY_MAC, EVERYBODY, Datagram
from reservoir.rehearsal.messages.message import BROADCAST_FLAG, Kind, Message, Option

SERVER = "10.85.20.1"
POOL = [f"10.85.20.{number}" for number in range(20, 24)]
LARGE_POOL = [f"10.85.20.{number}" for number in range(20, 36)]
BOUND = {"00:00:5e:00:53:61": "10.85.20.99"}
LAST = "00:00:5e:00:53:62"
"""A client that is bound too, so that it is always answered."""
ROOM = 576 + 64
"""Bytes of the smallest message with the options that are sent in :func:`rooms`."""
OTHER_NETWORK, OUT_OF_POOL, OTHER_SERVER = "10.99.0.5", "10.85.20.200", "10.85.20.2"


class Heard(NamedTuple):
    """The answer to a message: its kind, and which address; empty where there was none."""

    what: str
    kind: str = ""
    which: str = ""
    """What it is in the conversation, since each server has an order of its own."""


Ask = Callable[[Message], Message | None]


def asked(mac: str, kind: Kind, own: str = "", **options: str) -> Message:
    """A client's message; options by name, each an address."""
    made = Message(kind, next(_NUMBERS), parse_mac(mac), flags=BROADCAST_FLAG)
    made.own_address = parse_address(own) if own else 0
    for name, address in options.items():
        made.options[Option[name.upper()]] = parse_address(address).to_bytes(4, "big")
    return made


_NUMBERS = count(1)


def conversation(ask: Ask) -> list[Heard]:
    """What is heard: one client after the other, new, returning, renewing, mistaken."""
    heard: list[Heard] = []
    known: dict[str, str] = {}

    def say(what: str, sent: Message) -> str:
        reply = ask(sent)
        address = format_address(reply.your_address) if reply and reply.your_address else ""
        is_new = what.startswith("new") and address in POOL and known.get(address) != "own"
        which = "a free one" if is_new else known.get(address, address)
        heard.append(Heard(what, reply.kind.name if reply else "", which))
        return address

    first, second, third = (f"02:00:00:00:53:0{number}" for number in (1, 2, 3))
    (bound,) = BOUND
    own = say("new", asked(first, Kind.DISCOVER))
    free, rest, _ = (address for address in POOL if address != own)
    known |= {own: "own", free: "free", rest: "rest"}
    ask_server = {"server": SERVER}
    request = Kind.REQUEST
    say("takes", asked(first, request, requested_address=own, **ask_server))
    say("returns", asked(first, request, requested_address=own))
    say("returns, wants another", asked(first, request, requested_address=free))
    say("returns from elsewhere", asked(first, request, requested_address=OTHER_NETWORK))
    say("has chosen, wants another", asked(first, request, requested_address=free, **ask_server))
    say("renews", asked(first, request, own=own))
    say("renews another", asked(first, request, own=free))
    say("asks again", asked(first, Kind.DISCOVER))
    say("new, wants a taken one", asked(second, Kind.DISCOVER, requested_address=own))
    say("returns unknown, taken", asked(second, request, requested_address=own))
    say("returns unknown, elsewhere", asked(second, request, requested_address=OTHER_NETWORK))
    say("returns unknown, no pool's", asked(second, request, requested_address=OUT_OF_POOL))
    elsewhere = asked(second, request, requested_address=OTHER_NETWORK, **ask_server)
    say("has chosen, elsewhere", elsewhere)
    say("has chosen another", asked(second, request, requested_address=free, server=OTHER_SERVER))
    say("renews unknown", asked(second, request, own=free))
    say("returns unknown, free", asked(second, request, requested_address=free))
    say("not offered, free", asked(third, request, requested_address=rest, **ask_server))
    say("informs", asked(third, Kind.INFORM, own=rest))
    say("declines", asked(third, Kind.DECLINE, requested_address=rest, **ask_server))
    say("asks after that", asked(third, Kind.DISCOVER))
    say("releases", asked(third, Kind.RELEASE, own=rest, **ask_server))
    say("is bound", asked(bound, Kind.DISCOVER))
    say("takes its own", asked(bound, request, requested_address=BOUND[bound], **ask_server))
    say("bound, wants another", asked(bound, request, requested_address=rest))
    fourth = "02:00:00:00:53:04"
    wished = [address for address in POOL if address not in (own, free)]
    offers = {
        say("new, wants", asked(fourth, Kind.DISCOVER, requested_address=address))
        for address in wished
    }
    heard[-2:] = [Heard("new, wants one, then another", "OFFER", f"{len(offers)} addresses")]
    return heard


def places(ask: Ask) -> list[tuple[str, str]]:
    """What each of some new clients is offered while nobody has an address, and takes in turn."""
    clients = [f"02:00:00:00:54:{number:02x}" for number in range(len(LARGE_POOL))]

    def offered(mac: str) -> str:
        reply = ask(asked(mac, Kind.DISCOVER))
        return format_address(reply.your_address) if reply else ""

    def takes(mac: str) -> str:
        wanted = {"requested_address": offered(mac), "server": SERVER}
        reply = ask(asked(mac, Kind.REQUEST, **wanted))
        return format_address(reply.your_address) if reply else ""

    own = list(map(offered, clients))
    return list(zip(own, map(takes, clients), strict=True))


def wishes(ask: Ask) -> list[tuple[int, int, int]]:
    """The lease times that clients ask for, and those that they are offered and given."""
    found: list[tuple[int, int, int]] = []
    for number, wish in enumerate((0, 60, 3600, 7200, 10**6)):
        mac = f"02:00:00:00:55:{number:02x}"
        told: list[int] = []
        wanted: dict[str, str] = {}
        for kind in (Kind.DISCOVER, Kind.REQUEST):
            sent = asked(mac, kind, **wanted)
            if wish:
                sent.options[Option.LEASE_TIME] = wish.to_bytes(4, "big")
            reply = ask(sent)
            assert reply is not None
            told.append(reply.number(Option.LEASE_TIME) or 0)
            wanted = {"requested_address": format_address(reply.your_address), "server": SERVER}
        found.append((wish, told[0], told[1]))
    return found


def rooms(ask: Ask) -> list[tuple[int, bool]]:
    """Whether there is an answer, by the largest message that the client says it takes."""
    found: list[tuple[int, bool]] = []
    for largest in (0, 300, 576, *range(ROOM - 2, ROOM + 3), 1400):
        sent = asked("02:00:00:00:56:01", Kind.DISCOVER)
        if largest:
            sent.options[Option.LARGEST_MESSAGE] = largest.to_bytes(2, "big")
        found.append((largest, ask(sent) is not None))
    return found


def offers(ask: Ask, *clients: str) -> list[tuple[str, str, int, int, dict[str, str]]]:
    """What clients are offered and then given: the address, the boot server, the options."""
    found: list[tuple[str, str, int, int, dict[str, str]]] = []
    for mac in clients:
        wanted: dict[str, str] = {}
        for kind in (Kind.DISCOVER, Kind.REQUEST):
            sent = asked(mac, kind, **wanted)
            sent.options[Option.PARAMETERS] = bytes(range(1, 255))
            reply = ask(sent)
            if reply is None:
                found.append((mac, "", 0, 0, {}))
                break
            options = {str(code): data.hex() for code, data in reply.options.items()}
            given = reply.your_address
            found.append((mac, reply.kind.name, given, reply.next_server, options))
            server = format_address(reply.address(Option.SERVER) or 0)
            wanted = {"requested_address": format_address(given), "server": server}
    return found


def ask_by(interface: str) -> Ask:
    """Sends frames on an interface; another client's answer shows that there will be none."""
    wire = socket.socket(socket.AF_PACKET, socket.SOCK_RAW, socket.htons(3))
    wire.bind((interface, 0))
    wire.settimeout(10)

    def send(sent: Message) -> None:
        datagram = Datagram(sent.own_address, 68, EVERYBODY, 67, sent.encode())
        wire.send(frame.encode(datagram, sent.mac, EVERY_MAC))

    def ask(sent: Message) -> Message | None:
        if sent.own_address:  # the answer goes there: the server's kernel has to know where it is
            own = format_address(sent.own_address)
            subprocess.run(["ip", "addr", "replace", f"{own}/24", "dev", interface], check=True)
            ping = ["busybox", "ping", "-c", "1", "-W", "5", "-I", own, SERVER]
            subprocess.run(ping, check=True, stdout=subprocess.DEVNULL)
        last = asked(LAST, Kind.DISCOVER)  # once that is answered, nothing comes any more
        last.options[Option.LARGEST_MESSAGE] = (1400).to_bytes(2, "big")
        send(sent)
        send(last)
        answer = None
        while True:
            try:
                reply = message.decode(wire.recv(2000)[HEADERS:])  # its sum is left to the hardware
            except MalformedValueError:
                continue
            if reply.is_reply and reply.transaction == last.transaction:
                return answer
            if reply.is_reply and reply.transaction == sent.transaction:
                answer = reply

    return ask


HEADERS = 14 + 20 + 8

if __name__ == "__main__":
    name, *clients = sys.argv[2].split()
    talks: dict[str, Callable[..., object]] = {
        talk.__name__: talk for talk in (conversation, places, wishes, rooms, offers)
    }
    print(json.dumps(talks[name](ask_by(sys.argv[1]), *clients)))
