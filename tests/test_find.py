"""``find``: what an address, a client, a tag or a name is, held to walking the plan."""

from __future__ import annotations

import json
from collections.abc import Callable
from ipaddress import IPv4Interface
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import reservoir
from conftest import Run, examples
from met import meets, met
from oracle import Walked, number_of, plans, text_of
from reservoir.core.values.addresses import format_address

Put = Callable[[str, str], Path]

DEMO = Path(reservoir.__file__).parent / "demo"
RIGHT, HURRIED = (str(DEMO / f"{which}/ferry-line.yaml") for which in ("right", "hurried"))
LEASES = str(DEMO / "running/leases.csv")


def roles(plan: dict[str, Any], address: int) -> set[tuple[str, str | None]]:
    """What an address is for, and in which network, by looking at each line of the plan."""
    walked, found = Walked(plan), set[tuple[str, str | None]]()
    for name, network in plan["networks"].items():
        vrf, inside = walked.vrf(name), address in walked.addresses(name)
        here = set[str]()
        if inside:
            here |= {"gateway"} if walked.gateway(name) == address else set()
            here |= {"excluded" for e in network["exclusions"] if address in spanned(e)}
            here |= {
                "assignable"
                for pool in walked.pools
                if pool.network == name and address in pool.assignable
            }
        machines = {
            role
            for role, key in (("static", "static"), ("bound", "bindings"))
            for host in network[key]
            if number_of(host["address"]) == address
        }
        found |= {(role, name) for role in here | machines}
        taken = {a for _, a, _ in walked.interfaces(vrf)} | walked.virtual(vrf)
        taken |= {number_of(h["address"]) for n in same_vrf(plan, vrf) for h in n["static"]}
        bound = {number_of(h["address"]) for n in same_vrf(plan, vrf) for h in n["bindings"]}
        if inside and address not in walked.hosts(name):
            found.add(("edge", name))
        elif inside and not here and address not in taken | bound | named(plan, vrf):
            found.add(("free", name))
    return found


def named(plan: dict[str, Any], vrf: str) -> set[int]:
    """The servers and next hops that are named in a VRF."""
    texts = [server for net in same_vrf(plan, vrf) for server in net.get("dns", ())]
    for device in plan["devices"].values():
        texts += [route["via"] for route in device.get("routes", ()) if not vrf]
        for interface in device["interfaces"].values() if "interfaces" in device else ():
            if interface.get("vrf", "") == vrf:
                texts += interface.get("relay_to", ())
    return set(map(number_of, texts))


def same_vrf(plan: dict[str, Any], vrf: str) -> list[dict[str, Any]]:
    """The networks of a VRF."""
    return [net for net in plan["networks"].values() if net.get("vrf", "") == vrf]


def spanned(exclusion: Any) -> range:
    """The addresses of an exclusion, or of a range."""
    text = exclusion["range"] if isinstance(exclusion, dict) else exclusion
    first, _, last = text.partition("-")
    return range(number_of(first), number_of(last or first) + 1)


@meets("assignable", "bound", "static", "gateway", "excluded", "free", "edge")
@given(plan=plans(), data=st.data())
@settings(max_examples=examples(150))
def test_what_an_address_is_agrees_with_walking_the_plan(
    plan: dict[str, Any], data: st.DataObject
) -> None:
    """Each role, with its network; and what has the address on an interface."""
    opened = reservoir.loads(text_of(plan))
    walked = Walked(plan)
    groups = [
        [a for name in plan["networks"] for a in sorted(walked.addresses(name))],
        [g for n in plan["networks"] if (g := walked.gateway(n)) in walked.addresses(n)],
        *(
            [number_of(host["address"]) for net in plan["networks"].values() for host in net[key]]
            for key in ("bindings", "static")
        ),
        [a for net in plan["networks"].values() for e in net["exclusions"] for a in spanned(e)[:4]],
        [0],
    ]
    address = data.draw(st.sampled_from([g for g in groups if g]).flatmap(st.sampled_from))
    (answer,) = reservoir.find(opened, [format_address(address)])
    told = {(thing.role, thing.network) for thing in answer.things}
    others = {"interface", "virtual", "used", "link"}
    assert {each for each in told if each[0] not in others} == roles(plan, address)
    interfaces = plan["devices"]["a"]["interfaces"].values()
    held = {
        int(IPv4Interface(text).ip)
        for its in interfaces
        for text in (its["address"] if isinstance(its["address"], list) else [its["address"]])
    }
    assert ("interface" in {role for role, _ in told}) == (address in held)
    for role, _ in told:
        met(role)


