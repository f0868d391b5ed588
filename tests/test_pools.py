"""What is assignable, by which server, how that is reached, how checks run: the core by itself."""

from __future__ import annotations

import datetime
from collections.abc import Iterator
from ipaddress import ip_network
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import reservoir
from met import meets, met
from reservoir.core.checks import Report, Rule, check_plan, rules
from reservoir.core.checks.rule import families
from reservoir.core.findings import Finding, Severity
from reservoir.core.plan.hosts import FIRST_IDENTIFIER, client_numbers, joined, repeated
from reservoir.core.plan.model import Plan, format_path
from reservoir.core.pools import Pools
from reservoir.core.sizing.size import clients_expected
from reservoir.core.values.addresses import Span, format_address, parse_address
from reservoir.core.values.clients import Mac
from reservoir.core.values.text_column import TextColumn
from reservoir.files.plan_file import LoadedPlan

TODAY = datetime.date(2026, 11, 23)

SITE = """\
reservoir: 1
defaults: {dns: [10.84.0.53], domain: sable.example, lease: 12h, options: {ntp: 10.84.0.123}}
devices:
  pier:
    interfaces:
      uplink: {address: 10.84.0.2/24}
      deck: {address: 10.84.30.1/24, relay_to: [10.84.0.10]}
      hold: {address: 10.84.31.1/24}
      red: {address: 10.84.32.1/24, vrf: red}
  office:
    interfaces: {lan: {address: 10.84.0.10/24}, crew: {address: 10.84.33.1/24}}
networks:
  crew:
    {subnet: 10.84.30.0/24, gateway: 10.84.30.1, served_by: office, ranges: all,
     static: [{address: 10.84.30.9}], exclusions: [10.84.30.100-10.84.30.199],
     bindings: [{mac: 00:00:5e:00:53:01, address: 10.84.30.50}]}
  hold:
    {subnet: 10.84.31.0/24, served_by: [{device: pier, ranges: [10.84.31.20-10.84.31.29]},
     {device: office, ranges: [10.84.31.30-10.84.31.39]}], dns: [], lease: 1h,
     options: {mtu: 1400}}
  red: {subnet: 10.84.32.0/24, vrf: red, served_by: pier, ranges: all}
  blue: {subnet: 10.84.32.0/24, vrf: blue, served_by: pier, ranges: all}
"""


def loaded(folder: Path, text: str) -> LoadedPlan:
    (folder / "plan.yaml").write_text(text)
    return reservoir.load(str(folder / "plan.yaml"))


@pytest.fixture
def pools(tmp_path: Path) -> Pools:
    return Pools(loaded(tmp_path, SITE).plan)


def pool(pools: Pools, name: str, server: str) -> Any:
    (found,) = [p for p in pools if p.name == name and p.server == server]
    return found


def test_all_means_every_host_less_what_is_kept(pools: Pools) -> None:
    """Gateway, interface, static host, exclusions and the bound address are left out."""
    assignable = pool(pools, "crew", "office").assignable
    assert str(assignable) == (
        "10.84.30.2-10.84.30.8, 10.84.30.10-10.84.30.49, 10.84.30.51-10.84.30.99, "
        "10.84.30.200-10.84.30.254"
    )


def test_servers_have_their_shares(pools: Pools) -> None:
    """Each assigns from its own ranges; both hold the bindings."""
    assert str(pool(pools, "hold", "pier").assignable) == "10.84.31.20-10.84.31.29"
    assert str(pool(pools, "hold", "office").assignable) == "10.84.31.30-10.84.31.39"
    assert len(pools.served_by("pier")) == 3


def test_a_vrf_is_a_world_of_its_own(pools: Pools) -> None:
    """The interface in red is nobody in blue, where the same address is free."""
    assert parse_address("10.84.32.1") not in pool(pools, "red", "pier").assignable
    assert parse_address("10.84.32.1") in pool(pools, "blue", "pier").assignable
    networks = pools.plan.networks
    assert pools.topology.reach("pier", networks["red"]) is not None
    assert pools.topology.reach("pier", networks["blue"]) is None


def test_how_a_server_hears_its_clients(pools: Pools) -> None:
    """By an interface of its own, by a relay on another's, or not at all."""
    networks, topology = pools.plan.networks, pools.topology
    relayed = topology.reach("office", networks["crew"])
    assert relayed is not None
    assert relayed.own is None
    assert str(relayed.relay) == "pier deck"
    own = topology.reach("pier", networks["crew"])
    assert own is not None
    assert own.own is not None
    assert format_path(own.own.path) == "devices.pier.interfaces.deck"
    assert topology.reach("office", networks["hold"]) is None


