"""How many addresses are taken through a day, and the chance that there are too few.

With addresses without end, the walk-in clients that hold one at a moment are Poisson in number,
whatever the stays: those who arrived before it, less those who have given back (Eick, Massey and
Whitt 1993, "The physics of the Mt/G/infinity queue"). Of a group of known size each member holds
one with the same chance: a binomial number. All of them together are the sum, exactly.

Somebody is refused on a day if that sum exceeds the pool at any moment of it. That chance has no
closed form; it is taken as

    1 - (1 - largest chance at one moment) exp(-new excursions above the pool a day)

where the excursions are the upward crossings, less those that only return to one that has not
ended: near the top the number falls faster than it rises, and of every crossing the share
rise/fall is followed by another (Poisson clumping; Aldous 1989, chapter B). Against simulated days
the smallest sufficient pool differs by two addresses at most, or half a percent of a large one.
"""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from reservoir.core.sizing.stays import Values
from reservoir.core.sizing.streams import DAY, Crowd, moments_of

STEP = 60.0
"""Seconds between two moments that are looked at; turns of the arrivals are looked at besides."""

BREADTH = 9
"""Standard deviations beyond which nothing is expected."""

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
        self.moments = moments_of(crowd.streams, lease, step)
        nothing = np.zeros(len(self.moments))
        self._poisson, self._poisson_rate = nothing, nothing
        self._binomials: list[_Binomial] = []
        for stream in crowd.streams:
            rate = stream.rate(self.moments)
            cohorts = list(stream.cohorts(self.moments, lease))
            if stream.is_known:
                today = [rate, *[nothing] * (len(cohorts) - 1)]
                self._binomials += [
                    _Binomial(stream.count, share, came)
                    for share, came in zip(cohorts, today, strict=True)
                ]
            else:
                self._poisson = self._poisson + sum(cohorts, nothing) * stream.count
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
        """The first busiest moment: seconds from midnight."""
        return int(self.moments[np.flatnonzero(self.mean >= self.peak * (1 - 1e-12))[0]])

    @cached_property
    def _weights(self) -> Values:
        """Seconds from each moment to the next."""
        return np.diff(np.append(self.moments, DAY))

    @cached_property
    def _rate(self) -> Values:
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
            growth = np.diff(np.append(taken, taken[0])) / self._weights
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
        largest, excursions = np.zeros(len(places)), np.zeros(len(places))
        for some in _chunks(near, int(self._reaches.max()) - int(places[0]) + 2):
            exactly, others, above = self._distribution(some, places)
            back, more = (part[some, None] for part in self._fall)
            falls = np.maximum(back + (places[None, :] - self.mean[some, None]) * more, 0.0)
            rises, ends = self._rate[some, None] * others, exactly * falls
            another = np.divide(rises, ends, out=np.full_like(ends, 2.0), where=ends > 0)
            excursions += self._weights[some] @ (rises * np.clip(1 - another, 0.0, 1.0))
            largest = np.maximum(largest, above.max(axis=0))
        chance = 1 - (1 - largest) * np.exp(-excursions)
        falling: Values = np.maximum.accumulate(chance[::-1])[::-1]
        return np.where(falling < CERTAIN, 0.0, falling)

    @cached_property
    def _reaches(self) -> Values:
        """More addresses than these are hardly ever taken."""
        return np.asarray(np.ceil(self.mean + BREADTH * np.sqrt(self.variance) + 8 * self._is_wide))

    @cached_property
    def _is_wide(self) -> NDArray[np.bool_]:
        """Whether it is uncertain how many are taken."""
        return np.asarray(self.variance > CERTAIN)

    def chance(self, places: int) -> float:
        """The chance that on a day somebody is refused, with so many addresses."""
        most = int(self._reaches.max())
        if places >= most:
            return 0.0
        return float(self.chances(np.arange(max(places, 0), most + 1))[0])

    def needed(self, risk: float) -> int:
        """The fewest addresses with which that chance is no larger than the risk."""
        first = max(0, math.floor(self.peak) - 1)
        places = np.arange(first, int(self._reaches.max()) + 2)
        enough = np.flatnonzero(self.chances(places) <= risk)
        return int(places[enough[0]])

    def quantile(self, share: float) -> NDArray[np.int64]:
        """At each moment, the addresses that are not exceeded with this chance: shape (n,)."""
        spread = np.sqrt(self.variance)
        found = np.ceil(self.mean - CERTAIN).astype(np.int64)
        for at in np.flatnonzero(self._is_wide).tolist():
            low = max(0, math.floor(self.mean[at] - BREADTH * spread[at]) - 8)
            places = np.arange(low, int(self._reaches[at]) + 1)
            above = self._distribution(np.array([at]), places)[2][0]
            found[at] = places[int(np.flatnonzero(above <= 1 - share)[0])]
        return found

    def refused(self, places: int) -> Values:
        """The share of those who come at each moment that find no address.

        As if the number had been at its level for long (modified offered load; Massey and Whitt
        1994): for a constant rate Erlang's B formula, exactly.
        """
        shares = np.zeros(len(self.moments))
        near = np.flatnonzero((self._reaches >= places) & (self._rate > 0))
        if len(near):
            _, others, above = self._distribution(near, np.arange(places, places + 1))
            shares[near] = np.minimum(others[:, 0] / np.maximum(1 - above[:, 0], 1e-9), 1.0)
        return shares

    def refusals(self, places: int) -> float:
        """Clients a day that find no address, by :meth:`refused`; right while they are few."""
        return float(self._weights @ (self._rate * self.refused(places)))

    def _distribution(
        self, at: NDArray[np.intp], places: NDArray[np.int64]
    ) -> tuple[Values, Values, Values]:
        """How likely numbers of addresses taken are at some moments.

        Args:
            at: The moments' places, shape (k,).
            places: Numbers of addresses, consecutive and ascending, shape (m,).

        Returns:
            The chance that just so many are taken; that a client who arrives finds just so many
            taken by others; that more are taken. Shape (k, m) each.
        """
        top = max(int(self._reaches[at].max()), int(places[-1])) + 1
        wide = np.arange(places[0], top + 1) - self.crowd.always
        certain, partial = np.zeros(len(at)), []
        for group in self._binomials:
            share = group.share[at]
            is_partial = (share > CERTAIN) & (share < 1 - CERTAIN)
            certain += np.where(share >= 1 - CERTAIN, group.count, 0.0)
            if is_partial.any():
                partial.append(_Binomial(group.count, share * is_partial, group.rate[at]))
        taken = wide[None, :] - certain[:, None]
        load, rate = self._poisson[at], self._rate[at]
        if partial:
            exactly, others = _convolved(taken, load, rate, partial)
        else:
            exactly = others = _poisson(taken, load)
        above = np.cumsum(exactly[:, ::-1], axis=1)[:, ::-1] - exactly
        above[taken < 0] = 1.0
        count = len(places)
        return exactly[:, :count], others[:, :count], np.minimum(above[:, :count], 1.0)


