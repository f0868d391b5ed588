"""The pools of a device, wherever its configuration states them, and their subnets."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace

from reservoir.core.values.addresses import Prefix
from reservoir.dialects.facts.by_address import addresses_of
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.sheet.model import Sheet


def pools_of(device: Fact, interfaces: Mapping[str, Fact]) -> Iterator[Fact]:
    """All pools; those in an interface with its name."""
    yield from device.of_kind("pool")
    for name, interface in interfaces.items():
        for pool in interface.of_kind("pool"):
            yield replace(pool, fields={**pool.fields, "interface": name})


def subnet_of(pool: Fact, interfaces: Mapping[str, Fact], sheet: Sheet) -> Prefix | None:
    """A pool's subnet; that of its interface where pools have none of their own."""
    if pool.get("subnet") is not None or sheet.mentions("pool", "subnet"):
        subnet: Prefix | None = pool.get("subnet")
        return subnet
    interface = interfaces.get(pool.get("interface"))
    addresses = addresses_of(interface) if interface else ()
    return addresses[0].subnet if addresses else None