def test_what_clients_are_told(pools: Pools) -> None:
    """The network's own words go before the defaults; an empty list is a word; options add up."""
    told = dict(zip(pools.names, pools.offers, strict=True))
    crew = told["crew"]
    assert (crew.dns, crew.values["domain"], crew.lease) == (
        (parse_address("10.84.0.53"),),
        "sable.example",
        43_200,
    )
    hold = told["hold"]
    assert (hold.dns, hold.lease, sorted(hold.options)) == ((), 3_600, [26, 42])


@given(
    st.lists(st.lists(st.binary(min_size=2, max_size=3) | st.integers(1, 5), max_size=4)),
)
def test_tables_are_joined_without_mixing_up_clients(groups: list[list[Any]]) -> None:
    """Equal identifiers of different tables get one number, different ones never the same."""
    from reservoir.core.plan.hosts import HostTable

    tables, expected = [], []
    for group in groups:
        clients = [Mac(c) if isinstance(c, int) else c for c in group]
        numbers, identifiers = client_numbers(clients)
        rows = np.arange(len(group))
        tables.append(
            HostTable(
                rows,
                rows,
                numbers,
                TextColumn.of(["x"] * len(group)),
                rows * 0,
                rows,
                [("t",)],
                identifiers,
            )
        )
        expected += clients
    table = joined(tables)
    assert [table.client_at(i) for i in range(len(table))] == expected
    same: dict[Any, set[int]] = {}
    for index, client in enumerate(expected):
        same.setdefault(client, set()).add(int(table.client[index]))
    assert all(len(numbers) == 1 for numbers in same.values())
    macs = [number < FIRST_IDENTIFIER for number in table.client.tolist()]
    assert macs == [isinstance(client, Mac) for client in expected]


@given(st.lists(st.tuples(st.integers(0, 3), st.integers(0, 4)), max_size=12))
def test_rows_that_agree_are_found_in_groups(rows: list[tuple[int, int]]) -> None:
    """As comparing each with each finds them."""
    expected = {
        tuple(i for i, row in enumerate(rows) if row == value)
        for value in rows
        if rows.count(value) > 1
    }
    columns = np.array(rows, dtype=np.int64).reshape(-1, 2)
    found = {tuple(group.tolist()) for group in repeated(columns[:, 0], columns[:, 1])}
    assert found == expected


def test_demand_grows_by_compound_interest(tmp_path: Path) -> None:
    """Rounded up to whole devices, and 10 % of 100 is 110, not a bit more."""
    for text, peak in (
        ("devices: 100, growth: 10%/year, horizon: 1 year", 110),
        ("devices: 420, growth: 10%/year, horizon: 2 years", 509),
        ("devices: 100, growth: 50%, horizon: 6 months", 123),
        ("devices: 7", 7),
    ):
        plan = loaded(
            tmp_path,
            f"reservoir: 1\nnetworks: {{a: {{subnet: 10.84.0.0/24, demand: {{{text}}}}}}}\n",
        ).plan
        demand = plan.networks["a"].demand
        assert demand is not None
        assert clients_expected(demand, 3_600) == peak


def test_a_wider_range_is_as_wide_as_needed_and_takes_nothing_of_others(tmp_path: Path) -> None:
    """It stops before the next address that somebody holds, and grows downwards instead."""
    text = (
        "reservoir: 1\nnetworks:\n  a: {{subnet: 10.84.0.0/26, gateway: 10.84.0.1,\n"
        "    ranges: [10.84.0.20-10.84.0.29], static: [{{address: {static}}}],\n"
        "    exclusions: [10.84.0.31], demand: {{devices: {devices}, headroom: 0%}}}}\n"
    )
    for static, devices, wider in (
        ("10.84.0.60", 12, "10.84.0.20-10.84.0.32"),
        ("10.84.0.35", 15, "10.84.0.19-10.84.0.34"),
        ("10.84.0.35", 32, "10.84.0.2-10.84.0.34"),
        ("10.84.0.35", 33, None),
    ):
        report = checked(loaded(tmp_path, text.format(static=static, devices=devices)).plan)
        (finding,) = [f for f in report.findings if f.rule == "pool-undersized"]
        assert [s.new for s in finding.suggestions] == ([wider] if wider else []), static


def checked(plan: Plan, **options: Any) -> Report:
    return check_plan(Pools(plan), today=TODAY, **options)