@meets("free", "assignable", "ranges", "subnets", "named")
@given(plan=plans())
@settings(max_examples=examples(150))
def test_what_is_free_next_is_free(plan: dict[str, Any]) -> None:
    """What is suggested to who types: addresses and ranges that nothing has, subnets beside all."""
    opened = reservoir.loads(text_of(plan))
    free = reservoir.Index(opened).next_free
    for name, network in plan["networks"].items():
        beside = {n for n, net in plan["networks"].items() if net.get("vrf") == network.get("vrf")}

        def known(text: str, beside: set[str] = beside) -> set[tuple[str, str | None]]:
            return {each for each in roles(plan, number_of(text)) if each[1] in beside}

        servers = [server for n in beside for server in plan["networks"][n].get("dns", ())]
        met("named", any(number_of(server) in Walked(plan).hosts(name) for server in servers))
        for offered in free.addresses_of(name):
            role = "assignable" if "assignable" in offered.because else "free"
            assert known(offered.text) == {(role, name)}
            met(role)
        for offered in free.at(("networks", name, "ranges", 0), {}):
            first, _, last = offered.text.partition("-")
            assert known(first) == known(last or first) == {("free", name)}
            met("ranges")
    used = {a for name in plan["networks"] for a in Walked(plan).addresses(name)}
    subnets = [o for o in free.at(("networks", "new", "subnet"), {}) if "free" in o.because]
    for offered in subnets:
        begin = number_of(offered.text.partition("/")[0])
        assert not used.intersection(range(begin, begin + 256))
        met("subnets")


def found(run: Run, *arguments: str) -> list[dict[str, Any]]:
    """The answers as JSON."""
    ended = run("find", *arguments, "--format", "json")
    assert ended.err == "" or ended.code, ended.err
    answers: list[dict[str, Any]] = json.loads(ended.out)["answers"]
    assert ended.code == (not all(answer["known"] for answer in answers))
    return answers


def test_addresses_clients_tags_and_names_of_the_ferry_line(run: Run) -> None:
    """Each with its place, who serves it and how, and who has it."""
    kiosk, dotted, net, tag, crew, pattern, nobody = found(
        run, "10.84.20.30", "0000.5E00.5301", "10.84.30.0/24", "30", "CREW", "kiosk-*",
        "10.90.1.1", RIGHT, "--leases", LEASES,
    )  # fmt: skip
    for answer in (kiosk, dotted):
        (bound,) = answer["things"]
        assert (bound["role"], bound["network"]) == ("bound", "passenger-wifi")
        assert bound["at"] == "bindings_from[0][0]"
        assert (Path(bound["file"]).name, bound["line"]) == ("bindings.csv", 2)
        assert answer["servers"][0]["way"] == "at its interface deck.20"
        (lease,) = answer["leases"]
        assert (lease["name"], lease["line"]) == ("kiosk-1", 2)
        assert lease["expires"] == "2027-03-31T12:30:00+00:00"
    for answer in (net, tag, crew):
        assert answer["things"][0]["role"] == "network"
        assert "201 assignable" in answer["things"][0]["what"]
        assert answer["servers"][0] == {
            "network": "crew",
            "server": "harbour-office",
            "way": "through the relay of pier-router deck.30",
        }
    assert {thing["role"] for thing in tag["things"]} == {"network", "interface"}
    assert len(pattern["things"]) == 2
    assert (nobody["known"], nobody["nearest"]) == (False, "heron-saloon")
    assert nobody["free"] == "10.90.0.0-10.90.255.255"


def test_findings_and_clashes_are_about_what_was_asked(run: Run, put: Put) -> None:
    """An address with two roles, a client of two, a network; not the findings of others."""
    gateway, desk, shop, free = found(
        run, "10.84.20.1", "00:00:5e:00:53:11", "shop", "10.84.30.5", HURRIED
    )
    assert {thing["role"] for thing in gateway["things"]} == {"gateway", "assignable", "interface"}
    assert [f["rule"] for f in gateway["findings"]] == ["gateway-in-pool"]
    assert [f["rule"] for f in desk["findings"]] == ["binding-address-twice"]
    assert {f["rule"] for f in shop["findings"]} == {"ranges-overlap", "demand-unknown"}
    assert free["findings"] == []
    text = (
        Path(RIGHT)
        .read_text()
        .replace("    by_class:\n", "    by_class:\n      all: {lease: 1h}\n")
    )
    put("plan.yaml", text.replace("classes:\n", 'classes:\n  all: {vendor_class: "sable-*"}\n'))
    for table in ("bindings.csv", "inventory.csv"):
        put(table, Path(RIGHT).with_name(table).read_text())
    (scanners,) = found(run, "scanners", "plan.yaml")
    assert [f["rule"] for f in scanners["findings"]] == ["class-shadowed"]
    assert (free["known"], free["free"]) == (True, "10.84.30.2-10.84.30.254")


