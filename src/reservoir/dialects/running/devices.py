"""Merges what was read of several devices into one plan.

Two devices that serve one subnet become one network with two servers, each with its own ranges.
A network's VLAN may be known to another device than its server: to the relay on the trunk.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

from reservoir.core.plan.model import Binding, Network, Plan, Service, Zone
from reservoir.core.plan.offered import DEFAULTS, OFFERED
from reservoir.core.plan.offering import Defaults
from reservoir.core.topology import Topology
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import Prefix, Span
from reservoir.dialects.behaviour.lifted import Lifted


def merged_plan(devices: Sequence[Lifted]) -> Plan:
    """One plan of several devices.

    Networks of one subnet are merged if their clients are offered the same; otherwise they stay
    apart, for the checks to report. Networks that only share a name get their device's name too.
    """
    networks: dict[str, Network] = {}
    by_subnet: dict[tuple[str, Prefix], str] = {}
    for lifted in devices:
        for name, network in lifted.networks.items():
            key = (network.vrf, network.subnet)
            same = by_subnet.get(key)
            if same is not None and _offer_alike(networks[same], network):
                networks[same] = _merged(networks[same], network)
                continue
            free = name if name not in networks else f"{name}-{lifted.name}"
            networks[free] = network
            by_subnet.setdefault(key, free)
    plan = Plan(devices={lifted.name: lifted.device for lifted in devices}, networks=networks)
    defaults, topology = _common(list(networks.values())), Topology(plan)
    finished = {
        name: _shortened(_with_vlan(network, plan, topology), defaults)
        for name, network in networks.items()
    }
    return Plan(defaults=Defaults(**defaults), devices=plan.devices, networks=finished)


def with_named_zones(plan: Plan) -> Plan:
    """The same, with every zone that an interface is in among its device's, if it lists any."""
    devices = {}
    for name, device in plan.devices.items():
        named = {i.zone for i in device.interfaces.values() if i.zone is not None}
        missing = {zone: Zone() for zone in sorted(named - device.zones.keys())}
        zones = {**device.zones, **missing} if device.zones else {}
        devices[name] = device.model_copy(update={"zones": zones})
    return replace(plan, devices=devices)


def _offer_alike(one: Network, other: Network) -> bool:
    return all(getattr(one, key) == getattr(other, key) for key in (*OFFERED, "options"))


def _merged(one: Network, other: Network) -> Network:
    """Both servers with their own ranges, less what each of them excludes."""
    bindings: dict[tuple[object, int], Binding] = {}
    for binding in (*one.bindings, *other.bindings):
        bindings.setdefault((binding.client, binding.address), binding)
    return one.model_copy(
        update={
            "served_by": (*_with_ranges(one), *_with_ranges(other)),
            "ranges": (),
            "exclusions": (),
            "bindings": tuple(bindings.values()),
        }
    )


def _with_ranges(network: Network) -> list[Service]:
    if any(service.ranges is not None for service in network.served_by):
        return list(network.served_by)
    ranges = own_ranges(network)
    return [service.model_copy(update={"ranges": ranges}) for service in network.served_by]


def own_ranges(network: Network) -> tuple[Span, ...]:
    """The ranges of a network that was read, less what it excludes."""
    assert network.ranges != "all"  # what is read of a device has ranges
    excluded = AddressSet(exclusion.range for exclusion in network.exclusions)
    return tuple((AddressSet(network.ranges) - excluded).spans())


def _with_vlan(network: Network, plan: Plan, topology: Topology) -> Network:
    """The network with the tag of whatever interface is in it, if all agree."""
    interfaces = (
        plan.devices[attachment.device].interfaces[attachment.interface]
        for attachment in topology.attachments(network)
    )
    tags = {interface.vlan for interface in interfaces if interface.vlan is not None}
    if network.vlan is not None or len(tags) != 1:
        return network
    return network.model_copy(update={"vlan": tags.pop()})


def _common(networks: Sequence[Network]) -> dict[str, Any]:
    """What all of several networks offer alike."""
    if len(networks) < 2:
        return {}
    values = {key: {getattr(network, key) for network in networks} for key in DEFAULTS}
    return {key: found.pop() for key, found in values.items() if len(found) == 1 and all(found)}


def _shortened(network: Network, defaults: Mapping[str, Any]) -> Network:
    """The network without what the defaults say, and without empty values."""
    dropped = [key for key in DEFAULTS if key in defaults or not getattr(network, key)]
    return network.model_copy(update=dict.fromkeys(dropped))
