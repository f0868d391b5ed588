"""``reservoir compare`` as people use it: what it tells of plans, devices and leases."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest

import reservoir
from conftest import Run

DEMO = Path(reservoir.__file__).parent / "demo/right/ferry-line.yaml"

RUNNING: list[tuple[str, str, str, str, str]] = [
    # What runs, and what the plan's device would have; the network; what differs; who notices.
    (
        "  resolvers 10.84.0.53 10.84.1.53\n  domain sable.example\n  lease 2700",
        "  resolvers 10.84.0.99\n  domain sable.example\n  lease 2700",
        "passenger-wifi",
        "dns: 10.84.0.53 10.84.1.53 → 10.84.0.99",
        "at-renewal",
    ),
    ("lease 43200", "lease 7200", "ticketing", "lease: 12h → 2h", "at-renewal"),
    (
        "withhold 10.84.31.1 to 10.84.31.63",
        "withhold 10.84.31.1 to 10.84.31.39",
        "cameras",
        "assignable: now 10.84.31.40-10.84.31.63",
        "only-new-clients",
    ),
    (
        "pin 10.84.20.30 ",
        "pool old\n  gateway 10.84.77.1\n  subnet 10.84.77.0/24\npin 10.84.20.30 ",
        "old",
        "network: now 10.84.77.0/24",
        "only-new-clients",
    ),
    (
        "  carries to 10.84.0.10\n",
        "",
        "crew",
        "path: heard → harbour-office has no interface there, and nothing relays to it",
        "cut-off",
    ),
    (
        "berth deck.24\n  rides deck tag 24\n  holds 10.84.24.1/24\n",
        "",
        "ticketing",
        "path: heard → pier-router has no interface there, and nothing relays to it",
        "cut-off",
    ),
    (
        "pool cameras",
        "pool staff\n  subnet 10.84.50.0/24\npool cameras",
        "staff",
        "unheard server: now pier-router has a pool",
        "none",
    ),
]


@pytest.fixture
def runs(run: Run, tmp_path: Path) -> Path:
    """What the demo's pier router would run."""
    assert run("write", str(DEMO), "--device", "pier-router", "--out", "running", "-q").code == 0
    return tmp_path / "running" / "pier-router.larkspur"


@pytest.mark.parametrize(("was", "is_now", "network", "said", "notice"), RUNNING)
def test_each_thing_that_runs_otherwise_is_found(
    run: Run, runs: Path, was: str, is_now: str, network: str, said: str, notice: str
) -> None:
    """By compare with who notices, and by check as one finding; nothing else differs."""
    text = runs.read_text()
    assert was in text
    runs.write_text(text.replace(was, is_now))
    ended = run("compare", str(DEMO), str(runs), "--exit-code")
    assert ended.code == 1
    assert said in " ".join(ended.out.split())
    assert f"Next: reservoir check {DEMO} {runs}" in ended.err
    found = json.loads(run("compare", str(DEMO), str(runs), "--format", "json").out)
    differing = [each for each in found["networks"] if each["changes"]]
    assert [each["network"] for each in differing] == [network]
    assert notice in {change["notice"] for change in differing[0]["changes"]}
    assert found["left_out"]
    checked = run("check", str(DEMO), str(runs), "--select", "running-differs")
    assert (checked.out.count("running-differs") == 1) == (network != "staff")


def test_what_differs_is_told_of_the_network_that_was_asked_for(run: Run, runs: Path) -> None:
    """A name that no side has is refused; a table of Markdown keeps what is told in its cells."""
    runs.write_text(runs.read_text().replace("lease 43200", "lease 7200"))
    told = run("compare", str(DEMO), str(runs), "--at", "cameras")
    assert told.out.startswith("1 of 3 networks differ")
    assert "9 networks of other devices not compared" in told.out
    ended = run("compare", str(DEMO), str(runs), "--at", "camera")
    assert ended.code == 2
    assert "did you mean cameras?" in ended.err
    table = run("compare", str(DEMO), str(runs), "--format", "markdown")
    assert "| at renewal | lease | `12h` | `2h` |  |" in table.out
    assert run("compare", str(DEMO)).code == 2
    assert run("compare", "--old", str(DEMO), "--old", str(runs), "--new", str(DEMO)).code == 2


LEASES = """\
HW;IP;Name;Until;Vendor
00:00:5e:00:53:01;10.84.20.30;kiosk-1;2027-01-10T12:00:00+00:00;x
02:00:00:00:00:11;10.84.31.80;cam;2027-01-14T12:00:00+00:00;x
02:00:00:00:00:12;10.84.31.90;cam-2;never;x
02:00:00:00:00:13;10.84.24.150;till;1799596800;x
02:00:00:00:00:14;10.99.0.1;odd;;x
02:00:00:00:00:15;10.84.31.91;gone;2026-01-01T00:00:00Z;x
"""
COLUMNS = ("--columns", "mac=HW,address=IP,name=Name,expires=Until")


