"""What an edit to a plan means for the lines of the devices that the plan was read from."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from difflib import SequenceMatcher

from reservoir.core.plan.edits import Edit, NotApplicableError, with_edit
from reservoir.core.plan.model import Device, Plan
from reservoir.core.pools import Pools
from reservoir.core.subject import LineChange
from reservoir.core.values.addresses import Prefix
from reservoir.dialects.behaviour.lower import lower
from reservoir.dialects.reading import ConfigurationRead
from reservoir.dialects.render.writer import write_configuration
from reservoir.dialects.sheet.model import Sheet

MOST_LINES = 8
"""An edit that changes more lines than that is shown in the plan's terms."""


def changed_lines(
    plan: Plan, edit: Edit, reads: Mapping[str, ConfigurationRead]
) -> list[LineChange]:
    """The lines that an edit to a plan changes on its devices, as their dialects write them.

    Args:
        plan: A plan that was read from devices.
        edit: What is to be changed in it.
        reads: What was read of them, by their names.

    Returns:
        The lines; none if the edit can't be told so: in few lines, the old ones word for word
        those that are there.
    """
    if edit.path[0] not in ("networks", "devices"):
        return []
    before = _part(plan, edit)
    try:
        after = with_edit(before, edit)
    except NotApplicableError:
        return []
    result: list[LineChange] = []
    for device in before.devices:
        read = reads[device]
        lines = (_written(part, device, read.sheet) for part in (before, after))
        changes = list(_changes(*lines))
        present = set(_lines(read.text))
        if not all(change.is_new or change.text in present for change in changes):
            return []
        result += changes
    return result if len(result) <= MOST_LINES else []


def _part(plan: Plan, edit: Edit) -> Plan:
    """The part of the plan that the edit is about: a network with its interfaces, or a device."""
    kind, about = edit.path[:2]
    if kind != "networks":
        return replace(plan, networks={}, devices={str(about): plan.devices[str(about)]})
    network = plan.networks[str(about)]
    devices = {
        server.device: _in_subnet(plan.devices[server.device], network.subnet)
        for server in network.servers
    }
    return replace(plan, networks={str(about): network}, devices=devices)


def _in_subnet(device: Device, subnet: Prefix) -> Device:
    """The device with those of its interfaces in a subnet."""
    interfaces = {
        name: interface
        for name, interface in device.interfaces.items()
        if any(subnet.span.holds(prefix.address) for prefix in interface.addresses)
    }
    return device.model_copy(update={"interfaces": interfaces, "kept": {}})


def _written(plan: Plan, device: str, sheet: Sheet) -> list[str]:
    return _lines(write_configuration(lower(Pools(plan), device, sheet).device, sheet).text)


def _lines(text: str) -> list[str]:
    """The lines without their layout: blanks around them, a comma between them and the next."""
    return [line.strip().removesuffix(",") for line in text.splitlines()]


def _changes(old: list[str], new: list[str]) -> Iterator[LineChange]:
    for kind, i, j, k, m in SequenceMatcher(None, old, new, autojunk=False).get_opcodes():
        if kind != "equal":
            yield from (LineChange(line, is_new=False) for line in old[i:j] if line)
            yield from (LineChange(line, is_new=True) for line in new[k:m] if line)
