"""What lifting makes of a device's facts."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from reservoir.core.plan.classes import ClientClass
from reservoir.core.plan.model import Device, Network, Plan
from reservoir.core.values.addresses import Prefix
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.parse.not_understood import NotUnderstood
from reservoir.dialects.parse.reader import Reading


@dataclass(frozen=True)
class Ignored:
    """A line of its configuration that a device refuses, or that has no effect there."""

    line: int
    what: str
    why: str

    def __str__(self) -> str:
        return f"{self.what}: {self.why}"


class Note(NamedTuple):
    """What people should know: a default that was filled in, a switch that is off."""

    about: str
    text: str


@dataclass
class Lifted:
    """A device in the plan's terms."""

    name: str
    device: Device
    networks: dict[str, Network] = field(default_factory=dict)
    classes: dict[str, ClientClass] = field(default_factory=dict)
    notes: list[Note] = field(default_factory=list)
    left_out: list[NotUnderstood] = field(default_factory=list)
    """What was read and has no place in a plan, so that nobody knows what clients make of it."""
    origins: dict[str, Origin] = field(default_factory=dict)
    """The facts that each network was made of."""
    interfaces: Mapping[str, Fact] = field(default_factory=dict)
    """The facts that its interfaces were made of."""
    zones: Mapping[str, Fact] = field(default_factory=dict)
    """The facts that its zones were made of."""
    routes: Sequence[Fact] = ()
    """The facts that its routes were made of, in their order."""
    strays: list[Fact] = field(default_factory=list)
    """Bindings whose address is in no pool's subnet; they are left out."""
    differing: list[tuple[Fact, list[str]]] = field(default_factory=list)
    """Bindings whose clients are offered other values than their network, and which."""
    differing_parts: list[tuple[Fact, list[str]]] = field(default_factory=list)
    """Pools that offer other values than most of those of their network, and which."""
    does_without: Sequence[Ignored] = ()
    """What the device refuses or ignores, where that is left out."""

    def not_understood(self, reading: Reading) -> tuple[NotUnderstood, ...]:
        """What a reading doesn't understand, and what is left out for no such reason; by line."""
        reported = reading.not_understood
        homes = {each.within.place for each in reported if each.within is not None}
        lines = {each.line for each in reported}
        own = [
            each
            for each in self.left_out
            if each.line not in lines
            and not any(first <= each.line <= last for first, last in reading.damaged)
            and (each.within is None or "option" in each.states or each.within.place not in homes)
        ]
        return tuple(sorted([*reported, *own]))

    def plan(self) -> Plan:
        """A plan of this device alone."""
        return Plan(devices={self.name: self.device}, networks=self.networks, classes=self.classes)


@dataclass(frozen=True)
class Origin:
    """The facts that a network was made of."""

    subnet: Prefix
    pools: Sequence[Fact]
    bindings: Sequence[Fact]
    """In the order of the network's bindings."""
    switched_off: SwitchedOff | None = None
    """The switch that keeps the device from serving it, if one is off."""


class SwitchedOff(NamedTuple):
    """A switch that is off, so that a pool isn't served."""

    why: str
    line: int
    column: int
