"""Demand: how many addresses are taken at the busiest moment, and how many there should be.

In the simple form, by what is to be expected: a head-count that grows, and visits whose number at
each moment follows from arrivals, stays and the lease time.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
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

    Those who are always there and groups that come together are as many as the plan says; for those
    who walk in there are addresses enough but for the accepted risk. A billionth is taken off
    before rounding, so that 100 devices at 10 % for a year are 110 and not, by the last bit of a
    binary fraction, 111.

    Args:
        demand: Who is expected.
        lease: The lease time in seconds, or ``INFINITE``; then nobody may be expected to leave.
    """
    growth = (1 + demand.growth) ** demand.horizon
    groups, walking = _groups(demand), _walk_in(demand)
    moments = _turns([*groups, *walking], lease)
    if walking:  # what takes most at once may then lie between two turns
        moments = np.concatenate([moments, np.arange(0, DAY, 60.0)])
    known = (demand.devices + _taken(groups, moments, lease)) * growth
    taken = np.ceil(known * (1 - 1e-9))
    if walking:
        taken = taken + walk_ins(_taken(walking, moments, lease) * growth, demand.risk)
    return int(taken.max())


def walk_ins(load: Times, risk: float) -> Times:
    """The addresses of which clients who walk in find one free, but for the accepted share.

    They come independently of each other, so how many there are is Poisson, whatever the time for
    which each holds an address; with so many addresses and no more, the share that finds none is
    Erlang's B formula. It holds for a constant rate; for one that changes through the day it is
    asked at each moment (the modified offered load; Massey and Whitt 1994).

    Args:
        load: How many there would be on average with addresses without end, at each of some
            moments, shape (n,).
        risk: The share that may find none, above 0 and below 1.

    Returns:
        The smallest numbers of addresses that do, shape (n,).
    """
    from scipy.special import gammaln, pdtr  # late: most plans have no walk-ins

    def refused(places: Times) -> Times:
        exactly = np.exp(places * np.log(np.maximum(load, 1e-300)) - load - gammaln(places + 1))
        return np.asarray(exactly / pdtr(places, load))

    def is_short(places: Times) -> NDArray[np.bool_]:
        return np.asarray((load > 0) & (refused(places) > risk * (1 + 1e-9)))

    few = np.floor(load * (1 - risk)) - 1  # can't serve that share, whoever comes when
    enough, step = few + 1, 1.0
    while (short := is_short(enough)).any():
        few, enough = np.where(short, enough, few), enough + short * step
        step *= 2
    while (enough - few > 1).any():
        middle = np.maximum(np.floor((few + enough) / 2), 0)
        short = is_short(middle)
        few, enough = np.where(short, middle, few), np.where(short, enough, middle)
    return np.asarray(np.maximum(enough, 0))


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
    """Addresses that visitors have taken on average at the busiest moment of a day like all others.

    What is taken rises and falls in straight lines between the moments at which a group begins
    or ends to arrive or to give back, so the peak is at one of these: exact, not sampled.
    Visitors of other days are others, and an infinite lease is never given back: then infinity.
    """
    groups = [*_groups(demand), *_walk_in(demand)]
    if groups and lease == INFINITE:
        return math.inf
    return float(_taken(groups, _turns(groups, lease), lease).max())


def _groups(demand: Demand) -> list[Group]:
    """Those who come together, as many as the plan says."""
    groups = (Group(s.devices, s.at, s.over or 0, s.stay) for s in demand.arrivals)
    return [group for group in groups if group.devices]


def _walk_in(demand: Demand) -> list[Group]:
    """Those who come one by one, as many as come on average."""
    walk_in = demand.walk_in
    if walk_in is None or not walk_in.rate:
        return []
    begin, end = walk_in.between
    return [Group(walk_in.rate * (end - begin), begin, end - begin, walk_in.stay.mean)]


def _turns(groups: Sequence[Group], lease: int) -> Times:
    """When in a day a group begins or ends to arrive or to give back: seconds, shape (n,)."""
    moments = np.array(
        [0.0]
        + [
            moment
            for group in groups
            for begin in (group.begin, group.begin + group.over)
            for moment in (begin, begin + hold(group.stay, lease))
        ]
    )
    return np.concatenate([moments % DAY, np.nextafter(moments, -np.inf) % DAY])


def _taken(groups: Sequence[Group], moments: Times, lease: int) -> Times:
    """Addresses that groups hold at each of some moments, shape (n,)."""
    taken = np.zeros(len(moments))
    for group in groups:
        held = hold(group.stay, lease)
        taken += _arrived(group, moments) - _arrived(group, moments - held)
    return taken


def _arrived(group: Group, moments: Times) -> Times:
    """How many have ever arrived by each moment, counted from some day long ago: shape (n,)."""
    days, since = np.divmod(moments - group.begin, DAY)
    share = np.minimum(since / group.over, 1.0) if group.over else np.ones(len(moments))
    arrived: Times = (days + share) * group.devices
    return arrived
