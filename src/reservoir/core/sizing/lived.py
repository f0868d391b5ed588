"""Days lived client by client with a pool of limited size: for when many are refused.

Then no formula holds: who is refused would have held an address that others now get, and a group
that doesn't fit leaves out just those that come last. The days follow each other, with the same
numbers by chance each time.
"""

from __future__ import annotations

import heapq
from dataclasses import replace

import numpy as np

from reservoir.core.sizing.streams import DAY, Crowd

AT_ONCE = 5_000
"""Clients whose days are lived together, about."""

ENOUGH = 800
"""Refusals after which their number a day is known well enough: to some percent."""

MOST = 60_000
"""Clients after whose days it has to be."""


MOST_AT_ONCE = 500_000
"""Clients who come while one of them holds an address; of more, so many stand for all."""


def refusals_lived(crowd: Crowd, lease: int, places: int) -> float:
    """Clients a day that find no address.

    Of a large crowd a part is lived with as large a part of the pool. Where many are refused, as
    large a share of the part is, but for what chance does to it, which is more than to the whole;
    so no more than three digits are told.

    Args:
        crowd: Who is expected. Those who are always there have their addresses first.
        lease: The lease time in seconds.
        places: Addresses in the pool.
    """
    free = max(0, places - crowd.always)
    a_day = sum(stream.count for stream in crowd.streams)
    before = max(
        int((s.edges[-1] + s.stays.holds(lease, s.released).longest) // DAY) + 1
        for s in crowd.streams
    )
    if a_day * before > MOST_AT_ONCE:
        part = MOST_AT_ONCE / (a_day * before) * (1 - 1e-9)
        fewer = tuple(replace(stream, count=stream.count * part) for stream in crowd.streams)
        refused = refusals_lived(Crowd(0, fewer), lease, round(free * part))
        return float(f"{refused / part:.3g}") + max(0, crowd.always - places)
    days = max(10, round(AT_ONCE / max(a_day, 1)))
    chance = np.random.default_rng(0)
    held: list[float] = []
    refused, lived = 0, -before
    while refused < ENOUGH and lived * a_day < MOST:
        some = days if lived >= 0 else before
        times, ends = _visits(crowd, lease, lived, some, chance)
        turned_away = 0
        for at, end in zip(times.tolist(), ends.tolist(), strict=True):
            while held and held[0] <= at:
                heapq.heappop(held)
            if len(held) < free:
                heapq.heappush(held, end)
            else:
                turned_away += 1
        refused += turned_away if lived >= 0 else 0
        lived += some
    return refused / lived + max(0, crowd.always - places)


def _visits(
    crowd: Crowd, lease: int, first: int, days: int, chance: np.random.Generator
) -> tuple[np.ndarray, np.ndarray]:
    """When each client of some days comes, ascending, and until when it holds an address."""
    times, ends = [], []
    for stream in crowd.streams:
        a_day = [round(stream.count)] * days if stream.is_known else chance.poisson(
            stream.count, days
        ).tolist()  # fmt: skip
        day = np.repeat(np.arange(first, first + days), a_day)
        at = stream.arrivals(chance.random(len(day)))
        holds = stream.stays.holds(lease, stream.released)
        which = np.searchsorted(np.cumsum(holds.shares), chance.random(len(day)))
        begin = day * DAY + at
        times.append(begin)
        ends.append(begin + holds.seconds[np.minimum(which, len(holds.seconds) - 1)])
    every, until = np.concatenate(times), np.concatenate(ends)
    order = np.argsort(every, kind="stable")
    return every[order], until[order]
