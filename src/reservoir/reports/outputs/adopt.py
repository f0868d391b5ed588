"""The JSON of `adopt`: leases that become bindings."""

from __future__ import annotations

from typing_extensions import TypedDict

from reservoir.reports.frame import Frame, described


@described
class AdoptedObject(TypedDict):
    """A lease that becomes a binding."""

    network: str
    name: str
    client: str
    address: str
    present: str
    """The address that the client has now."""
    changes_at: str | None
    """When it has changed to the other at the latest."""
    hostname: str | None
    """The host name that the client is offered, if its server can."""


@described
class NotAdopted(TypedDict):
    """A lease that is left out."""

    client: str
    name: str
    address: str
    file: str
    line: int
    because: str


@described
class AdoptSummary(TypedDict):
    """Counts of leases."""

    leases: int
    bindings: int
    left_out: int


@described
class Output(Frame):
    """What ``reservoir adopt --format json`` prints."""

    bindings: list[AdoptedObject]
    left_out: list[NotAdopted]
    summary: AdoptSummary
