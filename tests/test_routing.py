"""Ways by the devices' routes, against trying every way there is."""

from __future__ import annotations

from collections.abc import Iterator

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import examples
from met import meets, met
from reservoir.core.plan.model import Device, Interface, Plan, Route
from reservoir.core.pools import Pools
from reservoir.core.routing import End, Routing
from reservoir.core.values.addresses import Prefix
from test_topology import BASE, addresses, plans, ports

Port = tuple[str, str, str, Prefix, bool]
"""Device, interface, VRF, address, whether it is up."""


def every_port(plan: Plan) -> list[Port]:
    return [(device, name, its.vrf, held, its.enabled) for device, name, its, held in ports(plan)]


def ways(plan: Plan, device: str, address: int, passed: tuple[str, ...]) -> Iterator[End]:
    """How each way ends that leads on from a device, found by looking through all ports."""
    everybody = every_port(plan)
    if any(port[0] == device and port[3].address == address for port in everybody):
        yield End.ARRIVED
        return
    around = [p for p in everybody if p[0] == device and p[3].span.holds(address)]
    if around:
        smallest = [p for p in around if p[3].bits == max(port[3].bits for port in around)]
        leaving = [p for p in smallest if p[4]]
        if not leaving:
            yield End.DOWN
            return
        beside = [p for p in everybody if p[3].address == address and p[2] == leaving[0][2]]
        states = {p[4] for p in beside if p[0] != device}
        yield End.ARRIVED if True in states else End.DOWN if states else End.ARRIVED
        return
    routes = plan.devices[device].routes
    if "routes" not in plan.devices[device].model_fields_set:
        yield End.NOT_STATED
        return
    leading = [route for route in routes if route.to.span.holds(address)]
    if not leading:
        yield End.NO_ROUTE
    longest = max((route.to.bits for route in leading), default=0)
    for hop in {route.via for route in leading if route.to.bits == longest}:
        yield from ways_by(plan, device, hop, address, passed)


def ways_by(
    plan: Plan, device: str, hop: int, address: int, passed: tuple[str, ...]
) -> Iterator[End]:
    everybody = every_port(plan)
    around = [p for p in everybody if p[0] == device and p[3].span.holds(hop)]
    smallest = [p for p in around if p[3].bits == max(port[3].bits for port in around)]
    leaving = [p for p in smallest if p[4]]
    if smallest and not leaving:
        yield End.DOWN
        return
    there = [p for p in everybody if leaving and p[3].address == hop and p[2] == leaving[0][2]]
    there = [p for p in there if p[0] != device]
    if not there:
        yield End.NOT_HELD if is_unusable(plan, device, hop) else End.BEYOND
    for neighbour, *_, is_up in there:
        if not is_up:
            yield End.DOWN
        elif neighbour in passed:
            yield End.LOOP
        else:
            yield from ways(plan, neighbour, address, (*passed, neighbour))


def is_unusable(plan: Plan, device: str, hop: int) -> bool:
    """Whether a next hop can be nobody's: the device's own, an edge, or on none of its links."""
    own = [held for name, _, _, held in ports(plan) if name == device]
    described = plan.devices[device]
    if not own or not all(its.addresses for its in described.interfaces.values()):
        return False  # an interface without an address may be on any link
    around = [held for held in own if held.span.holds(hop)]
    if around:
        inside = any(held.hosts.holds(hop) for held in around)
        return not inside or hop in [held.address for held in own]
    others = [route.to for route in described.routes if route.via != hop and route.to.bits]
    return not any(to.span.holds(hop) for to in others)


ROUTERS, LANS = "abcd", 4


@st.composite
def routed(draw: st.DrawFn) -> Plan:
    """Routers that mostly stand in several of four LANs, with several ways to a fifth."""
    stands = [draw(st.sets(st.integers(0, LANS - 1), min_size=2, max_size=3)) for _ in ROUTERS]
    if draw(st.booleans()):
        stands[-1].add(LANS)
    to = st.sampled_from([Prefix(BASE + 8 * LANS, 29), Prefix(BASE, 26), Prefix(BASE, 26)])
    devices = {}
    for number, name in enumerate(ROUTERS):
        ports = {
            f"port{lan}": Interface(
                addresses=(Prefix(BASE + 8 * lan + 1 + number, 29),),
                enabled=draw(st.integers(0, 19)) > 0,
            )
            for lan in sorted(stands[number])
        }
        near = [
            BASE + 8 * lan + 1 + other
            for lan in stands[number]
            for other in range(len(ROUTERS) + 1)
            if other != number and (other == len(ROUTERS) or lan in stands[other])
        ]
        fewest = draw(st.sampled_from([0, 1, 1, 2]))
        hops = st.builds(Route, to=to, via=st.sampled_from(near) | st.just(BASE + 60))
        routes = draw(st.lists(hops, min_size=fewest, max_size=3))
        is_stated = bool(routes) or draw(st.booleans())
        devices[name] = (
            Device(interfaces=ports, routes=tuple(routes))
            if is_stated
            else Device(interfaces=ports)
        )
    return Plan(devices=devices, networks={})


far = st.integers(BASE + 8 * LANS, BASE + 8 * LANS + 7)


@meets("two ends", "two routers on the way", *(f"it ends: {end.value}" for end in End))
@given(st.tuples(plans(), addresses) | st.tuples(routed(), far | far | addresses))
@settings(max_examples=examples(600))
def test_a_way_ends_as_the_best_of_all_ways_does(drawn: tuple[Plan, int]) -> None:
    """Arrived if any does; broken only if every one is; nothing is claimed of what isn't known."""
    plan, address = drawn
    routing = Routing(Pools(plan))
    for device in plan.devices:
        way = routing.way(device, address)
        ends = set(ways(plan, device, address, (device,)))
        met("two ends", len(ends) > 1)
        met("two routers on the way", len(way.entered) > 1)
        met(f"it ends: {way.end.value}")
        assert way.end is next(end for end in End if end in ends)
        assert (way.down is not None) == (way.end is End.DOWN)
        assert way.is_open == (way.end in (End.NOT_STATED, End.BEYOND))
        if way.end is End.ARRIVED and way.is_held:
            holders = {port[0] for port in every_port(plan) if port[3].address == address}
            assert way.at in holders
            assert [entered.device for entered in way.entered[-1:]] in ([], [way.at])


@pytest.mark.parametrize(
    ("routers", "end"), [(2, End.ARRIVED), (64, End.ARRIVED), (65, End.ARRIVED), (66, End.BEYOND)]
)
def test_a_packet_passes_sixty_four_routers_at_most(routers: int, end: End) -> None:
    """Each hands it to the next; after so many nothing is claimed any more."""
    devices = {}
    for number in range(routers):
        ports = {"on": Interface(addresses=(Prefix(BASE + 4 * number + 2, 30),))}
        if number:
            ports["back"] = Interface(addresses=(Prefix(BASE + 4 * number - 3, 30),))
        hop = BASE + 4 * number + 1
        devices[f"r{number}"] = Device(interfaces=ports, routes=(Route(to=Prefix(0, 0), via=hop),))
    last = BASE + 4 * routers - 2
    plan = Plan(devices=devices, networks={})
    way = Routing(Pools(plan)).way("r0", last)
    assert way.end is end
    assert len(way.entered) == min(routers - 1, 64)
