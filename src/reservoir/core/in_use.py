"""Addresses that a plan needs to be somebody's: of the servers and next hops that it names."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from reservoir.core.plan.offered import OFFERED
from reservoir.core.pools import Pools
from reservoir.core.values.options import servers_in


class AddressInUse(NamedTuple):
    """An address that clients or devices of the plan send requests or packets to."""

    vrf: int
    """The number of the VRF."""
    address: int
    role: str
    is_certainly_another: bool = False
    """Whether whoever has it can't be a client: it is a router or a DHCP server."""


def addresses_in_use(pools: Pools) -> Iterator[AddressInUse]:
    """The servers and next hops that the plan names, once wherever they are named."""
    for name, vrf, offer in zip(pools.names, pools.vrf_numbers.tolist(), pools.offers, strict=True):
        for key, field in OFFERED.items():
            for address in field.addresses(offer.values[key]):
                yield AddressInUse(vrf, address, f"the {field.server} of {name}")
        for code, data in offer.options.items():
            server, addresses = servers_in(code, data)
            for address in addresses:
                yield AddressInUse(vrf, address, f"the {server} of {name}")
    vrf_of = pools.vrf_of  # an address in a VRF without networks is in no pool
    for device_name, device in pools.plan.devices.items():
        for interface_name, interface in device.interfaces.items():
            if interface.vrf in vrf_of:
                what = f"the server that {device_name} {interface_name} relays to"
                for address in interface.relay_to:
                    yield AddressInUse(vrf_of[interface.vrf], address, what, True)
        for route in device.routes:
            if "" in vrf_of:
                role = f"the next hop of {device_name} to {route.to}"
                yield AddressInUse(vrf_of[""], route.via, role, True)
