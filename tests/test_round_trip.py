"""Plan to text to plan: what a device is given is what the plan says, in every dialect."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import reservoir
from conftest import examples
from met import meets, met
from oracle import Walked, text_of
from reservoir.core.pools import Pools
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import Prefix
from reservoir.core.values.clients import format_client
from reservoir.core.values.durations import INFINITE, parse_duration
from reservoir.dialects.behaviour.device import Behaviour
from reservoir.dialects.behaviour.lift import lift
from reservoir.dialects.converting import convert_read
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.parse.reader import read_configuration
from reservoir.dialects.reading import read_device
from reservoir.dialects.render.withdrawal import withdrawal
from reservoir.dialects.render.writer import write_configuration, write_exactly
from reservoir.dialects.running.devices import with_named_zones
from reservoir.dialects.sheet.library import Library
from reservoir.dialects.sheet.model import Sheet
from reservoir.files.plan_text import plan_text

DIALECTS = Library().names
DESK = Path(__file__).parent / "desk"
"""Sheets of boxes that only tests know: tests/test_desk.py."""

HOSTILE = [
    "kiosk 2",
    'the "old" one',
    "x\\",
    '"',
    "done",
    "lot crew:",
    "pool",
    "-- remark",
    "// remark",
    "a;b",
    "]]>",
    "{name}",
    "{",
    "]",
    "#",
    "é à",
    "客室",
    "каюта",
    "n" * 300,
    "$(reboot)",
    "as",
    "'",
    ":",
    "a:",
]

hosts = st.integers(2, 254)
octet_ranges = st.builds(lambda a, b: (min(a, b), max(a, b)), hosts, hosts)


@pytest.fixture(scope="module")
def file(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("round") / "plan.yaml"


@dataclass(frozen=True)
class Family:
    """What a plan may ask of every one of some dialects."""

    leases: tuple[str, ...]
    own_interfaces_only: bool
    most_networks: int
    pieces: int
    """Most ranges of a network."""
    exclusions: int
    may_lack_gateway: bool
    may_lack_dns: bool
    client_ids: bool
    boot_servers: bool
    own_values: tuple[str, ...]
    """What a binding may say of its client alone."""
    secondary: bool
    """Whether an interface may have several addresses."""
    shares_segments: bool
    """Whether it serves the networks of all of them."""
    admits_by_zone: bool
    """Whether one of them hears nobody whose interface is in no zone that admits DHCP."""

    @classmethod
    def of(cls, *dialects: str) -> Family:
        """What all of these dialects can hold."""
        sheets = [Library(DESK).sheet(name) for name in dialects]
        found_by = {sheet.trait("pool-found-by") for sheet in sheets}
        return cls(
            leases=tuple(lease for lease in LEASES if all(_can_say(s, lease) for s in sheets)),
            own_interfaces_only=bool(found_by & {"interface", "arrival", "order"}),
            most_networks=1 if "order" in found_by else 3,
            pieces=3 if all(_most_exclusions(sheet) == 3 for sheet in sheets) else 1,
            exclusions=min(_most_exclusions(sheet) for sheet in sheets),
            may_lack_gateway=all(_may_lack(s, "gateway") for s in sheets),
            may_lack_dns=all(_may_lack(s, "dns") for s in sheets),
            client_ids=all(s.mentions("binding", "client_id") for s in sheets),
            boot_servers=all(s.mentions("pool", "next_server") for s in sheets),
            own_values=tuple(k for k in OWN_VALUES if all(_says_of_one(s, k) for s in sheets)),
            secondary=all(s.mentioned["interface"] & {"secondary", "addresses"} for s in sheets),
            shares_segments=all(Behaviour(sheet).assigns_by_secondary for sheet in sheets),
            admits_by_zone=any(Behaviour(sheet).zone_must_admit_dhcp for sheet in sheets),
        )


OWN_VALUES = ("hostname", "boot_file", "options", "next_server", "lease", "domain", "dns")


def _says_of_one(sheet: Sheet, key: str) -> bool:
    by_number = key not in ("lease", "next_server") and sheet.stands_in("option", "binding")
    return by_number or sheet.mentions("binding", key)


def _most_exclusions(sheet: Sheet) -> int:
    if "pool.range" not in sheet.limits or sheet.limits["pool.range"] > 9:
        return 3
    return 1 if sheet.trait("more-ranges") == "more-pools" else 0


LEASES = ("1m", "45m", "12h", "7d", "1d2h3m", "infinite")


def _can_say(sheet: Sheet, lease: str) -> bool:
    seconds = parse_duration(lease)
    if seconds == INFINITE:
        return bool(sheet.duration.infinite)
    return seconds % sheet.duration.step == 0


def _may_lack(sheet: Sheet, name: str) -> bool:
    return sheet.trait(f"blank-{name}") == "nothing" or (
        sheet.trait(f"blank-{name}") != "refused" and sheet.says_nothing("pool", name)
    )


@st.composite
def benign_network(
    draw: st.DrawFn, number: int, family: Family, names: st.SearchStrategy[str]
) -> dict[str, Any]:
    """A network without mistakes in 10.84.NUMBER.0/24, with whatever the family may hold."""
    base = f"10.84.{number}"

    def spans(pairs: list[tuple[int, int]]) -> list[str]:
        return [f"{base}.{a}-{base}.{b}" for a, b in pairs]

    most = family.pieces
    ranges = st.lists(octet_ranges, min_size=1, max_size=most).map(spans)
    network: dict[str, Any] = {
        "subnet": f"{base}.0/24",
        "gateway": f"{base}.1",
        "served_by": "server",
        "dns": draw(
            st.lists(
                st.sampled_from(["10.84.0.53", "10.84.1.53"]),
                min_size=not family.may_lack_dns,
                max_size=2,
            )
        ),
        "lease": draw(st.sampled_from(family.leases)),
        "ranges": draw(st.just("all") | ranges),
        "exclusions": spans(draw(st.lists(octet_ranges, max_size=family.exclusions))),
        "static": [
            {"name": "hand-set", "address": f"{base}.{host}"}
            for host in draw(st.lists(hosts, max_size=most - 1, unique=True))
        ],
    }
    if family.may_lack_gateway and draw(st.booleans()):
        del network["gateway"]
    bound = draw(st.lists(hosts, max_size=most + 1, unique=True))
    network["bindings"] = [
        {"name": draw(names), "address": f"{base}.{host}"}
        | (
            {"client_id": f"hex:{number:02x}{i:02x}ff"}
            if family.client_ids and draw(st.booleans())
            else {"mac": f"00:00:5e:00:53:{number * 8 + i:02x}"}
        )
        for i, host in enumerate(bound)
    ]
    for i, binding in enumerate(network["bindings"]):
        own = {
            "hostname": f"till-{number}-{i}",
            "boot_file": "boot/till.img",
            "options": {"log_servers": ["10.84.0.77"], "150": {"ip": "10.84.0.70"}},
            "next_server": "10.84.0.70",
            "lease": draw(st.sampled_from(family.leases)),
            "domain": "till.example",
            "dns": ["10.84.2.53"],
        }
        keys = draw(st.just(()) | st.sets(st.sampled_from(family.own_values or ("",))))
        binding |= {key: own[key] for key in keys if key}
    if draw(st.booleans()):
        network["domain"] = "sable.example"
    if family.boot_servers and draw(st.booleans()):
        network["next_server"] = "10.84.0.69"
    if draw(st.booleans()):
        network["options"] = {
            "ntp": ["10.84.0.123"],
            "150": {"ip": "10.84.0.69"},
            "boot_file": "kiosk image.bin",
            "200": {"hex": "00ff"},
        }
    return network


def held(interface: dict[str, Any]) -> list[str]:
    """The addresses of an interface, as the plan has them."""
    address = interface["address"]
    return list(address) if isinstance(address, list) else [address]


@st.composite
def benign_plan(
    draw: st.DrawFn,
    dialects: str | tuple[str, ...],
    names: st.SearchStrategy[str],
    most_networks: int = 3,
) -> dict[str, Any]:
    """One server, some networks of its own, some behind another's relay.

    The server is of the first of the dialects; all of them can hold the plan.
    """
    dialects = (dialects,) if isinstance(dialects, str) else dialects
    family = Family.of(*dialects)
    count = draw(st.integers(1, min(family.most_networks, most_networks)))
    wanted = draw(st.lists(names, min_size=count, max_size=count, unique=True))
    server: dict[str, Any] = {"uplink": {"address": "10.84.0.10/24"}}
    relay: dict[str, Any] = {}
    for number in range(1, count + 1):
        if family.own_interfaces_only or draw(st.booleans()):
            own = draw(hosts)
            server[f"port{number}"] = {"address": f"10.84.{number}.{own}/24"}
        else:
            relay[f"port{number}"] = {
                "address": f"10.84.{number}.1/24",
                "relay_to": ["10.84.0.10"],
            }
    networks = {
        name: draw(benign_network(number, family, names))
        for number, name in enumerate(wanted, start=1)
    }
    if family.secondary and draw(st.booleans()):
        server["uplink"]["address"] = ["10.84.0.10/24", "10.84.99.10/25"]
    if family.shares_segments and {"port1", "port2"} <= server.keys() and draw(st.booleans()):
        server["port1"]["address"] = [held(server["port1"])[0], *held(server.pop("port2"))]
    described: dict[str, Any] = {"dialect": dialects[0], "interfaces": server}
    if family.admits_by_zone:
        described["zones"] = {"inside": {"admits": ["dhcp"]}}
        for interface in server.values():
            interface["zone"] = "inside"
    return {
        "reservoir": 1,
        "devices": {
            "server": described,
            "a": {"interfaces": {"deck": {"address": "10.84.0.2/24"}}},
            "relay": {"interfaces": relay},
        },
        "networks": networks,
    }


plain_names = st.builds(
    lambda word, number: f"{word}{number}",
    st.sampled_from(["deck", "crew-", "ticket-office-", "q", "2nd-pier-", "vlan"]),
    st.integers(0, 999),
)


@pytest.mark.parametrize("dialect", DIALECTS)
@meets("bindings", "a network without exclusions")
@given(data=st.data())
@settings(max_examples=examples(70))
def test_what_is_written_is_what_the_plan_says(
    file: Path, dialect: str, data: st.DataObject
) -> None:
    """No refusal, all understood, the oracle's assignable set; same facts, same bytes."""
    plan = data.draw(benign_plan(dialect, plain_names))
    file.write_text(text_of(plan))
    (written,) = reservoir.write(reservoir.load(file), ["server"])
    assert not written.losses
    assert not written.faults
    assert not written.obstacles
    for network in plan["networks"].values():
        met("bindings", len(network["bindings"]) > 0)
        met("a network without exclusions", not network["exclusions"])
    sheet = Library().sheet(dialect)
    reading = read_configuration(written.text, sheet)
    assert not reading.not_understood
    assert not reading.foreign
    assert write_configuration(reading.device, sheet).text == written.text
    assert write_exactly(reading.device, sheet).text == written.text
    again = Pools(lift(reading.device, sheet).plan())
    own = {a for i in plan["devices"]["server"]["interfaces"].values() for a in held(i)}
    skipped = {address.split("/")[0] for address in own}
    for pool, walked in zip(again, walked_pools(plan), strict=True):
        assigned = set(pool.assignable.addresses().tolist())
        expected = walked.assignable
        if sheet.trait("own-address") == "skipped":
            expected = expected - {number(address) for address in skipped}
        assert assigned == expected
        bindings = plan["networks"][walked.network]["bindings"]
        assert {(format_client(c), a) for c, a in again.clients_bound(pool)} == {
            (binding.get("mac") or binding["client_id"], number(binding["address"]))
            for binding in bindings
        }