def test_configuration_is_searched_as_a_plan_is(run: Run, tmp_path: Path) -> None:
    """With the line of the file; of a pair both serve."""
    assert run("write", RIGHT, "-o", "made", "-q").code == 0
    files = [str(file) for file in (tmp_path / "made").glob("*.merganser")]
    saloon, office = found(run, "10.85.41.20", "harbour-office", *files)
    assert saloon["servers"][0]["way"] == "at its interface saloon, in a pair with heron-standby"
    (assigned,) = saloon["things"]
    assert assigned["what"] == "assignable in heron-saloon, by ferry-heron and heron-standby"
    assert Path(assigned["file"]).suffix == ".merganser"
    assert office["things"][0]["what"].startswith("harbour-office (merganser), with")


def test_host_names_and_vrfs_have_names(run: Run, put: Put) -> None:
    """A client by the host name that it is offered, once; a VRF by its networks."""
    put(
        "plan.yaml",
        "networks:\n  crew:\n    subnet: 10.84.30.0/24\n    vrf: quay\n    bindings:\n"
        "      - {name: bell, hostname: bell-one, mac: 00:00:5e:00:53:01, address: 10.84.30.9}\n"
        "      - {mac: 00:00:5e:00:53:02, address: 10.84.30.10, hostname: bell}\n",
    )
    vrf, one, every = found(run, "quay", "bell-one", "bell*", "plan.yaml")
    assert [thing["what"] for thing in vrf["things"]] == ["quay, of crew"]
    assert [thing["address"] for thing in one["things"]] == ["10.84.30.9"]
    assert [thing["address"] for thing in every["things"]] == ["10.84.30.9", "10.84.30.10"]


@meets("by MAC", "by identifier", "not bound")
@given(data=st.data(), wanted=st.binary(min_size=7, max_size=20), is_bound=st.booleans())
@settings(max_examples=examples(200))
def test_a_client_is_known_as_devices_print_it(
    data: st.DataObject, wanted: bytes, is_bound: bool
) -> None:
    """By its identifier in hexadecimal, in any groups; one made of a MAC address is that client."""
    if data.draw(st.booleans()):
        wanted = b"\1" + wanted[:6]
    is_mac = len(wanted) == 7 and wanted[0] == 1
    key = f"mac: {wanted[1:].hex(':')}" if is_mac else f"client_id: 'hex:{wanted.hex()}'"
    other = wanted if is_bound else wanted[:-1] + bytes([wanted[-1] ^ 1])
    size, sign = data.draw(st.integers(1, 7)), data.draw(st.sampled_from([":", "-", ".", " ", ""]))
    asked = sign.join(other[at : at + size].hex() for at in range(0, len(other), size))
    plan = (
        "reservoir: 1\nnetworks:\n  crew:\n    subnet: 10.84.30.0/24\n"
        f"    bindings: [{{name: bell, {key}, address: 10.84.30.9}}, "
        "{name: 00-01-02-03-04-05-06, mac: 02:00:5e:00:53:01, address: 10.84.30.10}]\n"
    )
    opened = reservoir.loads(plan)
    (answer,) = reservoir.find(opened, [asked.upper() if size % 2 else asked])
    assert [thing.address for thing in answer.things] == [number_of("10.84.30.9")] * is_bound
    met(("by MAC" if is_mac else "by identifier") if is_bound else "not bound")
    (named,) = reservoir.find(opened, ["00-01-02-03-04-05-06"])
    assert [thing.address for thing in named.things] == [number_of("10.84.30.10")]


@pytest.mark.parametrize(
    ("arguments", "code", "said"),
    [
        (["10.84.20.300", RIGHT], 2, "300 is above 255"),
        (["10.84.20.9-10.84.20.2", RIGHT], 2, "is written high to low"),
        (["10.84.20.0/33", RIGHT], 2, "10.84.20.0/33"),
        (["hex:zz", RIGHT], 2, "is not a client identifier"),
        (["10.84.20.30"], 2, "None of these is a file: 10.84.20.30"),
        ([RIGHT], 2, "Say what to find, too"),
        (["crew", "nowhere.yaml"], 2, "nowhere.yaml:1:1: there is no such file"),
        (["", "$", "99999", "crew?", "01:00:00:5e:00:53:09", "00" * 300, RIGHT], 1, ""),
        (["\x1b[31m", RIGHT], 1, ""),
    ],
)
def test_what_cannot_be_found_is_said(run: Run, arguments: list[str], code: int, said: str) -> None:
    """Malformed ones with why; unknown ones with exit status 1."""
    ended = run("find", *arguments)
    assert ended.code == code, ended.err
    assert said in ended.err
    assert "\x1b" not in ended.out
    assert ended.out.count("nothing here has this name or number") == (
        len(arguments) - 1 if code == 1 else 0
    )
