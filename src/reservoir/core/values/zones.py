"""Local time: how far the clocks of a time zone are ahead of UTC, for whole columns of times."""

from __future__ import annotations

import datetime
from zoneinfo import ZoneInfo

import numpy as np
from numpy.typing import NDArray

DAY = 86_400
"""Seconds."""

Times = NDArray[np.float64]


def local(times: Times, zone: str) -> Times:
    """What the clocks of a time zone show at moments, shape (n,).

    Args:
        times: Seconds since 1970 in UTC; infinite ones stay so.
        zone: A name of the IANA time zone database.

    Returns:
        Seconds since 1970 by the zone's clocks. Where they are turned back, an hour is there twice.
    """
    finite = times[np.isfinite(times)]
    if zone == "UTC" or not len(finite):
        return times
    begins, offsets = _offsets(float(finite.min()), float(finite.max()), zone)
    places = np.searchsorted(begins, np.where(np.isfinite(times), times, begins[0]), side="right")
    return times + offsets[np.maximum(places - 1, 0)]


def midnights(first: int, last: int, zone: str) -> Times:
    """When days begin in a time zone: seconds since 1970 in UTC, shape (last - first + 1,).

    Args:
        first: The first day, counted from 1970 by the zone's clocks.
        last: The last day.
        zone: A name of the IANA time zone database.
    """
    days = np.arange(first, last + 1, dtype=np.float64) * DAY
    if zone == "UTC":
        return days
    begins, offsets = _offsets(float(days[0]) - DAY, float(days[-1]) + DAY, zone)
    shown = np.maximum.accumulate(begins + offsets)
    return days - offsets[np.maximum(np.searchsorted(shown, days, side="right") - 1, 0)]


def _offsets(first: float, last: float, zone: str) -> tuple[Times, Times]:
    """From which moments on the clocks are how many seconds ahead of UTC, ascending."""
    clock = ZoneInfo(zone)
    begins, offsets = [first], [_offset(first, clock)]
    at = first
    while at < last:
        then = min(at + DAY, last)
        if _offset(then, clock) != offsets[-1]:
            low, high = at, then
            while high - low > 0.5:
                middle = (low + high) / 2
                low, high = (
                    (middle, high) if _offset(middle, clock) == offsets[-1] else (low, middle)
                )
            begins.append(round(high))
            offsets.append(_offset(then, clock))
        at = then
    return np.array(begins, dtype=np.float64), np.array(offsets, dtype=np.float64)


def _offset(time: float, clock: ZoneInfo) -> float:
    moment = datetime.datetime.fromtimestamp(time, datetime.UTC).astimezone(clock)
    return (moment.utcoffset() or datetime.timedelta()).total_seconds()
