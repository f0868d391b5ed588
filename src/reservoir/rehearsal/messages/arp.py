"""Questions who has an address on a network, and their answers (RFC 826, RFC 5227)."""

from __future__ import annotations

import struct
from typing import NamedTuple

from reservoir.core.values.addresses import MalformedValueError
from reservoir.core.values.clients import ETHERNET, Mac
from reservoir.rehearsal.messages.frame import EVERY_MAC

ARP = 0x0806
"""The kind of frame."""

_FRAME = struct.Struct("!6s6sHHHBBH6sI6sI")
_IPV4 = 0x0800
_REQUEST, _REPLY = 1, 2


class Arp(NamedTuple):
    """A question who has an address, or its answer."""

    is_reply: bool
    mac: Mac
    """The hardware address of who sends it."""
    address: int
    """The address of who sends it; 0 while it has none."""
    target: int
    """The address that is asked for, or whose holder is answered."""


def encode(sent: Arp, target_mac: Mac | None = None) -> bytes:
    """The frame of a question, to everybody; of an answer, to who asked."""
    own = sent.mac.to_bytes(6, "big")
    receiver = target_mac if target_mac is not None else EVERY_MAC
    asked = (target_mac or Mac(0)).to_bytes(6, "big")
    return _FRAME.pack(
        receiver.to_bytes(6, "big"), own, ARP, ETHERNET, _IPV4, 6, 4,
        _REPLY if sent.is_reply else _REQUEST, own, sent.address, asked, sent.target,
    ).ljust(60, b"\0")  # fmt: skip


def decode(frame: bytes) -> Arp:
    """The question or answer in a frame.

    Raises:
        MalformedValueError: it is none for IPv4 on Ethernet, or cut off.
    """
    if len(frame) < _FRAME.size:
        raise MalformedValueError(f"{len(frame)} bytes are too few")
    (_, _, kind, hardware, protocol, mac_size, size, operation, mac, address, _, target) = (
        _FRAME.unpack_from(frame)
    )
    if (kind, hardware, protocol, mac_size, size) != (ARP, ETHERNET, _IPV4, 6, 4):
        raise MalformedValueError("the frame asks for no IPv4 address on Ethernet")
    return Arp(operation == _REPLY, Mac.from_bytes(mac, "big"), address, target)
