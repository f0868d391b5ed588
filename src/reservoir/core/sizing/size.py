"""Is a network's pool large enough: peak, risk, the range, lease time and prefix that fit."""

from __future__ import annotations

import datetime
import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property, lru_cache

import numpy as np

from reservoir.core.plan.demand import SOME_DAY, Demand
from reservoir.core.sizing.lived import refusals_lived
from reservoir.core.sizing.observed import Observed
from reservoir.core.sizing.occupancy import Occupancy
from reservoir.core.sizing.streams import DAY, Crowd, crowd
from reservoir.core.values.durations import INFINITE, parse_duration

_LONGEST_FIRST = "7d 3d 2d 1d 12h 8h 6h 4h 3h 2h 90m 1h 45m 30m 20m 15m 10m"
USUAL = tuple(map(parse_duration, _LONGEST_FIRST.split(" ")))
"""Lease times in common use, longest first."""

FORMULA_HOLDS = 0.1
"""Up to this chance of a refusal on a day the formula counts refusals; days are lived above."""

ROUGH = 3_600
"""Seconds between two moments of a rough look."""

EDGES = 2
"""A subnet's network and broadcast address."""


# A plan is checked again for each suggestion, and one network of it is another then. What is known
# of the others is kept: `lease` is the one in force, from which stays that were observed are told.


@lru_cache(maxsize=256)
def _occupancy(demand: Demand, lease: int, other: int) -> Occupancy:
    return Occupancy(crowd(demand, lease), other)


@lru_cache(maxsize=1 << 16)
def _needed(demand: Demand, lease: int, other: int) -> int:
    everybody = crowd(demand, lease)
    if not everybody.streams:  # which is most networks, and needs no distribution
        return everybody.always
    return _occupancy(demand, lease, other).needed(demand.risk)


@lru_cache(maxsize=1 << 16)
def _chance(demand: Demand, lease: int, other: int, places: int) -> float:
    everybody = crowd(demand, lease)
    if not everybody.streams:
        return float(places < everybody.always)
    return _occupancy(demand, lease, other).chance(places)


def _whole(addresses: float) -> int:
    """Rounded up, but not for the last bits of a binary fraction."""
    return math.ceil(addresses * (1 - 1e-9))


def with_headroom(needed: int, headroom: float) -> int:
    """The addresses that leave a share of those needed free, rounded up to whole ones."""
    return _whole(needed * (1 + headroom))


