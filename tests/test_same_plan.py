"""The same plan, written otherwise, is the same plan: its findings differ in no more than words.

No oracle is needed for that, and no knowledge of any rule: a rule that looked at names, at an order
or at how something is written would be noticed.
"""

from __future__ import annotations

import csv
import json
from collections import Counter
from collections.abc import Iterable, Mapping
from ipaddress import IPv4Interface
from pathlib import Path
from random import Random
from typing import Any
from unittest.mock import patch

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import reservoir
from conftest import examples
from met import meets, met
from oracle import number_of, plans, text_of
from reservoir.core.findings import Finding
from reservoir.core.plan.model import format_path
from reservoir.core.pools import Pools

PlanData = dict[str, Any]


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("same")


def found(folder: Path, text: str) -> list[Finding]:
    """What is wrong in a plan; what is suggested, others test."""
    (folder / "plan.yaml").write_text(text)
    with patch("reservoir.core.checks.suggestions.MOST_WORK", 0):
        return list(reservoir.check(reservoir.load(folder / "plan.yaml")).findings)


def placed(findings: Iterable[Finding]) -> Counter[tuple[str, str, str | None]]:
    """Rule, place and cause of each."""
    return Counter((f.rule, format_path(f.at), f.cause.rule if f.cause else None) for f in findings)


def shown(findings: Iterable[Finding]) -> Counter[tuple[str, str, str | None]]:
    """Rule of each, what happens, and with which address."""
    return Counter(
        (finding.rule, finding.witness.kind if finding.witness else "", finding.address)
        for finding in findings
    )


def replaced(plan: PlanData, words: Mapping[str, str]) -> PlanData:
    """The plan with other keys and texts."""

    def other(part: Any) -> Any:
        if isinstance(part, dict):
            return {words.get(key, key): other(value) for key, value in part.items()}
        if isinstance(part, list):
            return [other(item) for item in part]
        return words.get(part, part) if isinstance(part, str) else part

    changed: PlanData = other(plan)
    return changed


@meets("findings")
@given(plan=plans())
@settings(max_examples=examples(50))
def test_names_mean_nothing(folder: Path, plan: PlanData) -> None:
    """Networks, devices and interfaces may be called anything."""
    words = {"n0": "zulu", "n1": "alpha", "n2": "net.with.dots", "a": "zz-router", "b": "0-box"}
    words |= {"deck": "ge-0", "hold": "a b"}
    renamed = replaced(plan, words)
    for of_plan in renamed["networks"].values():
        for host in of_plan["static"]:
            if host.get("name") in words.values():
                return  # a machine that is called like a device
    before, after = (found(folder, text_of(each)) for each in (plan, renamed))
    met("findings", len(before) > 0)
    assert Counter(f.rule for f in before) == Counter(f.rule for f in after)
    networks = Counter((f.rule, words.get(f.network or "", f.network)) for f in before)
    assert networks == Counter((f.rule, f.network) for f in after)


@meets("networks in another order", "a finding that concerns several")
@given(plan=plans(), data=st.data())
@settings(max_examples=examples(50))
def test_the_order_of_networks_and_devices_means_nothing(
    folder: Path, plan: PlanData, data: st.DataObject
) -> None:
    """Which of two comes first decides at most where, and at how many places, both are reported."""

    def shuffled(part: dict[str, Any]) -> dict[str, Any]:
        return dict(data.draw(st.permutations(list(part.items()))))

    other = {**plan, "networks": shuffled(plan["networks"]), "devices": shuffled(plan["devices"])}
    before, after = (found(folder, text_of(each)) for each in (plan, other))
    met("networks in another order", list(other["networks"]) != list(plan["networks"]))
    met("a finding that concerns several", any(f.concerns for f in before))
    assert {f.rule for f in before} == {f.rule for f in after}
    assert Counter(f.rule for f in before if not f.concerns) == Counter(
        f.rule for f in after if not f.concerns
    )


@given(plan=plans())
@settings(max_examples=examples(50))
def test_a_plan_in_two_files_is_one(folder: Path, plan: PlanData) -> None:
    """Networks apart from devices: the same findings, at the same paths."""
    whole = found(folder, text_of(plan))
    (folder / "networks.yaml").write_text(text_of({"reservoir": 1, "networks": plan["networks"]}))
    rest = {key: value for key, value in plan.items() if key != "networks"}
    parted = found(folder, text_of({**rest, "include": ["networks.yaml"]}))
    assert placed(parted) == placed(whole)
    assert [f.message for f in parted] == [f.message for f in whole]