def test_present_clients_are_named(run: Run, runs: Path, tmp_path: Path) -> None:
    """Who keeps, learns or loses what, and by when; who is in no network, whose lease is over."""
    (tmp_path / "leases.csv").write_text(LEASES)
    text = runs.read_text().replace("10.84.31.1 to 10.84.31.63", "10.84.31.1 to 10.84.31.100")
    runs.write_text(text.replace("lease 43200", "lease 7200"))
    now = ("--now", "2027-01-10T08:00:00+00:00")
    ended = run("compare", str(DEMO), str(runs), "--leases", "leases.csv", *COLUMNS, *now,
                "--format", "json")  # fmt: skip
    assert ended.code == 0, ended.err
    assert "leases.csv: ignored column: Vendor" in ended.err
    told = {each["name"]: each for each in json.loads(ended.out)["clients"]}
    assert told["kiosk-1"]["notice"] == "none"
    assert (told["cam"]["notice"], told["cam"]["at"]) == (
        "new-address",
        "2027-01-14T12:00:00+00:00",
    )
    assert told["cam"]["because"] == "its address is not assignable"
    assert told["cam-2"]["at"] is None
    assert "has no end" in told["cam-2"]["because"]
    assert told["till"]["notice"] == "at-renewal"
    assert told["till"]["because"] == "it gets the new lease"
    assert told["odd"]["notice"] is None
    assert told["gone"]["because"] == "its lease has expired"
    again = ("compare", str(DEMO), str(runs), "--leases", "leases.csv", *COLUMNS, *now)
    table = run(*again, "--format", "markdown").out
    assert "## In networks that are not compared" in table
    assert "| odd | `10.99.0.1` | not known |" in table
    text_ = run(*again).out
    assert "cam at 10.84.31.80 by 2027-01-14 12:00 UTC: its address is not assignable" in text_
    assert "6 leases: 2 new address, 1 at renewal, 1 not known, 1 notice nothing" in text_
    assert "1 had expired, the last at\n2026-01-01 00:00 UTC." in text_


def test_a_wrong_lease_list_is_listed_whole(run: Run, runs: Path, tmp_path: Path) -> None:
    """Each wrong cell at its line; a column that is missing, with how to name it."""
    (tmp_path / "leases.csv").write_text(
        "mac,address,expires\n00:00:5e:00:53,10.84.20.30,\n,10.84.20.31,soon\n"
        "00:00:5e:00:53:02,,2027-01-10T12:00:00\n"
    )
    ended = run("compare", str(DEMO), str(runs), "--leases", "leases.csv")
    assert ended.code == 2
    for line, said in ((2, "is not a MAC address"), (3, "'soon' is not a time"),
                       (4, "the address is missing"), (4, "has no offset; --zone")):  # fmt: skip
        assert any(
            part.startswith(f"leases.csv:{line}:") and said in part
            for part in ended.err.split("\n")
        ), said
    (tmp_path / "leases.csv").write_text("hw,ip\n")
    ended = run("compare", str(DEMO), str(runs), "--leases", "leases.csv")
    assert "the column address is missing; --columns tells" in ended.err
    wrong = run("compare", str(DEMO), str(runs), "--leases", "leases.csv", "--columns", "mc=hw")
    assert "did you mean mac?" in wrong.err


MOVED = """\
reservoir: 1
defaults: {dns: [10.84.0.53], lease: 12h}
devices:
  pier:
    dialect: larkspur
    interfaces: {deck: {address: 10.84.30.1/24%s}, uplink: {address: 10.84.0.1/24}}
  depot: {dialect: fulmar, interfaces: {lan: {address: 10.84.0.10/24}},
    routes: [{to: 0.0.0.0/0, via: 10.84.0.1}]}
networks:
  crew: {subnet: 10.84.30.0/24, gateway: 10.84.30.1, served_by: %s, ranges: [10.84.30.%s]}
"""


