"""Edits that several rules suggest."""

from __future__ import annotations

from reservoir.core.plan.edits import Edit
from reservoir.core.plan.model import PlanPath
from reservoir.core.pools import Pool
from reservoir.core.values.addresses import Span, format_address


def range_holding(address: int, pool: Pool) -> tuple[PlanPath, Span | None]:
    """The path of the range with an address, and the range; the list's path where it is `all`."""
    if pool.named != "all":
        for position, span in enumerate(pool.named):
            if span.holds(address):
                return (*pool.ranges_path, position), span
    return pool.ranges_path, None


def exclude(address: int, pool: Pool) -> tuple[Edit, ...]:
    """Take an address out of a pool: shorten the range that starts or ends there, or exclude it."""
    path, span = range_holding(address, pool)
    if span is not None and pool.named != "all" and sum(s.holds(address) for s in pool.named) == 1:
        if address == span.first < span.last:
            return (Edit(path, str(span), str(Span(address + 1, span.last))),)
        if address == span.last > span.first:
            return (Edit(path, str(span), str(Span(span.first, address - 1))),)
    exclusion = (*pool.path, "exclusions", len(pool.network.exclusions))
    return (Edit(exclusion, None, format_address(address)),)
