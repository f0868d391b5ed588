"""Which of a device's files it uses, where several are for one interface."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace

from reservoir.dialects.behaviour.device import Behaviour
from reservoir.dialects.facts.fact import Fact


def passed_over(device: Fact, behaviour: Behaviour) -> list[Fact]:
    """The interfaces of files that the device doesn't use: another before is for the same one."""
    if not behaviour.sheet.notation.files:
        return []
    names: set[object] = set()
    found: list[Fact] = []
    for fact in device.of_kind("interface"):
        if fact.get("name") in names:
            found.append(fact)
        names.add(fact.get("name", id(fact)))
    return found


def without(device: Fact, unwanted: Collection[Fact]) -> Fact:
    """A device's facts without some that are directly in it; the same facts if there are none."""
    if not unwanted:
        return device
    gone = {id(fact) for fact in unwanted}
    return replace(device, children=[fact for fact in device.children if id(fact) not in gone])
