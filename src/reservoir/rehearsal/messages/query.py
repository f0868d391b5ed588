"""A query to a DNS server that any server answers, and whether something answers it (RFC 1035)."""

from __future__ import annotations

import struct

_HEADER = struct.Struct("!6H")
_RECURSION = 0x0100
_IS_ANSWER = 0x8000
_NAME_SERVERS, _INTERNET = 2, 1


def query(number: int) -> bytes:
    """A query for the name servers of the root: whatever a server says of it, it answers."""
    asked = b"\0" + struct.pack("!2H", _NAME_SERVERS, _INTERNET)
    return _HEADER.pack(number, _RECURSION, 1, 0, 0, 0) + asked


def answers(data: bytes, number: int) -> bool:
    """Whether the payload of a datagram answers the query of a number."""
    if len(data) < _HEADER.size:
        return False
    found, flags, *_ = _HEADER.unpack_from(data)
    return found == number and bool(flags & _IS_ANSWER)
