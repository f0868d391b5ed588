"""What is lost while a device or a link is off: ``reservoir rehearse --without``."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from conftest import Run

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


def test_nothing_that_is_not_there_fails(run: Run, put: Put) -> None:
    """With the nearest word; nothing is rehearsed."""
    plan = str(put("plan.yaml", RELAYED))
    ended = run("rehearse", plan, "--without", "depto")
    assert (ended.code, ended.out) == (2, "")
    assert "there is no device or interface 'depto' (did you mean depot?)" in ended.err
    for wrong in ("", "pier.", "pier.decks", "$", "crew"):
        assert run("rehearse", plan, "--without", wrong).code == 2
