"""DHCP messages as values, and as bytes on the wire (RFC 2131 section 2, RFC 2132).

Options are kept as bytes by their code, unknown ones too. One that doesn't fit into 255 bytes is
sent in parts and put together again (RFC 3396); parts in the ``file`` and ``sname`` fields are
found (RFC 2132 section 9.3).
"""

from __future__ import annotations

import struct
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field
from enum import IntEnum
from functools import lru_cache

from reservoir.core.plan.offered import BY_OPTION, OFFERED, title_of
from reservoir.core.values import options as dhcp_options
from reservoir.core.values.addresses import MalformedValueError, format_address
from reservoir.core.values.clients import ETHERNET, Mac
from reservoir.rehearsal.messages.agent import LINK_SELECTION, address_in, agent_text

CLIENT_PORT, SERVER_PORT = 68, 67

MOST_HOPS = 16
"""Relays that pass a request on at most (RFC 1542 section 4.1.1)."""

SHORTEST = 300
"""Bytes of the shortest message; some devices drop shorter ones (RFC 1542 section 2.1)."""

BROADCAST_FLAG = 0x8000
"""Asks for answers by broadcast (RFC 2131 section 2)."""

_FIXED = struct.Struct("!4BIHH4I16s64s128s4s")
_COOKIE = bytes([99, 130, 83, 99])
_PAD, _END = 0, 255


class Kind(IntEnum):
    """Kinds of message (RFC 2132 section 9.6)."""

    DISCOVER = 1
    OFFER = 2
    REQUEST = 3
    DECLINE = 4
    ACK = 5
    NAK = 6
    RELEASE = 7
    INFORM = 8


class Option(IntEnum):
    """The options that the protocol itself uses (RFC 2132 sections 3 and 9, RFC 3046)."""

    MASK = 1
    ROUTER = 3
    DNS = 6
    DOMAIN = 15
    REQUESTED_ADDRESS = 50
    LEASE_TIME = 51
    OVERLOAD = 52
    MESSAGE_KIND = 53
    SERVER = 54
    PARAMETERS = 55
    MESSAGE = 56
    LARGEST_MESSAGE = 57
    RENEWAL_TIME = 58
    REBINDING_TIME = 59
    VENDOR_CLASS = 60
    CLIENT_IDENTIFIER = 61
    BOOT_FILE = 67
    USER_CLASS = 77
    RELAY_AGENT = 82
    ARCHITECTURE = 93
    SUBNET_SELECTION = 118
    CLASSLESS_ROUTES = 121


_RELAY_AGENT = int(Option.RELAY_AGENT)
_REPLIES = frozenset((Kind.OFFER, Kind.ACK, Kind.NAK))
_KINDS = {bytes((kind,)): kind for kind in Kind}


class MalformedMessageError(MalformedValueError):
    """The bytes are not a DHCP message."""


@dataclass(slots=True)
class Message:
    """A DHCP message."""

    kind: Kind
    transaction: int
    """The number by which a client knows the answers to its requests: 32 bits."""
    mac: Mac
    """The client's hardware address."""
    options: dict[int, bytes] = field(default_factory=dict)
    """All options but the kind, each as its bytes."""
    own_address: int = 0
    """``ciaddr``: the address that the client has already."""
    your_address: int = 0
    """``yiaddr``: the address that it is given."""
    next_server: int = 0
    """``siaddr``: where it boots from."""
    relay: int = 0
    """``giaddr``: the relay's address on the client's network; 0 without a relay."""
    hops: int = 0
    seconds: int = 0
    flags: int = 0
    fields: tuple[bytes, bytes] = (b"", b"")
    """What is sent in ``file`` and ``sname``; where options were found there, they are above."""

    @property
    def is_reply(self) -> bool:
        """Whether a server sends such a message."""
        return self.kind in _REPLIES

    @property
    def identifier(self) -> bytes:
        """Who the client is: its identifier, else one made of its hardware address."""
        return self.options.get(Option.CLIENT_IDENTIFIER) or self.mac.identifier

    @property
    def subnet_named(self) -> int:
        """An address of the subnet that the client is to be served in; 0 if the request names none.

        What the relay says of the link (RFC 3527) comes before what the client says (RFC 3011).
        """
        told = self.options.get(Option.RELAY_AGENT, b"")
        return address_in(told, LINK_SELECTION) or self.address(Option.SUBNET_SELECTION) or 0

    def address(self, option: Option) -> int | None:
        """The one address in an option; None if it has none, or no such option."""
        data = self.options.get(option, b"")
        return int.from_bytes(data, "big") if len(data) == 4 else None

    def number(self, option: Option) -> int | None:
        """The 32-bit number in an option; None if there is none."""
        return self.address(option)

    def encode(self) -> bytes:
        """The message as the payload of a UDP datagram."""
        fixed = _FIXED.pack(
            2 if self.is_reply else 1,
            ETHERNET,
            6,
            self.hops,
            self.transaction,
            self.seconds,
            self.flags,
            self.own_address,
            self.your_address,
            self.next_server,
            self.relay,
            self.mac.to_bytes(6, "big"),
            self.fields[1],
            self.fields[0],
            _COOKIE,
        )
        parts = [fixed, b"\x35\x01", bytes((self.kind,))]
        last = b""
        for code, data in self.options.items():
            if code == _RELAY_AGENT:  # the last of all (RFC 3046 section 2.1)
                last = _encoded(code, data)
            elif len(data) < 256:
                parts += bytes((code, len(data))), data
            else:
                parts.append(_encoded(code, data))
        parts += last, b"\xff"
        return b"".join(parts).ljust(SHORTEST, b"\0")


