"""How many addresses are taken through a day, and the chance that there are too few.

With addresses without end, the walk-in clients that hold one at a moment are Poisson in number,
whatever the stays: those who arrived before it, less those who have given back (Eick, Massey and
Whitt 1993, "The physics of the Mt/G/infinity queue"). Of a group of known size each member holds
one with the same chance: a binomial number. All of them together are the sum, exactly.

Where that number is uncertain by some hundreds, it is taken for normal: its skewness, one divided
by its standard deviation, then changes what is needed by less than an address in a thousand.

Somebody is refused on a day if that sum exceeds the pool at any moment of it. That chance has no
closed form; it is taken as

    1 - (1 - chance at the busiest moment) exp(-other excursions above the pool)

An excursion begins with an upward crossing and ends with a downward one; after the busiest moment
the first are counted, before it the last, less those that only return to an excursion which hasn't
ended: of upward crossings the share rise/fall is followed by another before the number has come
down, and backwards in time of downward ones the share fall/rise (Poisson clumping; Aldous 1989,
chapter B). Against simulated days the smallest sufficient pool differs by two addresses at most, or
two percent of a large one.
"""

from __future__ import annotations

import math
from bisect import bisect_left
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from statistics import NormalDist

import numpy as np
from numpy.typing import NDArray

from reservoir.core.sizing.stays import Values
from reservoir.core.sizing.streams import DAY, Crowd, moments_of

STEP = 180.0
"""Seconds between two moments that are looked at; turns of the arrivals are looked at besides."""

BREADTH = 7
"""Standard deviations beyond which nothing is expected."""

ALIKE = 0.05
"""Addresses; moments that differ by less are equally busy."""

LARGE = 100_000.0
"""The variance from which on a number of addresses taken is taken for normal."""

MOMENTS_A_CHUNK = 4_000

LARGEST_TABLE = 500_000
"""Numbers in the tables that are worked on at once."""

TINY = 1e-300
"""Keeps logarithms finite."""

CERTAIN = 1e-12
"""A share this near to none or all is taken for it."""


@dataclass(frozen=True)
class _Binomial:
    """Clients of whom so many come, each with the same chance of holding an address."""

    count: float
    share: Values
    """Who holds one, at each moment: shape (n,)."""
    rate: Values
    """Arrivals a second, shape (n,)."""