@pytest.mark.parametrize("dialect", [n for n in DIALECTS if Library().sheet(n).undo_words])
@given(data=st.data())
@settings(max_examples=examples(40))
def test_what_is_taken_back_is_gone(file: Path, dialect: str, data: st.DataObject) -> None:
    """All of it or a part: what is read then is as if it had never been said."""
    sheet = Library().sheet(dialect)
    file.write_text(text_of(data.draw(benign_plan(dialect, plain_names))))
    (written,) = reservoir.write(reservoir.load(file), ["server"])
    device = read_configuration(written.text, sheet).device
    undone = withdrawal(written.text, sheet)
    assert all(line in written.text for line in undone.split("\n") if line.endswith(":"))
    left = read_configuration(written.text + undone, sheet)
    assert not left.not_understood
    assert not left.foreign
    pools = {"pool", "binding", "exclusion"}
    rest = [fact for fact in device.children if fact.kind not in pools]
    assert [fact.label for fact in left.device.children] == [fact.label for fact in rest]
    assert not any("relay_to" in fact.fields for fact in left.device.walk())
    assert withdrawal(written.text.replace("\n", "\r\n"), sheet) == undone
    again = read_configuration(written.text + undone + undone, sheet)
    assert "nothing here to undo with" in str(again.not_understood)


