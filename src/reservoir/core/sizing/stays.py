"""How long clients stay, and how long each keeps its address taken because of it."""

from __future__ import annotations

import math
from dataclasses import dataclass
from functools import cached_property, lru_cache
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from reservoir.core.values.durations import INFINITE

Values = NDArray[np.float64]

MOST_HOLDS = 200
"""Times for which an address is held that are told apart; more are put together by neighbours."""

NEGLIGIBLE = 1e-10
"""A share of the clients that is left out."""


class Holds(NamedTuple):
    """For how long addresses stay taken: few different times, each with its share."""

    seconds: Values
    """Shape (n,), ascending; infinite for those that never come back."""
    shares: Values
    """Shape (n,), together 1."""

    @property
    def mean(self) -> float:
        """Seconds."""
        return float(self.seconds @ self.shares)

    @property
    def longest(self) -> float:
        """Seconds."""
        return float(self.seconds[-1])


_NOBODY = Holds(np.empty(0), np.empty(0))


def hold(stay: float, lease: int) -> float:
    """Seconds for which an address stays taken by a client that leaves without a word.

    The client renews at half the lease (RFC 2131 section 4.4.5); after the last renewal before
    it leaves, the address is its for one more lease.
    """
    if lease == INFINITE:
        return math.inf
    return math.floor(stay / (lease / 2)) * (lease / 2) + lease


@dataclass(frozen=True)
class Stays:
    """How long clients stay: all equally long, gamma-distributed, or as they were observed."""

    mean: float
    """Seconds."""
    variation: float = 0.0
    """Standard deviation divided by the mean."""
    observed: tuple[float, ...] = ()
    """Seconds, ascending; mean and variation don't count then."""

    def quantiles(self, shares: Values) -> Values:
        """The stays that these shares of the clients don't exceed: seconds, shape (n,).

        Args:
            shares: From 0 to 1, shape (n,).
        """
        if self.observed:
            places = np.minimum(np.floor(shares * len(self.observed)), len(self.observed) - 1)
            return self._sorted[places.astype(np.int64)]
        if not self.variation:
            return np.full(len(shares), float(self.mean))
        from scipy.special import gammaincinv  # late: most stays don't vary

        return np.asarray(gammaincinv(self._shape, shares) * (self.mean / self._shape))

    def at_most(self, seconds: Values) -> Values:
        """The share of the clients whose stay is shorter: shape (n,)."""
        if self.observed:
            return np.searchsorted(self._sorted, seconds, side="left") / len(self.observed)
        if not self.variation:
            return np.where(seconds > self.mean, 1.0, 0.0)
        from scipy.special import gammainc  # late: see above

        scaled = np.maximum(seconds, 0) * (self._shape / self.mean)
        return np.asarray(gammainc(self._shape, scaled))

    @property
    def _shape(self) -> float:
        return self.variation**-2

    @cached_property
    def _sorted(self) -> Values:
        return np.array(self.observed)

    def holds(self, lease: int, released: float = 0.0) -> Holds:
        """For how long addresses stay taken.

        Args:
            lease: The lease time in seconds; infinite leases never end.
            released: The share of the clients that release their address when they leave.
        """
        return _holds(self, lease, released)


@lru_cache(maxsize=4096)
def _holds(stays: Stays, lease: int, released: float) -> Holds:
    silent = _left_silently(stays, lease) if released < 1 else _NOBODY
    seconds, shares = silent.seconds, silent.shares
    if released:
        count = MOST_HOLDS // 2 if stays.variation or stays.observed else 1
        own = stays.quantiles((np.arange(count) + 0.5) / count)
        seconds = np.concatenate([seconds, own])
        shares = np.concatenate([shares * (1 - released), np.full(count, released / count)])
    return _joined(seconds[shares > 0], shares[shares > 0])


def _left_silently(stays: Stays, lease: int) -> Holds:
    """What :func:`hold` makes of each stay: a lease more than the renewals before its end."""
    if lease == INFINITE:
        return Holds(np.array([math.inf]), np.ones(1))
    if not stays.variation and not stays.observed:
        return Holds(np.array([hold(stays.mean, lease)]), np.ones(1))
    longest = float(stays.quantiles(np.array([1 - NEGLIGIBLE]))[0])
    renewals = np.arange(math.floor(longest / (lease / 2)) + 2, dtype=np.float64)
    upto = stays.at_most(renewals * (lease / 2))
    upto[-1] = 1.0
    shares = np.diff(upto)
    return Holds(renewals[:-1] * (lease / 2) + lease, shares)


def _joined(seconds: Values, shares: Values) -> Holds:
    """The same in order, and not too many of them: neighbours become their mean."""
    order = np.argsort(seconds, kind="stable")
    seconds, shares = seconds[order], shares[order]
    if len(seconds) > MOST_HOLDS:
        near = np.minimum(np.cumsum(shares) * MOST_HOLDS, MOST_HOLDS - 1).astype(np.int64)
        weights = np.bincount(near, shares).astype(np.float64)
        totals = np.bincount(near, shares * seconds).astype(np.float64)
        seconds, shares = totals[weights > 0] / weights[weights > 0], weights[weights > 0]
    return Holds(seconds, shares / shares.sum())
