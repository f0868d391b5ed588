"""The JSON of `rehearse`: what clients got."""

from __future__ import annotations

from typing_extensions import TypedDict

from reservoir.reports.frame import Frame, LeftOut, described


@described
class FailureObject(TypedDict):
    """What a client failed at."""

    reason: str
    rule: str | None
    """The rule of ``check`` whose finding tells of it."""
    suspect: str | None
    """The rule of the gravest finding there, where none tells of it."""
    accepted: str | None
    at_message: int | None
    """The frame of the rehearsal."""
    client: str
    address: str | None


@described
class ClassRehearsed(TypedDict):
    """What the members of a class got in a network."""

    name: str
    clients: int
    served: int
    span: str | None
    """The lowest and the highest address given."""


@described
class NetworkRehearsed(TypedDict):
    """What the clients of a network got."""

    network: str
    server: str | None
    relay: str | None
    clients: int
    served: int
    refused: int
    span: str | None
    """The lowest and the highest address given."""
    gateway: str | None
    gateway_answers: bool | None
    dns: list[str]
    dns_answers: bool | None
    assumed: list[str]
    """What the plan doesn't state, and what was served rests on."""
    lease: int | None
    renewed: bool | None
    bindings: int
    bindings_right: int
    filled: int | None
    """Clients with an address once the pool was full; None where it wasn't filled."""
    classes: list[ClassRehearsed]
    """Those whose members came."""
    failure: FailureObject | None
    """The first."""
    failures: list[FailureObject]
    accepted: list[FailureObject]


@described
class DayRehearsed(TypedDict):
    """A virtual day of a network."""

    network: str
    came: int
    refused: int
    peak: int
    peak_at: str
    expected: int
    """Addresses in use on average at the busiest moment, as ``size`` has it."""
    renewals_per_second: float
    """In the busiest minute."""
    expected_renewals: float
    """The same as ``size`` has it."""
    addresses: int
    taken: list[int]
    """Addresses in use through the day, at even intervals."""


@described
class NetworkOutage(TypedDict):
    """What the clients of a network noticed while something was off."""

    network: str
    seconds: int
    """For how long they were watched: until every lease that was not renewed had ended."""
    clients: int
    """Those that had an address when it happened."""
    kept: int
    lost: int
    first_lost: int | None
    """After how many seconds the first lease ended; None if none did."""
    without: int
    """Those without an address then."""
    back: int
    """Those with one again after that."""
    newcomer_served: bool
    newcomer: str
    """What a client got that came meanwhile, and from whom; or why it got nothing."""


@described
class OutageObject(TypedDict):
    """What came of something failing."""

    without: list[str]
    seconds: int
    networks: list[NetworkOutage]
    apart: list[list[str]]
    """The pairs of servers that went on alone, both on, since they didn't reach each other."""
    left_out: list[LeftOut]


@described
class IgnoredObject(TypedDict):
    """A line that a device refuses or ignores."""

    device: str
    line: int
    what: str
    because: str


@described
class RehearseSummary(TypedDict):
    """Counts of networks and clients."""

    networks: int
    failed: int
    clients: int
    served: int
    assumed: int
    """Networks where what was served rests on what the plan doesn't state."""
    exchanges: int


@described
class Output(Frame):
    """What ``reservoir rehearse --format json`` prints."""

    networks: list[NetworkRehearsed]
    days: list[DayRehearsed]
    outage: OutageObject | None
    left_out: list[LeftOut]
    ignored: list[IgnoredObject]
    summary: RehearseSummary
