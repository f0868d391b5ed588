"""Blocks of a configuration: in any order, and apart, they say what they said together."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import reservoir
from conftest import examples
from met import meets, met
from oracle import text_of
from reservoir.core.offers import Offer
from reservoir.core.pools import Pools
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.clients import format_client
from reservoir.dialects.behaviour.lift import lift
from reservoir.dialects.parts import parts_that_differ
from reservoir.dialects.render.present_text import PresentText
from reservoir.dialects.sheet.library import Library
from reservoir.dialects.sheet.model import Sheet
from test_round_trip import DIALECTS, benign_plan, plain_names
from test_scripts import WITH_UNDO, change

Effect = Mapping[str, tuple[AddressSet, frozenset[tuple[str, int]], Offer]]
"""By subnet: what is assigned, who is bound, what is offered."""

IN_ORDER = {name for name in DIALECTS if Library().sheet(name).trait("pool-found-by") == "order"}
"""Those in which the order of blocks says which network each is for."""


def effect(text: str, sheet: Sheet) -> Effect:
    """What a device does with a configuration."""
    lifted = lift(PresentText.of(text, sheet).reading.device, sheet, "server")
    pools = Pools(lifted.plan())
    return {
        str(pool.network.subnet.subnet): (
            pool.assignable,
            frozenset((format_client(client), a) for client, a in pools.clients_bound(pool)),
            pool.offer,
        )
        for pool in pools
        if pool.server is not None
    }


def written(plan: dict[str, Any], device: str = "server") -> str:
    return reservoir.write(reservoir.loads(text_of(plan)), [device])[0].text


@pytest.mark.parametrize("dialect", sorted(set(DIALECTS) - IN_ORDER - {"linux-host"}))
@given(data=st.data())
@settings(max_examples=examples(25))
def test_the_order_of_blocks_means_nothing(dialect: str, data: st.DataObject) -> None:
    """Pools before the interfaces that they are on, bindings before their pools."""
    sheet = Library().sheet(dialect)
    text = written(data.draw(benign_plan(dialect, plain_names)))
    nodes = PresentText.of(text, sheet).nodes.top
    if len(nodes) == 1:  # one element or object holds all
        [outer] = nodes
        outer.children = data.draw(st.permutations(outer.children))
    else:
        nodes = data.draw(st.permutations(nodes))
    shuffled = sheet.notation.write(list(nodes))
    before, after = effect(text, sheet), effect(shuffled, sheet)
    assert after == before


@pytest.mark.parametrize("dialect", WITH_UNDO)
@meets("several parts")
@given(data=st.data())
@settings(max_examples=examples(30))
def test_parts_do_what_they_did_together(dialect: str, data: st.DataObject) -> None:
    """Each network that differs is in one part, with the same effect; none is in two."""
    sheet = Library().sheet(dialect)
    texts = [written(plan) for plan in data.draw(change(dialect))]
    old, new = (PresentText.of(text, sheet) for text in texts)
    parts = parts_that_differ(old, new, sheet)
    wholes = [effect(text, sheet) for text in texts]
    met("several parts", len(parts) > 1)
    found: list[dict[str, Any]] = [{}, {}]
    for part in parts:
        for side, (text, seen) in enumerate(zip(part, found, strict=True)):
            its = effect(text, sheet)
            assert not its.keys() & seen.keys()
            assert all(wholes[side][subnet] == does for subnet, does in its.items())
            seen.update(its)
    for subnet in wholes[0].keys() | wholes[1].keys():
        if wholes[0].get(subnet) != wholes[1].get(subnet):
            for whole, seen in zip(wholes, found, strict=True):
                assert seen.get(subnet) == whole.get(subnet)


MANY = """\
reservoir: 1
defaults: {dns: [10.84.0.53], lease: %s}
devices:
  pier:
    dialect: %s
    interfaces:
      trunk: {}
      deck.30: {address: 10.84.30.1/24, parent: trunk, vlan: 30}
      deck.31: {address: 10.84.31.1/24, parent: trunk, vlan: 31}
networks:
  crew: {subnet: 10.84.30.0/24, gateway: 10.84.30.1, served_by: pier,
    ranges: [10.84.30.20-10.84.30.%d]}
  cameras: {subnet: 10.84.31.0/24, gateway: 10.84.31.1, served_by: pier,
    ranges: [10.84.31.20-10.84.31.%d]}
"""


@pytest.mark.parametrize("dialect", WITH_UNDO)
def test_networks_on_one_trunk_are_apart(dialect: str) -> None:
    """What carries them all is shared; what is of one alone is in its part only."""
    sheet = Library().sheet(dialect)
    sides = [("12h", 99, 99), ("12h", 79, 99), ("6h", 79, 79)]
    texts = [
        PresentText.of(
            reservoir.write(reservoir.loads(MANY % (lease, dialect, *ends)))[0].text, sheet
        )
        for lease, *ends in sides
    ]
    [crew] = parts_that_differ(texts[0], texts[1], sheet)
    assert all("10.84.30.1" in text and "trunk" in text for text in crew)
    assert not any("10.84.31." in text for text in crew)
    assert len(parts_that_differ(texts[0], texts[2], sheet)) == 2
    assert parts_that_differ(texts[2], texts[2], sheet) == []