class Occupancy:
    """The addresses that a crowd takes through a day like all others.

    All arrays have one value for each of ``moments``, shape (n,).
    """

    def __init__(self, crowd: Crowd, lease: int, step: float = STEP) -> None:
        """Look at a day.

        Args:
            crowd: Who is expected; nobody who comes and goes if the lease is infinite.
            lease: The lease time in seconds.
            step: Seconds between two moments.
        """
        self.crowd = crowd
        self.moments = moments_of(crowd, lease, step)
        nothing = np.zeros(len(self.moments))
        self._poisson, self._poisson_rate = nothing, nothing
        self._binomials: list[_Binomial] = []
        for stream in crowd.streams:
            for share, rate in stream.cohorts(self.moments, lease):
                if stream.is_known:
                    self._binomials.append(_Binomial(stream.count, share, rate))
                else:
                    self._poisson = self._poisson + share * stream.count
                    self._poisson_rate = self._poisson_rate + rate

    @cached_property
    def mean(self) -> Values:
        """Addresses taken on average."""
        taken = sum((group.count * group.share for group in self._binomials), self._poisson)
        return np.asarray(taken + self.crowd.always)

    @cached_property
    def variance(self) -> Values:
        """The variance of the addresses taken."""
        spread = (group.count * group.share * (1 - group.share) for group in self._binomials)
        return np.asarray(sum(spread, self._poisson))

    @property
    def peak(self) -> float:
        """Addresses taken on average at the busiest moment."""
        return float(self.mean.max())

    @property
    def peak_at(self) -> int:
        """The first moment that is as busy as any: seconds from the first day's midnight."""
        return int(self.moments[np.flatnonzero(self.mean >= self.peak - ALIKE)[0]])

    @cached_property
    def _weights(self) -> Values:
        """Seconds from each moment to the next, or to the end of its day."""
        following = np.append(self.moments[1:], np.inf)
        return np.asarray(np.minimum(following, (self.moments // DAY + 1) * DAY) - self.moments)

    @cached_property
    def _next(self) -> NDArray[np.intp]:
        """The place of the moment after each: that of the day's first where the next isn't seen."""
        places = np.arange(1, len(self.moments) + 1)
        day = self.moments // DAY
        is_last = np.append(day[1:] > day[:-1] + 1, True)
        places[is_last] = np.searchsorted(day, day[is_last])
        return places

    @cached_property
    def rate(self) -> Values:
        """Arrivals a second."""
        return np.asarray(sum((g.rate for g in self._binomials), self._poisson_rate))

    @cached_property
    def _fall(self) -> tuple[Values, Values]:
        """Addresses given back a second on average, and how many more for each one taken more."""
        parts = [(self._poisson, self._poisson_rate, np.ones(len(self.moments)))]
        parts += [(g.count * g.share, g.rate, 1 - g.share) for g in self._binomials]
        total, more = np.zeros(len(self.moments)), np.zeros(len(self.moments))
        for taken, rate, free in parts:
            # What comes less what the number grows by; groups of one moment have no rate.
            growth = (taken[self._next] - taken) / self._weights
            back = np.maximum(rate - growth, 0.0)
            total += back
            more += back * free
        spread = self.variance
        return total, np.divide(more, spread, out=np.zeros_like(more), where=spread > CERTAIN)

    def chances(self, places: NDArray[np.int64]) -> Values:
        """The chance that on a day somebody is refused, for pools of these sizes.

        Args:
            places: Addresses in the pool, consecutive numbers, ascending: shape (m,).

        Returns:
            From 0 to 1, falling: shape (m,).
        """
        surely = self.peak - BREADTH * math.sqrt(float(self.variance[self.mean.argmax()])) - 1
        if places[-1] < surely:
            return np.ones(len(places))
        near = np.flatnonzero(self._reaches >= places[0])
        excursions = np.zeros(len(places))
        above = self._above(self._heights, places)
        largest, highest = above.max(axis=0), self._heights[above.argmax(axis=0)]
        # One number less and one more than asked for: an excursion goes from one to the next.
        wide = np.arange(places[0] - 1, places[-1] + 2)
        for some in _chunks(near, len(wide)):
            exactly, others = self._exactly(some, wide)
            rise = self.rate[some, None] * others
            back, more = (part[some, None] for part in self._fall)
            fall = exactly * np.maximum(back + (wide[None, :] - self.mean[some, None]) * more, 0.0)
            begun = rise[:, 1:-1] * _lasting(rise[:, 1:-1], fall[:, 1:-1])
            ended = fall[:, 2:] * _lasting(fall[:, 2:], rise[:, :-2])
            is_later = some[:, None] >= highest[None, :]
            excursions += self._weights[some] @ np.where(is_later, begun, ended)
        chance = 1 - (1 - largest) * np.exp(-excursions)
        falling: Values = np.maximum.accumulate(chance[::-1])[::-1]
        return np.where(falling < CERTAIN, 0.0, falling)

    @cached_property
    def _heights(self) -> NDArray[np.intp]:
        """The places of the moments at one of which most is taken, by how unlikely that is."""
        spread = np.sqrt(self.variance)
        return np.unique([int((self.mean + more * spread).argmax()) for more in range(5)])

    @cached_property
    def _reaches(self) -> Values:
        """More addresses than these are hardly ever taken."""
        return np.asarray(np.ceil(self.mean + BREADTH * np.sqrt(self.variance) + 8 * self._is_wide))

    @cached_property
    def _is_wide(self) -> NDArray[np.bool_]:
        """Whether it is uncertain how many are taken."""
        return np.asarray(self.variance > CERTAIN)

    @cached_property
    def _is_large(self) -> NDArray[np.bool_]:
        """Whether the number taken is as good as normal."""
        return np.asarray(self.variance > LARGE)

    def chance(self, places: int) -> float:
        """The chance that on a day somebody is refused, with so many addresses."""
        return float(self.chances(np.arange(places, places + 1))[0])

    def needed(self, risk: float) -> int:
        """The fewest addresses with which that chance is no larger than the risk."""
        # Fewer than at the busiest moment alone can't be enough.
        first = int(self.quantile(1 - risk, self._heights).max())
        spread = math.sqrt(float(self.variance.max()))
        if self._is_large.any():
            last = first + math.ceil(BREADTH * spread)
            return bisect_left(range(last), -risk, lo=first, key=lambda n: -self.chance(n))
        width = 1 + 2 * math.ceil(math.sqrt(spread))
        while True:
            places = np.arange(first, first + width)
            enough = np.flatnonzero(self.chances(places) <= risk)
            if len(enough):
                return int(places[enough[0]])
            first, width = first + width, width * 2

    def quantile(self, share: float, at: NDArray[np.intp] | None = None) -> NDArray[np.int64]:
        """The addresses that are not exceeded at a moment with this chance.

        Args:
            share: The chance, below 1.
            at: The moments' places, shape (k,); all if None.

        Returns:
            Shape (k,).
        """
        at = np.arange(len(self.moments)) if at is None else at
        found = np.ceil(self.mean[at] - CERTAIN).astype(np.int64)
        low = np.floor(self.mean - BREADTH * np.sqrt(self.variance)) - 8
        is_large = self._is_large[at]
        for some in _chunks(np.flatnonzero(self._is_wide[at] & ~is_large), 4 * MOMENTS_A_CHUNK):
            places = np.arange(max(0, int(low[at[some]].min())), int(self._reaches[at[some]].max()))
            enough = self._above(at[some], places) <= 1 - share
            found[some] = places[enough.argmax(axis=1)]
        large = at[is_large]
        beyond = NormalDist().inv_cdf(share) * np.sqrt(self.variance[large])
        found[is_large] = np.ceil(self.mean[large] + beyond - 0.5)
        return found

    def refused(self, places: int) -> Values:
        """The share of those who come at each moment that find no address.

        As if the number had been at its level for long (modified offered load; Massey and Whitt
        1994): for a constant rate Erlang's B formula, exactly.
        """
        shares = np.zeros(len(self.moments))
        near = np.flatnonzero((self._reaches >= places) & (self.rate > 0))
        if len(near):
            place = np.array([places])
            others, above = self._exactly(near, place)[1][:, 0], self._above(near, place)[:, 0]
            shares[near] = np.minimum(others / np.maximum(1 - above, TINY), 1.0)
        return shares

    def refusals(self, places: int) -> float:
        """Clients a day that find no address, by :meth:`refused`; right while they are few."""
        return float(self._weights @ (self.rate * self.refused(places)))

    def _above(self, at: NDArray[np.intp], places: NDArray[np.int64]) -> Values:
        """The chance that more addresses are taken.

        Args:
            at: The moments' places, shape (k,).
            places: Numbers of addresses, consecutive and ascending, shape (m,).

        Returns:
            Shape (k, m).
        """
        found = np.empty((len(at), len(places)))
        large, small = (np.flatnonzero(is_so) for is_so in self._large_and_small(at))
        found[large] = _normally_above(self._scaled(at[large], places, 0.5))
        if len(small):
            rest = at[small]
            top = max(int(self._reaches[rest].max()), int(places[-1])) + 1
            exactly = self._counted_out(rest, np.arange(places[0], top + 1))[0]
            above = np.cumsum(exactly[:, ::-1], axis=1)[:, ::-1] - exactly
            surely = places[None, :] < self.crowd.always + self._certain(rest)[:, None]
            found[small] = np.where(surely, 1.0, np.clip(above[:, : len(places)], 0.0, 1.0))
        return found

    def _large_and_small(self, at: NDArray[np.intp]) -> tuple[NDArray[np.bool_], ...]:
        return self._is_large[at], ~self._is_large[at]

    def _scaled(self, at: NDArray[np.intp], places: NDArray[np.int64], more: float = 0.0) -> Values:
        """How many standard deviations above the mean numbers, and that much more, are: (k, m)."""
        spread = np.sqrt(self.variance[at])[:, None]
        return np.asarray((places[None, :] + more - self.mean[at][:, None]) / spread)

    def _certain(self, at: NDArray[np.intp]) -> Values:
        """Members of groups all of which hold an address at some moments: shape (k,)."""
        shares = ((group.count, group.share[at]) for group in self._binomials)
        parts = (np.where(share >= 1 - CERTAIN, count, 0.0) for count, share in shares)
        return np.asarray(sum(parts, np.zeros(len(at))))

    def _exactly(self, at: NDArray[np.intp], places: NDArray[np.int64]) -> tuple[Values, Values]:
        """How likely numbers of addresses taken are at some moments.

        Args:
            at: The moments' places, shape (k,).
            places: Numbers of addresses, shape (m,).

        Returns:
            The chance that just so many are taken, and that a client who arrives finds just so
            many taken by others. Shape (k, m) each.
        """
        exactly, others = np.empty((2, len(at), len(places)))
        large, small = (np.flatnonzero(is_so) for is_so in self._large_and_small(at))
        spread = np.sqrt(self.variance[at[large]])[:, None]
        density = np.exp(-(self._scaled(at[large], places) ** 2) / 2)
        exactly[large] = others[large] = density / (spread * math.sqrt(2 * math.pi))
        if len(small):
            exactly[small], others[small] = self._counted_out(at[small], places)
        return exactly, others

    def _counted_out(
        self, at: NDArray[np.intp], places: NDArray[np.int64]
    ) -> tuple[Values, Values]:
        """The same, of the numbers themselves."""
        taken = places[None, :] - self.crowd.always - self._certain(at)[:, None]
        exactly = _poisson(taken, self._poisson[at])
        others = exactly.copy()
        shares = np.array([group.share[at] for group in self._binomials]).reshape(-1, len(at))
        is_partial = (shares > CERTAIN) & (shares < 1 - CERTAIN)
        some = np.flatnonzero(is_partial.any(axis=0))
        if len(some):
            groups = [
                _Binomial(group.count, (share * partial)[some], group.rate[at[some]])
                for group, share, partial in zip(self._binomials, shares, is_partial, strict=True)
                if partial.any()
            ]
            load, rate = self._poisson[at[some]], self.rate[at[some]]
            exactly[some], others[some] = _convolved(taken[some], load, rate, groups)
        return exactly, others


def _lasting(there: Values, back: Values) -> Values:
    """The share of the crossings that are no return to an excursion which hasn't ended."""
    again = np.divide(there, back, out=np.full_like(back, 2.0), where=back > 0)
    return np.asarray(np.clip(1 - again, 0.0, 1.0))


def _chunks(at: NDArray[np.intp], width: int) -> Iterator[NDArray[np.intp]]:
    """The same in parts, so that tables of that width stay small."""
    rows = max(1, LARGEST_TABLE // width)
    for begin in range(0, len(at), rows):
        yield at[begin : begin + rows]


def _normally_above(scaled: Values) -> Values:
    """The chance that a normal number is more than so many standard deviations above its mean."""
    if not scaled.size:
        return scaled
    from scipy.special import ndtr  # late: few networks are so large

    return np.asarray(ndtr(-scaled))


def _poisson(taken: Values, load: Values) -> Values:
    """The chance that so many are taken, of (k, m) numbers for the means of (k,) moments."""
    counts = np.maximum(taken, 0.0)
    logs = counts * np.log(np.maximum(load, TINY))[:, None] - load[:, None]
    logs -= _log_factorials(counts)
    return np.where(taken < 0, 0.0, np.exp(logs))


def _log_factorials(numbers: Values) -> Values:
    """The logarithms of the factorials of whole numbers, in the same shape.

    By a table, as they are close together; a package that has it takes longer to load.
    """
    if not numbers.size:
        return numbers
    low, high = int(numbers.min()), int(numbers.max())
    table = np.array([math.lgamma(number + 1) for number in range(low, high + 1)])
    return table[(numbers - low).astype(np.intp)]


def _convolved(
    taken: Values, load: Values, rate: Values, groups: Sequence[_Binomial]
) -> tuple[Values, Values]:
    """The same of a Poisson number and binomial ones together.

    Args:
        taken: Consecutive numbers for each moment, shape (k, m).
        load: The mean of the Poisson number, shape (k,).
        rate: Arrivals a second, of all together, shape (k,).
        groups: The binomial numbers.

    Returns:
        The chance that so many are taken, and that the others have taken so many when a client
        arrives: of its own group one less may have. Shape (k, m) each.
    """
    exactly = _sum_of(taken, load, groups)
    own = [np.divide(g.rate, rate, out=np.zeros_like(rate), where=rate > 0) for g in groups]
    others = exactly * (1 - np.sum(own, axis=0))[:, None]
    for group, share in zip(groups, own, strict=True):
        come = np.flatnonzero(share > 0)
        if len(come):
            without = [
                _Binomial(g.count - (g is group), g.share[come], g.rate[come]) for g in groups
            ]
            others[come] += share[come, None] * _sum_of(taken[come], load[come], without)
    return exactly, others


def _sum_of(taken: Values, load: Values, groups: Sequence[_Binomial]) -> Values:
    """The chance that a Poisson number and binomial ones are together so many: shape (k, m)."""
    parts = [_binomial(group) for group in groups]
    widths = [chances.shape[1] for _, chances in parts]
    first = taken[:, 0] - sum(
        low + width - 1 for (low, _), width in zip(parts, widths, strict=True)
    )
    length = taken.shape[1] + sum(width - 1 for width in widths)
    found = _poisson(first[:, None] + np.arange(length)[None, :], load)
    for (_, chances), width in zip(parts, widths, strict=True):
        windows = np.lib.stride_tricks.sliding_window_view(found, width, axis=1)
        found = np.einsum("kmw,kw->km", windows, chances[:, ::-1])
    return found


def _binomial(group: _Binomial) -> tuple[Values, Values]:
    """Where a binomial number is likely: its lowest values, (k,), and the chances from there on."""
    count, share = group.count, np.clip(group.share, TINY, 1 - CERTAIN)
    reach = BREADTH * np.sqrt(count * share * (1 - share)) + 8
    low = np.maximum(np.floor(count * share - reach), 0.0)
    width = int(min(count + 1, 2 * math.ceil(float(reach.max())) + 1))
    low = np.minimum(low, count + 1 - width)
    number = low[:, None] + np.arange(width)[None, :]
    logs = math.lgamma(count + 1) - _log_factorials(number) - _log_factorials(count - number)
    logs += number * np.log(share)[:, None] + (count - number) * np.log1p(-share)[:, None]
    chances = np.where(group.share[:, None] > CERTAIN, np.exp(logs), number == 0)
    return low, chances
