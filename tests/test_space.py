"""The address space: each address by what it is for, against address by address; what is free."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import click
from hypothesis import given, settings
from hypothesis import strategies as st

import reservoir
from conftest import Run, examples
from met import meets, met
from reservoir.core.space import KINDS, Space
from reservoir.core.values.addresses import Prefix, format_address, parse_address
from reservoir.reports.space import lines

Put = Callable[[str, str], Path]

BASE = parse_address("10.84.0.0")


@st.composite
def plans(draw: st.DrawFn) -> dict[str, object]:
    """Two or three networks that may overlap, with a little of everything, in up to two VRFs."""

    def address() -> str:
        return format_address(BASE + draw(st.integers(0, 63)))

    def span() -> str:
        first, last = sorted(draw(st.tuples(st.integers(0, 63), st.integers(0, 63))))
        return f"{format_address(BASE + first)}-{format_address(BASE + last)}"

    networks = {}
    for number in range(draw(st.integers(1, 3))):
        bits = draw(st.sampled_from([27, 28, 29, 31]))
        at = BASE + draw(st.integers(0, 63)) // (1 << (32 - bits)) * (1 << (32 - bits))
        macs = st.integers(0, 2).map(lambda n: f"00:00:5e:00:53:{n:02x}")
        networks[f"n{number}"] = {
            "subnet": f"{format_address(at)}/{bits}",
            "vrf": draw(st.sampled_from(["", "", "lab"])),
            "gateway": address(),
            "dns": [address() for _ in range(draw(st.integers(0, 1)))],
            "ranges": [span() for _ in range(draw(st.integers(0, 2)))],
            "exclusions": [span() for _ in range(draw(st.integers(0, 1)))],
            "static": [
                {"address": address(), "name": draw(st.sampled_from(["", "bell", "lamp", "one"]))}
                for _ in range(draw(st.integers(0, 2)))
            ],
            "bindings": [
                {"mac": draw(macs), "address": address()} for _ in range(draw(st.integers(0, 2)))
            ],
            "served_by": draw(st.sampled_from(["one", ["one", "two"], {"pair": ["one", "two"]}])),
        }
    interfaces = {"lan": {"address": f"{address()}/27"}}
    return {
        "reservoir": 1,
        "devices": {"one": {"interfaces": interfaces}, "two": {}},
        "networks": networks,
    }


@meets(*KINDS, "no host")
@given(data=plans())
@settings(max_examples=examples(250))
def test_each_address_is_of_one_kind_and_the_right_one(data: dict[str, object]) -> None:
    """Asked of the plan's own values, address by address."""
    plan = reservoir.load(data).plan
    space = Space(reservoir.load(data).pools, {})
    for one in space.networks:
        found = {
            address: kind for kind in KINDS for address in one.kinds[kind].addresses().tolist()
        }
        assert sum(len(one.kinds[kind]) for kind in KINDS) == len(found)
        subnet, vrf = one.subnet, one.network.vrf
        ranges = [span for span in one.network.ranges if not isinstance(span, str)]
        same = {n: net for n, net in plan.networks.items() if net.vrf == vrf}
        others = {name: network for name, network in same.items() if name != one.name}
        for address in range(subnet.span.first, subnet.span.last + 1):
            here = [n for n in others.values() if n.subnet.subnet.span.holds(address)]
            own = {b.client for b in one.network.bindings if b.address == address}
            every = {b.client for n in same.values() for b in n.bindings if b.address == address}
            foreign = any(b.address == address for n in others.values() for b in n.bindings)
            static = [s.address for n in same.values() for s in n.static]
            interface = plan.devices["one"].interfaces["lan"].addresses[0]
            taken = (
                address == one.network.gateway
                or address in static
                or (not vrf and address == interface.address)
            )
            holders = [s.name for n in same.values() for s in n.static if s.address == address]
            if not vrf and address == interface.address:
                holders.append("one")
            if "one" in holders[len(holders) - (not vrf and address == interface.address) :]:
                holders = [who for who in holders if who]  # unnamed, it is the device's own
            two_hold = len(set(holders)) > 1 or holders.count("") > 1
            excluded = any(e.range.holds(address) for e in one.network.exclusions)
            is_host = subnet.hosts.holds(address)
            in_range = any(span.holds(address) for span in ranges)
            assigned = in_range and is_host and not own and not excluded
            services = one.network.served_by
            twice = assigned and len(services) > 1
            used = any(address in (net.dns or ()) for net in same.values())
            two_would = (taken and (assigned or every)) or (assigned and (foreign or used))
            two_would = two_would or len(every) > 1
            if here or twice or two_would or two_hold:
                kind: str | None = "conflicting"
            elif every:
                kind = "bound"
            elif taken or (used and is_host):
                kind = "static"
            elif assigned:
                kind = "assignable"
            elif excluded and is_host:
                kind = "excluded"
            else:
                kind = "free" if is_host else None
            met(kind or "no host")
            assert found.get(address) == kind, (one.name, format_address(address))


