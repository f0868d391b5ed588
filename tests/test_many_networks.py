"""Three hundred networks read well: what is alike is one line, what failed stands by itself."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from pathlib import Path

import pytest

from conftest import Run

COUNT, BAD = 300, 7
"""Networks, and the one with a gateway that nobody holds and too few addresses."""


def plan() -> str:
    """A deck on each of many ferries, all alike but one."""
    interfaces = [
        f"      d{n}: {{address: 10.{n // 250}.{n % 250}.1/24, vlan: {n + 2}}}"
        for n in range(COUNT)
    ]
    networks = []
    for n in range(COUNT):
        net = f"10.{n // 250}.{n % 250}"
        gateway, last = (9, 12) if n == BAD else (1, 99)
        ranges = f"{net}.10-{net}.{last}"
        networks.append(
            f"  deck-{n}: {{subnet: {net}.0/24, gateway: {net}.{gateway}, served_by: pier, "
            f"ranges: [{ranges}], demand: {{devices: 5}}}}"
        )
    return "\n".join([
        "reservoir: 1", "defaults: {lease: 1h, dns: none}", "devices:", "  pier:",
        "    dialect: larkspur", "    interfaces:", *interfaces, "networks:", *networks, "",
    ])  # fmt: skip


@pytest.mark.parametrize(("command", "most"), [("rehearse", 20), ("size", 12)])
def test_what_is_alike_is_one_line_with_its_count(
    run: Run, put: Callable[[str, str], Path], command: str, most: int
) -> None:
    """Each network is in the table, named or counted; JSON has all of them."""
    put("plan.yaml", plan())
    said = run(command, "plan.yaml")
    assert said.code == 1
    lines = said.out.splitlines()
    assert len(lines) <= most
    assert re.search(rf"^deck-0 and {COUNT - 2} alike ", said.out, re.MULTILINE)
    assert sum(line.startswith(f"deck-{BAD} ") for line in lines) == 1
    every = json.loads(run(command, "plan.yaml", "--format", "json").out)["networks"]
    assert [one["network"] for one in every] == [f"deck-{n}" for n in range(COUNT)]


@pytest.mark.parametrize("command", ["rehearse", "size"])
def test_only_what_failed_is_shown_if_that_is_asked_for(
    run: Run, put: Callable[[str, str], Path], command: str
) -> None:
    """In text and in JSON, whose summary still counts all of them."""
    put("plan.yaml", plan())
    said = run(command, "plan.yaml", "--only", "failed")
    assert said.code == 1
    named = {line.split()[0] for line in said.out.splitlines() if line.startswith("deck-")}
    assert named == {f"deck-{BAD}"}
    data = json.loads(run(command, "plan.yaml", "--only", "failed", "--format", "json").out)
    assert [one["network"] for one in data["networks"]] == [f"deck-{BAD}"]
    assert data["summary"]["networks"] == COUNT


def test_only_conflicting_networks_are_mapped(run: Run, put: Callable[[str, str], Path]) -> None:
    """None, where no address is claimed twice; and how many others there are."""
    put("plan.yaml", plan())
    none = run("map", "plan.yaml", "--only", "conflicting")
    assert (none.code, none.out) == (0, "")
    assert f"{COUNT} networks without conflicting addresses: not shown." in none.err
    put("plan.yaml", plan().replace("[10.0.3.10-", "[10.0.3.1-"))
    one = run("map", "plan.yaml", "--only", "conflicting")
    assert "deck-3 " in one.out
    assert "deck-4 " not in one.out
    data = json.loads(run("map", "plan.yaml", "--only", "conflicting", "--format", "json").out)
    assert [each["network"] for each in data["networks"]] == ["deck-3"]


def test_what_only_does_not_go_with(run: Run, put: Callable[[str, str], Path]) -> None:
    """It chooses among the networks of a plan."""
    put("plan.yaml", plan())
    for arguments in (["plan.yaml", "--network", "deck-3"], ["--rate", "4/h", "--stay", "1h"]):
        ended = run("size", *arguments, "--only", "failed", "--lease", "1h")
        assert (ended.code, ended.out) == (2, "")
