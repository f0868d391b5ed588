"""Ethernet frames with a UDP datagram over IPv4 in them (RFC 894, RFC 791, RFC 768).

Written out here, as headers of fixed layout, because a rehearsal sends half a million of them: a
general library takes ten times as long for each. The tests read every frame with such a library.
"""

from __future__ import annotations

import struct
from typing import NamedTuple

from reservoir.core.values.addresses import MalformedValueError
from reservoir.core.values.clients import Mac

EVERYBODY = 0xFFFFFFFF
"""The address to which everybody on a segment listens."""

EVERY_MAC = Mac(0xFFFFFFFFFFFF)

_ETHERNET = struct.Struct("!6s6sH")
_IP = struct.Struct("!BBHHHBBHII")
_UDP = struct.Struct("!HHHH")
_AT = _ETHERNET.size
"""Where the IP header begins."""
_HEADERS = struct.Struct("!6s6sHBBHHHBBHIIHHHH")
_IPV4, _UDP_PROTOCOL = 0x0800, 17
_VERSION_AND_LENGTH = 0x45
_TIME_TO_LIVE = 64
_FIXED_WORDS = (_VERSION_AND_LENGTH << 8) + (_TIME_TO_LIVE << 8 | _UDP_PROTOCOL)
"""The sum of the words of the IP header that are always the same."""


class MalformedFrameError(MalformedValueError):
    """The bytes are not a frame with a whole UDP datagram over IPv4."""


class Datagram(NamedTuple):
    """A UDP datagram with the addresses that it is sent from and to."""

    source: int
    source_port: int
    target: int
    target_port: int
    payload: bytes


def encode(datagram: Datagram, source: Mac, target: Mac) -> bytes:
    """The frame that carries a datagram from one hardware address to another."""
    sender, sender_port, receiver, receiver_port, payload = datagram
    length = _UDP.size + len(payload)
    addresses = (sender >> 16) + (sender & 0xFFFF) + (receiver >> 16) + (receiver & 0xFFFF)
    header_sum = _FIXED_WORDS + _IP.size + length + addresses
    udp_sum = addresses + _UDP_PROTOCOL + 2 * length + sender_port + receiver_port + _sum(payload)
    return (
        _HEADERS.pack(
            target.to_bytes(6, "big"),
            source.to_bytes(6, "big"),
            _IPV4,
            _VERSION_AND_LENGTH,
            0,
            _IP.size + length,
            0,
            0,
            _TIME_TO_LIVE,
            _UDP_PROTOCOL,
            _complement(header_sum),
            sender,
            receiver,
            sender_port,
            receiver_port,
            length,
            _complement(udp_sum) or 0xFFFF,  # zero would say that there is none
        )
        + payload
    )


def decode(frame: bytes) -> Datagram:
    """The datagram in a frame.

    Raises:
        MalformedFrameError: it is not UDP over IPv4, is cut off, or its sums are wrong.
    """
    size_of_all = len(frame)
    if size_of_all < _HEADERS.size:
        raise MalformedFrameError(f"{size_of_all} bytes are too few for a UDP datagram")
    (_, _, kind, version, _, whole, _, _, _, protocol, _, source, target,
     source_port, target_port, length, checksum) = _HEADERS.unpack_from(frame)  # fmt: skip
    if kind != _IPV4 or version >> 4 != 4 or protocol != _UDP_PROTOCOL:
        raise MalformedFrameError("the frame has no UDP datagram over IPv4")
    size = (version & 15) * 4
    begin = _AT + size
    if begin + _UDP.size > size_of_all or _AT + whole > size_of_all or size < _IP.size:
        raise MalformedFrameError("the frame is cut off")
    if size > _IP.size:  # there are options before the datagram
        source_port, target_port, length, checksum = _UDP.unpack_from(frame, begin)
    if not _UDP.size <= length <= whole - size:
        raise MalformedFrameError(f"the datagram can't be {length} bytes long")
    datagram = frame[begin : begin + length]
    pseudo = (source >> 16) + (source & 0xFFFF) + (target >> 16) + (target & 0xFFFF) + length
    is_right = _sum(frame[_AT:begin]) == 0
    if not is_right or (checksum and (pseudo + _UDP_PROTOCOL + _sum(datagram)) % 0xFFFF):
        raise MalformedFrameError("the sums of the frame are wrong")
    return Datagram(source, source_port, target, target_port, datagram[_UDP.size :])


def _sum(data: bytes) -> int:
    """The sum of 16-bit words with its carries added (RFC 1071); 0 for 0xFFFF, which is as much.

    A number modulo 65535 has the sum of its 16-bit digits: the same, in one step.
    """
    return int.from_bytes(data + b"\0" if len(data) & 1 else data) % 0xFFFF


def _complement(total: int) -> int:
    """The checksum of a sum (RFC 1071)."""
    return -total % 0xFFFF
