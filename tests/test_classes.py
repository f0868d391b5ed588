"""Kinds of client: who is in a class, what members get in the plan, on devices, from stand-ins."""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Iterator
from ipaddress import IPv4Address
from itertools import product
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import reservoir
from conftest import Run, examples
from met import meets, met
from oracle import text_of
from reservoir.core.pools import Pools
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.client_classes import ClassWords, Said, member_of
from reservoir.core.values.clients import Mac
from reservoir.dialects.sheet.library import Library
from reservoir.rehearsal.clients.client import Client
from reservoir.rehearsal.messages.message import Kind, Message, Option, decode
from reservoir.rehearsal.messages.saying import options_of, said_by
from reservoir.rehearsal.wires.setting import connect_devices, start
from reservoir.rehearsal.wires.wires import Event, Wires

Put = Callable[[str, str], Path]

# Who is in a class, held to everybody there is.

PATTERNS = ["a", "b", "ab", "a*", "*a", "ab*", "*ab", "*a*", "*b*", "*", "b*"]
TEXTS = ["".join(t) for n in range(4) for t in product("abz", repeat=n)]
BEGINNINGS = [b"\x00", b"\x02", b"\x00\x01", b"\x00\x02", b"\x03"]
MACS = [bytes((first, second, 0, 0, 0, 0)) for first in (0, 2, 4) for second in (0, 1, 2)]


@st.composite
def class_words(draw: st.DrawFn) -> ClassWords:
    """A few words, of a small language."""
    said: dict[str, Any] = {}
    if draw(st.booleans()):
        said["vendor_class"] = draw(st.sampled_from(PATTERNS))
    if draw(st.booleans()):
        said["architecture"] = draw(st.frozensets(st.integers(0, 2), min_size=1, max_size=2))
    if draw(st.booleans()) or not said:
        said["mac"] = draw(st.sampled_from(BEGINNINGS))
    return ClassWords(**said)


def everybody() -> Iterator[Said]:
    """Every client of the small world."""
    vendors: list[tuple[str, ...]] = [(), *((text,) for text in TEXTS)]
    numbers: list[tuple[int, ...]] = [(), (0,), (1,), (2,), (3,)]
    for vendor, architecture, mac in product(vendors, numbers, MACS):
        yield Said(Mac.from_bytes(mac, "big"), vendor, (), architecture)


EVERYBODY = list(everybody())


def is_in(words: ClassWords, client: Said) -> bool:
    """Whether a client matches, word by word, by hand."""
    if words.vendor_class is not None:
        word = words.vendor_class
        begins, ends = word.startswith("*"), word.endswith("*") and word != "*"
        body = word.strip("*")
        if not any(
            (begins or text.startswith(body))
            and (ends or word == "*" or text.endswith(body))
            and (body in text)
            and (begins or ends or word == text)
            for text in client.vendor_class
        ):
            return False
    if words.architecture is not None and not words.architecture & set(client.architecture):
        return False
    return words.mac is None or client.mac.to_bytes(6, "big").startswith(words.mac)


