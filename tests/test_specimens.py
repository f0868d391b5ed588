"""A few bindings show what can't be written of all: each answer is that of writing all of them."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import reservoir
from conftest import examples
from met import meets, met
from oracle import text_of
from reservoir.dialects.sheet.library import Library
from reservoir.dialects.writing import obstacles_to
from test_round_trip import HOSTILE, plain_names

NARROW = (
    'sheet narrow\nblock indent 2\nquote none\nbare "a-z0-9-"\nduration "{m}"\n'
    "trait assigns ranges\n---\n"
    "device        | machine {name}\ninterface *   | plug {name}\n ?            |   has {address}\n"
    "pool *        | stock {name}\n              |   of {subnet}\n"
    "range *       |   give {first}..{last}\n ?            |   exit {gateway}\n"
    " ?            |   for {lease} min\nbinding *     | own {address} = {mac} [? called {name}]\n"
)
"""A dialect that refuses many names, and client identifiers."""


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    folder = tmp_path_factory.mktemp("specimens")
    (folder / "dialects").mkdir()
    (folder / "dialects/narrow.sheet").write_text(NARROW)
    return folder


@st.composite
def bound(draw: st.DrawFn, network: int) -> list[dict[str, Any]]:
    """Bindings of a network, mostly with usual names, some with others or none."""
    usual = draw(st.lists(plain_names, max_size=9))
    others = draw(st.lists(st.sampled_from(["", *HOSTILE, "Purser", "e" * 40]), max_size=3))
    bindings: list[dict[str, Any]] = []
    for number, name in enumerate(draw(st.permutations([*usual, *others])), start=20):
        one: dict[str, Any] = {"address": f"10.84.{network}.{number}"}
        one |= {"name": name} if name else {}
        client = {"mac": f"00:00:5e:00:{network:02x}:{number:02x}"}
        if draw(st.integers(0, 9)) == 0:
            client = {"client_id": f"hex:00{network:02x}{number:02x}"}
        bindings.append(one | client)
    return bindings


@pytest.mark.parametrize("dialect", Library().names)
@given(data=st.data())
@settings(max_examples=examples(20))
def test_what_is_told_by_a_few_bindings_is_told_by_all(
    dialect: str, folder: Path, data: st.DataObject
) -> None:
    """Of every shipped dialect."""
    told_alike(dialect, folder, data)


@meets("a binding that can't be written", "all bindings can be written")
@given(data=st.data())
@settings(max_examples=examples(120))
def test_a_binding_that_cannot_be_written_is_found_among_others(
    folder: Path, data: st.DataObject
) -> None:
    """In a dialect that refuses most names."""
    refused = told_alike("narrow", folder, data)
    met("a binding that can't be written", refused)
    met("all bindings can be written", not refused)


def told_alike(dialect: str, folder: Path, data: st.DataObject) -> bool:
    """Hold what a few bindings tell to what all do: whether a binding can't be written."""
    networks = {
        f"net-{number}": {
            "subnet": f"10.84.{number}.0/24",
            "gateway": f"10.84.{number}.1",
            "served_by": "pier",
            "ranges": [f"10.84.{number}.50-10.84.{number}.99"],
            "bindings": data.draw(bound(number)),
        }
        for number in (1, 2)
    }
    ports = {f"port{n}": {"address": f"10.84.{n}.1/24"} for n in (1, 2)}
    devices = {"pier": {"dialect": dialect, "interfaces": ports}}
    (folder / "plan.yaml").write_text(
        text_of({"reservoir": 1, "devices": devices, "networks": networks})
    )
    plan = reservoir.load(folder / "plan.yaml")
    (written,) = reservoir.write(plan)
    by_all = set(obstacles_to(plan.pools, plan.sheets, written={"pier": written}))
    assert set(obstacles_to(plan.pools, plan.sheets)) == by_all
    return any(obstacle.at[2:3] == ("bindings",) for obstacle in by_all)
