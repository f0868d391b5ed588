"""Who comes and goes through a day: streams of clients, each with its arrivals and its stays.

Every day is like the last: days wrap into each other, so that leases of yesterday count too.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from reservoir.core.plan.demand import Demand
from reservoir.core.sizing.observed import Observed
from reservoir.core.sizing.stays import Stays, Values

DAY = 86_400
"""Seconds."""

FEW = 8
"""Parts of a stretch of arrivals, and times for which addresses are held, that are looked at."""


class Cohort(NamedTuple):
    """The clients of a stream that came, or come, on one day."""

    share: Values
    """Those of them that hold an address at each moment of today: shape (n,)."""
    rate: Values
    """Those that arrive a second, right after each moment: shape (n,). A group that begins late
    goes on arriving on the next day."""


@dataclass(frozen=True)
class Stream:
    """Clients that come each day, at a rate that changes at some moments."""

    count: float
    """Clients a day: so many exactly if they are known, else on average."""
    is_known: bool
    """Whether so many come, each at a moment by chance; else they come independently (Poisson)."""
    edges: tuple[float, ...]
    """Seconds from midnight, ascending; begins with the first arrival, ends with the last."""
    shares: tuple[float, ...]
    """The share of the clients that comes between two edges; one if all come at once."""
    stays: Stays
    released: float
    """The share that releases its address when it leaves."""

    def arrived(self, moments: Values) -> Values:
        """The share of one day's clients that has come by moments of that day, of any shape."""
        if len(self.edges) == 1:  # all at once
            return np.where(moments >= self.edges[0], 1.0, 0.0)
        return np.interp(moments, self.edges, self._reached)

    def arrivals(self, shares: Values) -> Values:
        """By when these shares of a day's clients have come: seconds from midnight, shape (n,)."""
        if len(self.edges) == 1:
            return np.full(len(shares), self.edges[0])
        return np.interp(shares, self._reached, self.edges)

    @cached_property
    def _reached(self) -> Values:
        return np.concatenate([[0.0], np.cumsum(self.shares)]).clip(0, 1)

    def _rate(self, since: Values) -> Values:
        """Arrivals a second right after moments, counted from the midnight of their day: (n,)."""
        found = np.zeros(len(since))
        for begin, end, share in zip(self.edges, self.edges[1:], self.shares, strict=False):
            found += np.where((since >= begin) & (since < end), share / (end - begin), 0.0)
        return found * self.count

    def cohorts(self, moments: Values, lease: int) -> Iterator[Cohort]:
        """The clients of today and of each day before, as far back as addresses are held.

        Args:
            moments: Seconds from midnight, shape (n,).
            lease: The lease time in seconds; not an infinite one.
        """
        holds = self.stays.holds(lease, self.released)
        for day in range(math.floor((self.edges[-1] + holds.longest) / DAY) + 1):
            since = moments + day * DAY
            back = self.arrived(since[:, None] - holds.seconds[None, :]) @ holds.shares
            share = np.clip(self.arrived(since) - back, 0.0, 1.0)
            yield Cohort(share, self._rate(since))

    def renewals(self, moments: Values, lease: int) -> Values:
        """Renewals a second, on average over the half lease before moments of a day: shape (n,).

        In half a lease each client renews once, from half a lease after it came (T1; RFC 2131
        section 4.4.5) to the last renewal of its stay, a lease before its address is free.
        """
        holds, half = self.stays.holds(lease), lease / 2
        found = np.zeros(len(moments))
        for day in range(math.floor((self.edges[-1] + holds.longest) / DAY) + 1):
            since = moments + day * DAY
            last = self.arrived(since[:, None] + half - holds.seconds[None, :]) @ holds.shares
            found += self.arrived(since - half) - last
        return found * (self.count / half)

    def turns(self, lease: int) -> Values:
        """When arriving or giving back begins, goes on or ends: seconds from midnight, shape (n,).

        A few moments of each stretch of arrivals, and each again when addresses come back.
        """
        holds = self.stays.holds(lease, self.released).seconds
        few = holds if len(holds) <= FEW else holds[:: math.ceil(len(holds) / FEW)]
        edges = np.array(self.edges)
        if 1 < len(edges) <= FEW:
            whole = np.arange(0, len(edges) - 1 + 1 / FEW, 1 / FEW)
            edges = np.interp(whole, np.arange(len(edges)), edges)
        return np.asarray((edges[:, None] + np.append(0.0, few)[None, :]).ravel())


