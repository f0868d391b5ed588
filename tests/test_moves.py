"""Networks that move to another server: no address is ever two servers' to assign."""

from __future__ import annotations

from collections.abc import Iterator
from ipaddress import IPv4Address, ip_network
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import reservoir
from conftest import examples
from met import meets, met
from oracle import number_of, text_of
from reservoir.dialects.behaviour.lift import lift
from reservoir.dialects.sheet.library import Library
from reservoir.files.lease_list import read_leases
from test_pairs import FAMILIES
from test_round_trip import Family, octet_ranges
from test_scripts import given_to, present, same, walked

DIALECTS = [n for n in Library().names if not Family.of(n).own_interfaces_only]
"""Those whose servers may be behind a relay."""

SERVERS = {"east": "10.84.0.10", "west": "10.84.0.11"}


@st.composite
def sides(draw: st.DrawFn) -> tuple[dict[str, Any], dict[str, Any]]:
    """Two plans of the same networks behind a relay, which either of two servers may serve."""
    dialects = {name: draw(st.sampled_from(DIALECTS)) for name in SERVERS}
    count = draw(st.integers(1, 2))
    both = [plan(draw, dialects, count) for _ in "on"]
    return both[0], both[1]


@st.composite
def paired_sides(draw: st.DrawFn) -> tuple[dict[str, Any], dict[str, Any]]:
    """The same, where both servers are of a family that has pairs."""
    dialects = dict.fromkeys(SERVERS, draw(st.sampled_from(sorted(FAMILIES))))
    count = draw(st.integers(1, 2))
    both = [plan(draw, dialects, count) for _ in "on"]
    for net in (net for side in both for net in side["networks"].values()):
        (whole,) = net["ranges"]
        first, last = (int(address.rpartition(".")[2]) for address in whole.split("-"))
        start = whole.rpartition(".")[0].partition("-")[0].rpartition(".")[0]
        middle = (first + last) // 2
        if draw(st.booleans()) and first < middle < last:  # a gap of one address
            net["ranges"] = [
                f"{start}.{first}-{start}.{middle - 1}",
                f"{start}.{middle + 1}-{start}.{last}",
            ]
        parts = [f"{start}.{first}-{start}.{middle}", f"{start}.{middle + 1}-{start}.{last}"]
        way = draw(st.sampled_from(["one", "pair", "pair", "split"]))
        if way == "pair":
            net["served_by"] = {"pair": draw(st.permutations(sorted(SERVERS)))}
        elif way == "split" and middle < last:
            del net["ranges"]
            net["served_by"] = [
                {"device": name, "ranges": [part]}
                for name, part in zip(sorted(SERVERS), parts, strict=True)
            ]
    return both[0], both[1]


def plan(draw: st.DrawFn, dialects: dict[str, str], count: int) -> dict[str, Any]:
    relay = {
        f"port{n}": {"address": f"10.84.{n}.1/24", "relay_to": list(SERVERS.values())}
        for n in range(1, count + 1)
    }
    way = [{"to": "0.0.0.0/0", "via": "10.84.0.1"}]
    devices: dict[str, Any] = {
        name: {
            "dialect": dialects[name],
            "interfaces": {"uplink": {"address": f"{address}/24"}},
            "routes": way,
        }
        for name, address in SERVERS.items()
    }
    devices["relay"] = {"interfaces": {"uplink": {"address": "10.84.0.1/24"}, **relay}}
    return {
        "reservoir": 1,
        "devices": devices,
        "networks": {f"net{n}": network(draw, n) for n in range(1, count + 1)},
    }


def network(draw: st.DrawFn, number: int) -> dict[str, Any]:
    first, last = draw(octet_ranges)
    bound = [f"10.84.{number}.{host}" for host in draw(st.lists(st.integers(2, 254), max_size=1))]
    return {
        "subnet": f"10.84.{number}.0/24",
        "gateway": f"10.84.{number}.1",
        "dns": ["10.84.0.53"],
        "served_by": draw(st.sampled_from(sorted(SERVERS))),
        "lease": draw(st.sampled_from(["15m", "2h", "12h"])),
        "ranges": [f"10.84.{number}.{first}-10.84.{number}.{last}"],
        "bindings": [
            {"name": "till", "mac": f"00:00:5e:00:53:{number:02x}", "address": address}
            for address in bound
        ],
    }


def points(made: reservoir.DeviceScript) -> Iterator[str]:
    """A device's configuration after each statement; after the whole file."""
    text = made.old
    for line in made.script.lines if made.script is not None else ():
        text = given_to(text, line.text, made.dialect)
        yield text
    if made.script is None:
        yield made.new


