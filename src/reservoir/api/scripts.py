"""Change scripts from Python: the statements that lead each device from old to new."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator

from reservoir.api.comparisons import sides_of
from reservoir.api.plans import pools_of, sheets_of
from reservoir.core.compare.comparing import changed_pairs
from reservoir.core.compare.sides import NetworkSide
from reservoir.core.pools import Pools
from reservoir.core.subject import Subject
from reservoir.dialects.running.subject import ReadSubject
from reservoir.dialects.scripting.ordering import UnsafeError
from reservoir.dialects.scripting.script import DeviceScript, device_script
from reservoir.dialects.sheet.model import Sheet
from reservoir.dialects.writing import DeviceConfiguration, write_device


def scripts(old: Subject, new: Subject) -> list[DeviceScript]:
    """The scripts of the devices whose configuration changes.

    Args:
        old: What the devices run; a plan for what they would if it was written.
        new: What they are to run. A plan's networks are all that a device serves then.

    Raises:
        UnsafeError: a device can't do what it should, or has no safe script.
        InputError: a device's dialect is unknown, or its sheet has mistakes.
    """
    made, kept_back = scripts_apart(old, new)
    for device, why in kept_back.items():
        raise UnsafeError(f"{device}: {why}")
    return made


def scripts_apart(old: Subject, new: Subject) -> tuple[list[DeviceScript], dict[str, str]]:
    """The scripts of the devices that can be changed; why the others of those that change can't.

    A device that changes a network together with one that can't be changed can't be, either.

    Args:
        old: What the devices run; a plan for what they would if it was written.
        new: What they are to run. A plan's networks are all that a device serves then.

    Raises:
        InputError: a device's dialect is unknown, or its sheet has mistakes.
    """
    made: list[DeviceScript] = []
    kept_back = _in_stages(old, new)
    was_read = isinstance(old, ReadSubject)
    for name, sheet, before in device_texts(old):
        if name in kept_back:
            continue
        try:
            for after in _after(new, name, sheet, before if was_read else None):
                if after != before:
                    made.append(device_script(name, sheet, before, after))
        except UnsafeError as error:
            kept_back[name] = str(error)
    if made and kept_back:
        kept_back |= _depending(old, new, [each.device for each in made], kept_back)
    return [each for each in made if each.device not in kept_back], kept_back


def pairs_that_change(old: Subject, new: Subject) -> Iterator[tuple[NetworkSide, NetworkSide]]:
    """The networks, before and after, that a pair serves with other addresses, or on one side."""
    if not (_has_pairs(old) or _has_pairs(new)):
        return  # both sides are costly to build
    sides = sides_of(old, new)
    for before, after in changed_pairs(sides.old, sides.new):
        if before is None or after is None:
            continue
        if any(side.pairs or side.half_known for side in (before, after)) and (
            before.servers != after.servers or before.assignable != after.assignable
        ):
            yield before, after


def _has_pairs(subject: Subject) -> bool:
    """Whether any server is one of a pair."""
    networks = subject.plan.networks.values()
    return any(s.pair or s.partner is not None for net in networks for s in net.served_by)


def _in_stages(old: Subject, new: Subject) -> dict[str, str]:
    """The devices whose pairs change, each with why one script can't lead there."""
    return {
        device: (
            f"{after.name} goes from {before.servers} to {after.servers}, which takes several "
            "stages: else each would go on alone until the other has changed"
        )
        for before, after in pairs_that_change(old, new)
        for device in sorted({*before.paired_devices, *after.paired_devices})
    }


def _depending(
    old: Subject, new: Subject, devices: Iterable[str], kept_back: Iterable[str]
) -> dict[str, str]:
    """The devices that change a network together with one that is kept back, each with why."""
    sides = sides_of(old, new)
    changing = [
        (there.name, sides.old.devices_of(before) | sides.new.devices_of(after))
        for before, after in changed_pairs(sides.old, sides.new)
        for there in [after or before]
        if there is not None
    ]
    waiting, found, lost = list(devices), dict[str, str](), list(kept_back)
    while lost:
        other = lost.pop()
        for name, together in changing:
            for device in [d for d in waiting if other in together and d in together]:
                waiting.remove(device)
                found[device] = f"{other}, which has no script, changes {name} with it"
                lost.append(device)
    return found


def unscripted(old: Subject, new: Subject, told: Collection[str] = ()) -> Iterator[str]:
    """What changes and has no script, in sentences: devices without a dialect, new ones, old ones.

    Args:
        old: What the devices run.
        new: What they are to run.
        told: Devices that have a script, or of which a stage tells.
    """
    was = {name: device.dialect for name, device in old.plan.devices.items()}
    for name, device in new.plan.devices.items():
        if name in told:
            continue
        if name not in was:
            if not isinstance(old, ReadSubject):
                yield f"{name} is new: `reservoir write` gives its configuration"
        elif device.dialect != was[name]:
            yield f"{name} has another dialect: `reservoir write` gives its configuration"
        elif device.dialect is None and device != old.plan.devices[name]:
            yield f"{name} has no dialect: change its interfaces, zones and routes by hand"
    if not isinstance(new, ReadSubject):
        for name in was:
            if name not in new.plan.devices and name not in told:
                yield f"{name} is not on the new side: it goes on doing what it does"


def device_texts(subject: Subject) -> Iterator[tuple[str, Sheet, str]]:
    """The name, the sheet and the configuration of each device: as read, or as written."""
    if isinstance(subject, ReadSubject):
        for read in subject.reads:
            yield read.lifted.name, read.sheet, read.text
        return
    pools = pools_of(subject)
    for name, sheet in sheets_of(subject).items():
        yield name, sheet, write_device(pools, name, sheet).text


def _after(new: Subject, name: str, sheet: Sheet, present: str | None) -> Iterator[str]:
    """The text that a device is to have; none if the new side doesn't know the device.

    What else is in its present configuration, if that was read, stays.
    """
    if isinstance(new, ReadSubject):
        yield from (r.text for r in new.reads if r.lifted.name == name and r.sheet is sheet)
    elif name in new.plan.devices and new.plan.devices[name].dialect == sheet.name:
        pools: Pools = pools_of(new)
        yield required_text(write_device(pools, name, sheet, present, remove_others=True))


def required_text(written: DeviceConfiguration) -> str:
    """The text of a device's configuration.

    Raises:
        UnsafeError: the device can't do what it should.
    """
    losses = [f"{each.what} can't be written: {each.reason}" for each in written.losses]
    missing = list(written.placed.missing) if written.placed is not None else []
    wrong = [*losses, *missing, *written.faults]
    if wrong:
        raise UnsafeError(wrong[0])
    return written.text
