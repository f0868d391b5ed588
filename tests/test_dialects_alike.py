"""Whatever dialect a server speaks: its clients get the same, and so does whoever asks about it."""

from __future__ import annotations

import json
from pathlib import Path
from typing import Any

import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

import reservoir
from conftest import examples
from oracle import text_of
from reservoir.dialects.sheet.library import Library
from test_any_plan import told
from test_round_trip import DIALECTS, benign_plan, plain_names

ALIKE = ("network", "clients", "served", "gateway", "gateway_answers", "dns_answers", "lease",
         "bindings", "bindings_right")  # fmt: skip
"""What a rehearsal tells of a network that no device decides by itself."""

pairs = st.lists(st.sampled_from(DIALECTS), min_size=2, max_size=2, unique=True)


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("alike")


def in_dialect(plan: dict[str, Any], dialect: str) -> str:
    """The plan's text, with a server that speaks a dialect and admits what clients ask for."""
    other: dict[str, Any] = json.loads(text_of(plan))
    server = other["devices"]["server"]
    server |= {"dialect": dialect, "zones": {"inside": {"admits": ["dhcp", "dns", "ping"]}}}
    for interface in server["interfaces"].values():
        interface["zone"] = "inside"
    return text_of(other)


@given(dialects=pairs, data=st.data())
@settings(max_examples=examples(40))
def test_clients_get_the_same_of_each(
    folder: Path, dialects: list[str], data: st.DataObject
) -> None:
    """Their addresses aside, which each family assigns in its own order.

    Families differ in what becomes of a client that is bound to the server's own address.
    """
    plan = data.draw(benign_plan(tuple(dialects), plain_names))
    held = json.dumps(plan["devices"]["server"]["interfaces"])
    bound = [one["address"] for each in plan["networks"].values() for one in each["bindings"]]
    assume(not any(f'"{address}/' in held for address in bound))
    found = []
    for dialect in dialects:
        (folder / "plan.yaml").write_text(in_dialect(plan, dialect))
        ended = told("rehearse", folder / "plan.yaml", "--clients", "3", "--format", "json")
        found.append(json.loads(ended.stdout)["networks"])
    ours, theirs = ([{key: each[key] for key in ALIKE} for each in some] for some in found)
    assert ours == theirs


@given(dialects=pairs, data=st.data())
@settings(max_examples=examples(40))
def test_configurations_of_one_plan_compare_as_the_same(
    folder: Path, dialects: list[str], data: st.DataObject
) -> None:
    """Between families that treat their own address alike, no client would notice a change."""
    assume(len({Library().sheet(name).trait("own-address") for name in dialects}) == 1)
    plan = data.draw(benign_plan(tuple(dialects), plain_names))
    sides = []
    for dialect in dialects:
        loaded = reservoir.loads(in_dialect(plan, dialect))
        file = folder / f"server.{dialect}"
        file.write_text(reservoir.write(loaded, ["server"])[0].text)
        sides.append(reservoir.combine(reservoir.read(file, dialect)))
    noticed = [
        change
        for network in reservoir.compare(*sides).differing
        for change in network.changes
        if change.what != "name" and not change.what.endswith(" zone")  # some have none
    ]
    assert not noticed


WALLED = """\
reservoir: 1
devices: {office: {dialect: %s, interfaces: {lan: {address: 10.84.50.1/24%s}}%s}}
networks:
  staff: {subnet: 10.84.50.0/24, gateway: 10.84.50.1, served_by: office, dns: [10.84.50.1],
    lease: 8h, ranges: [10.84.50.20-10.84.50.99]}
"""


@pytest.mark.parametrize("dialect", DIALECTS)
def test_a_firewall_without_zones_serves_nobody(folder: Path, dialect: str) -> None:
    """A plan may leave zones out, and is warned; a device that has none drops all requests."""
    file, text = folder / "walled.yaml", WALLED % (dialect, "", "")
    file.write_text(text)
    is_firewall = Library().sheet(dialect).trait("zone") == "must-admit-dhcp"
    [planned] = json.loads(told("rehearse", file, "--format", "json").stdout)["networks"]
    assert planned["served"] == (0 if is_firewall else planned["clients"])
    if is_firewall:
        assert planned["failure"]["rule"] == "zone-blocks-dhcp"
    assert severities(file) == (["warning"] if is_firewall else [])
    running = folder / f"walled.{dialect}"
    running.write_text(reservoir.write(reservoir.loads(text), ["office"])[0].text)
    assert severities(running) == (["error"] if is_firewall else [])
    file.write_text(WALLED % (dialect, ", zone: in", ", zones: {in: {admits: [dhcp, dns]}}"))
    assert severities(file) == []


def severities(file: Path) -> list[str]:
    """How severe it is that a zone keeps requests out."""
    ended = told("check", file, "--select", "zone-blocks-dhcp", "--format", "json")
    return [finding["severity"] for finding in json.loads(ended.stdout)["findings"]]