@given(data=plans(), bits=st.sampled_from([26, 28, 30]))
@settings(max_examples=examples(120))
def test_a_free_block_has_no_address_of_the_plan(data: dict[str, object], bits: int) -> None:
    """And a block that isn't listed has one; wherever in the plan it is named."""
    plan = reservoir.load(data)
    space = Space(plan.pools, {})
    within = Prefix(BASE, 25)
    spans = [network.subnet.subnet.span for network in plan.plan.networks.values()]
    spans += [plan.plan.devices["one"].interfaces["lan"].addresses[0].subnet.span]
    named = {a for net in plan.plan.networks.values() for a in [net.gateway or 0]}
    for network in plan.plan.networks.values():
        named |= {host.address for host in network.static}
        named |= {binding.address for binding in network.bindings} | set(network.dns or ())
    size = 1 << (32 - bits)
    expected = [
        Prefix(first, bits)
        for first in range(BASE, BASE + 128, size)
        if not any(
            address in named or any(span.holds(address) for span in spans)
            for address in range(first, first + size)
        )
    ]
    assert list(space.free(bits, [within])) == expected
    assert space.count_free(bits, [within]) == len(expected)


SMALL = """
devices:
  pier:
    interfaces:
      up: {address: 10.84.0.1/24}
      deck.30: {parent: up, vlan: 30, address: 10.84.30.1/24}
    routes: [{to: 10.84.96.0/19, via: 10.84.0.9}, {to: 0.0.0.0/0, via: 10.84.0.254}]
networks:
  crew: {subnet: 10.84.30.0/24, vlan: 30, gateway: 10.84.30.1, ranges: [10.84.30.20-99],
         exclusions: [10.84.30.40-49], dns: [10.84.200.53],
         bindings: [{mac: 00:00:5e:00:53:01, address: 10.84.30.150}]}
  cabin: {subnet: 10.84.31.0/25, vlan: 31, gateway: 10.84.31.9, ranges: [10.84.31.2-20]}
"""


def test_the_map_marks_conflicts_without_colour(run: Run, put: Put) -> None:
    """Each network a line with a bar; the address that two would have is named below it."""
    put("plan.yaml", SMALL)
    shown = run("map", "plan.yaml")
    assert shown.code == 0
    assert "\x1b" not in shown.out
    crew = next(line for line in shown.out.splitlines() if " crew " in line)
    bar = crew[crew.index("[") :]
    assert {"s", "=", "x", "b", "."} == set(bar) - {"[", "]"}
    assert crew.split()[3:5] == ["70", "172"]
    (cabin,) = (line for line in shown.out.splitlines() if " cabin " in line)
    assert cabin.startswith("!")
    assert "     claimed twice: 10.84.31.9\n" in shown.out
    assert "no network; in use: 10.84.0.0-10.84.0.255" in shown.out
    assert all(len(line) <= 100 for line in shown.out.splitlines())
    only = run("map", "plan.yaml", "--network", "crew")
    assert "cabin" not in only.out
    assert run("map", "plan.yaml", "--network", "crow").code == 2


def test_free_subnets_and_tags_are_listed_one_a_line(run: Run, put: Put) -> None:
    """Where routes lead and where DNS servers are is not free; tag 1 isn't either."""
    put("plan.yaml", SMALL)
    assert run("map", "plan.yaml", "--free", "/17").out == ""
    assert "No /17 is free" in run("map", "plan.yaml", "--free", "/17").err
    assert run("map", "plan.yaml", "--free", "/19").out.splitlines() == [
        "10.84.32.0/19", "10.84.64.0/19", "10.84.128.0/19", "10.84.160.0/19", "10.84.224.0/19",
    ]  # fmt: skip
    found = run("map", "plan.yaml", "--free", "/25", "--within", "10.84.30.0/23")
    assert found.out == "10.84.31.128/25\n"
    many = run("map", "plan.yaml", "--free", "/32", "--within", "0.0.0.0/0")
    assert many.out.splitlines() == [f"0.0.0.{host}/32" for host in range(10)]
    assert "subnets of /32 (the first 10 are listed, --format json has all)" in many.err
    assert run("map", "plan.yaml", "--free-vlans").out == "2-29\n32-4094\n"
    for wrong in (("--free", "/33"), ("--within", "10.84"), ("--free", "big")):
        assert run("map", "plan.yaml", *wrong).code == 2


