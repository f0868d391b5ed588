"""Putting what is lent into a configuration that is there: the rest stays, byte for byte."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import reservoir
from conftest import examples
from oracle import text_of
from reservoir.dialects.library import Library
from reservoir.dialects.reader import read_configuration
from test_reading import with_others
from test_round_trip import DIALECTS, Family, benign_network, benign_plan, plain_names


@pytest.fixture(scope="module")
def file(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("placing") / "plan.yaml"


@st.composite
def as_it_was(draw: st.DrawFn, plan: dict[str, Any], dialect: str) -> dict[str, Any]:
    """The plan of another day: some networks not yet there, some otherwise."""
    networks = {}
    for number, (name, network) in enumerate(plan["networks"].items(), start=1):
        what = draw(st.sampled_from(["same", "missing", "other", "renamed"]))
        if what in ("same", "renamed"):
            networks[name if what == "same" else f"{name}-old"] = network
        elif what == "other":
            networks[name] = draw(benign_network(number, Family.of(dialect), plain_names))
    return {**plan, "networks": networks}


@pytest.mark.parametrize("dialect", DIALECTS)
@given(data=st.data())
@settings(max_examples=examples(60))
def test_the_rest_stays_and_the_device_lends_what_the_plan_says(
    file: Path, dialect: str, data: st.DataObject
) -> None:
    """Whatever was lent before; and once it is there, putting it there again changes nothing."""
    plan = data.draw(benign_plan(dialect, plain_names))
    sheet = Library().sheet(dialect)
    file.write_text(text_of(data.draw(as_it_was(plan, dialect))))
    (before,) = reservoir.write(reservoir.load(str(file)), ["server"])
    existing, _ = with_others(before.text, sheet, data, 3, remarks=True)
    file.write_text(text_of(plan))
    loaded = reservoir.load(str(file))
    (new,) = reservoir.write(loaded, ["server"])
    (written,) = reservoir.write(loaded, ["server"], {"server": existing})
    assert written.placed is not None
    assert not written.differences
    assert not written.placed.homeless
    assert not written.placed.left
    rest = lines_of_others(existing, sheet.name)
    assert lines_of_others(written.text, sheet.name) == rest
    if existing == before.text:
        assert read_configuration(written.text, sheet).foreign == 0
    (again,) = reservoir.write(loaded, ["server"], {"server": written.text})
    assert again.text == written.text
    (itself,) = reservoir.write(loaded, ["server"], {"server": new.text})
    assert itself.text == new.text


def lines_of_others(text: str, dialect: str) -> list[str]:
    """The lines that are remarks, or that no row of the sheet is about."""
    marks = ("logging", "clock", "banner", "!!", "snmp", "user", "of:", "[", "fence")
    return [
        line
        for line in text.split("\n")
        if "by hand" in line or any(mark in line for mark in marks if mark != "[")
    ]
