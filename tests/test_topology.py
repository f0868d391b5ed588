"""Who stands where and who hears whom, against walking over every interface."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from met import meets, met
from reservoir.core.hearing import drops_dhcp
from reservoir.core.plan.demand import Demand
from reservoir.core.plan.model import Device, Interface, Network, Plan, Route, Service, Zone
from reservoir.core.topology import Topology
from reservoir.core.values.addresses import Prefix, Span
from reservoir.dialects.behaviour.device import Behaviour
from reservoir.dialects.sheet.library import Library

BASE = 0x0A540000
"""10.84.0.0: all that is drawn lies in the 64 addresses from there on."""

vrfs = st.sampled_from(["", "guests"])
addresses = st.sampled_from([BASE + 5, BASE + 20, BASE + 37]) | st.integers(BASE, BASE + 63)
prefixes = st.builds(Prefix, addresses, st.integers(26, 31))
interfaces = st.builds(
    Interface,
    addresses=st.lists(prefixes, max_size=2).map(tuple),
    vrf=vrfs,
    enabled=st.integers(0, 9).map(bool),
    relay_to=st.lists(addresses, max_size=2).map(tuple),
)
devices = st.dictionaries(st.sampled_from("abc"), st.lists(interfaces, max_size=4), min_size=1)


@st.composite
def plans(draw: st.DrawFn) -> Plan:
    """A few devices and networks in two VRFs, crowded together."""
    made = {
        name: Device(
            interfaces={f"port{number}": its for number, its in enumerate(ports)},
            routes=draw(st.lists(st.builds(Route, to=prefixes, via=addresses), max_size=2)),
        )
        for name, ports in draw(devices).items()
    }
    networks = st.builds(
        Network,
        subnet=prefixes.map(lambda prefix: prefix.subnet),
        vrf=vrfs,
        served_by=st.sampled_from(sorted(made)).map(lambda name: (Service(device=name),)),
    )
    drawn = draw(st.lists(networks, max_size=5))
    return Plan(devices=made, networks={f"n{number}": its for number, its in enumerate(drawn)})


def ports(plan: Plan) -> list[tuple[str, str, Interface, Prefix]]:
    """Every address of every interface: the device, the name, the interface, the address."""
    return [
        (device, name, interface, address)
        for device, its in plan.devices.items()
        for name, interface in its.interfaces.items()
        for address in interface.addresses
    ]


@meets("a secondary address")
@given(plans())
def test_interfaces_stand_where_their_addresses_are(plan: Plan) -> None:
    """In the networks of their VRF whose subnet has the address; whoever holds it is found."""
    topology = Topology(plan)
    for name, network in plan.networks.items():
        here = {
            (device, port)
            for device, port, interface, address in ports(plan)
            if interface.vrf == network.vrf and network.subnet.span.holds(address.address)
        }
        found = topology.attachments(network)
        for there in found:
            addresses = plan.devices[there.device].interfaces[there.interface].addresses
            place = there.position or 0
            listed = (place,) if len(addresses) > 1 else ()
            assert there.address_path == (*there.path, "address", *listed)
            assert addresses[place] == there.prefix
            if addresses.count(there.prefix) == 1:
                assert there.is_secondary == (there.prefix != addresses[0])
            met("a secondary address", there.is_secondary)
        assert {(there.device, there.interface) for there in found} == here
        assert [there.address for there in found] == sorted(there.address for there in found)
        touching = {server.device for server in network.servers} | {d for d, _ in here}
        assert set(topology.devices_touching(name)) == touching
    for address in range(BASE, BASE + 64):
        holders = {
            (device, port) for device, port, _, held in ports(plan) if held.address == address
        }
        assert {(h.device, h.interface) for h in topology.holders(address)} == holders
        for vrf in ("", "guests"):
            at = [n for n, its in plan.networks.items() if its.vrf == vrf]
            at = [n for n in at if plan.networks[n].subnet.span.holds(address)]
            assert sorted(topology.networks_at(address, vrf)) == sorted(at)


@meets("beside", "by a relay", "not at all")
@given(plans())
def test_a_server_hears_whom_it_stands_beside_or_whom_a_relay_hands_on(plan: Plan) -> None:
    """By its own interface first; else by one that relays to any of its addresses."""
    topology = Topology(plan)
    for network in plan.networks.values():
        server = network.servers[0].device
        own = {held.address for device, _, _, held in ports(plan) if device == server}
        here = [
            (device, interface)
            for device, _, interface, address in ports(plan)
            if interface.vrf == network.vrf and network.subnet.span.holds(address.address)
        ]
        reach = topology.reach(server, network)
        if any(device == server for device, _ in here):
            met("beside")
            assert reach is not None
            assert reach.through.device == server
        elif any(own.intersection(interface.relay_to) for _, interface in here):
            met("by a relay")
            assert reach is not None
            assert own.intersection(topology.interface(reach.through).relay_to)
        else:
            met("not at all")
            assert reach is None


@meets("a way", "none")
@given(plans(), addresses)
def test_a_device_knows_the_way_where_an_interface_or_a_route_leads(
    plan: Plan, address: int
) -> None:
    """Whatever VRF it is in."""
    for name, device in plan.devices.items():
        spans = [held.span for i in device.interfaces.values() for held in i.addresses]
        spans += [route.to.span for route in device.routes]
        met("a way" if any(s.holds(address) for s in spans) else "none")
        assert Topology(plan).knows_way(name, address) == any(s.holds(address) for s in spans)


@meets("none", "one of several")
@given(plans())
def test_an_interface_has_one_home(plan: Plan) -> None:
    """A network that holds its address: of several one with its mask, or else a smallest."""
    topology = Topology(plan)
    for attachment in topology.addressed:
        vrf = topology.interface(attachment).vrf
        there = {
            name: network.subnet
            for name, network in plan.networks.items()
            if network.vrf == vrf and network.subnet.span.holds(attachment.address)
        }
        home = topology.home_of(attachment)
        assert sorted(topology.networks_of(attachment)) == sorted(there)
        masks = {subnet.bits for subnet in there.values()}
        met("none", home is None)
        met("one of several", len(there) > 1)
        if home is None:
            assert not there
        else:
            assert there[home].bits == (attachment.bits if attachment.bits in masks else max(masks))


@meets("several", "none")
@given(plans(), addresses)
def test_subnets_around_an_address_are_those_of_other_devices(plan: Plan, address: int) -> None:
    """Each once, whoever of them stands there."""
    topology = Topology(plan)
    for device in plan.devices:
        around = {
            held.subnet
            for other, _, _, held in ports(plan)
            if held.span.holds(address)
            if other != device
        }
        found = topology.subnets_around(address, but=device)
        met("several", len(around) > 1)
        met("none", not around)
        assert sorted(found) == sorted(around)


CREW, DEPOT = Prefix(BASE, 28), Interface(addresses=(Prefix(BASE + 17, 28),))
WITH_RANGES: dict[str, Any] = {"ranges": (Span(BASE + 4, BASE + 9),)}


@pytest.mark.parametrize(
    ("its", "network", "others", "meant"),
    [
        ({}, WITH_RANGES, {}, ["pier"]),
        ({}, {"demand": Demand(devices=3)}, {}, ["pier"]),
        ({}, {}, {}, []),  # nobody is there to be served
        ({"relay_to": (BASE + 17,)}, WITH_RANGES, {"depot": DEPOT}, []),
        ({"relay_to": (BASE + 60,)}, WITH_RANGES, {}, []),
        ({}, WITH_RANGES, {"depot": Interface(addresses=(Prefix(BASE + 2, 28),))}, []),
    ],
)
def test_the_only_device_of_a_network_is_meant_to_serve_it(
    its: dict[str, Any], network: dict[str, Any], others: dict[str, Interface], meant: list[str]
) -> None:
    """Unless it relays to another, or another stands there too."""
    deck = Interface(addresses=(Prefix(BASE + 1, 28),), **its)
    devices = {"pier": Device(interfaces={"deck": deck})}
    devices |= {name: Device(interfaces={"lan": port}) for name, port in others.items()}
    plan = Plan(devices=devices, networks={"crew": Network(subnet=CREW, **network)})
    assert [server.device for server in Topology(plan).servers("crew")] == meant


OPEN, CLOSED = Zone(admits=("dhcp", "ping")), Zone(admits=("ping",))


@pytest.mark.parametrize(
    ("zones", "zone", "dialect", "drops"),
    [
        ({"staff": OPEN}, "staff", "merganser", False),
        ({"staff": CLOSED}, "staff", "merganser", True),
        ({"staff": OPEN}, None, "merganser", True),
        ({"staff": OPEN}, "guests", "merganser", True),
        ({}, "staff", "merganser", False),  # the plan leaves its zones out
        ({"staff": CLOSED}, "staff", "larkspur", False),  # no firewall
        ({"staff": CLOSED}, "staff", None, False),  # nobody knows what it is
    ],
)
def test_a_firewall_drops_requests_where_no_zone_admits_them(
    zones: dict[str, Zone], zone: str | None, dialect: str | None, drops: bool
) -> None:
    """Only where it is known to be one, and to have zones."""
    port = Interface(addresses=(Prefix(BASE + 1, 28),), zone=zone)
    plan = Plan(devices={"pier": Device(interfaces={"deck": port}, zones=zones)}, networks={})
    topology = Topology(plan)
    behaviours = {"pier": Behaviour(Library().sheet(dialect))} if dialect else {}
    (entered,) = topology.attachments_of("pier")
    assert drops_dhcp(plan, topology, entered, behaviours) == drops
