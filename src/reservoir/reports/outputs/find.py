"""The JSON of `find`: what each thing is that was asked, where, and what is known of it."""

from __future__ import annotations

from typing_extensions import TypedDict

from reservoir.reports.frame import Frame, described


@described
class ThingObject(TypedDict):
    """Something that the plan says of what was asked."""

    role: str
    what: str
    network: str | None
    address: str | None
    at: str
    """The plan path."""
    file: str
    line: int
    column: int


@described
class ServerObject(TypedDict):
    """Who serves a network that it is in."""

    network: str
    server: str
    way: str
    """How the server hears the clients there."""


@described
class LeaseObject(TypedDict):
    """A lease of it."""

    client: str
    name: str
    address: str
    server: str
    expires: str | None
    """None if the list doesn't tell, or it doesn't end."""
    file: str
    line: int


@described
class AboutObject(TypedDict):
    """A finding about it."""

    rule: str
    severity: str
    message: str
    file: str
    line: int
    column: int


@described
class AnswerObject(TypedDict):
    """What is known of a thing that was asked."""

    asked: str
    kind: str
    """``address``, ``addresses``, ``client``, ``tag`` or ``name``."""
    known: bool
    things: list[ThingObject]
    servers: list[ServerObject]
    leases: list[LeaseObject]
    findings: list[AboutObject]
    nearest: str | None
    """The nearest network of an address that is in none."""
    free: str | None
    """The stretch around an address that has nothing of the plan."""


@described
class FindSummary(TypedDict):
    """Counts of what was asked."""

    asked: int
    known: int


@described
class Output(Frame):
    """What ``reservoir find --format json`` prints."""

    answers: list[AnswerObject]
    summary: FindSummary
