"""The JSON of `leases`: how full pools are, and what contradicts the plan."""

from __future__ import annotations

from typing_extensions import TypedDict

from reservoir.reports.frame import Frame, described


@described
class UsageObject(TypedDict):
    """How full a pool is."""

    network: str
    server: str | None
    assignable: int
    taken: int
    free: int
    share: float
    bound: int
    expiring: int
    """Leases that expire within the hour."""


@described
class ContradictionObject(TypedDict):
    """A lease that contradicts the plan."""

    rule: str
    severity: str
    message: str
    file: str
    line: int
    network: str | None
    client: str
    name: str
    address: str


@described
class LeasesSummary(TypedDict):
    """Counts of leases and of contradictions."""

    leases: int
    expired: int
    errors: int
    warnings: int


@described
class Output(Frame):
    """What ``reservoir leases --format json`` prints."""

    notes: list[str]
    """How the leases were read: columns that were ignored, addresses that were left out."""
    networks: list[UsageObject]
    findings: list[ContradictionObject]
    summary: LeasesSummary
