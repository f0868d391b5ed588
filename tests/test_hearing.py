"""Whether a server hears a network's clients, case by case: by itself, by a relay, where."""

from __future__ import annotations

from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import reservoir
from conftest import examples
from met import meets, met
from oracle import text_of
from reservoir.core.hearing import Hearing
from reservoir.dialects.behaviour.device import Behaviour

UPLINK, OFFICE = "10.84.0.1/24", "10.84.0.10/24"
CREW, OTHER = "10.84.30.1/24", "10.84.31.1/24"


def devices(
    deck: dict[str, Any], server: dict[str, Any], dialect: str | None = "larkspur", **more: Any
) -> dict[str, Any]:
    """A router with an interface to the clients, and a server beside it."""
    office = {"interfaces": server} | ({"dialect": dialect} if dialect else {}) | more
    return {"pier": {"interfaces": {"deck": deck, "uplink": {"address": UPLINK}}}, "office": office}


def hearing(devices: dict[str, Any], *, is_complete: bool = True) -> tuple[Hearing, Any]:
    crew = {"subnet": "10.84.30.0/24", "served_by": ["office"]}
    plan = reservoir.load({"reservoir": "1", "devices": devices, "networks": {"crew": crew}})
    behaviours = {name: Behaviour(sheet) for name, sheet in plan.sheets.items()}
    return Hearing(plan.pools, behaviours, is_complete), plan.plan.networks["crew"]


LAN = {"lan": {"address": OFFICE}}
BOTH = {"lan": {"address": [OFFICE, "10.84.30.10/24"]}}
INSIDE = {"lan": {"address": "10.84.30.10/24", "zone": "staff"}}
CLOSED = {"staff": {"admits": ["ping"]}}
NOTHING = "office has no interface there, and nothing relays to it"
SECOND = "10.84.30.1/24 is a secondary address of pier deck, which relays from its primary address"
RELAYS = {"address": CREW, "relay_to": ["10.84.0.10"]}


@pytest.mark.parametrize(
    ("made", "said"),
    [
        (devices({"address": CREW}, LAN), NOTHING),
        (devices({"address": CREW}, {"lan": {"address": "10.84.30.10/24"}}), None),
        (devices({"address": CREW}, {"lan": {"address": "10.84.30.10/24", "enabled": "no"}}),
         "office lan is disabled"),
        (devices(RELAYS, LAN), None),
        (devices(RELAYS | {"enabled": "no"}, LAN), "pier deck is disabled"),
        (devices(RELAYS, {"lan": {"address": OFFICE, "enabled": "no"}}), "office lan is disabled"),
        (devices({"address": [OTHER, CREW], "relay_to": ["10.84.0.10"]}, LAN),
         SECOND),
        (devices({"address": [OTHER, CREW], "relay_to": ["10.84.0.10"]}, LAN, None), None),
        (devices({"address": CREW}, BOTH, "merganser"), None),
        (devices({"address": CREW}, BOTH, "mortise"),
         "10.84.30.10/24 is a secondary address of office lan; office serves only the primary "
         "address's subnet there"),
        (devices({"address": CREW}, INSIDE, "merganser", zones=CLOSED),
         "office lan is in zone staff, which admits no dhcp"),
        (devices({"address": CREW}, {"lan": {"address": "10.84.30.10/24"}}, "merganser",
                 zones=CLOSED), "office lan is in no zone, which admits no dhcp"),
        (devices(RELAYS, LAN, routes=[{"to": "172.16.0.0/12", "via": "10.84.0.1"}]),
         "office has no route to 10.84.30.1"),
    ],
)  # fmt: skip
def test_why_a_server_is_not_heard(made: dict[str, Any], said: str | None) -> None:
    """The first reason there is; nothing is claimed of a server whose family nobody knows."""
    its, network = hearing(made)
    assert its.why_not("office", network) == said


def test_of_some_files_alone_an_unknown_relay_may_lead_to_it() -> None:
    """What isn't there can't be missed."""
    its, network = hearing(devices({"address": CREW}, LAN), is_complete=False)
    assert its.why_not("office", network) is None


@pytest.mark.parametrize(
    ("server", "dialect", "bound_only"),
    [
        ({"lan": {"address": "10.84.30.10/24"}}, "BOUND", False),
        ({"lan": {"address": [OFFICE, "10.84.30.10/24"]}}, "BOUND", True),
        ({"lan": {"address": [OFFICE, "10.84.30.10/24"]}}, "ALL", False),
        ({"lan": {"address": [OFFICE, "10.84.30.10/24"]}}, None, False),
        ({"lan": {"address": [OFFICE, "10.84.30.10/24"]}, "x": {"address": "10.84.30.11/24"}},
         "BOUND", False),
        (LAN, "BOUND", False),  # it isn't heard at all
    ],
)  # fmt: skip
def test_where_only_bound_clients_are_heard(
    server: dict[str, Any], dialect: str | None, bound_only: bool
) -> None:
    """At a secondary address, of a family that assigns nothing there, and nowhere else."""
    family = {"BOUND": "merganser", "ALL": "tamarack"}.get(dialect or "")
    its, network = hearing(devices({"address": CREW}, server, family))
    assert its.hears_bound_only("office", network) == bound_only