def list_of_options(options: Mapping[int, bytes]) -> bytes:
    """Options with their codes, lengths and end mark, as they are sent in a field."""
    return b"".join(_encoded(code, data) for code, data in options.items()) + bytes((_END,))


def _encoded(code: int, data: bytes) -> bytes:
    """An option with its code and length; several instances of it if it is long (RFC 3396)."""
    if len(data) < 256:
        return bytes((code, len(data))) + data
    return b"".join(_encoded(code, data[at : at + 255]) for at in range(0, len(data), 255))


def decode(data: bytes) -> Message:
    """The message in the payload of a UDP datagram.

    Raises:
        MalformedMessageError: too short, not for Ethernet, without the cookie, an option cut off
            or without a known kind.
    """
    if len(data) < _FIXED.size:
        raise MalformedMessageError(f"{len(data)} bytes are too few for a DHCP message")
    (op, hardware, length, hops, transaction, seconds, flags, own, your, server, relay, mac, sname,
     boot_file, cookie) = _FIXED.unpack_from(data)  # fmt: skip
    if cookie != _COOKIE:
        raise MalformedMessageError("the bytes have no DHCP cookie")
    if hardware != ETHERNET or length != 6:
        raise MalformedMessageError(f"hardware type {hardware} with {length} bytes is not Ethernet")
    options = _options(data[_FIXED.size :])
    overload = options.pop(Option.OVERLOAD, b"\0")[0:1]
    for bit, more in ((1, boot_file), (2, sname)):
        if overload and overload[0] & bit:
            for code, part in _options(more).items():
                options[code] = options.get(code, b"") + part
    kind = _KINDS.get(options.pop(Option.MESSAGE_KIND, b""))
    if kind is None:
        raise MalformedMessageError("the kind of message is missing or unknown")
    fields = (b"", b"") if overload[:1] not in (b"", b"\0") else (boot_file, sname)
    message = Message(
        kind, transaction, Mac.from_bytes(mac[:6], "big"), options, own, your, server, relay, hops,
        seconds, flags, (fields[0].rstrip(b"\0"), fields[1].rstrip(b"\0")),
    )  # fmt: skip
    if message.is_reply != (op == 2):
        raise MalformedMessageError(f"a {kind.name} can't be sent with op {op}")
    return message


def _options(data: bytes) -> dict[int, bytes]:
    """Options by code, parts of one put together.

    Raises:
        MalformedMessageError: one is cut off.
    """
    return _options_of(data).copy()


@lru_cache(maxsize=1 << 10)  # all clients of a pool are told the same
def _options_of(data: bytes) -> dict[int, bytes]:
    found: dict[int, bytes] = {}
    at, end = 0, len(data)
    while at < end:
        code = data[at]
        if code == _END:
            break
        if code == _PAD:
            at += 1
            continue
        begin = at + 2
        stop = begin + data[at + 1] if begin <= end else end + 1
        if stop > end:
            raise MalformedMessageError(f"option {code} is cut off")
        value = data[begin:stop]
        found[code] = found[code] + value if code in found else value
        at = stop
    return found


def described(message: Message) -> Iterator[tuple[str, str]]:
    """What a message says, for people: fields that are set, then options by name."""
    addresses = (
        ("has", message.own_address),
        ("gets", message.your_address),
        (OFFERED["next_server"].title, message.next_server),
        ("relay", message.relay),
    )
    yield from ((name, format_address(address)) for name, address in addresses if address)
    if message.hops:
        yield "hops", str(message.hops)
    for code, data in message.options.items():
        if code != Option.PARAMETERS:
            yield option_name(code), option_text(code, data)


def option_name(code: int) -> str:
    """What people call an option."""
    return _TITLES.get(code) or title_of(code)


def option_text(code: int, data: bytes) -> str:
    """An option's value for people; hexadecimal where it isn't what it should be."""
    if code == Option.RELAY_AGENT:
        return agent_text(data)
    if code in BY_OPTION:
        try:
            return BY_OPTION[code].text(BY_OPTION[code].decode(data))
        except MalformedValueError:
            return data.hex()
    read = _READ.get(code)
    return read(data) if read is not None else dhcp_options.decode(code, data)[1]


def _address_text(data: bytes) -> str:
    return format_address(int.from_bytes(data, "big")) if len(data) == 4 else data.hex()


def _seconds_text(data: bytes) -> str:
    return f"{int.from_bytes(data, 'big')} s" if len(data) == 4 else data.hex()


def _numbers_text(data: bytes) -> str:
    pairs = (data[at : at + 2] for at in range(0, len(data), 2))
    return ",".join(str(int.from_bytes(pair, "big")) for pair in pairs)


_READ: Mapping[int, Callable[[bytes], str]] = {
    **dict.fromkeys(
        (Option.MASK, Option.REQUESTED_ADDRESS, Option.SERVER, Option.SUBNET_SELECTION),
        _address_text,
    ),
    **dict.fromkeys((Option.RENEWAL_TIME, Option.REBINDING_TIME), _seconds_text),
    Option.ARCHITECTURE: _numbers_text,
}
"""How the values of options are read that only the protocol itself uses."""

_TITLES: Mapping[int, str] = {
    Option.MASK: "mask",
    Option.REQUESTED_ADDRESS: "requested address",
    Option.SERVER: "server",
    Option.PARAMETERS: "wanted options",
    Option.MESSAGE: "message",
    Option.RENEWAL_TIME: "T1",
    Option.REBINDING_TIME: "T2",
    Option.CLIENT_IDENTIFIER: "client identifier",
    Option.RELAY_AGENT: "relay agent information",
    Option.SUBNET_SELECTION: "subnet selection",
    Option.VENDOR_CLASS: "vendor class",
    Option.USER_CLASS: "user class",
    Option.ARCHITECTURE: "architecture",
}
