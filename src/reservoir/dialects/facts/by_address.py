"""Finds facts by the addresses that they state."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections.abc import Iterable
from itertools import accumulate
from typing import Generic, TypeVar

from reservoir.core.values.addresses import Prefix, Span
from reservoir.dialects.facts.fact import Fact

Found = TypeVar("Found")


def addresses_of(interface: Fact) -> tuple[Prefix, ...]:
    """The addresses that an interface states, the primary one first."""
    every: tuple[Prefix, ...] = interface.get("addresses", ())
    primary = interface.get("address")
    return every or (*([primary] if primary is not None else ()), *interface.get("secondary", ()))


class FactsByAddress(Generic[Found]):
    """Facts found by addresses of theirs; given back in the order in which they were given."""

    def __init__(self, facts: Iterable[tuple[int, int, Found]]) -> None:
        """Sort the facts, each with its first and last address, by the first."""
        self._facts = sorted(
            (first, last, position, fact) for position, (first, last, fact) in enumerate(facts)
        )
        self._firsts = [first for first, *_ in self._facts]
        self._reaches = list(accumulate((last for _, last, *_ in self._facts), max))
        """How far a fact or one before it reaches."""

    def within(self, span: Span) -> list[Found]:
        """The facts that have an address in a span."""
        begin = bisect_left(self._reaches, span.first)
        end = bisect_right(self._firsts, span.last)
        found = [
            (position, fact)
            for _, last, position, fact in self._facts[begin:end]
            if last >= span.first
        ]
        return [fact for _, fact in sorted(found)]