def number(address: str) -> int:
    a, b, c, d = map(int, address.split("."))
    return a << 24 | b << 16 | c << 8 | d


def walked_pools(plan: dict[str, Any]) -> list[Any]:
    """The oracle's pools; it knows of one interface, so the relays' and servers' are hand-set."""
    interfaces = [
        address.split("/")[0]
        for device in plan["devices"].values()
        for interface in device["interfaces"].values()
        for address in held(interface)
    ]
    networks = {
        name: {
            **network,
            "served_by": ["server"],
            "static": [*network["static"], *({"address": address} for address in interfaces)],
        }
        for name, network in plan["networks"].items()
    }
    return Walked({**plan, "networks": networks}).pools


@pytest.mark.parametrize("dialect", DIALECTS)
@given(data=st.data())
@settings(max_examples=examples(40))
def test_hostile_names_stay_in_their_place(file: Path, dialect: str, data: st.DataObject) -> None:
    """Quoted, made fit or refused: what is read again is what was written, never a line more."""
    hostile = st.sampled_from(HOSTILE) | st.text(min_size=1, max_size=12).filter(
        lambda text: text.isprintable() and text.strip() != ""
    )
    plan = data.draw(benign_plan(dialect, hostile))
    file.write_text(text_of(plan))
    (written,) = reservoir.write(reservoir.load(file), ["server"])
    assert not written.faults
    assert not written.losses


