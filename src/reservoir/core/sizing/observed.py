"""What leases of the past tell: how many were held at once, who came when, for how long."""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from reservoir.core.plan.history import History
from reservoir.core.values.durations import INFINITE
from reservoir.core.values.zones import local, midnights

DAY = 86_400
"""Seconds."""

BIN = 900
"""Seconds of a day for which one rate of arrivals is taken."""

MOST_STAYS = 2_000
"""Stays that are kept of all that were observed: so many quantiles."""

ALWAYS = 0.9
"""A lease over this share of the time that was observed is of a client that is always there."""


@dataclass(frozen=True)
class Observed:
    """The leases of one network, as far as they were observed."""

    days: tuple[int, ...]
    """Days since 1970 on which leases began or were held; the first and the last may be cut."""
    peaks: tuple[int, ...]
    """The most addresses held at once on each of these days."""
    peak: int
    """The most addresses held at once."""
    peak_at: float
    """When that was first so: seconds since 1970."""
    trend: float
    """By how many addresses the days' peaks grow each day: a straight line by least squares."""
    always: int
    """Clients that were there nearly all the time."""
    a_day: float
    """Leases of the others that began in a day, on average."""
    edges: tuple[float, ...]
    """Seconds from midnight: between two edges they came at one rate."""
    shares: tuple[float, ...]
    """The share of a day's leases that began between two edges."""
    stays: tuple[float, ...]
    """Seconds, ascending: for how long the others stayed."""

    @classmethod
    def of(cls, history: History, lease: int, zone: str = "UTC") -> Observed:
        """Learn from leases.

        A client that left silently held its address for a lease after its last renewal, so it
        stayed until some moment in the half lease after that; the middle is taken. Whose lease
        ended earlier than that has released it.

        Args:
            history: The leases, at least one.
            lease: The lease time that was in force, in seconds.
            zone: The time zone whose days and times of day are meant.
        """
        first = float(history.start.min())
        ends = history.end[np.isfinite(history.end)]
        last = max(float(history.start.max()), float(ends.max()) if len(ends) else first)
        end = np.minimum(history.end, last + 1)
        times = np.concatenate([history.start, end])
        steps = np.concatenate([np.ones(len(end)), -np.ones(len(end))])
        order = np.argsort(times, kind="stable")
        times, held = times[order], np.cumsum(steps[order]).astype(np.int64)
        is_last = np.append(times[1:] != times[:-1], True)  # all that happens at a moment is one
        times, held = times[is_last], held[is_last]
        days, peaks = _daily(times, held, zone)
        is_always = end - history.start >= ALWAYS * max(last - first, DAY)
        others = ~is_always
        shares, a_day = _arrivals(history.start[others], first, last, zone)
        edges = tuple(float(edge) for edge in np.arange(0, DAY + 1, BIN))
        at = int(held.argmax())
        return cls(
            days=tuple(days.tolist()),
            peaks=tuple(peaks.tolist()),
            peak=int(held[at]),
            peak_at=float(times[at]),
            trend=_slope(days, peaks),
            always=int(is_always.sum()),
            a_day=a_day,
            edges=edges,
            shares=shares,
            stays=_stays((end - history.start)[others], lease),
        )


def _daily(times: np.ndarray, held: np.ndarray, zone: str) -> tuple[np.ndarray, np.ndarray]:
    """The days, and the most that was held on each; what was held at midnight counts too."""
    day = (local(times, zone) // DAY).astype(np.int64)
    days = np.arange(day[0], day[-1] + 1)
    starts = np.searchsorted(times, midnights(int(day[0]), int(day[-1]), zone), side="right")
    carried = np.where(starts > 0, held[np.maximum(starts - 1, 0)], 0)
    peaks = carried.copy()
    np.maximum.at(peaks, day - day[0], held)
    is_real = np.ones(len(days), dtype=bool)
    # The last moment may be midnight itself, when nothing is held any more.
    is_real[-1] = bool(peaks[-1]) or len(days) == 1
    return days[is_real], peaks[is_real]


def _slope(days: np.ndarray, peaks: np.ndarray) -> float:
    """The slope of the straight line through the whole days, which leaves out the cut ones."""
    if len(days) > 3:
        days, peaks = days[1:-1], peaks[1:-1]
    if len(days) < 2:
        return 0.0
    return float(np.polyfit(days - days[0], peaks, 1)[0])


def _arrivals(
    start: np.ndarray, first: float, last: float, zone: str
) -> tuple[tuple[float, ...], float]:
    """The share of the arrivals in each bin of a day, and how many there are in a day."""
    bins = DAY // BIN
    if not len(start):
        return (0.0,) * bins, 0.0
    counts = np.bincount((local(start, zone) % DAY // BIN).astype(np.int64), minlength=bins)
    # How often each bin of the day was observed, so that cut days don't count as whole ones, nor an
    # hour that the clocks leave out or show twice as one.
    whole = np.arange(math.floor(first / BIN), math.floor(last / BIN) + 1, dtype=np.float64)
    there = (local(whole * BIN, zone) % DAY // BIN).astype(np.int64)
    seen = np.bincount(there, minlength=bins)
    rates = counts / np.maximum(seen, 1)
    total = float(rates.sum())
    return tuple((rates / total).tolist()), total


def _stays(held: np.ndarray, lease: int) -> tuple[float, ...]:
    if not len(held):
        return ()
    silent = (held >= lease) & (lease != INFINITE)
    stays = np.sort(np.where(silent, held - 0.75 * lease, held))
    if len(stays) > MOST_STAYS:
        stays = np.quantile(stays, (np.arange(MOST_STAYS) + 0.5) / MOST_STAYS)
    return tuple(np.maximum(stays, 1.0).tolist())
