"""The same clients, told otherwise, take the same addresses."""

from __future__ import annotations

import csv
import io
from itertools import chain
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import reservoir
from conftest import examples
from oracle import text_of
from reservoir.core.sizing.size import Size

HOURS = 24

Group = dict[str, Any]

groups = st.fixed_dictionaries(
    {
        "at": st.integers(0, HOURS * 4 - 1).map(lambda n: f"{n // 4:02}:{n % 4 * 15:02}"),
        "devices": st.integers(1, 200).map(str),
        "stay": st.sampled_from(["20m", "90m", "8h", "30h"]),
    },
    optional={"over": st.sampled_from(["10m", "2h"])},
)
demands = st.lists(groups, min_size=1, max_size=4)
lease_times = st.sampled_from(["30m", "2h", "12h"])


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("demand")


def sized(folder: Path, demand: dict[str, Any], lease: str) -> Size:
    """The size of a network that expects these clients."""
    network = {
        "subnet": "10.84.0.0/20",
        "gateway": "10.84.0.1",
        "lease": lease,
        "ranges": ["10.84.0.10-10.84.1.99"],
        "demand": demand,
    }
    (folder / "plan.yaml").write_text(text_of({"reservoir": 1, "networks": {"wifi": network}}))
    [found] = reservoir.size(reservoir.load(folder / "plan.yaml")).networks
    return found.size


def same(one: Size, other: Size) -> bool:
    """Whether two sizes are the same, but for the last digits of what is worked out.

    How many are refused is left out: where it is many, some days are lived to count them.
    """
    ours, theirs = (
        (s.peak, s.needed(), s.longest_lease or 0, s.risk, s.renewals_per_second)
        for s in (one, other)
    )
    return ours == pytest.approx(theirs, rel=1e-6, abs=1e-9)


def table(rows: list[Group]) -> str:
    """The groups as a timetable."""
    stream = io.StringIO()
    written = csv.DictWriter(stream, ["stay", "at", "over", "devices"], lineterminator="\r\n")
    written.writeheader()
    written.writerows(rows)
    return stream.getvalue()


@given(rows=demands, lease=lease_times, inline=st.integers(0, 4))
@settings(max_examples=examples(50))
def test_a_row_of_a_timetable_is_a_group_of_the_plan(
    folder: Path, rows: list[Group], lease: str, inline: int
) -> None:
    """However many of them stand in the table, and whatever the order of its columns."""
    (folder / "boats.csv").write_text(table(rows[inline:]))
    listed = sized(folder, {"arrivals": rows}, lease)
    tabled = sized(folder, {"arrivals": [*rows[:inline], {"from": "boats.csv"}]}, lease)
    assert same(listed, tabled)


@given(rows=demands, lease=lease_times, data=st.data())
@settings(max_examples=examples(50))
def test_a_group_may_be_told_in_two(
    folder: Path, rows: list[Group], lease: str, data: st.DataObject
) -> None:
    """As two that come and stay alike, in any order: each client decides for itself."""

    def halves(row: Group) -> list[Group]:
        count = int(row["devices"])
        first = data.draw(st.integers(0, count - 1))
        parts = [n for n in (first, count - first) if n]
        return [{**row, "devices": str(n)} for n in parts]

    parted = data.draw(st.permutations(list(chain.from_iterable(map(halves, rows)))))
    assert same(
        sized(folder, {"arrivals": rows}, lease), sized(folder, {"arrivals": parted}, lease)
    )


@given(rows=demands, lease=lease_times, hours=st.integers(1, HOURS - 1))
@settings(max_examples=examples(50))
def test_a_day_may_begin_at_any_hour(
    folder: Path, rows: list[Group], lease: str, hours: int
) -> None:
    """Every day is like the other: if all come some hours later, all else is as it was."""

    def later(row: Group) -> Group:
        hour, minute = row["at"].split(":")
        return {**row, "at": f"{(int(hour) + hours) % HOURS:02}:{minute}"}

    before = sized(folder, {"arrivals": rows}, lease)
    after = sized(folder, {"arrivals": list(map(later, rows))}, lease)
    assert same(before, after)


@given(rows=demands, lease=lease_times, growth=st.integers(1, 4), years=st.integers(1, 3))
@settings(max_examples=examples(45))
def test_growth_is_more_clients(
    folder: Path, rows: list[Group], lease: str, growth: int, years: int
) -> None:
    """A hundred percent a year, said as such or worked out by hand."""
    times = (1 + growth) ** years
    grown = {"arrivals": rows, "growth": f"{growth * 100}%", "horizon": f"{years * 12} months"}
    counted = [{**row, "devices": str(int(row["devices"]) * times)} for row in rows]
    found, by_hand = sized(folder, grown, lease), sized(folder, {"arrivals": counted}, lease)
    assert found.needed() == pytest.approx(by_hand.needed(), abs=1)
    assert found.peak == pytest.approx(by_hand.peak, abs=1)
