"""Lease lists beside a plan: what contradicts it, how full it is, and leases made bindings."""

from __future__ import annotations

import json
import math
from collections import Counter
from collections.abc import Callable
from ipaddress import IPv4Address
from pathlib import Path
from typing import Any

import numpy as np
import pytest
import yaml
from hypothesis import given, settings
from hypothesis import strategies as st

import reservoir
from conftest import Run, examples
from met import meets, met
from oracle import MACS, Walked, addresses, number_of, plans, text_of
from reservoir.core.findings import Severity
from reservoir.core.leases.ends import Ends
from reservoir.core.problems import InputError
from reservoir.files.lease_list import read_leases
from test_any_plan import told

Put = Callable[[str, str], Path]

NOW = 1_800_000_000
HEADER = "mac,address,server,expires"

Listed = tuple[str, str, str, str]
"""A row: MAC address, address, server, end."""

OF_POOLS = ("lease-pool-full", "lease-pool-nearly-full", "lease-too-long")
"""Rules about a pool's size and its lease time."""

ENDS = ["", "never", str(NOW - 60), str(NOW + 60), str(NOW + 7200)]


@st.composite
def lists(draw: st.DrawFn, inside: list[str]) -> list[Listed]:
    """Leases, most of them of addresses that are in networks."""
    address = st.sampled_from(inside) | st.sampled_from(inside[:6]) | addresses
    servers = st.sampled_from(["", "a", "b"])
    row = st.tuples(st.sampled_from(MACS[:6]), address, servers, st.sampled_from(ENDS))
    return draw(st.lists(row, min_size=3, max_size=12))


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("leases")


@meets("a contradiction", "addresses taken")
@given(plan=plans(), data=st.data())
@settings(max_examples=examples(150))
def test_each_lease_is_judged_as_walking_the_plan_finds(
    folder: Path, plan: dict[str, Any], data: st.DataObject
) -> None:
    """Whose address it is, whether anybody may get it, who is there twice, how full it is."""
    plan = without_vrfs(plan)
    try:
        opened = reservoir.loads(text_of(plan))
    except InputError:
        return
    if len(homes(plan)) != sum(len(Walked(plan).addresses(n)) for n in plan["networks"]):
        return  # overlapping networks: which of them a lease is in, a list may tell
    held = [a for n in plan["networks"].values() for b in n["bindings"] for a in [b["address"]]]
    listed = data.draw(lists([*held, *(str(IPv4Address(a)) for a in homes(plan))]))
    text = "\n".join([HEADER, *(",".join(row) for row in listed)]) + "\n"
    (folder / "leases.csv").write_text(text)
    leases = read_leases(str(folder / "leases.csv")).leases
    checked = reservoir.check_leases(opened, leases, now=NOW)
    told = [c for c in checked.contradictions if c.rule not in OF_POOLS]
    assert Counter((c.rule, c.row) for c in told) == expected(plan, listed)
    full = Counter(c.network for c in checked.contradictions if "full" in c.rule)
    assert full == Counter(
        each.network for each in checked.usage if each.taken and each.taken >= 0.9 * each.assignable
    )
    met("a contradiction", len(checked.contradictions) > 0)
    met("addresses taken", any(usage.taken for usage in checked.usage))
    for usage in checked.usage:
        assert usage.taken == taken(plan, listed, usage.network, usage.server)


def without_vrfs(plan: dict[str, Any]) -> dict[str, Any]:
    """The plan in one VRF and in one part of the address space, so that addresses tell networks."""
    text = json.dumps(plan).replace("11.84.0.", "10.84.0.").replace("127.0.0.", "10.84.0.")
    same: dict[str, Any] = json.loads(text.replace(', "vrf": "other"', ""))
    return same


def homes(plan: dict[str, Any]) -> dict[int, str]:
    """The network of each address."""
    walked = Walked(plan)
    return {address: name for name in plan["networks"] for address in walked.addresses(name)}