def assigned(text: str, dialect: str) -> dict[int, int]:
    """All that a device assigns, and for how many seconds."""
    lifted = lift(present(text, dialect).reading.device, Library().sheet(dialect))
    leases = {str(network.subnet): network.lease for network in lifted.networks.values()}
    subnets = walked(text, dialect).items()
    return {address: leases[subnet] or 0 for subnet, some in subnets for address in some}


def in_step(texts: dict[str, str], dialects: dict[str, str]) -> set[str]:
    """The subnets that both servers serve as a pair: each names the other, all else is the same."""
    told: list[dict[str, tuple[object, ...]]] = []
    for name, other in (("east", "west"), ("west", "east")):
        some = walked(texts[name], dialects[name])
        told.append(
            {
                str(pool.get("subnet")): (
                    pool.get("partner") == number_of(SERVERS[other]),
                    pool.get("leads", True) != (name == "west"),
                    pool.get("after"),
                    frozenset(some.get(str(pool.get("subnet")), ())),
                )
                for pool in present(texts[name], dialects[name]).reading.device.of_kind("pool")
                if pool.get("partner") is not None
            }
        )
    east, west = told
    return {
        subnet
        for subnet in east
        if subnet in west
        and east[subnet][0]
        and west[subnet][0]
        and (east[subnet][1] == west[subnet][1])
        and east[subnet][2:] == west[subnet][2:]
    }


@meets("several stages", "a pair begins", "a pair ends")
@given(sides=sides() | paired_sides())
@settings(max_examples=examples(60))
def test_no_server_assigns_what_a_client_of_another_may_have(
    sides: tuple[dict[str, Any], dict[str, Any]], tmp_path_factory: pytest.TempPathFactory
) -> None:
    """Not at any statement of any stage, until the leases have ended that were waited for.

    Two that are in step at that moment know all leases of each other.
    """
    old, new = (reservoir.loads(text_of(side)) for side in sides)
    dialects = {name: sides[0]["devices"][name]["dialect"] for name in SERVERS}
    texts = {name: reservoir.write(old, [name])[0].text for name in SERVERS}
    were = in_step(texts, dialects)

    def untold(name: str) -> dict[int, int]:
        """What a server assigns without telling the other, and for how long."""
        told = [ip_network(subnet) for subnet in in_step(texts, dialects)]
        now = assigned(texts[name], dialects[name])
        return {a: t for a, t in now.items() if not any(IPv4Address(a) in net for net in told)}

    leased = {name: untold(name) for name in SERVERS}
    for stage in reservoir.stages(old, new):
        for made in stage.scripts:
            device = made.device
            for texts[device] in points(made):
                told = [ip_network(subnet) for subnet in in_step(texts, dialects)]
                for name in SERVERS:  # what is told is no secret any more
                    leased[name] = {
                        address: lease
                        for address, lease in longest(leased[name], untold(name)).items()
                        if not any(IPv4Address(address) in net for net in told)
                    }
                assert not leased["east"].keys() & leased["west"].keys()
        for name in SERVERS:
            lasting = {a: lease for a, lease in leased[name].items() if lease > stage.wait}
            leased[name] = longest(lasting, untold(name))
    met("several stages", len(reservoir.stages(old, new)) > 1)
    met("a pair begins", len(in_step(texts, dialects) - were) > 0)
    met("a pair ends", len(were - in_step(texts, dialects)) > 0)
    folder = tmp_path_factory.mktemp("moves")
    for name in SERVERS:
        wanted = reservoir.write(new, [name])[0].text
        assert same(folder, texts[name], wanted, dialects[name])


@meets("something kept back")
@given(sides=sides(), data=st.data())
@settings(max_examples=examples(30))
def test_with_a_lease_list_only_what_is_leased_is_kept_back(
    sides: tuple[dict[str, Any], dict[str, Any]],
    data: st.DataObject,
    tmp_path_factory: pytest.TempPathFactory,
) -> None:
    """No other server assigns a leased address before the wait; all else is there at once."""
    old, new = (reservoir.loads(text_of(side)) for side in sides)
    dialects = {name: sides[0]["devices"][name]["dialect"] for name in SERVERS}
    texts = {name: reservoir.write(old, [name])[0].text for name in SERVERS}
    wanted = {
        name: assigned(reservoir.write(new, [name])[0].text, dialects[name]) for name in SERVERS
    }
    present = {
        name: data.draw(st.sets(st.sampled_from(sorted(there)), max_size=5)) if there else set()
        for name, there in ((name, assigned(texts[name], dialects[name])) for name in SERVERS)
    }
    file = tmp_path_factory.mktemp("moves") / "leases.csv"
    rows = [
        f"00:00:5e:00:54:{address & 255:02x},{IPv4Address(address)},{name}"
        for name, taken in present.items()
        for address in taken
    ]
    file.write_text("\n".join(["mac,address,server", *rows, ""]))
    stages = reservoir.stages(old, new, read_leases(str(file)).leases)
    for number, stage in enumerate(stages, start=1):
        for made in stage.scripts:
            for texts[made.device] in points(made):  # noqa: B020 - where each device is now
                now = assigned(texts[made.device], made.dialect)
                for other in SERVERS.keys() - {made.device}:
                    assert number == len(stages) > 1 or not now.keys() & present[other]
        told = " ".join(stage.what)
        if "moves from" in told or "divided anew" in told:  # all has moved but what is kept back
            for name in SERVERS:
                missing = wanted[name].keys() - assigned(texts[name], dialects[name]).keys()
                met("something kept back", len(missing) > 0)
                assert missing <= set().union(*present.values())


