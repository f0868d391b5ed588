"""Names that one part of a plan uses for another: each must exist."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from typing import NamedTuple

from reservoir.core.plan.model import Device, Plan, PlanPath
from reservoir.core.wording import hint


class Dangling(NamedTuple):
    """A name that nothing has."""

    path: PlanPath
    message: str


def dangling_references(plan: Plan, rules: Collection[str]) -> Iterator[Dangling]:
    """Every name in the plan that should be defined elsewhere and isn't, in the plan's order.

    Args:
        plan: The plan.
        rules: The names of all rules, which severities and acceptances refer to.
    """
    for name, device in plan.devices.items():
        yield from _in_device(("devices", name), device)
    for name, network in plan.networks.items():
        for server in network.servers:
            path = ("networks", name, *server.path)
            yield from _missing(path, "device", server.device, plan.devices)
        for kin in network.by_class:
            yield from _missing(("networks", name, "by_class", kin), "class", kin, plan.classes)
        for position, kin in enumerate(network.admits or ()):
            path = ("networks", name, "admits", position)
            yield from _missing(path, "class", kin, plan.classes)
    yield from _owners(plan)
    for rule in plan.checks.severity:
        yield from _missing(("checks", "severity", rule), "rule", rule, rules)
    for position, acceptance in enumerate(plan.accept):
        yield from _missing(("accept", position, "rule"), "rule", acceptance.rule, rules)


def _in_device(path: PlanPath, device: Device) -> Iterator[Dangling]:
    for name, interface in device.interfaces.items():
        at = (*path, "interfaces", name)
        if interface.parent is not None:
            yield from _missing((*at, "parent"), "interface", interface.parent, device.interfaces)
        for position, port in enumerate(interface.members):
            yield from _missing((*at, "members", position), "interface", port, device.interfaces)
        if interface.zone is not None and device.zones:  # else the plan leaves zones out
            yield from _missing((*at, "zone"), "zone", interface.zone, device.zones)


def _owners(plan: Plan) -> Iterator[Dangling]:
    """Owners of static hosts that are neither a device nor another machine of the plan."""
    owned = [
        (("networks", name, "static", position, "owner"), host.owner)
        for name, network in plan.networks.items()
        for position, host in enumerate(network.static)
        if host.owner is not None and host.owner not in plan.devices
    ]
    if not owned:
        return
    networks = plan.networks.values()
    machines = {host.name for network in networks for host in network.static}
    machines |= {client.name for network in networks for client in network.bindings}
    machines |= {*plan.bulk_static.name, *plan.bulk_bindings.name}
    for path, owner in owned:
        if owner not in machines:
            yield from _missing(path, "device or machine", owner, plan.devices)


def _missing(path: PlanPath, kind: str, name: str, known: Collection[str]) -> Iterator[Dangling]:
    if name not in known:
        near = hint(name, known)
        names = ", ".join(list(known)[:8])
        instead = near or (f"; there are {names}" if known else "; the plan has none")
        yield Dangling(path, f"there is no {kind} {name!r}{instead}")
