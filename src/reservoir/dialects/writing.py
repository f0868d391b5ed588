"""Writes a plan's devices, each read back and compared with the plan before anybody has it."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

from reservoir.core.compare.differences import Difference, Relayed, Served
from reservoir.core.compare.differences import differences as compare
from reservoir.core.compare.pairing import as_planned
from reservoir.core.findings import Obstacle, Witness
from reservoir.core.plan.model import Network
from reservoir.core.pools import Pools
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.clients import Client
from reservoir.dialects.behaviour.device import Behaviour
from reservoir.dialects.behaviour.effect import lift_effect
from reservoir.dialects.behaviour.fit import NOT_EXPRESSIBLE, fit_device
from reservoir.dialects.behaviour.lift import lift
from reservoir.dialects.behaviour.lifted import Lifted
from reservoir.dialects.behaviour.lower import Lowered, lower, lower_specimens
from reservoir.dialects.facts.by_address import addresses_of
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.facts.whereabouts import Whereabouts
from reservoir.dialects.parse.not_understood import NotUnderstood
from reservoir.dialects.parse.reader import read_configuration
from reservoir.dialects.render.present_text import Merged, Planned, PresentText, merge_into
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
    def undone(self) -> list[str]:
        """What of the plan the device can't do, so that the text does without it."""
        return [o.message for o in self.obstacles if o.rule in (NOT_EXPRESSIBLE, "too-many")]

    @property
    def faults(self) -> list[str]:
        """Why the text must not be used: it reads back otherwise than it should."""
        return [*self.misread, *(_described(difference) for difference in self.differences)]


def _leave_switched(device: Fact, present: Fact) -> None:
    """Leave the service of a device as it is, which goes on serving what it serves besides."""
    was = present.get("service")
    if was is None:
        device.fields.pop("service", None)
    else:
        device.fields["service"] = was


def _described(difference: Difference) -> str:
    network = getattr(difference, "network", None)
    return f"{network}: {difference}" if network else str(difference)


def write_device(
    pools: Pools,
    device: str,
    sheet: Sheet,
    existing: str | None = None,
    remove_others: bool = False,
) -> DeviceConfiguration:
    """Write one device's configuration, read it back and compare it with the plan.

    Args:
        pools: The plan's pools.
        device: The device in it.
        sheet: Its dialect's.
        existing: Its present configuration, of which all stays that isn't about the networks that
            it serves in the plan.
        remove_others: Whether no other networks may be served.
    """
    present = PresentText.of(existing, sheet) if existing is not None else None
    there = lift(present.reading.device, sheet, device) if present is not None else None
    planned = _planned(pools, device, there, alone=existing is None or remove_others)
    taken = _names_that_stay(present, planned) if present is not None else ()
    lowered = lower(pools, device, sheet, taken)
    if present is not None and not remove_others and not lowered.pools:
        _leave_switched(lowered.device, present.reading.device)
    written = write_configuration(lowered.device, sheet)
    placed, before = None, tuple[NotUnderstood, ...]()
    if present is None:
        text, reading = written.text, read_configuration(written.text, sheet)
    else:
        assert there is not None
        before = there.not_understood(present.reading)
        odd = (each for each in before if not each.states.isdisjoint(("option", "binding")))
        present.leave({(each.line, each.column) for each in odd})
        effect = lift_effect(present.reading.device, sheet, device, there)
        wanted = lift(written.expressed, sheet, device)
        settled = _settled(
            lowered.served, pools.plan.networks, wanted, there, _found(effect, planned)
        )
        planned = replace(planned, settled=settled)
        placed = merge_into(present, written.text, planned, sheet)
        text = placed.text
        reading = read_configuration(text, sheet) if text != existing else present.reading
    lifted = lift(reading.device, sheet, device)
    after = lifted.not_understood(reading)
    still = {anywhere(there.message) for there in after}
    unread = tuple(there for there in before if anywhere(there.message) in still)
    misread = list(_not_understood_since(unread, after))
    if existing is None and reading.device != written.expressed:
        misread.append("the facts that are read back are not those that were written")
    differences = [
        *_relayed_elsewhere(written.expressed, reading.device, planned),
        *compare(lowered.served, _found(lifted, planned)),
    ]
    losses, remarks = _losses_and_remarks(written.refusals, Behaviour(sheet))
    return DeviceConfiguration(
        device=device,
        dialect=sheet.name,
        text=text,
        pools=len(lowered.served),
        bindings=sum(len(served.bindings) for served in lowered.served.values()),
        losses=losses,
        remarks=remarks,
        obstacles=lowered.obstacles,
        differences=tuple(differences),
        misread=tuple(misread),
        renamed=lowered.renamed,
        placed=placed,
        not_understood=unread,
    )