@meets("back from the middle", "back from the end")
@given(sides=sides() | paired_sides(), data=st.data())
@settings(max_examples=examples(30))
def test_the_way_back_leads_back_from_every_stage(
    sides: tuple[dict[str, Any], dict[str, Any]],
    data: st.DataObject,
    tmp_path_factory: pytest.TempPathFactory,
) -> None:
    """The undo files of the stages that were done, the last one first; then all is as it was."""
    old, new = (reservoir.loads(text_of(side)) for side in sides)
    before = {name: reservoir.write(old, [name])[0].text for name in SERVERS}
    texts, stages = dict(before), reservoir.stages(old, new)
    done = stages[: data.draw(st.integers(1, len(stages)))]
    met("back from the middle" if len(done) < len(stages) else "back from the end", len(stages) > 1)
    for stage in done:
        for made in stage.scripts:
            texts[made.device] = [texts[made.device], *points(made)][-1]
    for stage in reversed(done):
        for made in reversed(stage.scripts):
            texts[made.device] = undone(made, texts[made.device])
    folder = tmp_path_factory.mktemp("back")
    for name in SERVERS:
        assert same(folder, texts[name], before[name], sides[0]["devices"][name]["dialect"])


def undone(made: reservoir.DeviceScript, text: str) -> str:
    """A device's configuration once all of a script was taken back."""
    if made.script is None:
        return made.old
    for line in reversed(made.script.lines):
        for statement in line.undo:
            text = given_to(text, statement, made.dialect)
    return text


def longest(some: dict[int, int], others: dict[int, int]) -> dict[int, int]:
    """Each address for the longer of two times."""
    return {a: max(some.get(a, 0), others.get(a, 0)) for a in some.keys() | others.keys()}


def test_what_one_of_two_servers_offers_otherwise_its_own_clients_learn(
    tmp_path: Path,
) -> None:
    """When they renew there; the other's clients learn nothing, whichever is listed first."""
    shares = {"a": "10.84.50.20-10.84.50.39", "b": "10.84.50.40-10.84.50.59"}
    plan = {
        "reservoir": "1",
        "devices": {
            name: {"dialect": "larkspur", "interfaces": {"lan": {"address": f"10.84.50.{n}/24"}}}
            for n, name in enumerate("ab", start=2)
        },
        "networks": {"staff": {
            "subnet": "10.84.50.0/24", "gateway": "10.84.50.2", "lease": "8h",
            "dns": ["10.84.0.53"],
            "served_by": [{"device": name, "ranges": [span]} for name, span in shares.items()],
        }},
    }  # fmt: skip
    texts = {one.device: one.text for one in reservoir.write(reservoir.load(plan))}

    def side(folder: Path, **changed: str) -> Any:
        folder.mkdir()
        for name, text in {**texts, **changed}.items():
            (folder / f"{name}.larkspur").write_text(text)
        return reservoir.combine(reservoir.read(sorted(folder.iterdir()), "larkspur"))

    old = side(tmp_path / "old")
    (tmp_path / "leases.csv").write_text(
        "mac,address,server,expires\n"
        "00:00:5e:00:53:01,10.84.50.25,a,9000\n00:00:5e:00:53:02,10.84.50.45,b,9000\n"
    )
    leases = read_leases(str(tmp_path / "leases.csv")).leases
    for name in "ab":
        other = texts[name].replace("10.84.0.53", "10.84.1.53")
        assert other != texts[name]
        told = reservoir.notices(old, side(tmp_path / name, **{name: other}), leases, now=1000)
        learning = {int(leases.mac[one.row]) & 0xFF for one in told if one.because}
        assert learning == {"ab".index(name) + 1}
