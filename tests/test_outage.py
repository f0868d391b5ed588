"""What is lost while a device or a link is off: lived through, counted and checked."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

import reservoir
from conftest import Run

DEMO = Path(reservoir.__file__).parent / "demo" / "right" / "ferry-line.yaml"

Put = Callable[[str, str], Path]

SPLIT = """\
defaults: {dns: [10.84.30.53], lease: 8h}
devices:
  pier: {dialect: fulmar, interfaces: {deck: {address: 10.84.30.2/24}}, routes: []}
  depot: {dialect: fulmar, interfaces: {deck: {address: 10.84.30.3/24}}, routes: []}
networks:
  crew:
    subnet: 10.84.30.0/24
    gateway: 10.84.30.2
    served_by: [{device: pier, ranges: [10.84.30.60-200]}, {device: depot, ranges: [%s]}]
    static: [{name: ns, address: 10.84.30.53}]
    demand: {devices: %d}
    bindings: [{name: purser, mac: "00:00:5e:00:53:01", address: 10.84.30.10}]
"""

RELAYED = """\
defaults: {dns: [10.84.0.53], lease: 8h}
devices:
  pier:
    dialect: larkspur
    interfaces:
      deck: {address: 10.84.30.1/24, relay_to: [10.84.0.10]}
      uplink: {address: 10.84.0.1/24}
    routes: []
  depot:
    dialect: fulmar
    interfaces: {lan: {address: 10.84.0.10/24}}
    routes: [{to: 0.0.0.0/0, via: 10.84.0.1}]
networks:
  crew:
    subnet: 10.84.30.0/24
    gateway: 10.84.30.1
    served_by: depot
    ranges: [10.84.30.60-200]
    demand: {devices: 12}
  office: {subnet: 10.84.0.0/24, gateway: 10.84.0.1, served_by: depot,
           ranges: [10.84.0.60-90], demand: {devices: 5}, static: [{name: ns, address: 10.84.0.53}]}