def test_a_rule_that_fails_is_reported_and_the_others_go_on(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    """One defect must not hide what the other rules find."""

    def fail(self: Rule, site: object) -> Iterator[Finding]:
        raise ZeroDivisionError("by design")

    monkeypatch.setattr(type(rules()["pool-empty"]), "check", fail)
    report = checked(loaded(tmp_path, SITE.replace("10.84.31.30-", "10.84.31.25-")).plan)
    found = {finding.rule: finding for finding in report.findings}
    assert "ZeroDivisionError: by design" in found["pool-empty"].message
    assert "pools-overlap" in found


def test_findings_come_in_the_order_of_putting_right(tmp_path: Path) -> None:
    """By network as in the plan; within it by severity and family; consequences behind causes."""
    plan = loaded(
        tmp_path,
        "reservoir: 1\ndefaults: {dns: [10.84.0.53]}\nnetworks:\n"
        "  b: {subnet: 10.84.2.0/24, ranges: [10.84.3.9], demand: {devices: 3},\n"
        "    gateway: 10.9.9.9, bindings: [{mac: 00:00:5e:00:53:01, address: 10.9.9.9}]}\n"
        "  a: {subnet: 10.84.1.1/24, gateway: none, ranges: [10.84.1.9]}\n",
    ).plan
    report = checked(plan)
    assert [(finding.network, finding.rule) for finding in report.findings] == [
        ("b", "range-outside-subnet"),
        ("b", "pool-undersized"),
        ("b", "pool-empty"),
        ("b", "gateway-bound"),
        ("b", "gateway-outside-subnet"),
        ("b", "binding-outside-subnet"),
        ("b", "network-unserved"),
        ("a", "subnet-has-host-bits"),
        ("a", "dns-unreachable"),
        ("a", "network-unserved"),
        ("a", "demand-unknown"),
    ]
    assert {rule.family for rule in rules().values()} == set(families())


def test_a_hundred_thousand_bindings_and_one_mistake_in_each_thousand(tmp_path: Path) -> None:
    """Every planted mistake is found in its row, and nothing else."""
    lines = ["network,name,mac,address"]
    planted = []
    for number in range(100_000):
        address = Span(parse_address("10.0.0.1") + number, 0).first
        if number % 1_000 == 999:
            planted.append(number)
            address -= 1
        lines.append(f"all,h{number},{Mac(number + 1)},{format_address(address)}")
    (tmp_path / "b.csv").write_text("\n".join(lines) + "\n")
    plan = loaded(
        tmp_path, "reservoir: 1\nnetworks: {all: {subnet: 10.0.0.0/8}}\nbindings_from: [b.csv]\n"
    )
    twice = [f for f in reservoir.check(plan).findings if f.rule == "binding-address-twice"]
    assert [finding.at[2] for finding in twice] == planted
    assert plan.places.place(twice[0].at).line == planted[0] + 2
    assert all(finding.severity is Severity.ERROR for finding in twice)


@meets("a link", "an edge", "just outside")
@given(st.lists(st.tuples(st.integers(24, 32), st.integers(0, 3), st.integers(-1, 9)), min_size=1))
def test_addresses_at_the_ends_of_a_subnet(drawn: list[tuple[int, int, int]]) -> None:
    """Its edges, and what is just outside, as the standard library has them."""
    networks, hosts, expected = {}, [], []
    for number, (bits, end, step) in enumerate(drawn):
        known = ip_network(((172 << 24) + (number << 16) + (9 << 8), bits), strict=False)
        first, last = int(known.network_address), int(known.broadcast_address)
        address = [first + step, last - step, first, last][end]
        networks[f"n{number}"] = {"subnet": str(known)}
        hosts.append({"name": f"h{number}", "address": format_address(address)})
        is_edge = bits < 31 and address in (first, last)
        expected.append((not first <= address <= last, is_edge))
        met("a link", bits == 31 and address in (first, last))
        met("an edge", is_edge)
        met("just outside", address in (first - 1, last + 1))
    for network, host in zip(networks.values(), hosts, strict=True):
        network["static"] = [host]  # type: ignore[assignment]
    pools = reservoir.load({"reservoir": "1", "networks": networks}).pools
    outside, edge = pools.outside_subnet(pools.static), pools.on_edge(pools.static)
    assert list(zip(outside.tolist(), edge.tolist(), strict=True)) == expected


@pytest.mark.parametrize(
    ("name", "device"),
    [
        ("pier", "pier"), ("pier.sable.example", "pier"), ("pier deck", "pier"),
        ("pier-deck", "pier"), ("pier_deck", "pier"), ("pier-printer", None),
        ("pier printer", None),
        ("pierdeck", None), ("deck", None), ("pier-2", "pier-2"), ("pier-2 deck", None),
        ("pier-2.deck", "pier-2"), ("old-pier", None),
    ],
)  # fmt: skip
def test_a_static_host_is_a_device_by_its_name_domain_or_port(
    name: str, device: str | None
) -> None:
    """A name that only begins like a device's may be anything."""
    ports = {"deck": {"address": "10.84.30.1/24"}}
    devices = {"pier": {"interfaces": ports}, "pier-2": {}}
    crew = {"subnet": "10.84.30.0/24", "static": [{"name": name, "address": "10.84.30.9"}]}
    plan = reservoir.load({"reservoir": "1", "devices": devices, "networks": {"crew": crew}})
    assert plan.pools.device_at(0) == device