@meets("nobody", "somebody")
@given(wanted=class_words(), others=st.lists(class_words(), max_size=4))
@settings(max_examples=examples(400))
def test_who_is_left_for_a_class_is_found_exactly(
    wanted: ClassWords, others: list[ClassWords]
) -> None:
    """A member that no other class takes, if there is one among all clients there can be."""
    found = member_of(wanted, others)
    there = [c for c in EVERYBODY if is_in(wanted, c) and not any(is_in(o, c) for o in others)]
    assert (found is not None) >= bool(there), there[0]
    met("somebody" if found else "nobody")
    if found is not None:
        assert wanted.matches(found) and not any(other.matches(found) for other in others)
        assert not int(found.mac) >> 40 & 1, "a group's address is no client's"
    for client in EVERYBODY[:: len(EVERYBODY) // 50]:
        assert wanted.matches(client) == is_in(wanted, client)


@given(
    vendor=st.text(st.characters(codec="ascii", categories=("L", "N")), max_size=9),
    user=st.lists(st.sampled_from(["bridge", "x", "y" * 40]), max_size=3),
    numbers=st.lists(st.integers(0, 65_535), max_size=3),
    circuit=st.sampled_from(["", "deck", "p" * 60]),
)
def test_what_clients_say_is_heard(
    vendor: str, user: list[str], numbers: list[int], circuit: str
) -> None:
    """Options of a message and what they say are the same; so is a bare text as user class."""
    said = Said(
        Mac(5),
        (vendor,) if vendor else (),
        tuple(user),
        tuple(numbers),
        (circuit,) if circuit else (),
    )
    message = Message(Kind.DISCOVER, 1, Mac(5), options_of(said))
    heard = said_by(decode(message.encode()))
    assert heard == said or user == ["x"] * len(user)
    message.options[Option.USER_CLASS] = b"harbour-kiosk"
    assert said_by(message).user_class == ("harbour-kiosk",)


# What members get: the plan, address by address, and every device that can.

POWERS: dict[str, dict[str, Any]] = {
    "fulmar": {"words": ["vendor", "user", "machine", "mac"], "ranges": True, "keys": True},
    "larkspur": {"words": ["vendor", "user", "machine"], "ranges": False, "keys": False},
    "quillon": {"words": ["vendor"], "ranges": False, "keys": False},
    "merganser": {"words": ["mac"], "ranges": True, "keys": True},
}
WORDS: dict[str, list[dict[str, Any]]] = {
    "vendor": [{"vendor_class": v} for v in ("harbour-*", "harbour-phone*", "*-kiosk", "crane")],
    "user": [{"user_class": "bridge"}, {"user_class": "b*"}],
    "machine": [{"architecture": [7, 9]}, {"architecture": 0}],
    "mac": [{"mac": "00:00:5e:*"}, {"mac": "00:00:5e:00:53:*"}, {"mac": "02:*"}],
}
BASE = int(IPv4Address("10.84.30.0"))
SUBNET = "10.84.30.0/27"


def span(first: int, last: int) -> str:
    return f"{IPv4Address(BASE + first)}-{IPv4Address(BASE + last)}"


spans = st.tuples(st.integers(2, 30), st.integers(2, 30)).map(lambda p: (min(p), max(p)))


@st.composite
def class_plans(draw: st.DrawFn, dialect: str) -> dict[str, Any]:
    """A network that tells classes apart, as far as a family can."""
    powers = POWERS[dialect]
    words = [w for kind in powers["words"] for w in WORDS[kind]]
    chosen = draw(st.lists(st.sampled_from(words), min_size=1, max_size=3, unique_by=str))
    classes = {f"kind-{n}": said for n, said in enumerate(chosen)}
    by_class: dict[str, Any] = {}
    for name in draw(st.permutations(sorted(classes))):
        own: dict[str, Any] = {}
        if powers["ranges"] and (dialect == "merganser" or draw(st.booleans())):
            own["ranges"] = [span(*draw(spans))]
        if draw(st.booleans()):
            own["options"] = {"log_servers": [f"10.84.0.{len(by_class) + 70}"]}
        if draw(st.booleans()):
            own["boot_file"] = f"boot/{name}.img"
        if powers["keys"] and draw(st.booleans()):
            own["lease"] = "2d"
        by_class[name] = own
    network: dict[str, Any] = {
        "subnet": SUBNET,
        "gateway": "10.84.30.1",
        "served_by": "pier",
        "dns": ["10.84.0.53"],
        "lease": "12h",
        "ranges": [span(*draw(spans))],
        "bindings": [{"name": "bell", "mac": "00:00:5e:00:53:01", "address": "10.84.30.9"}],
        "by_class": by_class,
    }
    if dialect != "larkspur" and draw(st.booleans()):
        network["exclusions"] = [span(*draw(spans))]
    if dialect == "fulmar" and draw(st.booleans()):
        some = st.lists(st.sampled_from(sorted(classes)), min_size=1, unique=True)
        network["admits"] = draw(some)
    # One of them is known in a second network, too.
    other: dict[str, Any] = {"options": {"log_servers": ["10.84.0.79"]}}
    other |= {"ranges": ["10.84.31.20-10.84.31.25"]} if dialect == "merganser" else {}
    hold = {
        **{key: network[key] for key in ("served_by", "dns", "lease")},
        "subnet": "10.84.31.0/27",
        "gateway": "10.84.31.1",
        "ranges": ["10.84.31.10-10.84.31.19"],
        "by_class": {draw(st.sampled_from(sorted(classes))): other},
    }
    ports = {
        port: {"address": f"10.84.{third}.1/27", "zone": "inside"}
        for port, third in (("deck", 30), ("hold", 31))
    }
    return {
        "reservoir": 1,
        "devices": {
            "pier": {
                "dialect": dialect,
                "interfaces": ports,
                "zones": {"inside": {"admits": ["dhcp"]}},
            }
        },
        "classes": classes,
        "networks": {"deck": network, "hold": hold},
    }


def held_by(text: str) -> set[int]:
    """The addresses of a range as a plan writes it."""
    first, _, last = text.partition("-")
    return set(range(int(IPv4Address(first)), int(IPv4Address(last)) + 1))


def walked(plan: dict[str, Any], name: str | None) -> set[int]:
    """What members of a class may get, or clients of none: address by address."""
    network = plan["networks"]["deck"]
    own = {
        n: set().union(*map(held_by, c.get("ranges", []))) for n, c in network["by_class"].items()
    }
    admits = network.get("admits")
    if (name is None and admits is not None) or (
        name and admits is not None and name not in admits
    ):
        return set()
    kept = {int(IPv4Address("10.84.30.9"))}.union(*map(held_by, network.get("exclusions", [])))
    if name is not None and network["by_class"][name].get("ranges"):
        return {a for a in own[name] if BASE < a < BASE + 31} - kept
    ranges = set().union(*map(held_by, network["ranges"]))
    return {a for a in ranges if BASE < a < BASE + 31} - kept - set().union(*own.values())


@pytest.mark.parametrize("dialect", POWERS)
@meets("a class with ranges of its own or without", "members of two classes")
@given(data=st.data())
@settings(max_examples=examples(60))
def test_members_get_what_the_plan_says_from_every_device_that_can(
    dialect: str, data: st.DataObject
) -> None:
    """The plan, what is written and read back, and what a stand-in offers, address by address."""
    plan = data.draw(class_plans(dialect))
    opened = reservoir.loads(text_of(plan))
    pool = Pools(opened.plan).of("deck")[0]
    assert pool.by_class is not None
    for its in pool.by_class.classes:
        assert every(its.assignable) == walked(plan, its.name)
    assert every(pool.common) == walked(plan, None)
    served = plan["networks"]["deck"].get("admits", [None, *plan["classes"]])
    if any(not walked(plan, name) - own(dialect) for name in served):
        return  # check reports who is left without addresses
    [made] = reservoir.write(opened)
    sheet = Library().sheet(dialect)
    assert not made.losses and not made.faults, (made.losses, made.faults)
    wires = Wires(Pools(opened.plan))
    connect_devices(wires, Pools(opened.plan), {"pier": start(made.text, sheet)})
    words = [its.words for its in pool.by_class.classes]
    for place, its in enumerate(pool.by_class.classes):
        member = member_of(its.words, words[:place])
        if member is None:
            continue
        met("a class with ranges of its own or without", True)
        met("members of two classes", place > 0)
        assert offered(wires, member, its.offer.encoded()) == walked(plan, its.name) - own(dialect)
    nobody = member_of(ClassWords(), words)
    if nobody is not None:
        assert offered(wires, nobody, pool.offer.encoded()) == walked(plan, None) - own(dialect)


def every(addresses: AddressSet) -> set[int]:
    """The addresses of a set, one by one."""
    return {a for s in addresses.spans() for a in range(s.first, s.last + 1)}


def own(dialect: str) -> set[int]:
    """The device's own address, if its family never assigns that."""
    is_skipped = Library().sheet(dialect).trait("own-address") == "skipped"
    return {BASE + 1} if is_skipped else set()


def offered(wires: Wires, client: Said, wanted: dict[int, bytes]) -> set[int]:
    """The addresses that a client is offered when it asks for each; with what is wanted."""
    found = set()
    for number, address in enumerate(range(BASE, BASE + 32)):
        one = Client(client.mac, wires, said=client)
        wires.connect(one, "deck")
        message = Message(Kind.DISCOVER, number, client.mac, options_of(client))
        message.options[Option.REQUESTED_ADDRESS] = address.to_bytes(4, "big")
        events: list[Event] = []
        wires.watch = events.append
        wires.broadcast(one, message)
        wires.clock.run(wires.clock.now + 120)
        wires.watch = None
        for event in events:
            if event.message is not None and event.message.kind is Kind.OFFER:
                if event.message.your_address == address:
                    found.add(address)
                assert wanted.items() <= event.message.options.items()
    return found


SHORT = """
classes: {phones: {vendor_class: "harbour-phone*"}, efi: {architecture: [7, 9]}}
devices:
  pier:
    dialect: DIALECT
    interfaces: {deck: {address: 10.84.30.1/24, zone: crew}}
    zones: {crew: {admits: [dhcp]}}
networks:
  deck:
    subnet: 10.84.30.0/24
    gateway: 10.84.30.1
    dns: [10.84.30.53]
    served_by: pier
    ranges: [10.84.30.60-10.84.30.99]
    static: [{name: ns, address: 10.84.30.53}, {name: boots, address: 10.84.30.54}]
    by_class:
      phones: {ranges: [10.84.30.100-10.84.30.119], vendor_options: {1: {ip: 10.84.30.54}}}
      efi: {boot_file: boot/efi.img, next_server: 10.84.30.54, lease: 1h}
"""


@pytest.mark.parametrize("dialect", Library().names)
def test_what_a_device_cannot_tell_apart_is_said(run: Run, put: Put, dialect: str) -> None:
    """Each class with the reason and the next best way; the rehearsal shows it."""
    plan = str(put("plan.yaml", SHORT.replace("DIALECT", dialect)))
    checked = json.loads(run("check", plan, "--format", "json", "--prove").out)["findings"]
    said = [f for f in checked if f["rule"] == "not-expressible" and "in deck" in f["message"]]
    if dialect == "fulmar":
        assert not said
        shown = run("rehearse", plan)
        assert shown.code == 0, shown.out
        assert "class phones: 4 of 4 served, 10.84.30.100-10.84.30.119" in shown.out
        assert "class efi: 4 of 4 served" in shown.out
        return
    assert len({f["message"].split(" in deck")[0] for f in said}) >= 2
    assert all("another device serve" in f["message"] for f in said)
    assert all(f["proof"]["shown"] for f in said if "proof" in f), said


@pytest.mark.parametrize(("wrong", "said"), [
    ('phones: {vendor_class: "a*b"}', "has a * inside"),
    ("phones: {}", "a class is known by vendor_class, user_class, architecture, mac or agent"),
    ("phones: {agent: {}}", "a class is known by"),
    ("phones: {architecture: x86}", "'x86' is not an architecture: a number from 0 to 65535"),
    ("phones: {architecture: 65536}", "is not an architecture"),
    ("phones: {architecture: -1}", "is not an architecture"),
    ('phones: {mac: "00:00:5"}', "is not the beginning of a MAC address"),
    ('phones: {mac: "00:00:5e"}', "write it like 00:00:5e:*"),
    ('phones: {vendor_clas: "x"}', "did you mean vendor_class?"),
    ('phones: {vendor_class: "a\\tb"}', "expected a text"),
    ('phone: {vendor_class: "x"}', "there is no class 'phones' (did you mean phone?)"),
])  # fmt: skip
def test_wrong_words_are_named_at_their_place(run: Run, put: Put, wrong: str, said: str) -> None:
    text = SHORT.replace("DIALECT", "fulmar").replace(
        'phones: {vendor_class: "harbour-phone*"}', wrong
    )
    ended = run("check", str(put("plan.yaml", text)))
    assert ended.code == 2
    assert said in ended.err, ended.err
    assert "plan.yaml:" in ended.err


def test_a_relay_tells_of_a_client_that_renews_by_itself(run: Run, put: Put) -> None:
    """What is known by the port at which it came in is kept with its lease."""
    text = SHORT.replace("DIALECT", "fulmar").replace(
        'phones: {vendor_class: "harbour-phone*"}', "phones: {agent: {circuit: \"berth-*\"}}"
    ).replace("vendor_options", "lease: 10m, vendor_options")  # fmt: skip
    shown = run("rehearse", str(put("plan.yaml", text)), "--trace", "deck")
    assert shown.code == 0, shown.out
    trace = shown.out.partition("of class phones")[2].partition("\nclient ")[0]
    assert "circuit berth-" in trace
    assert re.search(r"ACK \(has 10\.84\.30\.1[01][0-9]", trace), "renewed by itself"
    json_out = json.loads(run("rehearse", "plan.yaml", "--format", "json").out)
    [network] = json_out["networks"]
    assert {c["name"]: c["served"] for c in network["classes"]} == {"phones": 4, "efi": 4}


def test_size_and_checks_know_the_demand_of_a_class(run: Run, put: Put) -> None:
    """By its own range; a class without one is counted with the others."""
    text = SHORT.replace("DIALECT", "fulmar").replace(
        "phones: {ranges", "phones: {demand: {devices: 30}, ranges"
    )
    plan = str(put("plan.yaml", text + "    demand: {devices: 20}\n"))
    findings = json.loads(run("check", plan, "--format", "json").out)["findings"]
    found = {f["message"] for f in findings if f["rule"] == "pool-undersized"}
    assert found == {
        "30 devices of class phones are expected, but only 20 addresses are assignable and 0 "
        "bound: 10 too few"
    }
    sized = json.loads(run("size", plan, "--format", "json").out)["networks"]
    assert [(n["of_class"], n["smallest_range"]) for n in sized] == [(None, 20), ("phones", 30)]
    refused = run("rehearse", plan)
    assert refused.code == 1
    assert "pool-undersized" in refused.out
    wrong = text.replace("efi: {", "efi: {demand: {devices: 5}, ")
    assert (
        "count its members in the network's demand"
        in run("check", str(put("wrong.yaml", wrong))).err
    )


def test_changes_to_classes_are_told_with_who_notices(run: Run, put: Put) -> None:
    """More lease time at renewal; a range that moves takes addresses away, from its members."""
    old = put("old.yaml", SHORT.replace("DIALECT", "fulmar"))
    new = put("new.yaml", SHORT.replace("DIALECT", "fulmar").replace("lease: 1h", "lease: 2h")
              .replace("100-10.84.30.119", "110-10.84.30.119"))  # fmt: skip
    told = " ".join(run("compare", str(old), str(new)).out.split())
    assert "at renewal lease of class efi: 1h → 2h" in told
    assert "new address assignable of class phones" in told
    put("leases.csv", "mac,address,expires\n00:00:5e:00:53:01,10.84.30.105,never\n"
                      "00:00:5e:00:53:02,10.84.30.115,never\n")  # fmt: skip
    clients = run("compare", str(old), str(new), "--leases", "leases.csv").out
    assert "10.84.30.105" in clients and "10.84.30.115" not in clients
    assert run("compare", str(old), str(old)).out.count("class") == 0