@pytest.mark.parametrize("dialect", DIALECTS)
@given(names=st.lists(st.sampled_from(HOSTILE) | st.text(max_size=9), min_size=3, max_size=3))
@settings(max_examples=examples(45))
def test_the_writer_alone_lets_nothing_out(dialect: str, names: list[str]) -> None:
    """Facts that no plan could hold, with line ends and worse: refused, or read again the same."""
    sheet = Library().sheet(dialect)
    pool = Fact("pool", {"name": names[0], "domain": names[1], "dns": (1,), "lease": 60})
    pool.fields["subnet"] = Prefix(10 << 24, 24)
    option = Fact("option", {"code": 67, "type": "text", "value": names[2]})
    pool.children.append(option)
    written = write_configuration(Fact("device", {"name": names[0]}, [pool]), sheet)
    reading = read_configuration(written.text, sheet)
    assert reading.device == written.expressed
    assert not reading.not_understood
    assert not reading.foreign


@pytest.mark.parametrize("dialect", DIALECTS)
@given(data=st.data())
@settings(max_examples=examples(25))
def test_damaged_text_is_read_without_a_crash(
    file: Path, dialect: str, data: st.DataObject
) -> None:
    """Lines lost, doubled, cut, swapped or scrambled: what is left still makes a plan."""
    plan = data.draw(benign_plan(dialect, plain_names))
    file.write_text(text_of(plan))
    (written,) = reservoir.write(reservoir.load(file), ["server"])
    lines = written.text.split("\n")
    for _ in range(data.draw(st.integers(1, len(lines)))):
        at = data.draw(st.integers(0, len(lines) - 1))
        cut = data.draw(st.integers(0, len(lines[at])))
        damage = data.draw(st.sampled_from(["", "x", " ", "999", '"', "\u2028", "\x1b[1m", "-"]))
        lines[at] = lines[at][:cut] + damage + lines[at][cut + data.draw(st.integers(0, 9)) :]
        if not data.draw(st.integers(0, 3)):
            lines.insert(data.draw(st.integers(0, len(lines))), lines[at])
    read = read_device("\n".join(lines), "server.txt", Library(), dialect)
    lifted = with_named_zones(read.lifted.plan())
    assert list(Pools(lifted)) is not None
    file.write_text(plan_text(lifted))
    again = reservoir.load(file).plan
    assert again.networks == lifted.networks
    assert again.devices == lifted.devices


@pytest.mark.parametrize("source", DIALECTS)
@pytest.mark.parametrize("target", DIALECTS)
@given(data=st.data())
@settings(max_examples=examples(4))
def test_conversion_keeps_pools_and_bindings(
    file: Path, source: str, target: str, data: st.DataObject
) -> None:
    """From any dialect to any: the same addresses, the same bindings, the same words to clients."""
    plan = data.draw(benign_plan((source, target), plain_names))
    file.write_text(text_of(plan))
    (written,) = reservoir.write(reservoir.load(file), ["server"])
    read = read_device(written.text, "server.txt", Library(), source)
    result = convert_read(read, Library().sheet(target))
    assert not result.losses
    assert not result.faults
    assert not result.obstacles
    there = read_device(result.text, "server.txt", Library(), target).lifted.plan()
    before, after = Pools(read.lifted.plan()), Pools(there)
    skipped = Library().sheet(target).trait("own-address") == "skipped"
    for one, other in zip(before, after, strict=True):
        own = AddressSet.of_addresses(
            [a.address for a in before.topology.attachments(one.network)] if skipped else []
        )
        assert other.assignable == one.assignable - own
        assert before.clients_bound(one) == after.clients_bound(other)
        assert other.offer == one.offer
