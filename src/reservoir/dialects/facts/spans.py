"""The addresses that facts about ranges and exclusions name."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from reservoir.core.values.addresses import Span
from reservoir.dialects.facts.fact import Fact


def each_span(facts: Iterable[Fact], base: int = 0) -> Iterator[Span]:
    """The addresses of each range or exclusion, if there are such; offsets count from ``base``."""
    for fact in facts:
        span = _span(fact, base)
        if span is not None and span.last < 2**32:
            yield span


def _span(fact: Fact, base: int = 0) -> Span | None:
    """First to last address; a fact that states one of them means that one alone."""
    fields = fact.fields
    first, last = fields.get("first"), fields.get("last")
    if "count" in fields:
        if "offset" in fields:
            first = base + fields["offset"]
        if first is not None:
            last = first + fields["count"] - 1
    if first is None:
        first = last
    elif last is None:
        last = first
    return None if first is None or last is None else Span(first, last)


def notes_of(owner: Fact) -> dict[Span, str]:
    """What exclusions are for, by what they exclude."""
    return {
        span: fact.get("note")
        for fact in owner.of_kind("exclusion")
        if fact.get("note") and (span := _span(fact)) is not None
    }


def idle_exclusions(excluded: Iterable[Span], subnet: Span) -> list[Span]:
    """What a network's own exclusions name backwards or out of its subnet: others were meant."""
    spans = dict.fromkeys(excluded)
    return [s for s in spans if not subnet.first <= s.first <= s.last <= subnet.last]


def backward_ranges(ranges: Iterable[Span]) -> list[Span]:
    """The ranges whose first address is above their last: nothing is assigned from them."""
    return [span for span in ranges if not span.size]
