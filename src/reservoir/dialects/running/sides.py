"""Makes the sides of a comparison: of plans, and of what devices run.

Where one side is a plan and the other what some devices run, the plan is taken as those devices
would have it: written in their dialects and read back. What other devices do counts as planned on
both sides, so that nothing is claimed of them.
"""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import replace
from typing import NamedTuple

from reservoir.core.behaviour import DeviceBehaviour
from reservoir.core.compare.sides import Side, SidePart
from reservoir.core.plan.model import Plan
from reservoir.core.pools import Pools
from reservoir.dialects.behaviour.device import Behaviour
from reservoir.dialects.behaviour.effect import lift_effect
from reservoir.dialects.behaviour.fit import fit_device
from reservoir.dialects.behaviour.lifted import Lifted
from reservoir.dialects.parse.reader import read_configuration
from reservoir.dialects.reading import ConfigurationRead
from reservoir.dialects.running.devices import merged_plan
from reservoir.dialects.sheet.model import Sheet
from reservoir.dialects.writing import DeviceConfiguration, pools_not_written, write_device


class Sides(NamedTuple):
    """What is compared."""

    old: Side
    new: Side
    devices: Collection[str] | None
    """The devices that are compared; all if None."""
    left_aside: tuple[str, ...] = ()
    """What the plan wants of them that they can't do, and what they ignore of what they have."""


def sides_of_plans(old: Pools, new: Pools, sheets: Sequence[Mapping[str, Sheet]]) -> Sides:
    """Two plans, with the sheets of each one's devices."""
    (before, unfit), (after, unfit_now) = (
        _planned(pools, of) for pools, of in zip((old, new), sheets, strict=True)
    )
    return Sides(before, after, None, tuple(dict.fromkeys([*unfit, *unfit_now])))


def _planned(pools: Pools, sheets: Mapping[str, Sheet]) -> tuple[Side, list[str]]:
    """A plan without the networks that a device can't serve as planned, and why it can't."""
    unfit: set[tuple[str, str]] = set()
    reasons: list[str] = []
    for device, sheet in sheets.items():
        fitted = fit_device(pools, device, sheet)
        served = {each.pool.name for each in fitted.pools}
        missing = {pool.name for pool in pools.served_by(device)} - served
        unfit.update((device, name) for name in missing)
        reasons += [o.message for o in fitted.obstacles if o.network in missing]
        # Where all fits, all can be written, and it need not be tried.
        for name, why in pools_not_written(pools, device, sheet) if fitted.obstacles else ():
            unfit.add((device, name))
            reasons.append(why)
    part = SidePart(pools, pools.plan.devices, unfit)
    return Side([part], pools.plan, _behaviours(sheets), is_complete=True), reasons


def sides_of_configurations(
    old: Sequence[ConfigurationRead], new: Sequence[ConfigurationRead]
) -> Sides:
    """What devices run, before and after."""
    ignored = dict.fromkeys(_ignored([*old, *new]))
    return Sides(_of_configurations(old), _of_configurations(new), None, tuple(ignored))


def _of_configurations(reads: Sequence[ConfigurationRead]) -> Side:
    plan = merged_plan([read.effect for read in reads])
    behaviours = _behaviours({read.lifted.name: read.sheet for read in reads})
    return Side([_part(read.effect) for read in reads], plan, behaviours, is_complete=False)


def _ignored(reads: Iterable[ConfigurationRead]) -> Iterator[str]:
    """What devices refuse or ignore of their configuration."""
    for read in reads:
        for ignored in read.effect.does_without:
            yield f"{read.place(ignored.line, 1)}: {read.lifted.name} ignores {ignored}"


def sides_with_plan(
    planned: Pools,
    sheets: Mapping[str, Sheet],
    reads: Sequence[ConfigurationRead],
    *,
    plan_is_old: bool,
) -> Sides:
    """A plan, and what some of its devices run; devices that it doesn't have are added."""
    by_name = {read.lifted.name: read for read in reads}
    configured = {
        name: write_device(planned, name, read.sheet)
        for name, read in by_name.items()
        if name in planned.plan.devices
    }
    written = [
        lift_effect(read_configuration(c.text, sheet).device, sheet, name)
        for name, c in configured.items()
        for sheet in [by_name[name].sheet]
    ]
    cannot = (said for name, c in configured.items() for said in _cannot_do(name, c))
    left_aside = dict.fromkeys([*cannot, *_ignored(reads)])
    behaviours = _behaviours({**sheets, **{name: read.sheet for name, read in by_name.items()}})
    present = [read.effect for read in by_name.values()]
    sides = [
        _beside(planned, written, by_name, behaviours),
        _beside(_as_tagged(planned, present), present, by_name, behaviours),
    ]
    old, new = sides if plan_is_old else reversed(sides)
    return Sides(old, new, by_name, tuple(left_aside))


def _cannot_do(name: str, written: DeviceConfiguration) -> Iterator[str]:
    """What a device can't be given, or wouldn't do as it is planned."""
    for loss in written.losses:
        yield f"{name} can't be given {loss.what}: {loss.reason}"
    yield from written.undone


def _beside(
    planned: Pools,
    devices: Iterable[Lifted],
    replaced: Collection[str],
    behaviours: Mapping[str, DeviceBehaviour],
) -> Side:
    """A plan with some of its devices as they are configured."""
    own = {lifted.name: lifted.device for lifted in devices}
    plan: Plan = replace(planned.plan, devices={**planned.plan.devices, **own})
    others = [name for name in planned.plan.devices if name not in replaced]
    parts = [SidePart(planned, others), *map(_part, devices)]
    return Side(parts, plan, behaviours, is_complete=True)


def _as_tagged(planned: Pools, devices: Iterable[Lifted]) -> Pools:
    """What is planned, with the VLAN in each network that devices run there.

    The VLAN that a network is to have needn't be the one that it has: the devices are taken to be
    heard in what they are tagged for.
    """
    tags: dict[str, set[int]] = {}
    for lifted in devices:
        for interface in lifted.device.interfaces.values():
            if interface.vlan is None:
                continue
            for held in interface.addresses:
                for name in planned.topology.networks_at(held.address, interface.vrf):
                    tags.setdefault(name, set()).add(interface.vlan)
    networks = planned.plan.networks
    others = {
        name: networks[name].model_copy(update={"vlan": min(found)})
        for name, found in tags.items()
        if len(found) == 1 and networks[name].vlan not in (None, *found)
    }
    if not others:
        return planned
    return Pools(replace(planned.plan, networks={**networks, **others}))


def _part(lifted: Lifted) -> SidePart:
    return SidePart(Pools(lifted.plan()), {lifted.name})


def _behaviours(sheets: Mapping[str, Sheet]) -> dict[str, DeviceBehaviour]:
    return {name: Behaviour(sheet) for name, sheet in sheets.items()}