"""


def _lived(run: Run, put: Put, plan: str, *without: str) -> tuple[int, dict[str, Any]]:
    """How it ended, and what came of it."""
    named = [word for name in without for word in ("--without", name)]
    ended = run("rehearse", str(put("plan.yaml", plan)), *named, "--format", "json")
    return ended.code, json.loads(ended.out)["outage"]


@pytest.mark.parametrize(("last", "clients"), [(245, 150), (250, 40)])
def test_the_rest_of_a_split_gives_what_it_has(run: Run, put: Put, last: int, clients: int) -> None:
    """It doesn't know the other's leases: they end, and whom it has no address for has none."""
    code, outage = _lived(run, put, SPLIT % (f"10.84.30.201-{last}", clients), "pier")
    (crew,) = outage["networks"]
    room = last - 200 + 1  # the purser's address is bound
    assert crew["clients"] == crew["back"] == clients
    assert clients - crew["without"] == min(clients, room)
    assert crew["newcomer_served"] == (clients < room)
    assert crew["first_lost"] > 4 * 3600
    assert crew["kept"] + crew["lost"] == clients
    assert code == 1


def test_what_a_link_takes_with_it(run: Run, put: Put) -> None:
    """Clients behind it lose their addresses when these end, and hear why from nobody."""
    for off, hurt in (
        ("pier.deck", {"crew"}),
        ("pier.uplink", {"crew"}),
        ("pier", {"crew"}),
        ("depot", {"crew", "office"}),
    ):
        code, outage = _lived(run, put, RELAYED, off)
        found = {each["network"]: each for each in outage["networks"]}
        for name, each in found.items():
            is_hurt = name in hurt
            assert each["lost"] == (each["clients"] if is_hurt else 0), (off, name)
            assert each["newcomer_served"] != is_hurt, (off, name)
            assert each["back"] == each["clients"], (off, name)
        assert code == 1


def _left(run: Run, plan: str, *without: str) -> dict[str, Any]:
    """What `size` counts while something is off, by network."""
    named = [word for name in without for word in ("--without", name)]
    sized = json.loads(run("size", plan, *named, "--format", "json").out)
    assert sized["without"] == list(without)
    return {each["network"]: each for each in sized["networks"]}


def test_size_counts_what_the_rehearsal_finds(run: Run) -> None:
    """For every device of the demo, and a link of each: who is left without any address.

    Where one of a pair is lost, the other still assigns all that both did.
    """
    plan = reservoir.load(DEMO)
    names = [
        name
        for device, its in plan.plan.devices.items()
        for name in (device, *(f"{device}.{port}" for port in list(its.interfaces)[1:2]))
    ]
    assert len(names) >= 8
    usual = _left(run, str(DEMO))
    for name in names:
        outage = reservoir.rehearse(plan, without=[name]).outage
        assert outage is not None
        lived = {one.network: one for one in outage.networks}
        for network, counts in _left(run, str(DEMO), name).items():
            is_lost = counts["assignable"] == 0
            assert is_lost == bool(lived[network].lost), name
            pair = plan.plan.networks[network].served_by[0].pair
            assert bool(counts["lost"]) == (is_lost or name.partition(".")[0] in pair), name
            assert lived[network].is_newcomer_served != is_lost, (name, network)
            assert is_lost or counts["assignable"] == usual[network]["assignable"]


def test_what_the_check_says_of_a_split_comes_true(run: Run, put: Put) -> None:
    """As many find no address as `check` says and `size` counts, and its replay shows it."""
    for last, clients in ((205, 100), (245, 150), (245, 240), (250, 40)):
        text = SPLIT % (f"10.84.30.201-{last}", clients)
        plan = str(put("plan.yaml", text))
        ended = json.loads(run("check", plan, "--prove", "--format", "json").out)
        said = [each for each in ended["findings"] if each["rule"] == "split-too-small"]
        whole = 141 + (last - 200) + 1
        short = {
            server: clients - (whole - own)
            for server, own in (("pier", 141), ("depot", last - 200))
            if whole - own < clients <= whole
        }
        assert {each["witness"]["also"] for each in said} == short.keys(), clients
        for each in said:
            server = each["witness"]["also"]
            assert f"then {short[server]} find none" in each["message"]
            assert each["proof"]["shown"], each
            sized = _left(run, plan, server)["crew"]
            assert sized["smallest_range"] - sized["assignable"] - sized["bound"] == short[server]
            _, outage = _lived(run, put, text, server)
            (crew,) = outage["networks"]
            assert crew["without"] - crew["newcomer_served"] == short[server]  # it took one
            assert crew["first_lost"] >= sized["kept_for"][0] - 600


def test_a_repair_that_outlasts_the_leases_is_told(run: Run, put: Put) -> None:
    """Where one server serves alone, and only if the plan says how long a repair takes."""
    for lease, repair, is_told in (
        ("8h", "4h", False), ("8h", "4h1m", True), ("8h", "9h", True), ("infinite", "30d", False),
        ("8h", "", False),
    ):  # fmt: skip
        text = RELAYED.replace("lease: 8h", f"lease: {lease}")
        settings = f"checks: {{repair: {repair}}}\n" if repair else ""
        found = run("check", str(put("plan.yaml", settings + text)), "--format", "json").out
        rules = [each["rule"] for each in json.loads(found)["findings"]]
        assert rules.count("repair-outlasted") == 2 * is_told, (lease, repair)
    split = "checks: {repair: 9h}\n" + SPLIT % ("10.84.30.201-250", 40)
    assert "repair-outlasted" not in run("check", str(put("plan.yaml", split))).out


def test_nothing_that_is_not_there_fails(run: Run, put: Put) -> None:
    """With the nearest word; nothing is rehearsed."""
    plan = str(put("plan.yaml", RELAYED))
    ended = run("rehearse", plan, "--without", "depto")
    assert (ended.code, ended.out) == (2, "")
    assert "there is no device or interface 'depto' (did you mean depot?)" in ended.err
    for wrong in ("", "pier.", "pier.decks", "$", "crew"):
        for command in ("rehearse", "size"):
            assert run(command, plan, "--without", wrong).code == 2
    assert run("size", "--devices", "3", "--lease", "1h", "--without", "pier").code == 2


def test_each_lease_is_watched_to_its_end(run: Run, put: Put) -> None:
    """That of a class is longer, that of a bound client too: both end, and neither is a failure."""
    plan = RELAYED.replace("devices:", 'classes: {phones: {vendor_class: "sable*"}}\ndevices:', 1)
    plan = plan.replace(
        "    demand: {devices: 12}",
        "    by_class: {phones: {lease: 2d}}\n    demand: {devices: 12}\n    bindings:\n"
        '      - {name: purser, mac: "00:00:5e:00:53:01", address: 10.84.30.10, lease: 3d}',
    )
    path = str(put("plan.yaml", plan))
    ended = run("rehearse", path, "--clients", "3", "--without", "depot", "--format", "json")
    found = json.loads(ended.out)
    crew = next(each for each in found["networks"] if each["network"] == "crew")
    assert (crew["failure"], crew["renewed"]) == (None, True)
    lived = next(each for each in found["outage"]["networks"] if each["network"] == "crew")
    assert (lived["clients"], lived["lost"], lived["kept"]) == (7, 7, 0)
    assert lived["seconds"] >= 3 * 86_400
