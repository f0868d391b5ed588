"""Addresses that a plan needs to be somebody's: of the servers and next hops that it names."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any, NamedTuple

from reservoir.core.plan.model import PlanPath
from reservoir.core.plan.offered import OFFERED
from reservoir.core.pools import Pools
from reservoir.core.values.options import servers_in


class AddressInUse(NamedTuple):
    """An address that clients or devices of the plan send requests or packets to."""

    vrf: int
    """The number of the VRF."""
    address: int
    role: str
    path: PlanPath
    """Where the plan names it."""
    is_certainly_another: bool = False
    """Whether whoever has it can't be a client: it is a router or a DHCP server."""


def addresses_in_use(pools: Pools) -> Iterator[AddressInUse]:
    """The servers and next hops that the plan names, once wherever they are named."""
    yield from _servers_named(pools)
    vrf_of = pools.vrf_of  # an address in a VRF without networks is in no pool
    for device_name, device in pools.plan.devices.items():
        for interface_name, interface in device.interfaces.items():
            if interface.vrf in vrf_of:
                what = f"the server that {device_name} {interface_name} relays to"
                at = ("devices", device_name, "interfaces", interface_name, "relay_to")
                for place, address in enumerate(interface.relay_to):
                    yield AddressInUse(vrf_of[interface.vrf], address, what, (*at, place), True)
        for place, route in enumerate(device.routes):
            if "" in vrf_of:
                role = f"the next hop of {device_name} to {route.to}"
                path = ("devices", device_name, "routes", place, "via")
                yield AddressInUse(vrf_of[""], route.via, role, path, True)


def _servers_named(pools: Pools) -> Iterator[AddressInUse]:
    """The servers that clients are offered: all of a network, those of a class, bound ones."""
    vrfs = pools.vrf_numbers.tolist()
    for name, vrf, offer in zip(pools.names, vrfs, pools.offers, strict=True):
        network = pools.plan.networks[name]
        for server, address, key in _servers(offer.values, offer.options):
            is_own = key in network.model_fields_set
            path: PlanPath = ("networks", name, key) if is_own else ("defaults", key)
            yield AddressInUse(vrf, address, f"the {server} of {name}", path)
    for (name, network), vrf in zip(pools.plan.networks.items(), vrfs, strict=True):
        for kin, answers in network.by_class.items():
            values = answers.own_values
            for server, address, key in _servers(values.values, values.options) if values else ():
                path = ("networks", name, "by_class", kin, key)
                yield AddressInUse(vrf, address, f"the {server} of class {kin} in {name}", path)
    for row, own in pools.bindings.own.items():
        for server, address, key in _servers(own.values, own.options):
            vrf = vrfs[int(pools.bindings.network[row])]
            path = (*pools.bindings.path(row), key)
            yield AddressInUse(vrf, address, f"the {server} of {pools.bindings.label(row)}", path)


def _servers(
    values: Mapping[str, Any], options: Mapping[int, bytes]
) -> Iterator[tuple[str, int, str]]:
    """What the servers are called that clients are offered, their addresses, the plan's key."""
    for key, value in values.items():
        for address in OFFERED[key].addresses(value):
            yield OFFERED[key].server, address, key
    for code, data in options.items():
        server, addresses = servers_in(code, data)
        yield from ((server, address, "options") for address in addresses)
