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
_HEADERS = struct.Struct("!6s6sHBBHHHBBHIIHHHH")
_IPV4, _UDP_PROTOCOL = 0x0800, 17
_VERSION_AND_LENGTH = 0x45
_TIME_TO_LIVE = 64


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
    length = _UDP.size + len(datagram.payload)
    ports = datagram.source_port, datagram.target_port, length
    ip = (_VERSION_AND_LENGTH, 0, _IP.size + length, 0, 0, _TIME_TO_LIVE, _UDP_PROTOCOL)
    addresses = datagram.source, datagram.target
    payload = datagram.payload
    udp_sum = _sum(struct.pack("!IIHH", *addresses, _UDP_PROTOCOL, length))
    udp_sum += sum(ports) + _sum(payload)
    header_sum = _sum(_IP.pack(*ip, 0, *addresses))
    return (
        _HEADERS.pack(
            target.to_bytes(6, "big"),
            source.to_bytes(6, "big"),
            _IPV4,
            *ip,
            _complement(header_sum),
            *addresses,
            *ports,
            _complement(udp_sum) or 0xFFFF,  # zero would say that there is none
        )
        + payload
    )


def decode(frame: bytes) -> Datagram:
    """The datagram in a frame.

    Raises:
        MalformedFrameError: it is not UDP over IPv4, is cut off, or its sums are wrong.
    """
    if len(frame) < _HEADERS.size:
        raise MalformedFrameError(f"{len(frame)} bytes are too few for a UDP datagram")
    at = _ETHERNET.size
    if frame[12] << 8 | frame[13] != _IPV4 or frame[at] >> 4 != 4 or frame[at + 9] != _UDP_PROTOCOL:
        raise MalformedFrameError("the frame has no UDP datagram over IPv4")
    begin = at + (frame[at] & 15) * 4
    whole = frame[at + 2] << 8 | frame[at + 3]
    if begin + _UDP.size > len(frame) or at + whole > len(frame) or frame[at] & 15 < 5:
        raise MalformedFrameError("the frame is cut off")
    header = frame[at:begin]
    source, target = struct.unpack_from("!II", header, 12)
    source_port, target_port, length, checksum = _UDP.unpack_from(frame, begin)
    if not _UDP.size <= length <= at + whole - begin:
        raise MalformedFrameError(f"the datagram can't be {length} bytes long")
    datagram = frame[begin : begin + length]
    pseudo = struct.pack("!IIHH", source, target, _UDP_PROTOCOL, length)
    if _complement(_sum(header)) or (checksum and _complement(_sum(pseudo) + _sum(datagram))):
        raise MalformedFrameError("the sums of the frame are wrong")
    return Datagram(source, source_port, target, target_port, datagram[_UDP.size :])


def _sum(data: bytes) -> int:
    """The sum of 16-bit words, before carries are added (RFC 1071)."""
    if len(data) % 2:
        data += b"\0"
    # A number modulo 65535 has the sum of its 16-bit digits: the same, in one step.
    return int.from_bytes(data, "big") % 0xFFFF


def _complement(total: int) -> int:
    """The checksum of a sum (RFC 1071)."""
    total %= 0xFFFF
    return 0xFFFF - total if total else 0
