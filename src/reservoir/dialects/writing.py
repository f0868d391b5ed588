"""Writes a plan's devices, each read back and compared with the plan before anybody has it."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass

from reservoir.core.findings import Obstacle
from reservoir.core.plan.model import option_text
from reservoir.core.pools import Lending, Told
from reservoir.core.values.addresses import format_address
from reservoir.core.values.clients import format_client
from reservoir.core.values.durations import format_duration
from reservoir.dialects.behaviour.lift import lift
from reservoir.dialects.behaviour.lower import Held, lower
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.parse.not_understood import Unread
from reservoir.dialects.parse.reader import read_configuration
from reservoir.dialects.render.present_text import Placed, place_into
from reservoir.dialects.render.writer import Refusal, write_configuration
from reservoir.dialects.sheet.model import Sheet


@dataclass(frozen=True)
class DeviceConfiguration:
    """One device's configuration, and how far it says what the plan wants."""

    device: str
    dialect: str
    text: str
    pools: int
    bindings: int
    refusals: tuple[Refusal, ...]
    """What the dialect has no way to write."""
    obstacles: tuple[Obstacle, ...]
    """What the device does otherwise than planned."""
    differences: tuple[str, ...]
    """What came back differently when the text was read again."""
    renamed: Mapping[str, str]
    placed: Placed | None = None
    """What became of the configuration that it was put into, if it was."""
    unread: tuple[Unread, ...] = ()
    """What in that configuration is about lending and was not understood, and so stays."""

    @property
    def losses(self) -> tuple[Refusal, ...]:
        """Refusals that matter to clients, remarks not counted."""
        return tuple(refusal for refusal in self.refusals if not refusal.is_remark)


def write_device(
    lending: Lending, device: str, sheet: Sheet, existing: str | None = None
) -> DeviceConfiguration:
    """Write one device's configuration and hold it against the plan.

    Args:
        lending: The plan.
        device: The device in it.
        sheet: Its dialect's.
        existing: The configuration that it has, which is to stay but for what is lent.
    """
    lowered = lower(lending, device, sheet)
    written = write_configuration(lowered.device, sheet)
    placed, unread = None, tuple[Unread, ...]()
    if existing is None:
        reading = read_configuration(written.text, sheet)
        differences = [
            f"line {unread.line} can't be read again: {unread.message}" for unread in reading.unread
        ]
        if reading.device != written.expressed:
            differences.append("the facts that are read again are not those that were written")
    else:
        placed = place_into(existing, written.text, sheet)
        before = read_configuration(existing, sheet).unread
        reading = read_configuration(placed.text, sheet)
        still = {_anywhere(there.message) for there in reading.unread}
        unread = tuple(there for there in before if _anywhere(there.message) in still)
        differences = [
            *_unread_since(unread, reading.unread),
            *_otherwise_relayed(written.expressed, reading.device),
        ]
    plan = lift(reading.device, sheet, device).plan()
    differences += _differences(lowered.held, Lending(plan))
    return DeviceConfiguration(
        device=device,
        dialect=sheet.name,
        text=placed.text if placed is not None else written.text,
        pools=len(lowered.held),
        bindings=sum(len(held.bindings) for held in lowered.held.values()),
        refusals=written.refusals,
        obstacles=lowered.obstacles,
        differences=tuple(differences),
        renamed=lowered.renamed,
        placed=placed,
        unread=unread,
    )


def _unread_since(before: Sequence[Unread], after: Sequence[Unread]) -> Iterator[str]:
    """What is not understood now and was not there; lines may have moved."""
    known = Counter(_anywhere(unread.message) for unread in before)
    for unread in after:
        message = _anywhere(unread.message)
        known[message] -= 1
        if known[message] < 0:
            yield f"line {unread.line} can't be read again: {unread.message}"


def _anywhere(message: str) -> str:
    """A message without the lines that it names."""
    return re.sub("line [0-9]+", "line", message)


def _otherwise_relayed(wanted: Fact, found: Fact) -> Iterator[str]:
    """Interfaces whose requests would go elsewhere than they should."""
    relays = {fact.get("name"): fact.get("relay_to", ()) for fact in found.of_kind("interface")}
    for interface in wanted.of_kind("interface"):
        name, to = interface.get("name"), interface.get("relay_to", ())
        if sorted(relays.get(name, ())) != sorted(to):
            yield f"{interface.label} does not hand requests to {_addresses(to)} alone"


def _differences(held: Mapping[str, Held], again: Lending) -> list[str]:
    """Network by network: what the device would do otherwise than the plan says."""
    pools = {pool.name: pool for pool in again.pools}
    found = []
    for name, wanted in held.items():
        pool = pools.pop(name, None)
        if pool is None or pool.server is None:
            found.append(f"{wanted.network}: nothing is lent")
            continue
        more, less = pool.lendable - wanted.lendable, wanted.lendable - pool.lendable
        if more:
            found.append(f"{wanted.network}: {more} would be lent and should not")
        if less:
            found.append(f"{wanted.network}: {less} should be lent and would not")
        bound = frozenset(again.clients_bound(pool))
        for client, address in sorted(bound ^ wanted.bindings, key=lambda pair: pair[1]):
            relation = "is" if (client, address) in bound else "is not"
            found.append(
                f"{wanted.network}: {format_client(client)} {relation} bound to "
                f"{format_address(address)}"
            )
        found += [f"{wanted.network}: {text}" for text in _told_otherwise(wanted.told, pool.told)]
    return found + [f"{name}: the plan has no such pool" for name in pools]


def _addresses(addresses: Sequence[int]) -> str:
    return " ".join(map(format_address, addresses)) or "nobody"


def _told_otherwise(wanted: Told, found: Told) -> list[str]:
    mine, its = _shown(wanted), _shown(found)
    return [
        f"{name} is {its.get(name, 'not told')} and should be {mine.get(name, 'left out')}"
        for name in {**mine, **its}
        if mine.get(name) != its.get(name)
    ]


def _shown(told: Told) -> dict[str, str]:
    shown = {
        "gateway": format_address(told.gateway) if told.gateway is not None else "",
        "dns": " ".join(map(format_address, told.dns)),
        "domain": told.domain or "",
        "lease": format_duration(told.lease) if told.lease else "",
    }
    shown |= {f"option {code}": option_text(code, data) for code, data in told.options.items()}
    return {name: text for name, text in shown.items() if text}