def _chunks(at: NDArray[np.intp], width: int) -> Iterator[NDArray[np.intp]]:
    """The same in parts, so that tables of that width stay small."""
    rows = max(1, LARGEST_TABLE // width)
    for begin in range(0, len(at), rows):
        yield at[begin : begin + rows]


def _poisson(taken: Values, load: Values) -> Values:
    """The chance that so many are taken, of (k, m) numbers for the means of (k,) moments."""
    from scipy.special import gammaln  # late: most plans have no walk-ins

    counts = np.maximum(taken, 0.0)
    logs = counts * np.log(np.maximum(load, TINY))[:, None] - load[:, None] - gammaln(counts + 1)
    return np.where(taken < 0, 0.0, np.exp(logs))


def _convolved(
    taken: Values, load: Values, rate: Values, groups: Sequence[_Binomial]
) -> tuple[Values, Values]:
    """The same of a Poisson number and binomial ones together, by their characteristic functions.

    Returns:
        The chance that so many are taken, and that the others have taken so many when a client
        arrives: of its own group one less may have. Shape (k, m) each.
    """
    spread = load + sum(g.count * g.share * (1 - g.share) for g in groups)
    mean = load + sum(g.count * g.share for g in groups)
    reach = BREADTH * math.sqrt(float(spread.max())) + 8
    low, high = math.floor(float((mean - reach).min())), math.ceil(float((mean + reach).max()))
    size = 1 << (high - low + 1).bit_length()
    angle = 2 * np.pi * np.arange(size // 2 + 1) / size
    turn = np.exp(-1j * angle)[None, :]
    all_of_them = load[:, None] * (turn - 1) + 1j * (angle * low)[None, :]
    the_others = all_of_them.copy()
    for group in groups:
        one = np.log(1 - group.share[:, None] * (1 - turn) + TINY)
        own = np.divide(group.rate, rate, out=np.zeros_like(rate), where=rate > 0)
        all_of_them += group.count * one
        the_others += (group.count - own[:, None]) * one
    column = np.clip(np.round(taken).astype(np.int64) - low, -1, size)
    found = []
    for logs in (all_of_them, the_others):
        chances = np.fft.irfft(np.exp(logs), size, axis=1)
        padded = np.pad(np.maximum(chances, 0.0), ((0, 0), (0, 2)))  # beyond it: none
        found.append(np.take_along_axis(padded, np.where(column < 0, size, column), axis=1))
    return found[0], found[1]
