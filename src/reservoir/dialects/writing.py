"""Writes a plan's devices, each read back and compared with the plan before anybody has it."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from reservoir.core.compare.differences import Difference, Relayed, Served
from reservoir.core.compare.differences import differences as compare
from reservoir.core.findings import Obstacle
from reservoir.core.pools import Pools
from reservoir.dialects.behaviour.device import Behaviour
from reservoir.dialects.behaviour.lift import lift
from reservoir.dialects.behaviour.lower import lower
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.parse.not_understood import NotUnderstood
from reservoir.dialects.parse.reader import read_configuration
from reservoir.dialects.render.present_text import Merged, merge_into
from reservoir.dialects.render.writer import Refusal, write_configuration
from reservoir.dialects.sheet.model import Sheet


@dataclass(frozen=True)
class DeviceConfiguration:
    """One device's configuration, and how far it does what the plan wants."""

    device: str
    dialect: str
    text: str
    pools: int
    bindings: int
    losses: tuple[Refusal, ...]
    """What the dialect has no line for, and clients would notice."""
    remarks: tuple[Refusal, ...]
    """What the dialect has no line for, and changes nothing for clients."""
    obstacles: tuple[Obstacle, ...]
    """What the device does differently than planned."""
    differences: tuple[Difference, ...]
    """What the device would do differently than planned, as the text is read back."""
    misread: tuple[str, ...]
    """What of the text is not read back as it was written."""
    renamed: Mapping[str, str]
    placed: Merged | None = None
    """What became of the configuration that it was put into, if it was."""
    not_understood: tuple[NotUnderstood, ...] = ()
    """What in that configuration is about DHCP and was not understood, and so stays."""

    @property
    def faults(self) -> list[str]:
        """Why the text must not be used: it reads back otherwise than it should."""
        return [*self.misread, *(_described(difference) for difference in self.differences)]


def _described(difference: Difference) -> str:
    network = getattr(difference, "network", None)
    return f"{network}: {difference}" if network else str(difference)


def write_device(
    pools: Pools, device: str, sheet: Sheet, existing: str | None = None
) -> DeviceConfiguration:
    """Write one device's configuration, read it back and compare it with the plan.

    Args:
        pools: The plan's pools.
        device: The device in it.
        sheet: Its dialect's.
        existing: Its present configuration, of which all stays that isn't about DHCP.
    """
    behaviour, lowered = Behaviour(sheet), lower(pools, device, sheet)
    written = write_configuration(lowered.device, sheet)
    placed, unread = None, tuple[NotUnderstood, ...]()
    differences: list[Difference] = []
    if existing is None:
        reading = read_configuration(written.text, sheet)
        misread = list(_not_understood_since((), reading.not_understood))
        if reading.device != written.expressed:
            misread.append("the facts that are read back are not those that were written")
    else:
        placed = merge_into(existing, written.text, sheet)
        before = placed.before.not_understood
        is_changed = placed.text != existing
        reading = read_configuration(placed.text, sheet) if is_changed else placed.before
        still = {_anywhere(there.message) for there in reading.not_understood}
        unread = tuple(there for there in before if _anywhere(there.message) in still)
        misread = list(_not_understood_since(unread, reading.not_understood))
        differences += _relayed_elsewhere(written.expressed, reading.device)
    again = Pools(lift(reading.device, sheet, device).plan())
    found = {pool.name: Served.of(pool, again) for pool in again if pool.server is not None}
    differences += compare(lowered.served, found)
    return DeviceConfiguration(
        device=device,
        dialect=sheet.name,
        text=placed.text if placed is not None else written.text,
        pools=len(lowered.served),
        bindings=sum(len(served.bindings) for served in lowered.served.values()),
        losses=tuple(r for r in written.refusals if not behaviour.ignores(r.fact.kind, r.field)),
        remarks=tuple(r for r in written.refusals if behaviour.ignores(r.fact.kind, r.field)),
        obstacles=lowered.obstacles,
        differences=tuple(differences),
        misread=tuple(misread),
        renamed=lowered.renamed,
        placed=placed,
        not_understood=unread,
    )


def _not_understood_since(
    before: Sequence[NotUnderstood], after: Sequence[NotUnderstood]
) -> Iterator[str]:
    """What is not understood now and was not there; lines may have moved."""
    known = Counter(_anywhere(unread.message) for unread in before)
    for unread in after:
        message = _anywhere(unread.message)
        known[message] -= 1
        if known[message] < 0:
            yield f"line {unread.line} is not understood when read back: {unread.message}"


def _anywhere(message: str) -> str:
    """A message without the lines that it names."""
    return re.sub("line [0-9]+", "line", message)


def _relayed_elsewhere(wanted: Fact, found: Fact) -> Iterator[Relayed]:
    """Interfaces that would relay to other servers than they should."""
    relays = {fact.get("name"): fact.get("relay_to", ()) for fact in found.of_kind("interface")}
    for interface in wanted.of_kind("interface"):
        name, to = interface.get("name"), interface.get("relay_to", ())
        if sorted(relays.get(name, ())) != sorted(to):
            yield Relayed(interface.label, to, relays.get(name, ()))
