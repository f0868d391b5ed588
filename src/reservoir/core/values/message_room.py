"""How much room a DHCP message has for options (RFC 2131 section 2, RFC 2132 sections 9.3, 9.10).

Sizes are bytes. What a client takes that says nothing of it is a datagram of 576 bytes, in which
312 are left for options.
"""

from __future__ import annotations

from collections.abc import Mapping

SMALLEST_DATAGRAM = 576
"""Bytes that every client takes, with the headers (RFC 2131 section 2)."""

HEADERS = 20 + 8
"""Bytes of the IP and UDP headers."""

FIXED = 236 + 4
"""Bytes of the fixed fields and the cookie."""

FIELDS = (128, 64)
"""Bytes of the fields ``file`` and ``sname``, which may hold options too."""

END = 1
"""Bytes of the mark that ends a list of options."""

SERVER_SAYS = frozenset((1, 51, 53, 54, 58, 59, 61, 82))
"""Options that an answer is none without, or that are sent back: these are never left out."""

KIND = 2 + 1
"""Bytes of the option for the kind of message."""


def size_of(data: bytes) -> int:
    """The bytes of an option with its code and length; in parts if it is long (RFC 3396)."""
    return len(data) + 2 * max(1, -(-len(data) // 255))


def room_in(largest: int | None, headers: int = HEADERS) -> int:
    """The bytes for options in an answer, but for the kind of message and the end mark.

    Args:
        largest: The datagram that the client says it takes (option 57); None if it says nothing.
        headers: The bytes of the headers that a server takes off where the client says nothing.
    """
    says_more = largest is not None and largest > SMALLEST_DATAGRAM
    size = largest - HEADERS if says_more and largest else SMALLEST_DATAGRAM - headers
    return size - FIXED - KIND - END


def left_out(options: Mapping[int, bytes], room: int) -> list[int]:
    """The options that don't fit, by code: of those that may be left out, the last ones.

    Args:
        options: All options of an answer, in their order.
        room: The bytes for them.
    """
    used = sum(map(size_of, options.values()))
    gone: list[int] = []
    for code in reversed([code for code in options if code not in SERVER_SAYS]):
        if used <= room:
            break
        used -= size_of(options[code])
        gone.append(code)
    return gone


def in_fields(options: Mapping[int, bytes], room: int) -> tuple[list[int], ...]:
    """The options that go into the fields ``file`` and ``sname``, by code, where not all fit.

    One is put there whole: a part of it in each place is possible, but not every client joins them.
    """
    room -= size_of(b"\0")  # option 52 says so
    used = sum(map(size_of, options.values()))
    placed: tuple[list[int], ...] = ([], [])
    free = [size - END for size in FIELDS]
    for code in reversed([code for code in options if code not in SERVER_SAYS]):
        size = size_of(options[code])
        for field, codes in enumerate(placed):
            if used > room and size <= free[field]:
                free[field] -= size
                used -= size
                codes.append(code)
                break
    return placed
