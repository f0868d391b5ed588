"""Days lived client by client with a pool of limited size: for when many are refused.

Then no formula holds: who is refused would have held an address that others now get, and a group
that doesn't fit leaves out just those that come last. The days follow each other, with the same
numbers by chance each time.
"""

from __future__ import annotations

import heapq

import numpy as np

from reservoir.core.sizing.streams import DAY, Crowd

CLIENTS = 40_000
"""As many clients come in all the days together, about."""

DAYS = (10, 400)
"""Days that are lived, at least and at most."""


def refusals_lived(crowd: Crowd, lease: int, places: int) -> float:
    """Clients a day that find no address.

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
    days = int(min(max(CLIENTS / max(a_day, 1), DAYS[0]), DAYS[1]))
    times, ends = _visits(crowd, lease, before + days)
    held: list[float] = []
    refused = 0
    counted_from = before * DAY
    for at, end in zip(times.tolist(), ends.tolist(), strict=True):
        while held and held[0] <= at:
            heapq.heappop(held)
        if len(held) < free:
            heapq.heappush(held, end)
        elif at >= counted_from:
            refused += 1
    return refused / days + max(0, crowd.always - places)


def _visits(crowd: Crowd, lease: int, days: int) -> tuple[np.ndarray, np.ndarray]:
    """When each client comes, ascending, and until when it holds an address: shape (n,) each."""
    chance = np.random.default_rng(0)
    times, ends = [], []
    for stream in crowd.streams:
        a_day = [round(stream.count)] * days if stream.is_known else chance.poisson(
            stream.count, days
        ).tolist()  # fmt: skip
        day = np.repeat(np.arange(days), a_day)
        at = stream.arrivals(chance.random(len(day)))
        holds = stream.stays.holds(lease, stream.released)
        which = np.searchsorted(np.cumsum(holds.shares), chance.random(len(day)))
        begin = day * DAY + at
        times.append(begin)
        ends.append(begin + holds.seconds[np.minimum(which, len(holds.seconds) - 1)])
    every, until = np.concatenate(times), np.concatenate(ends)
    order = np.argsort(every, kind="stable")
    return every[order], until[order]