def obstacles_to(
    pools: Pools,
    sheets: Mapping[str, Sheet],
    *,
    written: Mapping[str, DeviceConfiguration] | None = None,
    by_writing: bool = True,
) -> Iterator[Obstacle]:
    """What the plan's devices can't do, and what can't be written for them.

    Args:
        pools: The plan's pools.
        sheets: The sheet of each device by name.
        written: Configuration of devices that was written of these pools already.
        by_writing: Whether it is tried what can be written, which takes twice the time. Of bindings
            that is tried with a few; only if one of them can't be written, with all.
    """
    for device, sheet in sheets.items():
        done = (written or {}).get(device)
        if done is not None:
            yield from done.obstacles
            yield from _not_written(pools, device, done.obstacles, done.losses)
        elif by_writing:
            lowered = lower_specimens(pools, device, sheet)
            losses, remarks = _not_said(lowered, sheet)
            if any(each.fact.kind == "binding" for each in (*losses, *remarks)):
                losses, _ = _not_said(lower(pools, device, sheet), sheet)
            yield from lowered.obstacles
            yield from _not_written(pools, device, lowered.obstacles, losses)
        else:
            yield from fit_device(pools, device, sheet).obstacles


def pools_not_written(pools: Pools, device: str, sheet: Sheet) -> Iterator[tuple[str, str]]:
    """The networks whose whole pool can't be written for a device, each with the reason."""
    losses, _ = _not_said(lower_specimens(pools, device, sheet), sheet)
    for refusal in losses:
        origin = refusal.fact.origin or ("",)
        if refusal.fact.kind == "pool" and not refusal.field and origin[0] == "networks":
            yield str(origin[1]), f"{device} can't be given {refusal.what}: {refusal.reason}"


def _not_said(lowered: Lowered, sheet: Sheet) -> tuple[tuple[Refusal, ...], tuple[Refusal, ...]]:
    """What of a device's facts can't be written: losses and remarks."""
    refusals = write_configuration(lowered.device, sheet).refusals
    return _losses_and_remarks(refusals, Behaviour(sheet))


def _losses_and_remarks(
    refusals: Iterable[Refusal], behaviour: Behaviour
) -> tuple[tuple[Refusal, ...], tuple[Refusal, ...]]:
    """What could not be written, apart: what clients would notice, and what nobody does."""
    losses, remarks = list[Refusal](), list[Refusal]()
    for refusal in refusals:
        is_remark = behaviour.ignores(refusal.fact.kind, refusal.field)
        (remarks if is_remark else losses).append(refusal)
    return tuple(losses), tuple(remarks)


def _not_written(
    pools: Pools, device: str, obstacles: Iterable[Obstacle], losses: Iterable[Refusal]
) -> Iterator[Obstacle]:
    """An obstacle for each loss that no other obstacle tells of."""
    known = {
        each.at[:length]
        for each in obstacles
        if each.rule == NOT_EXPRESSIBLE
        for length in range(len(each.at) + 1)
    }
    served = [pool.name for pool in pools.served_by(device)]
    for refusal in losses:
        path = refusal.fact.origin or ("devices", device)
        if path in known:
            continue
        network = str(path[1]) if path[0] == "networks" else next(iter(served), None)
        witness = Witness("not-served", network, value=refusal.what) if network else None
        message = f"{device} can't be given {refusal.what}: {refusal.reason}"
        yield Obstacle(NOT_EXPRESSIBLE, message, path, witness)


