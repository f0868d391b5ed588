"""Demand: how many clients are expected, and how they come and go."""

from __future__ import annotations

import datetime
import math
from collections.abc import Mapping, Sequence
from typing import Annotated, Any, TypeVar

from pydantic import (
    AfterValidator,
    Discriminator,
    Field,
    PlainSerializer,
    PrivateAttr,
    Tag,
    model_validator,
)

from reservoir.core.plan.history import History
from reservoir.core.plan.part import Part
from reservoir.core.plan.scalars import (
    ClockText,
    DateText,
    DurationText,
    HorizonText,
    HoursText,
    ListOf,
    NumberText,
    RateText,
    ShareText,
    ShortForm,
    WordText,
    ZoneText,
)
from reservoir.core.values.addresses import MalformedValueError
from reservoir.core.values.durations import INFINITE, format_duration

MOST_CLIENTS = 1 << 32
"""IPv4 has no more addresses; more clients a day are a slip of the keyboard."""


LONGEST_STAY = 366 * 86_400
"""Seconds."""


class Stay(Part):
    """How long visitors stay."""

    mean: DurationText
    """How long on average."""
    cv: Annotated[NumberText, Field(le=5)] = 0.0
    """How much stays differ: their standard deviation, divided by their mean."""

    @model_validator(mode="after")
    def _ends(self) -> Stay:
        if self.mean == INFINITE:
            raise MalformedValueError("a stay ends; who stays for good belongs to devices")
        if self.mean * max(self.cv, 1.0) ** 2 > LONGEST_STAY:
            years = "" if self.mean > LONGEST_STAY else " with this cv some last for decades;"
            raise MalformedValueError(
                f"stays are a year long at most on average;{years} who stays longer belongs to "
                "devices"
            )
        return self


def _stay(mean: str) -> dict[str, str]:
    return {"mean": mean}


def _written_stay(stay: Stay) -> str | dict[str, str]:
    mean = format_duration(stay.mean)
    return {"mean": mean, "cv": f"{stay.cv:.10g}"} if stay.cv else mean


def _part(share: float) -> float:
    if share > 1:
        raise MalformedValueError("no more than 100% of the clients can do that")
    return share


StayText = Annotated[Stay, ShortForm(_stay), PlainSerializer(_written_stay)]


PartText = Annotated[ShareText, AfterValidator(_part)]
"""A share of some clients: all of them at most."""

Visitors = TypeVar("Visitors", "Arrival", "WalkIn")


def _require_days(visitors: Visitors) -> Visitors:
    """Refuse clients that come every day, and on one only.

    Raises:
        MalformedValueError: they are said to do both.
    """
    if visitors.on is not None and visitors.returning:
        raise MalformedValueError("who comes on one day only doesn't return: leave one of both out")
    return visitors


SOME_DAY = datetime.date.min
"""Stands for the one day of a demand that doesn't say which."""


def _once(visitors: Visitors) -> Visitors:
    on = visitors.on or SOME_DAY
    return visitors.model_copy(update={"on": on, "returning": 0.0})


class Arrival(Part):
    """Clients that arrive together, once a day, and stay for a while."""

    at: ClockText
    """The time of day at which the first arrive."""
    devices: Annotated[int, Field(ge=0, le=MOST_CLIENTS)]
    """How many arrive."""
    over: DurationText | None = None
    """How long until all have arrived; at once if None."""
    stay: StayText
    """How long they stay."""
    returning: PartText = 0.0
    """The share of them that comes every day: the same devices."""
    on: DateText | None = None
    """The one day on which they come; every day if None."""

    @model_validator(mode="after")
    def _comes_back(self) -> Arrival:
        return _require_days(self)


class Timetable(Part):
    """A table of arrivals, with the columns at, devices, over and stay."""

    file: WordText = Field(alias="from")
    """The table's file."""


def _arrival_words(value: Any) -> str:
    is_table = isinstance(value, Timetable) or (isinstance(value, dict) and "from" in value)
    return "(table)" if is_table else "(arrival)"