def bound(plan: dict[str, Any], name: str) -> list[tuple[str, int]]:
    """The MAC addresses that are bound in a network, by themselves or in an identifier."""
    found = []
    for binding in plan["networks"][name]["bindings"]:
        digits = binding.get("client_id", "").removeprefix("hex:01")
        mac = binding.get("mac", ":".join(digits[at : at + 2] for at in range(0, 12, 2)))
        found.append((mac, number_of(binding["address"])))
    return found


def valid(listed: list[Listed]) -> list[tuple[int, str, int, str]]:
    """The rows of leases that haven't expired."""
    return [
        (row, mac, number_of(address), server)
        for row, (mac, address, server, ends) in enumerate(listed)
        if not ends.isdigit() or int(ends) > NOW
    ]


def expected(plan: dict[str, Any], listed: list[Listed]) -> Counter[tuple[str, int]]:
    """What is wrong with each lease."""
    walked, home, found = Walked(plan), homes(plan), Counter[tuple[str, int]]()
    inside = [(row, mac, a, s) for row, mac, a, s in valid(listed) if a in home]
    for row, _, address, _ in valid(listed):
        found["lease-in-no-network", row] += address not in home
    for row, mac, address, server in inside:
        name = home[address]
        own = [a for who, a in bound(plan, name) if who == mac]
        if address in own:  # of several, the one that it has
            continue
        anybody = {a for pool in walked.pools if pool.network == name for a in pool.assignable}
        found["lease-bound-elsewhere", row] += bool(own)
        everywhere = {a for each in plan["networks"] for _, a in bound(plan, each)}
        if address in everywhere:
            found["lease-bound-to-another", row] += 1
        elif address in walked.taken(name):
            found["lease-held", row] += 1
        elif address not in anybody:
            found["lease-not-assignable", row] += 1
        serving = [served for served, *_ in walked.servers(name)]
        found["lease-other-server", row] += bool(server) and server not in serving
    for rule, key in (("address", lambda m, a: a), ("client", lambda m, a: (home[a], m))):
        for group in {key(mac, a) for _, mac, a, _ in inside}:
            some = [(row, mac, a) for row, mac, a, _ in inside if key(mac, a) == group]
            others = {mac if rule == "address" else a for _, mac, a in some}
            found[f"lease-{rule}-twice", some[-1][0]] += len(others) > 1
    return +found


def taken(plan: dict[str, Any], listed: list[Listed], name: str, server: str | None) -> int:
    """How many addresses of a server's pool have a lease, of it or of no server that is known.

    A pair has its addresses once, whoever of both gave the lease.
    """
    walked, home = Walked(plan), homes(plan)
    serving = [served for served, *_ in walked.servers(name)]
    its = server.split(", ") if server else [None]
    pair = {served for served, _, _, is_paired in walked.servers(name) if is_paired}
    assert {*its} == pair or pair.isdisjoint(its)
    [pool] = [p for p in walked.pools if p.network == name and p.server == its[0]][:1]
    return len(
        {
            address
            for _, _, address, by in valid(listed)
            if home.get(address) == name and address in pool.assignable
            and (len(serving) < 2 or by in its or by not in serving)
        }
    )  # fmt: skip


def test_a_client_with_an_identifier_is_known_by_it(put: Put, run: Run) -> None:
    """Whatever MAC address it has; a name of it is used where there is one."""
    put("plan.yaml", CREW)
    put("leases.csv", "client_id,address,name\nhex:ff0102,10.84.30.40,bell\n")
    ended = run("leases", "leases.csv", "--plan", "plan.yaml")
    assert "warning lease-bound-elsewhere  leases.csv:2" in ended.out
    assert "bell has 10.84.30.40, but is bound to 10.84.30.12" in ended.out
    assert ended.code == 0
    assert run("leases", "leases.csv", "--plan", "plan.yaml", "--fail-on", "warning").code == 1
    found = json.loads(run("leases", "leases.csv", "--plan", "plan.yaml", "--format", "json").out)
    assert found["networks"][0]["taken"] == 1
    assert found["findings"][0]["client"] == "hex:ff0102"


