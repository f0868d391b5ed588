"""Edits that several rules suggest."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from reservoir.core.plan.edits import Edit
from reservoir.core.plan.hosts import ByAddress
from reservoir.core.plan.model import PlanPath
from reservoir.core.pools import Pool, Pools
from reservoir.core.values.addresses import Span, format_address


class Correction(NamedTuple):
    """What was probably meant by a mistyped value, if that can be told."""

    hint: str
    """The end of a message: ``; 10.84.30.1 would be``."""
    edits: tuple[Edit, ...]


def corrected(path: PlanPath, written: object, meant: object | None) -> Correction:
    """The correction of a value that is written at a path; none if ``meant`` is None."""
    if meant is None:
        return Correction("", ())
    return Correction(f"; {meant} would be", (Edit(path, str(written), str(meant)),))


def free_address(meant: int | None, pools: Pools, table: ByAddress, vrf: str) -> str | None:
    """The address that was meant, as text, unless another row of a table has it already."""
    if meant is None or table.at(pools.vrf_of[vrf], meant):
        return None
    return format_address(meant)


def range_holding(address: int, pool: Pool) -> tuple[PlanPath, Span | None]:
    """The path of the range with an address, and the range; the list's path where it is `all`."""
    for path, span in _written(pool):
        if span.holds(address):
            return path, span
    return pool.ranges_path, None


def _written(pool: Pool) -> Iterator[tuple[PlanPath, Span]]:
    """The ranges of a pool where they are written, those of classes first: they are narrower."""
    for name, answers in pool.network.by_class.items():
        for position, span in enumerate(answers.ranges):
            yield (*pool.path, "by_class", name, "ranges", position), span
    for position, span in enumerate(pool.named) if pool.named != "all" else ():
        yield (*pool.ranges_path, position), span


def _is_in_one(address: int, pool: Pool) -> bool:
    in_some = sum(span.holds(address) for _, span in _written(pool))
    return pool.named != "all" and in_some == 1


def exclude(address: int, pool: Pool) -> tuple[Edit, ...]:
    """Take an address out of a pool: shorten the range that starts or ends there, or exclude it."""
    path, span = range_holding(address, pool)
    if span is not None and address in span and _is_in_one(address, pool):
        if address == span.first < span.last:
            return (Edit(path, str(span), str(Span(address + 1, span.last))),)
        if address == span.last > span.first:
            return (Edit(path, str(span), str(Span(span.first, address - 1))),)
    exclusion = (*pool.path, "exclusions", len(pool.network.exclusions))
    return (Edit(exclusion, None, format_address(address)),)
