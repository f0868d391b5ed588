"""The JSON of `size`: the sizes of networks."""

from __future__ import annotations

from typing import NotRequired

from typing_extensions import TypedDict

from reservoir.reports.frame import Frame, LeftOut, described


@described
class LeaseTimeObject(TypedDict):
    """What a lease time would need."""

    lease: int
    smallest_range: int
    with_headroom: int


@described
class DayObject(TypedDict):
    """The peak of a day in the past."""

    day: int
    """Days since 1970-01-01."""
    peak: int


@described
class ObservedObject(TypedDict):
    """What a history of leases shows."""

    peak: int
    peak_at: float
    """Seconds since 1970."""
    trend_per_day: float
    """Addresses more each day."""
    days: list[DayObject]


@described
class SizeFields(TypedDict):
    """What is known of a size."""

    peak: int
    """Addresses in use at once at most."""
    peak_at: str | None
    peak_on: str | None
    """The day, where it is of one on which some come alone."""
    risk: float | None
    """The chance that on a day somebody is refused."""
    accepted_risk: float
    refused_per_day: float | None
    smallest_range: int
    with_headroom: int
    headroom: float
    lease: int
    longest_lease: int | None
    """The longest lease time in common use that fits."""
    prefix: int | None
    """The length of the smallest subnet that fits; None where none does."""
    renewals_per_second: float
    outage_survived: int
    """Seconds for which the server may fail before a client loses its address."""
    lease_times: NotRequired[list[LeaseTimeObject]]
    observed: NotRequired[ObservedObject]


@described
class NetworkSized(SizeFields):
    """A network's size; of a demand in no plan, one without a name."""

    network: str | None
    of_class: str | None
    """The class whose members are expected; None for all others."""
    assignable: int | None
    bound: int
    shared: int
    """Addresses of other networks on its LAN that its clients get too."""
    kept_for: list[int] | None
    """Seconds, least and most, for which a client keeps its address whose server is down."""
    lost: list[str]
    """The servers that are down, or not reached."""


@described
class SizeSummary(TypedDict):
    """Counts of networks."""

    networks: int
    too_small: int


@described
class Output(Frame):
    """What ``reservoir size --format json`` prints."""

    networks: list[NetworkSized]
    left_out: list[LeftOut]
    without: list[str]
    """The devices that are down."""
    summary: SizeSummary
