"""Days lived client by client with a pool of limited size: for when many are refused.

Then no formula holds: who is refused would have held an address that others now get, and a group
that doesn't fit leaves out just those that come last. The days follow each other, with the same
numbers by chance each time.
"""

from __future__ import annotations

import heapq
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

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
        refused = refusals_lived(replace(crowd, always=0, streams=fewer), lease, round(free * part))
        return float(f"{refused / part:.3g}") + max(0, crowd.always - places)
    days = max(10, round(AT_ONCE / max(a_day, 1)))
    if crowd.first is not None:  # all begins anew each time
        days = crowd.days[-1] + 1
    chance = np.random.default_rng(0)
    pool = _Pool(free)
    refused, runs, lived = 0, 0, -before
    while refused < ENOUGH and max(lived, runs * days) * a_day < MOST:
        first, some = (lived, days) if lived >= 0 else (-before, before)
        turned_away = pool.live(*_visits(crowd, lease, first, some, chance))
        refused += turned_away if lived >= 0 else 0
        lived += some
        if crowd.first is not None and lived > 0:
            pool, runs, lived = _Pool(free), runs + 1, -before
    return refused / (runs or lived) + max(0, crowd.always - places)


class _Pool:
    """The addresses that are held, each until some time, and by whom."""

    def __init__(self, free: int) -> None:
        """None is held of so many."""
        self._free = free
        self._until: dict[int, float] = {}
        self._ends: list[tuple[float, int]] = []

    def live(
        self,
        times: NDArray[np.float64],
        ends: NDArray[np.float64],
        devices: NDArray[np.int64],
    ) -> int:
        """Let clients come, and count those who find no address: columns of shape (n,)."""
        refused = 0
        for at, end, device in zip(times.tolist(), ends.tolist(), devices.tolist(), strict=True):
            while self._ends and self._ends[0][0] <= at:
                until, whose = heapq.heappop(self._ends)
                if self._until[whose] > until:  # it came back meanwhile
                    heapq.heappush(self._ends, (self._until[whose], whose))
                else:
                    del self._until[whose]
            if device in self._until:
                self._until[device] = max(self._until[device], end)
            elif len(self._until) < self._free:
                self._until[device] = end
                heapq.heappush(self._ends, (end, device))
            else:
                refused += 1
        return refused


def _visits(
    crowd: Crowd, lease: int, first: int, days: int, chance: np.random.Generator
) -> tuple[NDArray[np.float64], NDArray[np.float64], NDArray[np.int64]]:
    """When clients of some days come, ascending, until when each holds an address, and who it is.

    Those who come every day have the same numbers each day, the others each a new one.
    """
    times, ends, devices, known = [], [], [], 0
    every_day = np.arange(first, first + days)
    for stream in crowd.streams:
        there = every_day if stream.on is None else every_day[every_day == stream.on]
        count = round(stream.count)
        a_day = np.full(len(there), count)
        if not stream.is_known:
            a_day = chance.poisson(stream.count, len(there))
        day = np.repeat(there, a_day)
        at = stream.arrivals(chance.random(len(day)))
        holds = stream.stays.holds(lease, stream.released)
        which = np.searchsorted(np.cumsum(holds.shares), chance.random(len(day)))
        begin = day * DAY + at
        times.append(begin)
        ends.append(begin + holds.seconds[np.minimum(which, len(holds.seconds) - 1)])
        if stream.returns:
            devices.append(known + np.tile(np.arange(count), len(there)))
            known += count
        else:
            devices.append(-1 - chance.integers(1 << 62, size=len(day)))
    begins, until, who = np.concatenate(times), np.concatenate(ends), np.concatenate(devices)
    order = np.argsort(begins, kind="stable")
    return begins[order], until[order], who[order]