def test_the_map_as_data_and_as_figures(run: Run, put: Put, tmp_path: Path) -> None:
    """JSON has each kind's addresses; a figure has the same bytes each time."""
    put("plan.yaml", SMALL)
    data = json.loads(run("map", "plan.yaml", "--format", "json", "--free", "/20").out)
    assert data["command"] == "map"
    assert data["summary"] == {"networks": 2, "conflicting": 1}
    crew = data["networks"][0]
    assert crew["assignable"] == ["10.84.30.20-10.84.30.39", "10.84.30.50-10.84.30.99"]
    assert crew["bound"] == ["10.84.30.150"]
    assert sum(crew["counts"].values()) == 254
    assert data["free"][0] == "10.84.32.0/20"
    assert data["free_vlans"] is None
    for name, magic in (("a.png", b"\x89PNG"), ("a.svg", b"<?xml"), ("b.svg", b"<?xml")):
        drawn = run("map", "plan.yaml", "--figure", name)
        assert drawn.code == 0, drawn.err
        assert drawn.out == ""
        assert (tmp_path / name).read_bytes().startswith(magic)
    assert (tmp_path / "a.svg").read_bytes() == (tmp_path / "b.svg").read_bytes()
    refused = run("map", "plan.yaml", "--figure", "map.gif")
    assert refused.code == 2
    assert not (tmp_path / "map.gif").exists()


def test_the_map_of_configuration_that_was_read(run: Run, put: Put, tmp_path: Path) -> None:
    """What runs has an address space too."""
    plan = SMALL.replace("pier:\n", "pier:\n    dialect: larkspur\n").replace(".31.9", ".31.99")
    put("plan.yaml", plan)
    written = run("write", "plan.yaml", "--out", "devices", "--despite-errors")
    assert written.code == 0, written.err
    (file,) = (path for path in (tmp_path / "devices").iterdir() if path.name[0] != ".")
    shown = run("map", str(file), "--format", "json")
    assert shown.code == 0, shown.err
    counts = {n["subnet"]: n["counts"] for n in json.loads(shown.out)["networks"]}
    assert counts["10.84.30.0/24"]["assignable"] == 70


def test_vrfs_have_address_spaces_of_their_own(run: Run, put: Put) -> None:
    """The same subnet in two VRFs is no conflict; free is what neither uses."""
    put(
        "plan.yaml",
        "networks:\n"
        "  crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20-99]}\n"
        "  lab: {subnet: 10.84.30.0/24, vrf: lab, ranges: [10.84.30.50-150]}\n"
        "  test: {subnet: 10.84.31.0/24, vrf: lab, ranges: [10.84.31.50-150]}\n",
    )
    data = json.loads(run("map", "plan.yaml", "--format", "json").out)
    assert data["summary"]["conflicting"] == 0
    assert [(n["network"], n["vrf"]) for n in data["networks"]] == [
        ("crew", ""), ("lab", "lab"), ("test", "lab"),
    ]  # fmt: skip
    assert "lab (lab)" in run("map", "plan.yaml").out
    free = run("map", "plan.yaml", "--free", "/24", "--within", "10.84.28.0/22").out
    assert free == "10.84.28.0/24\n10.84.29.0/24\n"


def test_a_map_fits_its_terminal(tmp_path: Path, put: Put) -> None:
    """From forty columns to a hundred and twenty; wide enough, each kind is counted."""
    put("plan.yaml", SMALL)
    space = Space(reservoir.load(tmp_path / "plan.yaml").pools, {})
    for width in (60, 80, 100, 120):
        shown = [click.unstyle(line) for line in lines(space, [], None, width)]
        bars = [line for line in shown if "[" in line]
        assert len(bars) == 2
        assert max(map(len, bars)) <= max(width, 75)
        assert ("excluded" in shown[1]) == (width == 120)
        assert len({line.index("[") for line in bars}) == 1


def test_many_blocks_and_large_subnets(run: Run, put: Put) -> None:
    """A subnet larger than a /16 is a block of its own; each block lists what is in it."""
    put(
        "plan.yaml",
        "networks:\n"
        "  huge: {subnet: 10.0.0.0/12, ranges: [10.1.0.0-10.1.255.255]}\n"
        "  home: {subnet: 192.168.7.0/24, ranges: [192.168.7.20-99]}\n"
        "  link: {subnet: 172.16.0.0/31, ranges: all}\n",
    )
    shown = run("map", "plan.yaml").out
    blocks = [line.split()[0] for line in shown.splitlines() if "addresses unused" in line]
    assert blocks == ["10.0.0.0/12", "172.16.0.0/16", "192.168.0.0/16"]
    assert "172.16.0.0/31  link" in shown
    outside = run("map", "plan.yaml", "--within", "192.168.7.0/24").out
    assert "Outside of these blocks: huge and link." in outside
    assert "175 of 256 addresses unused" not in outside
    assert "0 of 256 addresses unused" in outside