class WalkIn(Part):
    """Clients that arrive one by one at a rate."""

    rate: RateText
    """How many arrive in a time, as in 40/h."""
    between: HoursText = (0, 86_400)
    """The hours in which they arrive; the whole day if left out."""
    stay: StayText
    """How long they stay."""
    returning: PartText = 0.0
    """The share of a day's clients that comes every day: the same devices."""
    on: DateText | None = None
    """The one day on which they come; every day if None."""

    @model_validator(mode="after")
    def _comes_back(self) -> WalkIn:
        return _require_days(self)


class Leave(Part):
    """How visitors leave."""

    release: PartText = 0.0
    """The share of them that release their address; the others leave silently."""


class Demand(Part):
    """How many clients are expected: those always there, and those that come and go."""

    devices: Annotated[int, Field(ge=0, le=MOST_CLIENTS)] = 0
    """Devices that are always there."""
    growth: ShareText = 0.0
    """By how much there will be more of everybody, each year."""
    horizon: HorizonText = 0.0
    """How far ahead it is planned."""
    headroom: ShareText | None = None
    """The share of them for which addresses are kept free besides; that of `checks` if left out."""
    arrivals: ListOf[
        Annotated[
            Annotated[Arrival, Tag("(arrival)")] | Annotated[Timetable, Tag("(table)")],
            Discriminator(_arrival_words),
        ]
    ] = ()
    """Groups that arrive together, or tables of such."""
    walk_in: WalkIn | None = None
    leave: Leave = Leave()
    history: WordText | None = None
    """A table of leases of the past, with the columns mac, address, start and end."""
    zone: ZoneText = "UTC"
    """The time zone whose days and times of day are meant."""
    risk: ShareText = 0.01
    """The accepted chance that on a day somebody is refused."""
    _observed: History | None = PrivateAttr(None)

    @model_validator(mode="after")
    def _says_something(self) -> Demand:
        if not 0 < self.risk < 1:
            raise MalformedValueError("a risk is above 0% and below 100%")
        if not self.model_fields_set & {"devices", "arrivals", "walk_in", "history"}:
            raise MalformedValueError("a demand has devices, arrivals, walk_in or history")
        a_day = float(self.devices + sum(group.devices for group in self.groups))
        if self.walk_in is not None:
            a_day += self.walk_in.rate * (self.walk_in.between[1] - self.walk_in.between[0])
        if not a_day * self.factor <= MOST_CLIENTS:  # nor what is no number
            raise MalformedValueError(
                f"these are more than {MOST_CLIENTS:,} clients a day, as many as IPv4 has addresses"
            )
        return self

    @property
    def factor(self) -> float:
        """How many times as many clients there will be at the end of the horizon."""
        try:
            return float((1 + self.growth) ** self.horizon)
        except OverflowError:
            return math.inf

    @property
    def groups(self) -> tuple[Arrival, ...]:
        """The groups that come together; those of timetables once these have been read."""
        return tuple(each for each in self.arrivals if isinstance(each, Arrival))

    @property
    def timetables(self) -> tuple[Timetable, ...]:
        """The tables of groups that haven't been read."""
        return tuple(each for each in self.arrivals if isinstance(each, Timetable))

    @property
    def names_tables(self) -> bool:
        """Whether part of it is in files."""
        return bool(self.timetables or self.history)

    @property
    def comes_and_goes(self) -> bool:
        """Whether there are clients who leave again."""
        return bool(self.groups or self.walk_in or self._observed)

    @property
    def observed(self) -> History | None:
        """The leases of the past, once they have been read."""
        return self._observed

    def once(self) -> Demand:
        """The same, as if everybody who comes and goes came on one day only."""
        walk_in = self.walk_in
        groups = tuple(_once(group) for group in self.groups)
        changed = {"arrivals": groups, "walk_in": walk_in and _once(walk_in)}
        known = self.model_copy(update=changed)
        known._observed = self._observed
        return known

    def with_tables(
        self, timetables: Mapping[str, Sequence[Arrival]], history: History | None
    ) -> Demand:
        """The same with what is in the files that it names."""
        arrivals = [
            arrival
            for each in self.arrivals
            for arrival in ([each] if isinstance(each, Arrival) else timetables[each.file])
        ]
        known = self.model_copy(update={"arrivals": tuple(arrivals)})
        known._observed = history
        return known