def test_a_relay_is_another_way_in() -> None:
    """A server that stands at a secondary address and is relayed to as well hears everybody."""
    made = devices(RELAYS, {"lan": {"address": [OFFICE, "10.84.30.10/24"]}}, "merganser")
    its, network = hearing(made)
    assert not its.hears_bound_only("office", network)


FAMILIES = ["fulmar", "larkspur", "linux-host", "mortise", "tamarack"]
"""Dialects of servers that hear several networks at one interface, or say that they don't."""


@st.composite
def sites(draw: st.DrawFn) -> dict[str, Any]:
    """Routers in some of four LANs, relaying to a server; routes forgotten, wrong, or left out."""
    count = draw(st.integers(1, 3))
    lans = [draw(st.sets(st.integers(0, 3), min_size=1, max_size=3)) for _ in range(count)]
    described: dict[str, Any] = {}
    for number, stands in enumerate(lans):
        name = f"r{number}"
        near = [f"10.84.{lan}.{n + 1}" for lan in stands for n in range(count + 2)]
        described[name] = {
            "interfaces": {
                f"port{lan}": {
                    "address": f"10.84.{lan}.{number + 1}/24",
                    "enabled": "yes" if draw(st.integers(0, 9)) else "no",
                    **({"relay_to": ["10.84.0.10"]} if lan else {}),
                    **draw(tags(lan)),
                }
                for lan in sorted(stands)
            }
        }
        _with_routes(draw, described[name], near)
    server: dict[str, Any] = {
        "dialect": draw(st.sampled_from(FAMILIES)),
        "interfaces": {"lan": {"address": "10.84.0.10/24"}},
    }
    _with_routes(draw, server, [f"10.84.0.{n + 1}" for n in range(count + 1)])
    networks = {
        f"lan{lan}": {
            "subnet": f"10.84.{lan}.0/24",
            "gateway": f"10.84.{lan}.1",
            "served_by": "office",
            "dns": ["10.84.0.53"],
            "ranges": [f"10.84.{lan}.100-10.84.{lan}.120"],
            "lease": "8h",
            **draw(tags(lan)),
        }
        for lan in draw(st.sets(st.integers(0, 3), min_size=1))
    }
    return {"reservoir": 1, "devices": {**described, "office": server}, "networks": networks}


def tags(lan: int) -> st.SearchStrategy[dict[str, int]]:
    """The tag of a LAN, none, or now and then that of another."""
    tag = st.sampled_from([None, None, 10 + lan, 10 + lan, 10 + lan, 30 + lan])
    return tag.map(lambda vlan: {} if vlan is None else {"vlan": vlan})


def _with_routes(draw: st.DrawFn, device: dict[str, Any], near: list[str]) -> None:
    """Give a device routes, none, or leave them out."""
    to = st.sampled_from(["0.0.0.0/0", *(f"10.84.{lan}.0/24" for lan in range(4))])
    hops = st.fixed_dictionaries({"to": to, "via": st.sampled_from(near)})
    routes = draw(st.lists(hops, max_size=3, unique_by=lambda route: route["to"]))
    is_stated = draw(st.booleans())
    if routes or is_stated:
        device["routes"] = routes


@meets("heard", "not heard", "not known")
@given(site=sites())
@settings(max_examples=examples(300))
def test_what_is_worked_out_is_what_clients_feel(site: dict[str, Any]) -> None:
    """Served, not served, or only if something is so that the plan doesn't state: all say it."""
    plan = reservoir.loads(text_of(site))
    behaviours = {name: Behaviour(sheet) for name, sheet in plan.sheets.items()}
    its = Hearing(plan.pools, behaviours)
    refused = its.why_refused("office", plan.plan.networks)
    found = reservoir.check(plan, ignore=["capacity"])
    told = {name for finding in found for name in (finding.network, *finding.concerns)}
    for felt in reservoir.rehearse(plan, clients=1).networks:
        assert felt.network in told or (felt.served and not felt.assumed), felt.failures
        if refused:
            assert not felt.served
            continue
        heard = its.heard("office", plan.plan.networks[felt.network])
        met("not heard" if heard.why_not else "not known" if heard.rests_on else "heard")
        assert (felt.served > 0) == (heard.why_not is None), (felt.failures, heard)
        if felt.served:
            assert bool(felt.assumed) == bool(heard.rests_on), (felt.assumed, heard)