@pytest.mark.parametrize(
    ("ranges", "notice", "because"),
    [
        ("20-10.84.30.99", "conflict", "depot may assign 10.84.30.20-10.84.30.99"),
        ("120-10.84.30.199", "new-address", "the leases of pier can't be renewed"),
    ],
)
def test_a_pool_that_moves_to_another_server(
    run: Run, tmp_path: Path, ranges: str, notice: str, because: str
) -> None:
    """The new one knows no leases: it may assign what somebody has, unless it has other ranges."""
    (tmp_path / "old.yaml").write_text(MOVED % ("", "pier", "20-10.84.30.99"))
    relayed = ", relay_to: [10.84.0.10]"
    (tmp_path / "new.yaml").write_text(MOVED % (relayed, "depot", ranges))
    found = json.loads(run("compare", "old.yaml", "new.yaml", "--format", "json").out)
    changes = {change["what"]: change for change in found["networks"][0]["changes"]}
    assert (changes["server"]["old"], changes["server"]["new"]) == ("pier", "depot")
    assert changes["server"]["notice"] == notice
    assert because in changes["server"]["because"]
    (tmp_path / "no-relay.yaml").write_text(MOVED % ("", "depot", ranges))
    told = run("compare", "old.yaml", "no-relay.yaml").out
    assert "cut off" in told
    assert "conflict" not in told  # a server that hears nobody assigns nothing
    script = run("compare", "old.yaml", "no-relay.yaml", "--script", "change")
    assert "On the new side, clients of crew are cut off." in script.err
    assert "depot has no interface there, and nothing relays to it" in " ".join(told.split())


def test_what_a_device_cannot_do_is_no_equality(run: Run, tmp_path: Path) -> None:
    """A lease without end, where the dialect has none: both sides lack it, and that is said."""
    plan = MOVED % ("", "pier", "20-10.84.30.99")
    plan = plan.replace("dialect: larkspur", "dialect: quillon").replace("lease: 12h", "lease: 7d")
    (tmp_path / "plan.yaml").write_text(plan)
    assert run("write", "plan.yaml", "--device", "pier", "--out", "running", "-q").code == 0
    (tmp_path / "plan.yaml").write_text(plan.replace("lease: 7d", "lease: infinite"))
    ended = run("compare", "plan.yaml", "running/pier.quillon")
    assert "Not compared: pier" in " ".join(ended.out.split())


SITE = """\
reservoir: 1
defaults: {dns: [10.84.0.53], lease: 8h}
devices:
  pier:
    dialect: tamarack
    interfaces:
      trunk: {}
      trunk.30: {parent: trunk, vlan: 30, address: 10.84.30.1/24, relay_to: [10.84.0.10]}
      uplink: {address: 10.84.0.1/24}
    routes: [{to: 0.0.0.0/0, via: 10.84.0.254}]
  office:
    dialect: merganser
    interfaces:
      core: {address: 10.84.0.10/24, zone: core}
      lan: {address: 10.84.50.1/24, zone: staff}
    zones: {core: {admits: [dhcp]}, staff: {admits: [dhcp]}}
    routes: [{to: 10.84.30.0/24, via: 10.84.0.1}]
networks:
  crew: {subnet: 10.84.30.0/24, gateway: 10.84.30.1, served_by: office,
    ranges: [10.84.30.20-10.84.30.99]}
  staff: {subnet: 10.84.50.0/24, gateway: 10.84.50.1, served_by: office,
    ranges: [10.84.50.20-10.84.50.99],
    bindings: [{name: bell, mac: 00:00:5e:00:53:01, address: 10.84.50.10}]}
"""


@pytest.mark.parametrize(
    ("was", "is_now", "network", "what", "notice"),
    [
        ("trunk: {}", "trunk: {enabled: no}", "crew", "path", "cut-off"),
        ("vlan: 30,", "vlan: 30, enabled: no,", "crew", "path", "cut-off"),
        (", relay_to: [10.84.0.10]", "", "crew", "path", "cut-off"),
        ("relay_to: [10.84.0.10]", "relay_to: [10.84.0.11]", "crew", "path", "cut-off"),
        ("to: 10.84.30.0/24, via", "to: 10.84.31.0/24, via", "crew", "path", "cut-off"),
        ("staff: {admits: [dhcp]}", "staff: {admits: [ping]}", "staff", "path", "cut-off"),
        ("core: {admits: [dhcp]}", "core: {admits: [ping]}", "crew", "path", "cut-off"),
        ("vlan: 30,", "vlan: 31,", "crew", "pier trunk.30 vlan", "none"),
        ("10.84.50.1/24", "10.84.50.2/24", "staff", "gateway 10.84.50.1", "cut-off"),
        ("served_by: office,\n    ranges: [10.84.30", "served_by: [],\n    ranges: [10.84.30",
         "crew", "server", "cut-off"),
        ("10.84.50.20-10.84.50.99", "10.84.50.20-10.84.50.90", "staff", "assignable",
         "new-address"),
        ("10.84.50.20-10.84.50.99", "10.84.50.10-10.84.50.99", "staff", "assignable",
         "only-new-clients"),
        ("address: 10.84.50.10}", "address: 10.84.50.11}", "staff", "binding", "new-address"),
        ("address: 10.84.50.10}", "address: 10.84.50.30}", "staff", "binding", "conflict"),
        ("53:01, address", "53:02, address", "staff", "binding", "conflict"),
        ("subnet: 10.84.50.0/24", "subnet: 10.84.50.0/23", "staff", "subnet", "at-renewal"),
        ("  staff: {subnet", "  people: {subnet", "people", "name", "none"),
    ],
)  # fmt: skip
def test_what_differs_has_its_consequence(
    run: Run, tmp_path: Path, was: str, is_now: str, network: str, what: str, notice: str
) -> None:
    """One thing at a time, between two plans; and the other way round nobody is cut off."""
    assert was in SITE
    (tmp_path / "old.yaml").write_text(SITE)
    (tmp_path / "new.yaml").write_text(SITE.replace(was, is_now))
    found = json.loads(run("compare", "old.yaml", "new.yaml", "--format", "json").out)
    changes = {each["network"]: each["changes"] for each in found["networks"]}
    assert (what, notice) in {(change["what"], change["notice"]) for change in changes[network]}
    assert all(not some for name, some in changes.items() if name != network)
    back = json.loads(run("compare", "new.yaml", "old.yaml", "--format", "json").out)
    assert [each["network"] for each in back["networks"] if each["changes"]]
    if what == "path":
        noticed = {c["notice"] for each in back["networks"] for c in each["changes"]}
        assert noticed <= {"only-new-clients", "none"}


