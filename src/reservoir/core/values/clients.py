"""Who a client is: a MAC address, or a client identifier (RFC 2132 section 9.14)."""

from __future__ import annotations

import re

from reservoir.core.values.addresses import MalformedValueError

ETHERNET = 1
"""The hardware type of Ethernet in the IANA ARP registry; it leads a client identifier made
from a MAC address (RFC 2132 section 9.14)."""

_SEPARATORS = str.maketrans("", "", ":-. ")
_MAC_NOTATIONS = re.compile(
    r"[0-9A-Fa-f]{2}([:\-. ])[0-9A-Fa-f]{2}(?:\1[0-9A-Fa-f]{2}){4}"
    r"|[0-9A-Fa-f]{4}([:\-. ])[0-9A-Fa-f]{4}\2[0-9A-Fa-f]{4}"
    r"|[0-9A-Fa-f]{6}([:\-. ]?)[0-9A-Fa-f]{6}"
)
is_mac_text = _MAC_NOTATIONS.fullmatch
"""Truthy for a MAC address in a notation that :func:`parse_mac` reads; for whole columns."""


_PRINTED_IDENTIFIER = re.compile(
    r"(?:[0-9A-Fa-f]{2})+(?:([:\-. ])(?:[0-9A-Fa-f]{2})+(?:\1(?:[0-9A-Fa-f]{2})+)*)?"
)

LEAST_PRINTED = 7
"""Bytes of a client identifier that is known without ``hex:``; fewer are MAC and IPv4 addresses."""

MOST_IDENTIFIER = 255
"""Bytes that a client identifier has at most (RFC 2132 section 9.14)."""

_HARDWARE = bytes((ETHERNET,))


class Mac(int):
    """A 48-bit MAC address, ordered and hashed as its number, written as ``00:00:5e:00:53:01``."""

    def __str__(self) -> str:
        return self.to_bytes(6, "big").hex(":")

    def grouped(self, size: int, separator: str) -> str:
        """Its twelve hexadecimal digits in groups of ``size``."""
        digits = f"{self:012x}"
        return separator.join([digits[i : i + size] for i in range(0, 12, size)])

    @property
    def identifier(self) -> bytes:
        """The client identifier that names this hardware: type 1, then the six bytes."""
        return _HARDWARE + self.to_bytes(6, "big")


def parse_mac(text: str) -> Mac:
    """Read six bytes in groups of two, four, six or twelve digits, apart by ``: - .`` or a blank.

    Raises:
        MalformedValueError: not twelve hexadecimal digits, or groups of unequal make.
    """
    if not is_mac_text(text):
        raise MalformedValueError(f"{text!r} is not a MAC address{_mac_reason(text)}")
    return Mac(text.translate(_SEPARATORS), 16)


def _mac_reason(text: str) -> str:
    digits = text.translate(_SEPARATORS)
    stray = re.sub("[0-9A-Fa-f]", "", digits)
    if stray:
        return f": {stray[0]!r} is not a hexadecimal digit"
    if len(digits) != 12:
        return f": it has {len(digits)} hexadecimal digits, not 12"
    return ": its groups are uneven; write it like 00:00:5e:00:53:01"


def parse_identifier(text: str) -> bytes:
    """Read a client identifier: ``hex:`` and its bytes, or ``text:`` and its characters.

    Raises:
        MalformedValueError: neither form, or not 2 to 255 bytes (RFC 2132 section 9.14).
    """
    form, colon, rest = text.partition(":")
    if colon and form == "hex" and re.fullmatch("(?:[0-9A-Fa-f]{2}[: -]?)+", rest):
        identifier = bytes.fromhex(re.sub("[: -]", "", rest))
    elif colon and form == "text":
        identifier = b"\0" + rest.encode()
    else:
        raise MalformedValueError(
            f"{text!r} is not a client identifier: write hex:01a2b3c4 or text:name"
        )
    return require_identifier(identifier, text)


def printed_client(text: str) -> Client | None:
    """A client identifier as devices print it: seven bytes or more in hexadecimal, in any groups.

    One that is made of a MAC address, like 0100.005e.0053.01, is that client. None if it is none.
    """
    if _PRINTED_IDENTIFIER.fullmatch(text) is None:
        return None
    identifier = bytes.fromhex(text.translate(_SEPARATORS))
    if not LEAST_PRINTED <= len(identifier) <= MOST_IDENTIFIER:
        return None
    is_mac = len(identifier) == LEAST_PRINTED and identifier[0] == ETHERNET
    return Mac.from_bytes(identifier[1:], "big") if is_mac else identifier


def require_identifier(identifier: bytes, text: str) -> bytes:
    """The bytes, if they can be a client identifier.

    Raises:
        MalformedValueError: they are not 2 to 255 (RFC 2132 section 9.14); ``text`` is named.
    """
    if not 2 <= len(identifier) <= MOST_IDENTIFIER:
        count = "1 byte" if len(identifier) == 1 else f"{len(identifier)} bytes"
        raise MalformedValueError(f"{text!r} has {count}; a client identifier has 2 to 255")
    return identifier


Client = Mac | bytes
"""A client as a plan names it: its MAC, or its whole client identifier."""


def format_client(client: Client) -> str:
    """Write a client as the plan does."""
    return str(client) if isinstance(client, Mac) else f"hex:{client.hex()}"