def _planned(pools: Pools, device: str, there: Lifted | None, *, alone: bool) -> Planned:
    """What a device's configuration, as it is there, may be changed for."""
    served = AddressSet(pool.network.subnet.span for pool in pools if pool.server == device)
    known = AddressSet(network.subnet.span for network in pools.networks)
    left = AddressSet()
    if there is not None:
        running = Pools(there.plan())
        same = as_planned(pools, running)
        left = AddressSet(running.plan.networks[name].subnet.span for name in same) - known
    return Planned(served | left, known | left, left, alone=alone)


def _settled(
    wanted: Mapping[str, Served],
    networks: Mapping[str, Network],
    expressed: Lifted,
    there: Lifted,
    found: Mapping[str, Served],
) -> AddressSet:
    """The subnets of the networks that a device serves just as planned, and calls so, already.

    However it says it: what it leaves to a default, or states in another form, stays as it is.
    """
    odd = {fact.place for fact, _ in there.differing_parts}
    spans = []
    for name, served in wanted.items():
        if name not in found or name not in there.networks or name not in expressed.networks:
            continue
        origin = there.origins[name]
        if not odd.isdisjoint(fact.place for fact in (*origin.pools, *origin.bindings)):
            continue
        is_called_so = _names(there.networks[name]) == _names(expressed.networks[name])
        is_called_so &= _reasons(there.networks[name]) == _reasons(networks[served.network])
        if is_called_so and not any(compare({name: served}, {name: found[name]})):
            spans.append(served.subnet.span)
    return AddressSet(spans)


def _names(network: Network) -> set[tuple[Client, int, str]]:
    return {(binding.client, binding.address, binding.name) for binding in network.bindings}


def _reasons(network: Network) -> set[str]:
    return {exclusion.reason for exclusion in network.exclusions} - {""}


def _names_that_stay(present: PresentText, planned: Planned) -> Iterator[str]:
    """The names of pools and bindings that the device has for other networks."""
    device = present.reading.device
    whereabouts = Whereabouts(device)
    for fact in device.walk() if not planned.alone else ():
        if fact.kind in ("pool", "binding") and "name" in fact.fields:
            span = whereabouts.of(fact)
            if span is None or not planned.served.meets(span):
                yield fact.get("name")


def _found(lifted: Lifted, planned: Planned) -> dict[str, Served]:
    """What a device does, as far as the plan has to do with it."""
    again = Pools(lifted.plan())
    return {
        pool.name: Served.of(pool, again)
        for pool in again
        if pool.server is not None
        and (planned.alone or planned.served.meets(pool.network.subnet.span))
    }


def _not_understood_since(
    before: Sequence[NotUnderstood], after: Sequence[NotUnderstood]
) -> Iterator[str]:
    """What is not understood now and was not there; lines may have moved."""
    known = Counter(anywhere(unread.message) for unread in before)
    for unread in after:
        message = anywhere(unread.message)
        known[message] -= 1
        if known[message] < 0:
            yield f"line {unread.line} is not understood when read back: {unread.message}"


def anywhere(message: str) -> str:
    """A message without the lines that it names."""
    return re.sub("line [0-9]+", "line", message)


def _relayed_elsewhere(wanted: Fact, found: Fact, planned: Planned) -> Iterator[Relayed]:
    """Interfaces that would relay to other servers than they should."""
    relays = {fact.get("name"): fact.get("relay_to", ()) for fact in found.of_kind("interface")}
    for interface in wanted.of_kind("interface"):
        name, to = interface.get("name"), interface.get("relay_to", ())
        its = addresses_of(interface)
        if not to and not any(prefix.address in planned.known for prefix in its):
            continue
        if sorted(relays.get(name, ())) != sorted(to):
            yield Relayed(interface.label, to, relays.get(name, ()))