CREW = """\
networks:
  # The crew's own.
  crew:
    subnet: 10.84.30.0/24
    gateway: 10.84.30.1
    ranges: [10.84.30.40-10.84.30.49]
    lease: 2h
    exclusions: [{range: 10.84.30.45, for: the bell}]
    bindings:
      - {client_id: hex:ff0102, address: 10.84.30.12}  # the mate
  guests: {subnet: 10.84.31.0/24, ranges: [10.84.31.40-10.84.31.49]}
"""

SERVED = """\
devices: {pier: {}, shed: {}}
networks:
  crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.40-10.84.30.49], served_by: pier}
  guests: {subnet: 10.84.31.0/24, ranges: [10.84.31.40-10.84.31.49], served_by: []}
"""


def test_what_contradicts_is_said_in_full(put: Put, run: Run) -> None:
    """Who has what of whom, two or more of them, and who serves there instead."""
    put("plan.yaml", SERVED)
    rows = [("01", "30.40", "shed"), ("02", "30.40", "pier"), ("03", "31.40", "shed"),
            ("04", "30.41", "pier"), ("05", "30.41", "pier"), ("06", "30.41", "pier")]  # fmt: skip
    lines = [f"00:00:5e:00:53:{mac},10.84.{address},{by}" for mac, address, by in rows]
    put("leases.csv", "\n".join(["mac,address,server", *lines, ""]))
    ended = run("leases", "leases.csv", "--plan", "plan.yaml", "--format", "json")
    one, two, three, four, five, six = (f"00:00:5e:00:53:0{number}" for number in range(1, 7))
    assert {found["message"] for found in json.loads(ended.out)["findings"]} >= {
        f"{one} has a lease of shed, which doesn't serve crew, but pier does",
        f"{three} has a lease of shed, which doesn't serve guests",
        f"{one} and {two} both have 10.84.30.40",
        f"{four}, {five} and {six} all have 10.84.30.41",
    }


def test_a_client_with_an_identifier_may_have_any_mac(put: Put, run: Run) -> None:
    """Its binding is by the identifier, which a randomised MAC address doesn't change."""
    plan = put("plan.yaml", CREW)
    put("leases.csv", "mac,client_id,address\n02:00:5e:00:53:04,hex:ff0103,10.84.30.44\n")
    assert run("adopt", "leases.csv", "--into", "plan.yaml", "--in-place").code == 0
    assert "- {client_id: hex:ff0103, address: 10.84.30.44}\n" in plan.read_text()


LIST = """\
mac,address,name,expires
00:00:5e:00:53:01,10.84.30.41,cook,2027-01-15T09:00:00+00:00
00:00:5e:00:53:02,10.84.30.42,"=SUM(1)",2027-01-15T09:00:00+00:00
00:00:5e:00:53:03,10.84.31.43,no,2027-01-15T09:00:00+00:00
02:00:5e:00:53:04,10.84.30.44,phone,2027-01-15T09:00:00+00:00
00:00:5e:00:53:05,10.84.30.45,bosun,2027-01-15T09:00:00+00:00
00:00:5e:00:53:06,10.84.30.46,gone,2027-01-15T07:00:00+00:00
00:00:5e:00:53:07,10.84.30.1,odd,never
00:00:5e:00:53:08,10.84.30.12,thief,never
"""
MORNING = ("--now", "2027-01-15T08:00:00+00:00")


