"""The JSON of `verify`: what real servers answered, beside what was planned."""

from __future__ import annotations

from typing_extensions import TypedDict

from reservoir.reports.frame import Frame, LeftOut, described
from reservoir.reports.outputs.rehearse import NetworkRehearsed


@described
class ServerSeenObject(TypedDict):
    """A server that made offers in a network."""

    address: str
    """By which clients know it."""
    mac: str | None
    """Where its first offer came from: its own hardware address, or its relay's; None as relay."""
    macs: list[str]
    device: str | None
    """The plan's device with that address."""
    planned: bool | None
    """None if the plan doesn't say what address a server has."""
    offers: int


@described
class NetworkVerified(TypedDict):
    """What was planned for a network, and what was seen there."""

    network: str
    planned: NetworkRehearsed | None
    """What the same clients get in the rehearsal."""
    not_planned: str | None
    """Why it wasn't rehearsed."""
    seen: NetworkRehearsed
    servers: list[ServerSeenObject]


@described
class NotAsked(TypedDict):
    """A client that was not asked as."""

    network: str
    client: str
    because: str


@described
class VerifySummary(TypedDict):
    """Counts of networks, clients and messages."""

    networks: int
    failed: int
    """Networks that differ from the plan."""
    clients: int
    answered: int
    sent: int


@described
class Output(Frame):
    """What ``reservoir verify --format json`` prints."""

    at: str
    """When it was asked, in ISO 8601."""
    files_digest: str
    """SHA-256 of the inputs, by which `report` sees that they have changed since."""
    on: str
    """The interface, or this machine's address, that was asked from."""
    taken: bool
    """Whether addresses were taken, used and given back."""
    networks: list[NetworkVerified]
    not_asked: list[NotAsked]
    left_out: list[LeftOut]
    summary: VerifySummary
