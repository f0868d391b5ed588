"""What a dialect has no line for, found before anything is written."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from reservoir.core.findings import Witness
from reservoir.core.plan.hosts import FIRST_IDENTIFIER
from reservoir.core.plan.model import PlanPath
from reservoir.core.plan.offered import OFFERED
from reservoir.core.pools import Pool, Pools
from reservoir.core.values import options as dhcp_options
from reservoir.core.values.addresses import format_address
from reservoir.dialects.behaviour.device import Behaviour
from reservoir.dialects.behaviour.offer import short_fields
from reservoir.dialects.behaviour.pairs import why_not_paired
from reservoir.dialects.facts.kinds import KINDS

_INTERFACE = KINDS["interface"]
_FROM_OTHER_SIDE = {
    field.restates: name for name, field in _INTERFACE.fields.items() if field.restates
}
"""Fields of an interface that others may state from their side."""


_WITHOUT = "leave it out, or let another device serve"


class Inexpressible(NamedTuple):
    """Something in the plan that the device's dialect has no line for."""

    at: PlanPath
    what: str
    nearest: str = _WITHOUT
    """The nearest alternative."""
    witness: Witness | None = None
    """The client that notices, if it shows in what it is offered."""
    because: str = ""
    """Why it has none; empty if its dialect simply hasn't."""


def inexpressible(pools: Pools, device: str, behaviour: Behaviour) -> Iterator[Inexpressible]:
    """What in the plan of a device its dialect has no line for."""
    sheet = behaviour.sheet
    described = pools.plan.devices[device]
    zones_matter = behaviour.zone_must_admit_dhcp
    for name, interface in described.interfaces.items():
        has_room = sheet.mentions("interface", "secondary") or sheet.mentions(
            "interface", "addresses"
        )
        if interface.addresses[1:] and not has_room:
            at = ("devices", device, "interfaces", name, "address", 1)
            yield Inexpressible(at, f"secondary address of {name}", "give it one address")
        for field in _INTERFACE.planned:
            if not getattr(interface, field) or (field == "zone" and not zones_matter):
                continue
            others = _FROM_OTHER_SIDE.get(field, field)
            if not sheet.mentions("interface", field) and not sheet.mentions("interface", others):
                path = ("devices", device, "interfaces", name, field)
                yield Inexpressible(path, f"{field} of {name}")
    if described.routes and "route" not in sheet.homes:
        yield Inexpressible(("devices", device, "routes"), "routes")
    if described.zones and zones_matter and "zone" not in sheet.homes:
        yield Inexpressible(("devices", device, "zones"), "zones")
    for pool in pools.served_by(device):
        yield from _of_pool(pool, pools, behaviour)


def _of_pair(pool: Pool, pools: Pools, behaviour: Behaviour) -> Iterator[Inexpressible]:
    """What the device can't be told of its pair: each would know nothing of the other."""
    serving, why_not = pool.serving, why_not_paired(pool, pools, behaviour)
    if serving is None:
        return
    partner = serving.partner or format_address(serving.partner_at or 0)
    if why_not:
        spans, servers = list(pool.assignable.spans()), (str(pool.server), partner)
        address = spans[0].first if spans else None
        both = Witness("answered-twice", pool.name, address, servers=servers)
        nearest = "give each its own ranges, or let one serve"
        what = f"pair with {partner} in {pool.name}"
        yield Inexpressible(pool.server_path, what, nearest, both, why_not)
    elif serving.after is not None and not behaviour.sheet.mentions("pool", "after"):
        path = (*pool.path, *serving.path[:2], "after") if serving.path else pool.server_path
        what = f"takeover time of its pair in {pool.name}"
        unseen = Witness("not-served", pool.name, value="a takeover time")
        yield Inexpressible(path, what, "leave it out", unseen)


def _of_pool(pool: Pool, pools: Pools, behaviour: Behaviour) -> Iterator[Inexpressible]:
    offer, sheet = pool.offer, behaviour.sheet
    yield from _of_pair(pool, pools, behaviour)
    options = dict(offer.options)
    short_fields("pool", options, sheet)
    if options and not sheet.stands_in("option", "pool"):
        first = dhcp_options.name_of(next(iter(options)))
        unseen = Witness("offered-none", pool.name, option=first)
        yield Inexpressible(pool.path, f"options of {pool.name}", witness=unseen)
    for key, field in OFFERED.items():
        if not offer.values[key] or sheet.mentions("pool", key):
            continue
        if not behaviour.offers_by_option(field):
            unseen = Witness("offered-none", pool.name, option=field.title)
            witness = None if behaviour.fills_in(key) else unseen
            yield Inexpressible(pool.path, f"{field.title} of {pool.name}", witness=witness)
    if not sheet.mentions("binding", "client_id"):
        clients = pools.bindings.client[pool.bindings]
        for row in pool.bindings[clients >= FIRST_IDENTIFIER].tolist():
            label = pools.bindings.label(row)
            path, what = pools.bindings.path(row), f"client identifier of {label}"
            nearest = "bind the client by mac, or let another device serve"
            address, who = int(pools.bindings.address[row]), pools.bindings.who(row)
            unheeded = Witness("binding-ignored", pool.name, address, **who)
            yield Inexpressible(path, what, nearest, unheeded)