def test_leases_become_bindings_in_place(put: Put, run: Run) -> None:
    """Comments and layout stay; names that YAML or a spreadsheet would misread are safe."""
    plan = put("plan.yaml", CREW)
    put("leases.csv", LIST)
    shown = run("adopt", "leases.csv", "--into", "plan.yaml", *MORNING)
    assert shown.code == 0, shown.err
    assert "3 bindings can be added; --in-place does it." in shown.err
    assert plan.read_text() == "reservoir: 1\n" + CREW
    for line, said in ((5, "randomised"), (6, "excluded for the bell"), (7, "has expired"),
                       (8, "a static host or a device has"), (9, "is bound to its")):  # fmt: skip
        assert any(
            f"leases.csv:{line}: " in part and said in part for part in shown.err.split("\n")
        ), said
    assert run("adopt", "leases.csv", "--into", "plan.yaml", *MORNING, "--in-place").code == 0
    text = plan.read_text()
    assert "- {client_id: hex:ff0102, address: 10.84.30.12}  # the mate\n" in text
    assert (
        "      - {name: cook, mac: 00:00:5e:00:53:01, address: 10.84.30.41, hostname: cook}\n"
        in text
    )
    names = [
        binding.name
        for network in reservoir.load(plan).plan.networks.values()
        for binding in network.bindings
    ]
    assert names == ["", "cook", "=SUM(1)", "no"]
    again = run("adopt", "leases.csv", "--into", "plan.yaml", *MORNING)
    assert "Nothing to change: no lease can become a binding." in again.err


@meets("a binding added", "one that is refused")
@given(plan=plans(), data=st.data())
@settings(max_examples=examples(40))
def test_adopting_adds_bindings_and_nothing_else(
    folder: Path, plan: dict[str, Any], data: st.DataObject
) -> None:
    """Each of a lease that is in force; no new error comes with it, and once is enough."""
    plan, file = without_vrfs(plan), folder / "adopted.yaml"
    inside = [str(IPv4Address(a)) for a in homes(plan)]
    listed = data.draw(lists(inside))
    (folder / "leases.csv").write_text("\n".join([HEADER, *map(",".join, listed), ""]))
    file.write_text(text_of(plan))
    adopt = ("adopt", folder / "leases.csv", "--into", file, "--now", str(NOW))
    ended = told(*adopt, "--in-place")
    texts, adopted = (yaml.load(t, yaml.BaseLoader) for t in (text_of(plan), file.read_text()))  # noqa: S506 - texts only
    met("one that is refused", ended.exit_code != 0)
    if ended.exit_code:
        assert adopted == texts
        return
    in_force = {(mac, address) for mac, address, _, end in listed if end not in ENDS[2:3]}
    for name, network in texts["networks"].items():
        now = adopted["networks"][name]
        assert now["bindings"][: len(network["bindings"])] == network["bindings"]
        new = [(b["mac"], b["address"]) for b in now["bindings"][len(network["bindings"]) :]]
        met("a binding added", len(new) > 0)
        assert set(new) <= in_force
        assert len({mac for mac, _ in new}) == len({address for _, address in new}) == len(new)
        now["bindings"] = network["bindings"]
    before, after = (
        Counter(
            (f.rule, f.network) for f in reservoir.check(loaded) if f.severity is Severity.ERROR
        )
        for loaded in (reservoir.loads(text_of(plan)), reservoir.load(file))
    )
    assert adopted == texts
    assert not after - before
    assert "no lease can become a binding" in told(*adopt).stderr


def test_a_plan_with_a_table_gets_rows(put: Put, run: Run) -> None:
    """At its end, with its columns in their order; but no cell that a spreadsheet would run."""
    put("plan.yaml", CREW + "bindings_from: [table.csv]\n")
    table = put("table.csv", "address,mac,network,name\r\n10.84.30.60,00:00:5e:00:53:60,crew,x")
    put("leases.csv", LIST)
    assert run("adopt", "leases.csv", "--into", "plan.yaml", *MORNING, "--in-place").code == 0
    assert table.read_bytes().decode() == (
        "address,mac,network,name\r\n10.84.30.60,00:00:5e:00:53:60,crew,x\r\n"
        "10.84.30.41,00:00:5e:00:53:01,crew,cook\r\n10.84.31.43,00:00:5e:00:53:03,guests,no\r\n"
    )
    assert (
        '- {name: "=SUM(1)", mac: 00:00:5e:00:53:02,'
        in Path(table.parent / "plan.yaml").read_text()
    )


