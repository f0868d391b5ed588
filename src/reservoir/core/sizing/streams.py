"""Who comes and goes through a day: streams of clients, each with its arrivals and its stays.

Every day is like the last: days wrap into each other, so that leases of yesterday count too.
"""

from __future__ import annotations

import datetime
import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from reservoir.core.plan.demand import Arrival, Demand
from reservoir.core.sizing.observed import Observed
from reservoir.core.sizing.stays import NEGLIGIBLE, Holds, Stays, Values

DAY = 86_400
"""Seconds."""

MINUTE = 60.0
"""Seconds over which renewals are counted."""

JITTER = 0.05
"""The share of half a lease by which a client renews earlier or later at most."""

SPREAD = 24
"""Moments that stand for when renewals that belong together happen."""

TOLD_APART = 32
"""Renewals of a stay that are looked at one by one; later ones, spread by then, some at once."""

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
    returns: bool = False
    """Whether the same devices come every day, each once; while their lease runs they keep it."""
    on: int | None = None
    """The one day on which they come, counted from the first such day; every day if None."""

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

        Those who come every day are one cohort: each holds an address if it has one of any day, and
        takes one when it comes without.

        Args:
            moments: Seconds from the midnight of the first day that is looked at, shape (n,).
            lease: The lease time in seconds; not an infinite one.
        """
        holds = self.stays.holds(lease, self.released)
        if self.on is not None:
            yield self._cohort(moments - self.on * DAY, holds)
            return
        of_day = moments % DAY
        days = range(math.floor((self.edges[-1] + holds.longest) / DAY) + 1)
        cohorts = [self._cohort(of_day + day * DAY, holds) for day in days]
        if not self.returns:
            yield from cohorts
            return
        lacks = np.prod([1 - cohort.share for cohort in cohorts], axis=0)
        rate = np.zeros(len(moments))
        for cohort in cohorts:  # who comes holds none of its other days
            own = 1 - cohort.share
            others = np.divide(lacks, own, out=np.zeros_like(lacks), where=own > 0)
            rate += cohort.rate * others
        yield Cohort(1 - lacks, rate)

    def _cohort(self, since: Values, holds: Holds) -> Cohort:
        """The clients of one day, seconds after its midnight."""
        back = self.arrived(since[:, None] - holds.seconds[None, :]) @ holds.shares
        share = np.clip(self.arrived(since) - back, 0.0, 1.0)
        return Cohort(share, self._rate(since))

    def renewals(self, moments: Values, lease: int) -> Values:
        """Renewals in the minute before moments, on average, a second: shape (n,).

        A client renews each half lease after it came (T1; RFC 2131 section 4.4.5) while it is
        there. Who came together renews together, again and again, each a little earlier or later:
        the spread of one renewal is that of :data:`JITTER`, of several their sum.
        """
        half = lease / 2
        longest = float(self.stays.quantiles(np.array([1 - NEGLIGIBLE]))[0])
        found = np.zeros(len(moments))
        for number, count in _numbers(math.floor(longest / half)):
            still = 1 - float(self.stays.at_most(np.array([number * half]))[0])
            width = max(math.sqrt(number) * 2 * JITTER * half, (count - 1) * half)
            after = number * half + width * (np.arange(SPREAD) + 0.5) / SPREAD - width / 2
            for shift in self._days(number * half + width / 2):
                since = moments - shift
                before = self.arrived((since - MINUTE)[:, None] - after[None, :])
                renewed = self.arrived(since[:, None] - after[None, :]) - before
                found += renewed.mean(axis=1) * (still * count)
        return found * (self.count / MINUTE)

    def _days(self, longest: float) -> Iterator[float]:
        """By how much the days are shifted whose clients may renew on a day."""
        if self.on is not None:
            yield self.on * DAY
            return
        for day in range(math.floor((self.edges[-1] + longest) / DAY) + 1):
            yield -day * DAY

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


def _numbers(last: int) -> Iterator[tuple[int, int]]:
    """The renewals of a stay by their number; of many, one in the middle stands for some."""
    first = 1
    while first <= last:
        count = 1 + first // TOLD_APART
        yield first + (count - 1) // 2, min(count, last - first + 1)
        first += count


@dataclass(frozen=True)
class Crowd:
    """Everybody who is expected in a network."""

    always: int
    """Clients that are always there."""
    streams: tuple[Stream, ...]
    days: tuple[int, ...] = (0,)
    """The days that are looked at, ascending, counted from the first on which some come alone."""
    first: datetime.date | None = None
    """That day; None where every day is like the others."""

    @property
    def is_known(self) -> bool:
        """Whether it is known how many come."""
        return all(stream.is_known for stream in self.streams)

    def average(self, lease: int) -> float:
        """Addresses taken on average over a day, by Little's law: at the peak no fewer.

        Those who come every day or once don't count: who holds an address still takes no other.
        """
        usual = (s for s in self.streams if not s.returns and s.on is None)
        holds = ((s.count, s.stays.holds(lease, s.released).mean) for s in usual)
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
    seen = Observed.of(demand.observed, lease, demand.zone) if demand.observed else None
    dates = sorted(each.on for each in (*demand.groups, demand.walk_in) if each and each.on)
    first = dates[0] if dates else None
    streams = [
        *(part for group in demand.groups for part in _groups(group, demand, first)),
        *_walk_ins(demand, first),
        *(_seen(seen, demand) if seen else ()),
    ]
    always = grown(demand.devices, demand) + (grown(seen.always, demand) if seen else 0)
    return Crowd(always, tuple(streams), _days_of(streams), first)


def _days_of(streams: Sequence[Stream]) -> tuple[int, ...]:
    """The days that are looked at: those on which somebody comes who doesn't come every day."""
    found = {
        stream.on + day
        for stream in streams
        if stream.on is not None
        for day in range(math.floor(stream.edges[0] / DAY), math.floor(stream.edges[-1] / DAY) + 1)
    }
    return tuple(sorted(found)) or (0,)