@dataclass(frozen=True)
class Size:
    """What a demand takes, in a pool of some size with some lease time."""

    demand: Demand
    lease: int
    """Seconds; not infinite where clients come and go."""
    capacity: int
    """Clients that can have an address at once."""
    headroom: float
    """The share of what is needed that is to stay free."""

    @cached_property
    def crowd(self) -> Crowd:
        """Who is expected, at the end of the horizon."""
        return crowd(self.demand, self.lease)

    @property
    def observed(self) -> Observed | None:
        """What is known from leases of the past."""
        history = self.demand.observed
        return None if history is None else Observed.of(history, self.lease, self.demand.zone)

    def occupancy(self, lease: int | None = None) -> Occupancy:
        """The addresses taken through a day; with another lease time if one is given."""
        return _occupancy(self.demand, self.lease, lease or self.lease)

    @cached_property
    def peak(self) -> int:
        """Addresses taken on average at the busiest moment, rounded up."""
        return _whole(self.occupancy().peak)

    @property
    def peak_at(self) -> int | None:
        """When that is, in seconds from midnight; None where it is so all day."""
        mean = self.occupancy().mean
        return None if np.ptp(mean) < 1e-9 * self.peak else self.occupancy().peak_at % DAY

    @property
    def peak_on(self) -> datetime.date | None:
        """The day on which that is; None where every day is like the others, or it isn't said."""
        first = self.crowd.first
        if first is None or first == SOME_DAY:
            return None
        return first + datetime.timedelta(self.occupancy().peak_at // DAY)

    @cached_property
    def risk(self) -> float:
        """The chance that on a day somebody is refused."""
        return _chance(self.demand, self.lease, self.lease, self.capacity)

    @cached_property
    def refused_per_day(self) -> float:
        """Clients a day that find no address, on average."""
        if self.risk <= FORMULA_HOLDS or not self.crowd.streams:
            beyond = max(0, self.crowd.always - self.capacity)
            return beyond + (self.occupancy().refusals(self.capacity) if not beyond else 0)
        return refusals_lived(self.crowd, self.lease, self.capacity)

    def needed(self, lease: int | None = None) -> int:
        """The fewest addresses that meet the accepted risk; with another lease time if given."""
        return _needed(self.demand, self.lease, lease or self.lease)

    def comfortable(self, lease: int | None = None) -> int:
        """The same with headroom."""
        return with_headroom(self.needed(lease), self.headroom)

    def fits(self, lease: int) -> bool:
        """Whether the pool meets the risk with headroom, with another lease time."""
        usable = math.floor(self.capacity / (1 + self.headroom) * (1 + 1e-9))
        # Most leases that don't fit are much too long, and a rough look shows it.
        if self.crowd.average(lease) > usable or _whole(self._rough_peak(lease)) > usable:
            return False
        return _chance(self.demand, self.lease, lease, usable) <= self.demand.risk

    def _rough_peak(self, lease: int) -> float:
        """No more than the peak with another lease time: the highest of few moments."""
        return Occupancy(self.crowd, lease, ROUGH).peak

    @cached_property
    def longest_lease(self) -> int | None:
        """The longest of the :data:`USUAL` lease times that fits; None if none does."""
        return self.longest_of(USUAL)

    def longest_of(self, leases: Sequence[int]) -> int | None:
        """The first of some lease times with which the pool meets the risk, with headroom."""
        return next((lease for lease in leases if self.fits(lease)), None)

    def prefix(self, kept: int = 1) -> int | None:
        """The longest prefix length of a subnet that holds all that is needed, with headroom.

        None if no IPv4 subnet does.

        Args:
            kept: Addresses that are never assigned, such as the gateway's.
        """
        whole = self.comfortable() + kept + EDGES
        length = 32 - max(whole - 1, 3).bit_length()
        return length if length >= 0 else None

    @cached_property
    def renewals_per_second(self) -> float:
        """Renewals at the busiest time, on average over a minute."""
        moments, streams = self.occupancy().moments, self.crowd.streams
        coming = sum((s.renewals(moments, self.lease) for s in streams), moments * 0.0)
        return float(coming.max() + self.crowd.always / (self.lease / 2))

    @property
    def outage_survived(self) -> int:
        """Seconds for which the server can be down and nobody loses an address.

        A client that is about to renew (T1, half its lease; RFC 2131 section 4.4.5) has the other
        half left.
        """
        return self.lease // 2


def sizable(demand: Demand, lease: int) -> bool:
    """Whether a number can be given: visitors whose leases never end take ever more addresses."""
    return lease != INFINITE or not demand.comes_and_goes


def clients_at_peak(demand: Demand, lease: int) -> int:
    """Clients that hold an address on average at the busiest moment, rounded up.

    Where leases never end and clients come and go: those who come on one day.
    """
    everybody = crowd(demand, lease)
    if sizable(demand, lease):
        return _whole(_occupancy(demand, lease, lease).peak)
    return everybody.always + math.ceil(sum(stream.count for stream in everybody.streams))


def clients_expected(demand: Demand, lease: int) -> int:
    """Clients that hold an address at once, but for the accepted risk that there are more."""
    if sizable(demand, lease):
        return _needed(demand, lease, lease)
    return clients_at_peak(demand, lease)


def size(demand: Demand, lease: int, capacity: int, headroom: float) -> Size:
    """Size a pool.

    Args:
        demand: Who is expected.
        lease: The lease time in seconds.
        capacity: Clients that can have an address at once: assignable and bound addresses.
        headroom: The share of what is needed that is to stay free, unless the demand says it.

    Raises:
        ValueError: clients come and go, and leases never end.
    """
    if not sizable(demand, lease):
        raise ValueError("leases that never end can't be sized where clients come and go")
    own = demand.headroom
    return Size(demand, lease, capacity, headroom if own is None else own)
