"""Merges what was read of several devices into one plan.

Two devices that serve one subnet become one network with two servers, each with its own ranges,
unless each names the other as its partner: then they are a pair.
A network's VLAN may be known to another device than its server: to the relay on the trunk.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

from reservoir.core.pairing import PairEnd, Pairing, why_out_of_step
from reservoir.core.plan.classes import ClientClass
from reservoir.core.plan.model import Binding, Device, Network, Plan, Service, Zone
from reservoir.core.plan.offered import DEFAULTS, OFFERED
from reservoir.core.plan.offering import Defaults
from reservoir.core.plan.own_values import OwnValues
from reservoir.core.topology import Topology
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import Prefix, Span
from reservoir.dialects.behaviour.lifted import Lifted


def merged_plan(devices: Sequence[Lifted]) -> Plan:
    """One plan of several devices.

    Networks of one subnet are merged if their clients are offered the same; otherwise they stay
    apart, for the checks to report. Networks that only share a name get their device's name too.
    """
    described = {lifted.name: lifted.device for lifted in devices}
    networks: dict[str, Network] = {}
    by_subnet: dict[tuple[str, Prefix], str] = {}
    classes: dict[str, ClientClass] = {}
    for lifted in devices:
        names = {kin: _called(kin, there, classes) for kin, there in lifted.classes.items()}
        for name, own in lifted.networks.items():
            network = _with_class_names(own, names)
            key = (network.vrf, network.subnet)
            same = by_subnet.get(key)
            if same is not None and _offer_alike(networks[same], network):
                pair = _pair(networks[same], network, described)
                networks[same] = _merged(networks[same], network, pair)
                continue
            free = name if name not in networks else f"{name}-{lifted.name}"
            networks[free] = network
            by_subnet.setdefault(key, free)
    plan = Plan(devices=described, networks=networks, classes=classes)
    defaults, topology = _common(list(networks.values())), Topology(plan)
    finished = {
        name: _shortened(_with_vlan(network, plan, topology), defaults)
        for name, network in networks.items()
    }
    return replace(plan, defaults=Defaults(**defaults), networks=finished)


def _called(name: str, there: ClientClass, classes: dict[str, ClientClass]) -> str:
    """What a class of a device is called beside those of others, which it is added to."""
    same = (known for known, other in classes.items() if other.words == there.words)
    free, number = next(same, name), 2
    while free in classes and classes[free].words != there.words:
        free, number = f"{name}-{number}", number + 1
    classes.setdefault(free, there)
    return free


def _with_class_names(network: Network, names: Mapping[str, str]) -> Network:
    if not network.tells_apart:
        return network
    by_class = {names[name]: given for name, given in network.by_class.items()}
    changed: dict[str, object] = {"by_class": by_class}
    if network.admits is not None:
        changed["admits"] = tuple(names[name] for name in network.admits)
    return network.model_copy(update=changed)


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
    same = all(getattr(one, key) == getattr(other, key) for key in (*OFFERED, "options", "admits"))
    return same and _by_class(one) == _by_class(other)


def _by_class(network: Network) -> list[tuple[str, OwnValues | None]]:
    """What members of classes are offered, but for their ranges."""
    return [(name, given.own_values) for name, given in network.by_class.items()]


def _pair(one: Network, other: Network, devices: Mapping[str, Device]) -> Service | None:
    """The pair that the servers of both are, each of which names the other; None if they aren't."""
    services = one.served_by + other.served_by
    if len(services) != 2 or not all(service.device for service in services):
        return None
    first, second = (
        _end(service, network, devices)
        for service, network in zip(services, (one, other), strict=True)
    )
    if first.pairing is None or why_out_of_step(first, second):
        return None
    names = (first.name, second.name)
    return Service(pair=names if first.pairing.leads else names[::-1], after=first.pairing.after)


def _end(service: Service, network: Network, devices: Mapping[str, Device]) -> PairEnd:
    """What is known of a server and its pair from its own configuration."""
    name, partner = service.devices[0], service.partner
    leads = service.leads is not False
    pairing = Pairing(partner, leads, service.after) if partner is not None else None
    interfaces = devices[name].interfaces.values()
    held = AddressSet.of_addresses([p.address for i in interfaces for p in i.addresses])
    return PairEnd(name, pairing, held, AddressSet(own_ranges(network)))


def _merged(one: Network, other: Network, pair: Service | None) -> Network:
    """Both servers with their own ranges, less what each of them excludes; or as a pair."""
    bindings: dict[tuple[object, int], Binding] = {}
    for binding in (*one.bindings, *other.bindings):
        bindings.setdefault((binding.client, binding.address), binding)
    if pair is not None:
        update = {"served_by": (pair,), "bindings": tuple(bindings.values())}
        return one.model_copy(update=update)
    return one.model_copy(
        update={
            "served_by": (*_with_ranges(one), *_with_ranges(other)),
            "ranges": (),
            "exclusions": (),
            "bindings": tuple(bindings.values()),
            "by_class": {
                name: given.model_copy(update={"ranges": _all_ranges(one, other, name)})
                for name, given in one.by_class.items()
            },
        }
    )


def _all_ranges(one: Network, other: Network, name: str) -> tuple[Span, ...]:
    """The ranges that a class has of its own at either server."""
    both = (*one.by_class[name].ranges, *other.by_class[name].ranges)
    return tuple(AddressSet(both).spans())


def _with_ranges(network: Network) -> list[Service]:
    if any(service.ranges is not None for service in network.served_by):
        return list(network.served_by)
    ranges = own_ranges(network)
    return [service.model_copy(update={"ranges": ranges}) for service in network.served_by]


def own_ranges(network: Network) -> tuple[Span, ...]:
    """The ranges of a network that was read, less what it excludes."""
    assert network.ranges != "all"  # what is read of a device has ranges
    excluded = AddressSet(exclusion.range for exclusion in network.exclusions)
    of_classes = [span for given in network.by_class.values() for span in given.ranges]
    return tuple((AddressSet((*network.ranges, *of_classes)) - excluded).spans())


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