def test_clients_are_chosen_and_get_other_addresses(put: Put, run: Run) -> None:
    """By a pattern, or one by its whole MAC address even if it is randomised; told when."""
    put("plan.yaml", CREW)
    put("leases.csv", LIST)
    ended = run("adopt", "leases.csv", "--into", "plan.yaml", "--client", "COOK", *MORNING,
                "--address", "from", "10.84.30.12-10.84.30.20")  # fmt: skip
    assert (
        "+      - {name: cook, mac: 00:00:5e:00:53:01, address: 10.84.30.13, hostname: cook}"
        in ended.out
    )
    assert "cook changes from 10.84.30.41 to 10.84.30.13 by 2027-01-15 09:00 UTC" in ended.err
    one = run(
        "adopt", "leases.csv", "--into", "plan.yaml", "--client", "02:00:5e:00:53:04", *MORNING
    )
    assert (
        "+      - {name: phone, mac: 02:00:5e:00:53:04, address: 10.84.30.44, hostname: phone}"
        in one.out
    )
    few = run("adopt", "leases.csv", "--into", "plan.yaml", "--network", "crew", *MORNING,
              "--address", "from", "10.84.30.60", "--format", "json")  # fmt: skip
    found = json.loads(few.out)
    assert [each["address"] for each in found["bindings"]] == ["10.84.30.60"]
    assert {"no address is left where new ones are taken from"} < {
        each["because"] for each in found["left_out"]
    }
    none = run("adopt", "leases.csv", "--into", "plan.yaml", "--client", "nobody*", *MORNING)
    assert "No lease matches --client or --network." in none.err
    assert run("adopt", "leases.csv", "--into", "plan.yaml", "--network", "crw").code == 2
    assert run("adopt", "leases.csv", "--into", "-").code == 2


def test_no_new_error_comes_into_a_plan(put: Put, run: Run) -> None:
    """More bindings than the device can hold are refused, and nothing is changed."""
    plan = put("plan.yaml", SMALL_BOX)
    rows = [f"00:00:5e:00:53:{n:02x},10.84.30.{100 + n}" for n in range(65)]
    put("leases.csv", "\n".join(["mac,address", *rows]))
    before = plan.read_text()
    ended = run("adopt", "leases.csv", "--into", "plan.yaml", "--in-place")
    assert ended.code == 1
    assert "too-many: box" in ended.err
    assert "Nothing was changed: the plan would have new errors." in ended.err
    assert plan.read_text() == before


SMALL_BOX = """\
devices: {box: {dialect: thimble, interfaces: {lan: {address: 10.84.30.1/24}}}}
networks:
  shop:
    {subnet: 10.84.30.0/24, gateway: 10.84.30.1, served_by: box, dns: 10.84.0.53,
     ranges: [10.84.30.40-10.84.30.49]}
"""


ODD = """\
mac,address,name,network,starts,expires
00:00:5e:00:53:01,10.84.30.41,helm,shop,999000,1002000
00:00:5e:00:53:02,10.84.30.42,radar,crew,1030000,1002000
00:00:5e:00:53:03,10.84.30.43,sonar,crew,1001000,1002000
00:00:5e:00:53:04,10.84.30.44,chart,crew,999000,1999000
00:00:5e:00:53:05,10.84.30.40,bell,nowhere,999000,1002000
"""


def test_leases_that_cannot_be_as_they_are_listed(put: Put, run: Run) -> None:
    """Of another network than their address, at impossible times, too long; and a full pool."""
    network = "{{subnet: 10.84.{0}.0/24, gateway: 10.84.{0}.1, lease: 1h, {1}}}"
    networks = {
        "crew": network.format(30, "ranges: [10.84.30.40-10.84.30.44]"),
        "shop": network.format(31, "ranges: [10.84.31.40-10.84.31.44]"),
    }
    text = "".join(f"  {name}: {described}\n" for name, described in networks.items())
    put("plan.yaml", f"reservoir: 1\nnetworks:\n{text}")
    put("leases.csv", ODD)
    ended = run("leases", "leases.csv", "--plan", "plan.yaml", "--now", "1000000")
    for said in (
        "helm has 10.84.30.41 of crew, but is listed in shop",
        "the lease of radar begins after it ends",
        "the lease of sonar begins in the future",
        "chart has a lease until 1970-01-24 03:16 UTC, which is longer than 1h, as crew gives",
        "5 of 5 addresses in crew are taken, none left: the next client gets none",
        "5 leases: 5 warnings.",
    ):
        assert said in ended.out


