"""The likely typo: the address that was meant, a typo away from the one written."""

from __future__ import annotations

from collections.abc import Iterator
from functools import lru_cache
from itertools import chain, combinations

from reservoir.core.values.addresses import (
    Prefix,
    Span,
    address_or_none,
    format_address,
)

FEW = 100
"""Places in which a typing mistake is looked for; more would be no hint."""


@lru_cache(maxsize=4096)
def likely_meant(address: int, subnet: Prefix) -> int | None:
    """The one address of the subnet's hosts that a typo would have turned into ``address``.

    Two digits swapped are tried first, since hands do that most often; then one octet wrong, two
    octets swapped, one digit wrong, missing or extra. What leads to several says nothing.
    """
    text, hosts = format_address(address), subnet.hosts
    others = chain(_one_octet(address, subnet), _octets_swapped(address), _one_digit(text))
    for slips in (_swapped(text), others):
        fitting = {meant for meant in slips if hosts.holds(meant)}
        if len(fitting) == 1:
            return fitting.pop()
        if fitting:
            return None
    return None


def is_slip(typed: int, meant: int) -> bool:
    """Whether a typo may have made one address of another."""
    text = format_address(typed)
    octets = sum((typed ^ meant) >> shift & 255 > 0 for shift in (0, 8, 16, 24))
    swapped = (*_swapped(text), *_octets_swapped(typed))
    return octets == 1 or meant in swapped or meant in _one_digit(text)


def transpositions(address: int) -> set[int]:
    """The addresses that come of swapping two neighbouring digits: the commonest typo of all."""
    return set(_swapped(format_address(address)))


def slips(address: int) -> set[int]:
    """The addresses that come of two digits or octets swapped, or of one digit wrong or amiss."""
    text = format_address(address)
    return {*_swapped(text), *_one_digit(text), *_octets_swapped(address)} - {address}


def likely_range(span: Span, subnet: Prefix) -> Span | None:
    """The range inside the subnet that was meant by one with an end outside it."""
    ends = [
        end if subnet.hosts.holds(end) else likely_meant(end, subnet)
        for end in (span.first, span.last)
    ]
    first, last = ends
    if first is None or last is None or first > last:
        return None
    return Span(first, last)


def _readable(texts: Iterator[str]) -> Iterator[int]:
    for text in texts:
        address = address_or_none(text)
        if address is not None:
            yield address


def _swapped(text: str) -> Iterator[int]:
    def swaps() -> Iterator[str]:
        for i in range(len(text) - 1):
            if text[i] != text[i + 1] and text[i : i + 2].isdecimal():
                yield text[:i] + text[i + 1] + text[i] + text[i + 2 :]

    return _readable(swaps())


def _octets_swapped(address: int) -> Iterator[int]:
    """Two whole octets swapped."""
    octets = list(address.to_bytes(4, "big"))
    for one, other in combinations(range(4), 2):
        if octets[one] != octets[other]:
            swapped = octets.copy()
            swapped[one], swapped[other] = octets[other], octets[one]
            yield int.from_bytes(swapped, "big")


def _one_octet(address: int, subnet: Prefix) -> Iterator[int]:
    """One whole octet replaced by the subnet's, where the subnet fixes all of it."""
    for shift in (24, 16, 8):
        octet = 255 << shift
        if subnet.mask & octet == octet:
            yield address & ~octet | subnet.network & octet


def _one_digit(text: str) -> Iterator[int]:
    def edits() -> Iterator[str]:
        for i in range(len(text) + 1):
            for digit in "0123456789":
                yield text[:i] + digit + text[i:]
                yield text[:i] + digit + text[i + 1 :]
            yield text[:i] + text[i + 1 :]

    return _readable(edits())
