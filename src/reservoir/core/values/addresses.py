"""IPv4 values: addresses, prefixes and spans, read strictly and written canonically.

An address is a plain ``int`` from 0 to 2**32 - 1 throughout the core, so that a million of them
fit a NumPy column without conversion; text is met only at the edge, in the functions here.
"""

from __future__ import annotations

import re
from typing import NamedTuple

ADDRESS_BITS = 32
LAST_ADDRESS = 0xFFFFFFFF

_DIGITS = re.compile(r"[0-9]+")
_OCTET = "(25[0-5]|2[0-4][0-9]|1[0-9][0-9]|[1-9]?[0-9])"
_QUAD = re.compile(r"\.".join([_OCTET] * 4))


class MalformedValueError(ValueError):
    """A text is not the value it should be; the message names the text and the reason."""


def parse_address(text: str) -> int:
    """Read a dotted-quad IPv4 address (RFC 6943 section 3.1.1, strict form).

    Raises:
        MalformedValueError: not four decimal numbers from 0 to 255 without leading zeros.
    """
    address = address_or_none(text)
    if address is None and is_ipv6(text):
        raise MalformedValueError(f"{text!r} is an IPv6 address: IPv6 isn't covered")
    if address is None:
        raise MalformedValueError(f"{text!r} is not an IPv4 address: {_why_no_quad(text)}")
    return address


def address_or_none(text: str) -> int | None:
    """Read a dotted-quad IPv4 address; None if it isn't one."""
    quad = _QUAD.fullmatch(text)
    if quad is None:
        return None
    a, b, c, d = quad.groups()
    return int(a) << 24 | int(b) << 16 | int(c) << 8 | int(d)


def is_ipv6(text: str) -> bool:
    """Whether a text is an IPv6 address (RFC 4291 section 2.2), perhaps with a prefix length."""
    from ipaddress import IPv6Interface  # late: only what can't be read needs it

    try:
        IPv6Interface(text)
    except ValueError:
        return False
    return True


def _why_no_quad(text: str) -> str:
    """The first thing that is wrong with a text that is no dotted quad."""
    parts = text.split(".")
    if len(parts) != 4:
        return f"it has {len(parts)} {'part' if len(parts) == 1 else 'parts'}, not four"
    for part in parts:
        if not _DIGITS.fullmatch(part):
            return f"{repr(part) if part else 'an empty part'} is not a number"
        if len(part) > 1 and part[0] == "0":
            return f"{part} has a leading zero, which some devices read as octal"
        if len(part) > 3 or int(part) > 255:
            return f"{part} is above 255"
    raise AssertionError(text)  # the pattern and these rules say the same


def format_address(address: int) -> str:
    """Write an address as a dotted quad."""
    return f"{address >> 24}.{address >> 16 & 255}.{address >> 8 & 255}.{address & 255}"


def mask_of(bits: int) -> int:
    """The subnet mask with ``bits`` leading ones, as an address value."""
    return (LAST_ADDRESS << (ADDRESS_BITS - bits)) & LAST_ADDRESS


def bits_of_mask(mask: int) -> int:
    """The number of leading ones in a subnet mask.

    Raises:
        MalformedValueError: the ones are not contiguous (RFC 4632 section 3.1).
    """
    bits = mask.bit_count()
    if mask != mask_of(bits):
        raise MalformedValueError(
            f"{format_address(mask)!r} is not a subnet mask: its ones are not contiguous"
        )
    return bits


_MASKS = tuple(mask_of(bits) for bits in range(ADDRESS_BITS + 1))
"""The masks by their length: subnets are asked for their borders a million times."""


class Span(NamedTuple):
    """Addresses from ``first`` to ``last``, both included. May be reversed as written in a plan."""

    first: int
    last: int

    def __str__(self) -> str:
        if self.first == self.last:
            return format_address(self.first)
        return f"{format_address(self.first)}-{format_address(self.last)}"

    @property
    def size(self) -> int:
        """How many addresses are in the span; 0 when it is reversed."""
        return max(0, self.last - self.first + 1)

    def holds(self, address: int) -> bool:
        """Whether the address is in the span."""
        return self.first <= address <= self.last


class Prefix(NamedTuple):
    """An address and a prefix length, as written: ``10.84.20.1/22`` keeps its host bits.

    The same value serves a subnet (whose host bits should be zero) and an interface's address.
    """

    address: int
    bits: int

    def __str__(self) -> str:
        return f"{format_address(self.address)}/{self.bits}"

    @property
    def mask(self) -> int:
        """The subnet mask as an address value."""
        return mask_of(self.bits)

    @property
    def network(self) -> int:
        """The first address of the subnet."""
        return self.address & self.mask

    @property
    def broadcast(self) -> int:
        """The last address of the subnet."""
        return self.network | (LAST_ADDRESS >> self.bits)

    @property
    def subnet(self) -> Prefix:
        """The same prefix with its host bits cleared."""
        return Prefix(self.network, self.bits)

    @property
    def span(self) -> Span:
        """Every address of the subnet, network and broadcast address included."""
        first = self.address & _MASKS[self.bits]
        return Span(first, first | LAST_ADDRESS >> self.bits)

    @property
    def hosts(self) -> Span:
        """The addresses that hosts may have: without network and broadcast address.

        A /31 (RFC 3021) and a /32 have no such edges: all their addresses are host addresses.
        """
        first, last = self.span
        return Span(first, last) if self.bits >= ADDRESS_BITS - 1 else Span(first + 1, last - 1)

    def is_edge(self, address: int) -> bool:
        """Whether the address is the subnet's network or broadcast address."""
        return self.span.holds(address) and not self.hosts.holds(address)

    def edge_word(self, address: int) -> str:
        """What the edge at an address is called: ``network`` or ``broadcast``."""
        return "network" if address == self.network else "broadcast"


def parse_prefix(text: str) -> Prefix:
    """Read ``address/length``, the length in bits from 0 to 32.

    Raises:
        MalformedValueError: the address or the length can't be read.
    """
    address_text, slash, bits_text = text.partition("/")
    address = parse_address(address_text)
    if not slash:
        raise MalformedValueError(f"{text!r} has no prefix length: write it like {text}/24")
    if not _DIGITS.fullmatch(bits_text) or len(bits_text) > 2 or int(bits_text) > ADDRESS_BITS:
        raise MalformedValueError(
            f"{text!r} is not a subnet: {bits_text!r} is not a prefix length from 0 to 32"
        )
    return Prefix(address, int(bits_text))


def parse_span(text: str) -> Span:
    """Read ``first-last``, a single address, or a subnet in prefix notation (all of it).

    Raises:
        MalformedValueError: none of the three.
    """
    if "/" in text:
        return parse_prefix(text).span
    first, dash, last = text.partition("-")
    if not dash:
        address = parse_address(text.strip())
        return Span(address, address)
    return Span(parse_address(first.strip()), parse_address(last.strip()))
