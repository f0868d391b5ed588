"""The JSON of `map`: the address space."""

from __future__ import annotations

from typing_extensions import TypedDict

from reservoir.reports.frame import Frame, described


@described
class AddressCounts(TypedDict):
    """How many addresses there are of each kind."""

    conflicting: int
    bound: int
    static: int
    assignable: int
    excluded: int
    free: int


@described
class NetworkMapped(TypedDict):
    """A network's addresses by what they are for, each kind as spans."""

    network: str
    subnet: str
    vrf: str
    vlan: int | None
    conflicting: list[str]
    bound: list[str]
    static: list[str]
    """All that some machine has set by itself."""
    assignable: list[str]
    excluded: list[str]
    free: list[str]
    counts: AddressCounts


@described
class MapSummary(TypedDict):
    """Counts of networks, and of addresses that two would have."""

    networks: int
    conflicting: int


@described
class Output(Frame):
    """What ``reservoir map --format json`` prints."""

    blocks: list[str]
    networks: list[NetworkMapped]
    free: list[str] | None
    """With ``--free``: free subnets."""
    free_vlans: list[list[int]] | None
    """With ``--free-vlans``: first and last tag of each free stretch."""
    summary: MapSummary
