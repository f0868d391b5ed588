"""Demand: how many addresses are taken at the busiest moment, and how many there should be.

In the simple form, by what is to be expected: a head-count that grows, and visits whose number at
each moment follows from arrivals, stays and the lease time.
"""

from __future__ import annotations

import math
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from reservoir.core.plan.model import Demand
from reservoir.core.values.durations import INFINITE

DAY = 86_400
"""Seconds; every day is like the last."""

Times = NDArray[np.float64]


class Group(NamedTuple):
    """Clients that come each day, evenly, over a stretch of it."""

    devices: float
    begin: float
    """Seconds from midnight."""
    over: float
    """Seconds."""
    stay: float
    """Seconds, on average."""


def peak_devices(demand: Demand, lease: int) -> int:
    """Addresses taken at the busiest moment at the end of the horizon: grown, and rounded up.

    A billionth is taken off before rounding, so that 100 devices at 10 % for a year are 110 and
    not, by the last bit of a binary fraction, 111.

    Args:
        demand: Who is expected.
        lease: The lease time in seconds, or ``INFINITE``.
    """
    grown = (demand.devices + peak_visits(demand, lease)) * (1 + demand.growth) ** demand.horizon
    return math.ceil(float(grown) * (1 - 1e-9))


def with_headroom(peak: int, headroom: float) -> int:
    """The addresses that leave a share of the peak free, rounded up to whole ones."""
    return math.ceil(peak * (1 + headroom) * (1 - 1e-9))


def hold(stay: float, lease: int) -> float:
    """Seconds for which an address stays taken by a client that leaves without a word.

    The client renews at half the lease (RFC 2131 section 4.4.5); after the last renewal before
    it leaves, the address is its for one more lease.
    """
    if lease == INFINITE:
        return math.inf
    return math.floor(stay / (lease / 2)) * (lease / 2) + lease


def peak_visits(demand: Demand, lease: int) -> float:
    """Addresses that visitors have taken at the busiest moment of a day like all others.

    What is taken rises and falls in straight lines between the moments at which a group begins
    or ends to arrive or to give back, so the peak is at one of these: exact, not sampled.
    Visitors of other days are others, and an infinite lease is never given back: then infinity.
    """
    groups = [group for group in _groups(demand) if group.devices]
    if not groups:
        return 0.0
    if lease == INFINITE:
        return math.inf
    moments = np.array(
        [
            moment
            for group in groups
            for begin in (group.begin, group.begin + group.over)
            for moment in (begin, begin + hold(group.stay, lease))
        ]
    )
    moments = np.concatenate([moments % DAY, np.nextafter(moments, -np.inf) % DAY])
    taken = sum((_taken(group, moments, lease) for group in groups), np.zeros(len(moments)))
    return float(taken.max())


def _groups(demand: Demand) -> list[Group]:
    groups = [Group(s.devices, s.at, s.over or 0, s.stay) for s in demand.arrivals]
    walk_in = demand.walk_in
    if walk_in is not None:
        begin, end = walk_in.between
        arriving = walk_in.rate * (end - begin)
        groups.append(Group(arriving, begin, end - begin, walk_in.stay.mean))
    return groups


def _taken(group: Group, moments: Times, lease: int) -> Times:
    """Addresses that a group holds at each of some moments, shape (n,)."""
    return _arrived(group, moments) - _arrived(group, moments - hold(group.stay, lease))


def _arrived(group: Group, moments: Times) -> Times:
    """How many have ever arrived by each moment, counted from some day long ago: shape (n,)."""
    days, since = np.divmod(moments - group.begin, DAY)
    share = np.minimum(since / group.over, 1.0) if group.over else np.ones(len(moments))
    arrived: Times = (days + share) * group.devices
    return arrived
