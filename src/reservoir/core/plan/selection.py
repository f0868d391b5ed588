"""A plan with some of its networks only."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import replace

from reservoir.core.plan.model import Interface, Plan


def only_networks(plan: Plan, names: Collection[str]) -> Plan:
    """The plan with some of its networks only; other interfaces relay nothing in it."""
    networks = {name: network for name, network in plan.networks.items() if name in names}
    places = [place for place, name in enumerate(plan.networks) if name in names]
    subnets = [(network.vrf, network.subnet.span) for network in networks.values()]

    def without_relay(interface: Interface) -> Interface:
        is_in = any(
            interface.vrf == vrf and span.holds(prefix.address)
            for vrf, span in subnets
            for prefix in interface.addresses
        )
        return interface if is_in else interface.model_copy(update={"relay_to": ()})

    devices = {
        name: device.model_copy(
            update={"interfaces": {n: without_relay(i) for n, i in device.interfaces.items()}}
        )
        for name, device in plan.devices.items()
    }
    return replace(
        plan,
        networks=networks,
        devices=devices,
        bulk_bindings=plan.bulk_bindings.of_networks(places),
        bulk_static=plan.bulk_static.of_networks(places),
    )