def test_a_side_of_several_files(run: Run, tmp_path: Path) -> None:
    """Each is a device's; together they tell what relays to what, and one more is one more."""
    (tmp_path / "plan.yaml").write_text(SITE)
    assert run("write", "plan.yaml", "--out", "now", "-q").code == 0
    pier, office = "now/pier.tamarack", "now/office.merganser"
    both = ("--new", pier, "--new", office)
    same = run("compare", "plan.yaml", *both, "--exit-code")
    assert same.code == 0
    assert same.out == "No difference in 2 networks.\n"
    assert run("compare", "now", "now", "--exit-code").out == same.out
    one = run("compare", "--old", office, *both)
    assert "No difference in 2 networks." in one.out
    twice = run("compare", "plan.yaml", "--new", pier, "--new", pier)
    assert twice.code == 2
    assert "this is the configuration of pier, and so is" in twice.err
    text = (tmp_path / office).read_text()
    (tmp_path / office).write_text(text.replace("lend 10.84.30.20", "lend 10.84.30.40"))
    lost = run("compare", "plan.yaml", "now")
    assert "new address       assignable: no longer 10.84.30.20-10.84.30.39" in lost.out
    (tmp_path / office).write_text(
        text + "lot crew2:\n    net 10.84.30 mask\n    lend some\ndone\n"
    )
    unread = run("compare", "plan.yaml", "now")
    assert "not understood, and so not compared." in unread.out


def test_what_differs_at_a_device_and_concerns_no_network() -> None:
    """Zones and routes that one side has, the other has, or both have otherwise."""

    def side(zones: dict[str, Any], routes: list[dict[str, str]]) -> reservoir.OpenedPlan:
        gate = {"zones": zones, "routes": routes, "interfaces": {}}
        return reservoir.load({"reservoir": "1", "devices": {"gate": gate}, "networks": {}})

    west, east = {"to": "10.1.0.0/16", "via": "10.0.0.1"}, {"to": "10.2.0.0/16", "via": "10.0.0.2"}
    dhcp, ping = {"admits": ["dhcp"]}, {"admits": ["ping", "dns"]}
    old = side({"a": dhcp, "b": dhcp, "c": dhcp}, [west])
    new = side({"a": dhcp, "b": ping, "d": {"admits": []}}, [west, east])

    def differences(
        one: reservoir.OpenedPlan, other: reservoir.OpenedPlan
    ) -> list[tuple[Any, ...]]:
        compared = reservoir.compare(one, other)
        return [(c.what, c.old, c.new) for device in compared.devices for c in device.changes]

    assert differences(old, new) == [
        ("zone b admits", "dhcp", "dns ping"),
        ("zone c admits", "dhcp", None),
        ("zone d admits", None, "nothing"),
        ("route", None, "to 10.2.0.0/16 via 10.0.0.2"),
    ]
    assert differences(new, old) == [
        ("zone b admits", "dns ping", "dhcp"),
        ("zone d admits", "nothing", None),
        ("zone c admits", None, "dhcp"),
        ("route", "to 10.2.0.0/16 via 10.0.0.2", None),
    ]
    assert differences(old, side({}, [])) == []  # which doesn't say that there are none
