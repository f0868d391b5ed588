"""Single values of a plan: what a text means, how it is written again, why it is refused."""

from __future__ import annotations

import re
from typing import Any

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

import reservoir
from reservoir.core.plan.hosts import Groups
from reservoir.core.values.addresses import Span, parse_address
from reservoir.files.plan_text import plan_text


def plan(path: str, value: Any) -> dict[str, Any]:
    """A plan whose network has a value at a path: keys with dots between."""
    network: dict[str, Any] = {"subnet": "10.84.20.0/22", "demand": {"devices": "1"}}
    *steps, last = path.split(".")
    inner = network
    for step in steps:
        inner = inner.setdefault(step, {"rate": "1/h", "stay": "1h"} if step == "walk_in" else {})
    inner[last] = value
    return {"reservoir": "1", "networks": {"crew": network}}


def at(value: Any, path: str) -> Any:
    for step in path.split("."):
        value = getattr(value, step)
    return value


@pytest.mark.parametrize(
    ("path", "text", "value", "written"),
    [
        ("demand.horizon", "2 years", 2.0, "2 years"),
        ("demand.horizon", "18 months", 1.5, "18 months"),
        ("demand.horizon", "24 months", 2.0, "2 years"),
        ("demand.growth", "10%/year", 0.1, "10%"),
        ("demand.risk", "0.5%", 0.005, "0.5%"),
        ("demand.walk_in.rate", "40/h", 40 / 3600, "40/h"),
        ("demand.walk_in.rate", "300/day", 300 / 86_400, "12.5/h"),
        ("demand.walk_in.between", "08:05-20:00", (29_100, 72_000), "08:05-20:00"),
        ("demand.walk_in.between", "0:00 - 24:00", (0, 86_400), None),  # all day is no word needed
        ("demand.walk_in.stay", "90m", None, "1h30m"),
        ("gateway", "10.84.20.1", parse_address("10.84.20.1"), "10.84.20.1"),
        ("vrf", "guests of 2027", "guests of 2027", "guests of 2027"),
        ("lease", "36h", 129_600, "1d12h"),
        ("domain", "sable.example", "sable.example", "sable.example"),
    ],
)
def test_a_value_is_read_and_written_again(
    path: str, text: str, value: Any, written: str | None
) -> None:
    """In one notation, whichever it was read in; and that means the same."""
    loaded = reservoir.load(plan(path, text)).plan
    if value is not None:
        assert at(loaded.networks["crew"], path) == pytest.approx(value)
    again = plan_text(loaded)
    assert (f"{path.rpartition('.')[2]}: {written}" in again) == (written is not None)
    assert reservoir.loads(again).plan.networks == loaded.networks


@pytest.mark.parametrize(
    ("text", "first", "last"),
    [
        ("10.84.20.5", "10.84.20.5", "10.84.20.5"),
        ("10.84.20.5-10.84.21.9", "10.84.20.5", "10.84.21.9"),
        ("10.84.20.5-9", "10.84.20.5", "10.84.20.9"),
        ("10.84.20.5 - 21.9", "10.84.20.5", "10.84.21.9"),
        ("10.84.20.5+5", "10.84.20.5", "10.84.20.9"),
        ("10.84.20.5 + 1", "10.84.20.5", "10.84.20.5"),
        ("10.84.20.0/30", "10.84.20.0", "10.84.20.3"),
        ("10.84.20.0/255.255.255.252", "10.84.20.0", "10.84.20.3"),
    ],
)
def test_a_range_in_any_notation(text: str, first: str, last: str) -> None:
    """In full, with the end cut short, by a count, as a subnet."""
    ranges = reservoir.load(plan("ranges", [text])).plan.networks["crew"].ranges
    assert ranges == (Span(parse_address(first), parse_address(last)),)


@pytest.mark.parametrize(
    ("path", "value", "said"),
    [
        ("demand.walk_in.between", "20:00-20:00", "is not a time span"),
        ("demand.walk_in.between", "08:00-08:00", "is not a time span"),
        ("demand.walk_in.between", "08:00-24:01", "'24:01' is not a time of day"),
        ("demand.walk_in.between", "08:60-09:00", "'08:60' is not a time of day"),
        ("demand.walk_in.rate", "40/m", "is not a rate"),
        ("demand.horizon", "2 weeks", "is not a horizon"),
        ("domain", " ", "expected a name, found ' '"),
        ("domain", "sable\u200b.example", "expected a name, found 'sable\\u200b.example'"),
        ("vrf", "guests\u200b", "has invisible characters"),
        ("lease", {"hours": "2"}, "found a block of keys"),
        ("lease", ["2h"], "found a list"),
        ("ranges", ["10.84.20.5+0"], "'0' is not a number of addresses"),
        ("ranges", ["255.255.255.250+7"], "'7' is not a number of addresses"),
        ("ranges", ["10.84.20.5-1.2.3.4.5"], "is not"),
        ("subnet", "10.84.20.0/255.255.0.255", "is not a subnet mask"),
    ],
)
def test_a_value_that_cannot_be_is_refused(path: str, value: Any, said: str) -> None:
    """With the reason."""
    with pytest.raises(reservoir.InputError) as refused:
        reservoir.load(plan(path, value))
    assert re.search(re.escape(said), str(refused.value))


@given(st.lists(st.integers(0, 6), max_size=12))
def test_rows_are_grouped_by_value(column: list[int]) -> None:
    """Each value's rows in order, none where nothing has it."""
    groups = Groups(np.array(column, dtype=np.int64), 7)
    for value in range(7):
        rows = [row for row, its in enumerate(column) if its == value]
        assert groups.rows(value).tolist() == rows