@given(plan=plans())
@settings(max_examples=examples(50))
def test_bindings_in_a_table_are_bindings(folder: Path, plan: PlanData) -> None:
    """A row says what an entry in the plan does, if the client has a MAC address."""
    for network in plan["networks"].values():
        network["bindings"] = [each for each in network["bindings"] if "mac" in each]
    whole = found(folder, text_of(plan))
    tabled = json.loads(text_of(plan))
    with (folder / "bindings.csv").open("w", newline="") as stream:
        rows = csv.writer(stream)
        rows.writerow(["network", "name", "mac", "address"])
        for name, network in tabled["networks"].items():
            for one in network.pop("bindings"):
                rows.writerow([name, *(one.get(key, "") for key in ("name", "mac", "address"))])
    after = found(folder, text_of({**tabled, "bindings_from": ["bindings.csv"]}))
    assert Counter(f.message for f in after) == Counter(f.message for f in whole)
    assert shown(after) == shown(whole)


@meets("findings")
@given(plan=plans(), steps=st.integers(1, 200))
@settings(max_examples=examples(50))
def test_a_plan_elsewhere_has_the_same_mistakes(folder: Path, plan: PlanData, steps: int) -> None:
    """All its addresses some subnets further on."""
    if "10.84.0." not in text_of(plan):
        return  # addresses that no client can have, or someone else's
    moved = json.loads(text_of(plan).replace("10.84.0.", f"10.{steps}.7."))
    before, after = (found(folder, text_of(each)) for each in (plan, moved))
    met("findings", len(before) > 0)
    assert placed(before) == placed(after)


def spelled(plan: PlanData, chance: Random) -> PlanData:
    """The plan as other hands write it: masks, short ranges, first and count, MACs by dots."""

    def subnet(text: str) -> str:
        written = IPv4Interface(text)
        return chance.choice([text, f"{written.ip}/{written.netmask}"])

    def span(text: str) -> str:
        first, dash, last = text.partition("-")
        count = number_of(last or first) - number_of(first) + 1
        if not dash or count < 1:
            return text
        short = f"{first}-{last.rpartition('.')[2]}"
        return chance.choice([text, short, f"{first} + {count}"])

    def mac(text: str) -> str:
        digits = text.replace(":", "")
        dotted = ".".join(digits[at : at + 4] for at in (0, 4, 8))
        return chance.choice([text, text.upper(), text.replace(":", "-"), dotted])

    other: PlanData = json.loads(text_of(plan))
    for network in other["networks"].values():
        network["subnet"] = subnet(network["subnet"])
        if network["ranges"] != "all":
            network["ranges"] = [span(text) for text in network["ranges"]]
        network["exclusions"] = [
            span(each) if isinstance(each, str) else each for each in network["exclusions"]
        ]
        for binding in network["bindings"]:
            if "mac" in binding:
                binding["mac"] = mac(binding["mac"])
    return other


@given(plan=plans(), chance=st.randoms(use_true_random=False))
@settings(max_examples=examples(100))
def test_each_notation_of_a_value_is_the_same_value(plan: PlanData, chance: Random) -> None:
    """Loaded, it is the same plan; so whatever is asked of it has the same answer."""
    loaded = reservoir.loads(text_of(plan)).plan
    other = reservoir.loads(text_of(spelled(plan, chance))).plan
    assert other.networks == loaded.networks
    assert other.devices == loaded.devices


@given(plan=plans(), chosen=st.sets(st.integers(0, 200), max_size=6))
@settings(max_examples=examples(50))
def test_choosing_rules_chooses_findings(folder: Path, plan: PlanData, chosen: set[int]) -> None:
    """--select and --ignore leave out, and change nothing else."""
    (folder / "plan.yaml").write_text(text_of(plan))
    loaded = reservoir.load(folder / "plan.yaml")
    whole = list(reservoir.check(loaded).findings)
    names = sorted({f.rule for f in whole} | {f.family for f in whole})
    some = {names[number % len(names)] for number in chosen} if names else set()
    selected = list(reservoir.check(loaded, select=some).findings)
    ignored = list(reservoir.check(loaded, ignore=some).findings)
    assert Counter(f.message for f in selected) == Counter(
        f.message for f in whole if not some or {f.rule, f.family} & some
    )
    assert Counter(f.message for f in ignored) == Counter(
        f.message for f in whole if not {f.rule, f.family} & some
    )


@given(plan=plans(), bits=st.integers(0, 2**12 - 1))
@settings(max_examples=examples(50))
def test_defaults_are_what_each_network_would_say(folder: Path, plan: PlanData, bits: int) -> None:
    """What all networks say may be said once; what a network says itself counts."""
    everywhere = {"dns": ["10.84.0.53"], "domain": "sable.example", "lease": "8h"}
    said, unsaid = json.loads(text_of(plan)), json.loads(text_of(plan))
    for number, (one, other) in enumerate(
        zip(said["networks"].values(), unsaid["networks"].values(), strict=True)
    ):
        for place, (key, value) in enumerate(everywhere.items()):
            own = one.get(key, "4h" if key == "lease" else value)
            if bits >> (number * 3 + place) & 1 and key in one:
                other[key] = own
            else:
                one[key] = value
                other.pop(key, None)
    unsaid["defaults"] = everywhere
    both = [Pools(reservoir.loads(text_of(each)).plan) for each in (said, unsaid)]
    assert [pool.offer for pool in both[0]] == [pool.offer for pool in both[1]]
