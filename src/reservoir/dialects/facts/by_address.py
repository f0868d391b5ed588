"""Finds facts by an address that they state."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterable

from reservoir.core.values.addresses import Span
from reservoir.dialects.facts.fact import Fact


class FactsByAddress:
    """Facts found by an address of theirs; given back in the order in which they were given."""

    def __init__(self, facts: Iterable[tuple[int, Fact]]) -> None:
        """Sort the facts by their addresses."""
        ordered = sorted(
            ((address, position, fact) for position, (address, fact) in enumerate(facts)),
            key=lambda entry: entry[:2],
        )
        self._addresses = [address for address, _, _ in ordered]
        self._facts = [(position, fact) for _, position, fact in ordered]

    def within(self, span: Span) -> list[Fact]:
        """The facts whose address is in a span."""
        begin = bisect_left(self._addresses, span.first)
        end = bisect_right(self._addresses, span.last)
        return [fact for _, fact in sorted(self._facts[begin:end], key=lambda entry: entry[0])]
