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
    first, last = fact.get("first"), fact.get("last")
    if "offset" in fact.fields and "count" in fact.fields:
        first = base + fact.get("offset")
    if "count" in fact.fields and first is not None:
        last = first + fact.get("count") - 1
    if first is None and last is None:
        return None
    return Span(last if first is None else first, first if last is None else last)


def notes_of(owner: Fact) -> dict[Span, str]:
    """What exclusions are for, by what they exclude."""
    return {
        span: fact.get("note")
        for fact in owner.of_kind("exclusion")
        if fact.get("note") and (span := _span(fact)) is not None
    }


def idle_exclusions(pools: Iterable[Fact], subnet: Span) -> list[Span]:
    """The pools' own exclusions that run backwards or out of their subnet: others were meant."""
    spans = dict.fromkeys(each_span(fact for pool in pools for fact in pool.of_kind("exclusion")))
    return [s for s in spans if not (s.size and subnet.holds(s.first) and subnet.holds(s.last))]


def backward_ranges(pools: Iterable[Fact], base: int) -> list[Span]:
    """The pools' ranges whose first address is above their last: nothing is assigned from them."""
    facts = (fact for pool in pools for fact in pool.of_kind("range"))
    return [span for span in each_span(facts, base) if not span.size]
