"""What of a plan's device a dialect has no line for, so that a check can say it before a write."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from reservoir.core.plan.hosts import FIRST_IDENTIFIER
from reservoir.core.plan.model import PlanPath
from reservoir.core.pools import Lending, Pool
from reservoir.dialects.sheet.model import Sheet

_SAID_BY_OTHERS = {"parent": "carries", "bridge": "joins"}
"""Fields of an interface that other interfaces may say: its parent, its members."""

_INTERFACE_FIELDS = ("address", "parent", "vlan", "bridge", "zone", "vrf", "relay_to")


_WITHOUT = "leave it out, or let another device serve"


class Unsayable(NamedTuple):
    """Something in the plan that the device's dialect has no line for."""

    at: PlanPath
    what: str
    nearest: str = _WITHOUT
    """The nearest that the device can have."""


def unsayable(lending: Lending, device: str, sheet: Sheet) -> Iterator[Unsayable]:
    """What in the plan of a device its dialect has no line for."""
    described = lending.plan.devices[device]
    zones_matter = sheet.trait("zone") != "open"
    for name, interface in described.interfaces.items():
        for field in _INTERFACE_FIELDS:
            if not getattr(interface, field) or (field == "zone" and not zones_matter):
                continue
            others = _SAID_BY_OTHERS.get(field, field)
            if not sheet.mentions("interface", field) and not sheet.mentions("interface", others):
                path = ("devices", device, "interfaces", name, field)
                yield Unsayable(path, f"{field} of {name}")
    if described.routes and "route" not in sheet.homes:
        yield Unsayable(("devices", device, "routes"), "routes")
    if described.zones and zones_matter and "zone" not in sheet.homes:
        yield Unsayable(("devices", device, "zones"), "zones")
    for pool in lending.pools_served_by(device):
        yield from _of_pool(pool, lending, sheet)


def _of_pool(pool: Pool, lending: Lending, sheet: Sheet) -> Iterator[Unsayable]:
    told = pool.told
    if told.options and "option" not in sheet.homes:
        yield Unsayable(pool.path, f"options of {pool.name}")
    if told.domain and "option" not in sheet.homes and not sheet.mentions("pool", "domain"):
        yield Unsayable(pool.path, f"domain of {pool.name}")
    for field in ("gateway", "dns", "lease"):
        if getattr(told, field) and not sheet.mentions("pool", field):
            yield Unsayable(pool.path, f"{field} of {pool.name}")
    if not sheet.mentions("binding", "client_id"):
        clients = lending.bindings.client[pool.bindings]
        for row in pool.bindings[clients >= FIRST_IDENTIFIER].tolist():
            label = lending.bindings.label(row)
            path, what = lending.bindings.path(row), f"client identifier of {label}"
            yield Unsayable(path, what, "bind the client by its mac, or let another device serve")
