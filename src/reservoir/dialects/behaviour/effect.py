"""Lifting by effect: what a device does, not what its configuration names and it does without."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace
from operator import is_

from reservoir.dialects.behaviour.lift import lift
from reservoir.dialects.behaviour.lifted import Ignored, Lifted
from reservoir.dialects.behaviour.serving import Place, Serving
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.sheet.model import Sheet


def lift_effect(
    device: Fact, sheet: Sheet, otherwise_called: str = "device", stated: Lifted | None = None
) -> Lifted:
    """Put what a device does into the plan's terms.

    A binding that the device ignores binds nobody, and its address is like any other; a network
    of which it refuses all pools is not served.

    Args:
        device: The facts of its configuration.
        sheet: Its dialect's.
        otherwise_called: The device's name, if the configuration doesn't tell it.
        stated: What the configuration states, lifted, if that is at hand: mostly it is the same.
    """
    serving = Serving(device, sheet)
    apart = unjoined(device, serving)
    passed_over = serving.does_without | {pool.place for pool in apart}
    if not passed_over and stated is not None:
        return stated
    bindings = {place for place in passed_over if place[0] == "binding"}
    lifted = lift(_without(device, bindings) if bindings else device, sheet, otherwise_called)
    for name, origin in lifted.origins.items():
        if all(pool.place in passed_over for pool in origin.pools):
            network = lifted.networks[name]
            lifted.networks[name] = network.model_copy(update={"served_by": ()})
    lines = {line for _, line, _ in passed_over}
    lifted.does_without = [ignored for ignored in serving.ignored if ignored.line in lines]
    lifted.does_without += [
        Ignored(pool.line, pool.label, "it names no interface") for pool in apart
    ]
    return lifted


def unjoined(device: Fact, serving: Serving) -> list[Fact]:
    """The pools that name no interface, though the device has one in their subnet.

    Where a pool serves the interface that it names, its clients there hear nothing.
    """
    if not serving.behaviour.names_interface_in_pools:
        return []
    return [
        pool
        for pool in device.of_kind("pool")
        if pool.get("interface") is None and pool.get("subnet") is not None
        if serving.own_addresses.meets(pool.get("subnet").span)
    ]


def _without(fact: Fact, places: Collection[Place]) -> Fact:
    """A fact without those inside it that stand at some places."""
    kept = [_without(child, places) for child in fact.children if child.place not in places]
    is_same = len(kept) == len(fact.children) and all(map(is_, kept, fact.children))
    return fact if is_same else replace(fact, children=kept)