def _parts(count: float, returning: float, *, is_known: bool) -> Iterator[tuple[float, bool, bool]]:
    """How many come each day anew and how many are always the same; whether so many exactly."""
    same = round(count * returning)
    if same:
        yield same, True, True
    if count > same:
        yield count - same, is_known, False


def _day(on: datetime.date | None, first: datetime.date | None) -> int | None:
    return None if on is None or first is None else (on - first).days


def _groups(group: Arrival, demand: Demand, first: datetime.date | None) -> Iterator[Stream]:
    at = float(group.at)
    edges = (at, at + group.over) if group.over else (at,)
    stays, released = Stays(group.stay.mean, group.stay.cv), demand.leave.release
    count = grown(group.devices, demand)
    for part, is_known, returns in _parts(count, group.returning, is_known=True):
        on = _day(group.on, first)
        yield Stream(part, is_known, edges, (1.0,), stays, released, returns, on)


def _walk_ins(demand: Demand, first: datetime.date | None) -> Iterator[Stream]:
    walk_in = demand.walk_in
    if walk_in is None or not walk_in.rate:
        return
    begin, end = map(float, walk_in.between)
    stays, released = Stays(walk_in.stay.mean, walk_in.stay.cv), demand.leave.release
    count = walk_in.rate * (end - begin) * demand.factor
    for part, is_known, returns in _parts(count, walk_in.returning, is_known=False):
        on = _day(walk_in.on, first)
        yield Stream(part, is_known, (begin, end), (1.0,), stays, released, returns, on)


def _seen(seen: Observed, demand: Demand) -> Iterator[Stream]:
    if seen.stays:
        stays = Stays(sum(seen.stays) / len(seen.stays), observed=seen.stays)
        count = seen.a_day * demand.factor
        yield Stream(count, False, seen.edges, seen.shares, stays, demand.leave.release)


def moments_of(crowd: Crowd, lease: int, step: float) -> NDArray[np.float64]:
    """The moments at which to look: every ``step`` seconds of each day, and at each turn.

    Returns:
        Seconds from the midnight of the first day, ascending, shape (n,).
    """
    if not crowd.streams:
        return np.zeros(1)
    found = []
    for day in crowd.days:
        begin, end = float(day * DAY), float((day + 1) * DAY)
        parts = [begin + _turns_on(stream, day, lease) for stream in crowd.streams]
        turns = np.concatenate(parts)
        before = np.nextafter(np.where(turns > begin, turns, end), begin)
        found.append(np.unique(np.concatenate([begin + np.arange(0, DAY, step), turns, before])))
    return np.concatenate(found)


def _turns_on(stream: Stream, day: int, lease: int) -> Values:
    """The turns of a stream on a day: seconds from its midnight, shape (n,)."""
    turns = stream.turns(lease)
    if stream.on is None:
        return np.asarray(turns % DAY)
    there = turns + (stream.on - day) * DAY
    return np.asarray(there[(there >= 0) & (there < DAY)])
