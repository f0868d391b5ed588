"""The JSON of `compare`: what differs."""

from __future__ import annotations

from typing import NotRequired

from typing_extensions import TypedDict

from reservoir.reports.frame import Frame, described


@described
class ChangeObject(TypedDict):
    """One difference."""

    what: str
    old: str | None
    new: str | None
    notice: str
    """What clients notice: ``none``, ``at-renewal``, ``new-address``, ``cut-off``, ``conflict`` or
    ``only-new-clients``."""
    because: str


@described
class SideObject(TypedDict):
    """A network on one side of a comparison."""

    name: str
    subnet: str
    servers: list[str]
    assignable: int
    bindings: int


@described
class NetworkObject(TypedDict):
    """What differs in one network."""

    network: str
    old: SideObject | None
    new: SideObject | None
    changes: list[ChangeObject]


@described
class DeviceCompared(TypedDict):
    """What differs at one device."""

    device: str
    changes: list[ChangeObject]


@described
class ClientCompared(TypedDict):
    """What the holder of one lease notices."""

    client: str
    name: str
    network: str | None
    address: str
    notice: str | None
    """As of changes; None where it isn't known."""
    at: str | None
    """When at the latest."""
    because: str


@described
class CompareSummary(TypedDict):
    """Counts of networks, and with leases of clients by what they notice."""

    networks: int
    differing: int
    lines_not_understood: int
    clients: NotRequired[dict[str, int]]


@described
class Output(Frame):
    """What ``reservoir compare --format json`` prints."""

    networks: list[NetworkObject]
    devices: list[DeviceCompared]
    left_out: list[str]
    """Networks that one side only names, and that were not compared."""
    left_aside: list[str]
    """What devices can't do of what the plan wants of them, or ignore of their configuration."""
    summary: CompareSummary
    clients: list[ClientCompared] | None
    """With ``--leases``."""