def test_judged_leases_are_counted(put: Put, run: Run) -> None:
    """In the closing line, the expired ones too."""
    put("plan.yaml", CREW)
    put("leases.csv", LIST)
    ended = run("leases", "leases.csv", "--plan", "plan.yaml", *MORNING)
    assert ended.code == 1
    assert "8 leases, 1 of them expired: 2 errors, 3 warnings." in ended.out


@pytest.mark.parametrize("separator", [",", ";", "\t"])
@pytest.mark.parametrize("quote", ["", '"'])
def test_tables_of_any_make_are_read(separator: str, quote: str, put: Put, run: Run) -> None:
    """With other separators, quotes, a byte-order mark and CRLF; by standard input too."""
    put("plan.yaml", CREW)
    rows = [["expires", "address", "mac"], ["1900000000", "10.84.30.41", "0000.5e00.5301"]]
    lines = (separator.join(f"{quote}{cell}{quote}" for cell in row) for row in rows)
    text = "\ufeff" + "\r\n".join(lines) + "\r\n"
    call = ("leases", "-", "--plan", "plan.yaml", "--format", "json", "--now", "1899999000")
    ended = run(*call, stdin=text)
    assert ended.code == 0, ended.err
    found = json.loads(ended.out)
    assert found["networks"][0]["taken"] == 1
    assert found["summary"] == {"leases": 1, "expired": 0, "errors": 0, "warnings": 0}


@pytest.mark.parametrize(
    ("starts", "expires", "known", "now", "expected"),
    [
        ("1000", "9000", None, 1_000, (5_000, 8_000, 9_000)),
        ("1000", "9000", None, 5_000, (9_000, 8_000, 9_000)),  # it should have renewed
        ("1000", "9000", None, 8_500, (9_000, 9_000, 9_000)),
        ("1000", "never", 800, 1_000, (math.inf, math.inf, math.inf)),
        ("", "9000", 8_000, 1_000, (5_000, 8_000, 9_000)),
        ("1000", "9000", 800, 1_000, (5_000, 8_000, 9_000)),  # what the list tells goes first
        ("", "", 800, 1_000, (1_400, 1_700, 1_800)),  # at the latest: as if it had just renewed
        ("", "9000", None, 1_000, (9_000, 9_000, 9_000)),
    ],
)
def test_when_a_lease_is_renewed_rebound_and_over(
    put: Put, starts: str, expires: str, known: int | None, now: int, expected: tuple[float, ...]
) -> None:
    """At half the lease, at seven eighths, at its end (RFC 2131 section 4.4.5)."""
    row = f"00:00:5e:00:53:01,10.84.30.9,{starts},{expires}"
    file = put("leases.csv", f"mac,address,starts,expires\n{row}\n")
    leases = read_leases(str(file)).leases
    ends = Ends(leases, np.arange(1), known, now)
    assert (ends.renewal[0], ends.rebinding[0], ends.end[0]) == expected


def test_a_lease_is_over_from_its_last_second_on(put: Put) -> None:
    """And one that never ends, or says nothing, is not."""
    rows = [
        f"00:00:5e:00:53:0{n},10.84.30.{n},{end}" for n, end in enumerate(("1000", "never", ""))
    ]
    file = put("leases.csv", "\n".join(["mac,address,expires", *rows, ""]))
    leases = read_leases(str(file)).leases
    for now, over in ((999.5, False), (1_000, True), (1_001, True)):
        assert leases.expired(now).tolist() == [over, False, False]
