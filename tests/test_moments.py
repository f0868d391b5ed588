"""Times in lease lists: with an offset, by a zone's clocks, the day or the month first."""

from __future__ import annotations

import datetime
import json
from collections.abc import Callable
from pathlib import Path
from zoneinfo import ZoneInfo

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from conftest import Run
from met import meets, met
from reservoir.core.values.addresses import MalformedValueError
from reservoir.core.values.zones import local, midnights
from reservoir.files.moments import ListNotation, read_moment, read_moments

Put = Callable[[str, str], Path]

ZONES = ("UTC", "Europe/Lisbon", "America/St_Johns", "Australia/Lord_Howe", "Asia/Kolkata")
FORMS = {
    "day-first": ("%d/%m/%Y %H:%M:%S", "%d.%m.%Y %H:%M:%S", "%d-%m-%Y %I:%M:%S %p"),
    "month-first": ("%m/%d/%Y %H:%M:%S", "%m/%d/%Y %I:%M:%S %p", "%m-%d-%y %H:%M:%S"),
    "year-first": ("%Y-%m-%d %H:%M:%S", "%Y/%m/%d %H:%M:%S", "%Y-%m-%dT%H:%M:%S"),
}
moments = st.integers(1_577_836_800, 1_893_456_000)


def read(
    texts: list[str], zone: str | None = None, order: str | None = None
) -> tuple[dict[int, float], list[tuple[int, str]]]:
    said: list[tuple[int, str]] = []
    notation = ListNotation(zone=zone, order=order)
    found = read_moments(dict(enumerate(texts)), notation, lambda *one: said.append(one))
    return found, said


@meets("told apart", "asked")
@given(
    times=st.lists(moments, min_size=1, max_size=6),
    zone=st.sampled_from(ZONES),
    order=st.sampled_from(sorted(FORMS)),
    data=st.data(),
)
def test_a_column_is_read_as_it_was_written(
    times: list[int], zone: str, order: str, data: st.DataObject
) -> None:
    """Or what is in doubt is said once: never is a date read with day and month swapped."""
    form = data.draw(st.sampled_from(FORMS[order]))
    shown = [datetime.datetime.fromtimestamp(time, ZoneInfo(zone)) for time in times]
    texts = [moment.strftime(form) for moment in shown]
    found, said = read(texts, zone)
    for row, time in found.items():
        assert time == times[row], texts[row]
    met("told apart", len(found) == len(times))
    in_doubt = [row for row, text in said if "--dates" in text]
    met("asked", bool(in_doubt))
    assert len(in_doubt) <= 1
    if in_doubt:
        assert all(moment.day <= 12 for moment in shown)
        found, said = read(texts, zone, order)
        assert found == {row: times[row] for row in found}
    left = [row for row in range(len(times)) if row not in found]
    assert len(said) <= 1
    for row in left:  # only what the clocks show twice
        assert "is there twice" in said[0][1]
        assert shown[row].utcoffset() != shown[row].replace(fold=1 - shown[row].fold).utcoffset()


@given(time=moments, zone=st.sampled_from(ZONES))
def test_local_time_is_that_of_the_zones_clocks(time: int, zone: str) -> None:
    """For single moments, and for midnights: a day begins when its date does."""
    moment = datetime.datetime.fromtimestamp(time, ZoneInfo(zone))
    offset = moment.utcoffset()
    assert offset is not None
    times = np.array([time - 40 * 86_400.0, float(time), np.inf])
    assert local(times, zone)[1] == time + offset.total_seconds()
    day = int(local(times, zone)[1] // 86_400)
    begin, following = midnights(day, day + 1, zone)
    assert begin <= time < following
    for at in (begin, following):
        assert datetime.datetime.fromtimestamp(at, ZoneInfo(zone)).time() == datetime.time()


@pytest.mark.parametrize(("texts", "zone", "said"), [
    (["2027-03-31 12:00", "2027-04-01 12:00", "2027-04-02 12:00"], None,
     "'2027-03-31 12:00' has no offset, as 2 others; --zone Europe/Lisbon says whose clock it is"),
    (["2027-03-28 01:30", "2027-03-28 01:40"], "Europe/Lisbon",
     "'2027-03-28 01:30' is never there in Europe/Lisbon, where the clocks change, as 1 other"),
    (["2027-10-31 01:30"], "Europe/Lisbon", "is there twice in Europe/Lisbon"),
    (["31/03/2027 10:00", "03/31/2027 10:00"], "UTC", "can't both be dates"),
    (["03/04/2027 10:00"], "UTC", "may begin with the day or the month; --dates day-first"),
    (["31.02.2027 10:00"], "UTC", "is no time of any day"),
    (["13:00"], "UTC", "is not a time: write it like"),
])  # fmt: skip
def test_one_cause_is_one_problem(texts: list[str], zone: str | None, said: str) -> None:
    found, problems = read(texts, zone)
    assert len(problems) == 1
    assert said in problems[0][1], problems
    assert len(found) < len(texts)


def test_a_chosen_order_that_cannot_be_is_refused() -> None:
    _, problems = read(["31/03/2027 10:00"], "UTC", "month-first")
    assert "is no date with the month first" in problems[0][1]
    with pytest.raises(MalformedValueError, match="is not a time"):
        read_moment("2027-03-31 10:00")


def test_commands_take_a_zone(run: Run, put: Put) -> None:
    """A list without offsets is refused once, read with a zone, and a wrong zone is named."""
    put("plan.yaml", "networks:\n  crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20-99]}\n")
    times = "31/07/2027 10:00,31/07/2027"
    rows = [
        f"00:00:5e:00:53:01,10.84.30.20,{times} 12:00",
        f"00:00:5e:00:53:02,10.84.30.21,{times} 14:00",
    ]
    put("leases.csv", "\n".join(["mac,address,starts,expires", *rows]) + "\n")
    options = ("leases", "leases.csv", "--plan", "plan.yaml", "--now", "2027-07-31T11:30:00Z")
    refused = run(*options)
    assert refused.code == 2
    assert refused.err.count("--zone") == 2, "once for each column"
    read = json.loads(run(*options, "--zone", "Europe/Lisbon", "--format", "json").out)
    assert read["networks"][0]["taken"] == 1, "the first ended at 11:00 UTC"
    assert "is not a time zone" in run(*options, "--zone", "Lisbon").err