@dataclass(frozen=True)
class Crowd:
    """Everybody who is expected in a network."""

    always: int
    """Clients that are always there."""
    streams: tuple[Stream, ...]

    @property
    def is_known(self) -> bool:
        """Whether it is known how many come."""
        return all(stream.is_known for stream in self.streams)

    def average(self, lease: int) -> float:
        """Addresses taken on average over the day, by Little's law: at the peak no fewer."""
        holds = ((s.count, s.stays.holds(lease, s.released).mean) for s in self.streams)
        return self.always + sum(count * seconds / DAY for count, seconds in holds)

    @property
    def longest_stay(self) -> float:
        """Seconds that hardly anybody exceeds; 0 if nobody comes and goes."""
        most = np.array([0.999])
        return max((float(s.stays.quantiles(most)[0]) for s in self.streams), default=0.0)


def grown(number: float, demand: Demand) -> int:
    """A number of clients at the end of the horizon, rounded up.

    A billionth is taken off before rounding, so that 100 devices at 10 % for a year are 110 and
    not, by the last bit of a binary fraction, 111.
    """
    return math.ceil(number * demand.factor * (1 - 1e-9))


def crowd(demand: Demand, lease: int) -> Crowd:
    """Everybody whom a demand expects, at the end of its horizon.

    Args:
        demand: Who is expected.
        lease: The lease time in force, in seconds: what is observed of leases depends on it.
    """
    seen = Observed.of(demand.observed, lease) if demand.observed else None
    streams = [*_groups(demand), *_walk_ins(demand), *(_seen(seen, demand) if seen else ())]
    always = grown(demand.devices, demand) + (grown(seen.always, demand) if seen else 0)
    return Crowd(always, tuple(streams))


def _groups(demand: Demand) -> Iterator[Stream]:
    for group in demand.groups:
        if group.devices:
            at = float(group.at)
            edges = (at, at + group.over) if group.over else (at,)
            stays = Stays(group.stay.mean, group.stay.cv)
            count = grown(group.devices, demand)
            yield Stream(count, True, edges, (1.0,), stays, demand.leave.release)


def _walk_ins(demand: Demand) -> Iterator[Stream]:
    walk_in = demand.walk_in
    if walk_in is not None and walk_in.rate:
        begin, end = map(float, walk_in.between)
        stays = Stays(walk_in.stay.mean, walk_in.stay.cv)
        count = walk_in.rate * (end - begin) * demand.factor
        yield Stream(count, False, (begin, end), (1.0,), stays, demand.leave.release)


def _seen(seen: Observed, demand: Demand) -> Iterator[Stream]:
    if seen.stays:
        stays = Stays(sum(seen.stays) / len(seen.stays), observed=seen.stays)
        count = seen.a_day * demand.factor
        yield Stream(count, False, seen.edges, seen.shares, stays, demand.leave.release)


def moments_of(streams: Sequence[Stream], lease: int, step: float) -> NDArray[np.float64]:
    """The moments of a day at which to look: every ``step`` seconds, and at each turn.

    Returns:
        Seconds from midnight, ascending, shape (n,).
    """
    if not streams:
        return np.zeros(1)
    turns = np.concatenate([*(stream.turns(lease) for stream in streams)])
    turns %= DAY
    before = np.nextafter(np.where(turns > 0, turns, float(DAY)), 0.0)
    every = np.concatenate([np.arange(0, DAY, step), turns, before])
    found: NDArray[np.float64] = np.unique(every)
    return found
