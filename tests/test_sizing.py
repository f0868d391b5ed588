"""How many addresses are taken, against days lived client by client and against closed forms."""

from __future__ import annotations

import math
import random
from collections.abc import Iterator
from typing import Any, NamedTuple

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from numpy.typing import NDArray

from conftest import examples
from reservoir.core.plan.demand import Demand
from reservoir.core.plan.history import History
from reservoir.core.sizing.observed import Observed
from reservoir.core.sizing.occupancy import STEP, Occupancy
from reservoir.core.sizing.size import USUAL, Size, size
from reservoir.core.sizing.stays import Stays, hold
from reservoir.core.sizing.streams import crowd
from reservoir.core.values.durations import INFINITE

MINUTE, HOUR, DAY = 60, 3_600, 86_400


def demand(**fields: Any) -> Demand:
    return Demand.model_validate(fields)


def day_of(said: Demand, lease: int, step: float = STEP) -> Occupancy:
    return Occupancy(crowd(said, lease), lease, step)


@pytest.mark.parametrize(
    ("stay", "lease", "held"),
    [
        (0, HOUR, HOUR),
        (29 * MINUTE, HOUR, HOUR),
        (30 * MINUTE, HOUR, 90 * MINUTE),
        (55 * MINUTE, 45 * MINUTE, 90 * MINUTE),
        (55 * MINUTE, INFINITE, math.inf),
    ],
)
def test_an_address_is_held_for_a_lease_after_the_last_renewal(
    stay: float, lease: int, held: float
) -> None:
    """Clients renew at half the lease and leave without a word (RFC 2131 section 4.4.5)."""
    assert hold(stay, lease) == held


@given(
    mean=st.integers(1, 600),
    variation=st.sampled_from([0.0, 0.2, 0.8, 1.0, 2.0]),
    lease=st.sampled_from([5, 30, 60, 240, 1_440]).map(lambda m: m * MINUTE),
    released=st.sampled_from([0.0, 0.05, 0.5, 1.0]),
)
@settings(max_examples=examples(80))
def test_holds_are_what_many_stays_make_of_them(
    mean: int, variation: float, lease: int, released: float
) -> None:
    """Drawn from the distribution one by one, on average and in the share that is longer."""
    stays = Stays(mean * MINUTE, variation)
    chance = np.random.default_rng(mean)
    count = 40_000
    if variation:
        drawn = chance.gamma(variation**-2, mean * MINUTE * variation**2, count)
    else:
        drawn = np.full(count, float(mean * MINUTE))
    held = np.floor(drawn / (lease / 2)) * (lease / 2) + lease
    held = np.where(chance.random(count) < released, drawn, held)
    holds = stays.holds(lease, released)
    assert holds.shares.sum() == pytest.approx(1)
    assert abs(holds.mean - held.mean()) <= 5 * held.std() / math.sqrt(count) + 0.01 * holds.mean
    middle = float(np.median(held)) * 1.01
    longer = float(holds.shares[holds.seconds > middle].sum())
    assert abs(longer - (held > middle).mean()) < 0.02


arrivals = st.builds(
    lambda at, devices, over, stay: {
        "at": f"{at // 4:02}:{at % 4 * 15:02}",
        "devices": str(devices),
        "over": f"{over}m",
        "stay": f"{stay}m",
    },
    st.integers(0, 95),
    st.integers(0, 300),
    st.integers(1, 180),
    st.integers(1, 900),
)

leases = st.sampled_from([10, 45, 60, 240, 720, 1_440, 4_320]).map(lambda m: m * MINUTE)


@given(groups=st.lists(arrivals, min_size=1, max_size=4), lease=leases)
@settings(max_examples=examples(80))
def test_the_mean_is_that_of_a_day_lived_minute_by_minute(
    groups: list[dict[str, str]], lease: int
) -> None:
    """Each group arrives evenly; whoever came on earlier days may still hold an address."""
    found = day_of(demand(arrivals=groups), lease)
    lived = np.sum([taken(group, lease) for group in groups], axis=0)
    in_a_minute = sum(int(group["devices"]) / int(group["over"][:-1]) for group in groups)
    minutes = np.interp(np.arange(DAY // MINUTE) * MINUTE, found.moments, found.mean)
    assert np.abs(minutes - lived).max() <= STEP / MINUTE * in_a_minute + 1e-6
    assert abs(found.peak - lived.max()) <= in_a_minute + 1e-6


def taken(group: dict[str, str], lease: int) -> NDArray[np.float64]:
    """Addresses that a group holds at each minute of a day: one arrival after another, each day."""
    hours, minutes = group["at"].split(":")
    begin, over = (int(hours) * 60 + int(minutes)) * MINUTE, int(group["over"][:-1])
    each, held = int(group["devices"]) / over, hold(int(group["stay"][:-1]) * MINUTE, lease)
    now = np.arange(DAY // MINUTE) * MINUTE
    count = np.zeros(len(now))
    for step in range(over):
        for day in range(-6, 2):
            came = begin + step * MINUTE + MINUTE / 2 + day * DAY
            count += each * ((came <= now) & (now < came + held))
    return count


def test_walk_ins_are_as_many_as_come_while_one_address_is_held() -> None:
    """Little's law: in the midst of the day, arrivals a second times seconds held."""
    hours = demand(walk_in={"rate": "40/h", "between": "08:00-20:00", "stay": "25m"})
    assert day_of(hours, HOUR).peak == pytest.approx(40.0)
    always = demand(walk_in={"rate": "48/day", "stay": {"mean": "10m"}}, devices="5")
    assert day_of(always, 12 * HOUR).peak == pytest.approx(29.0)
    varied = {"mean": "50m", "cv": "0.8"}
    said = demand(walk_in={"rate": "90/h", "stay": varied}, leave={"release": "25%"})
    held = crowd(said, HOUR).streams[0].stays.holds(HOUR, 0.25).mean
    assert day_of(said, HOUR).peak == pytest.approx(90 * held / HOUR)
    with pytest.raises(ValueError, match="never end"):
        size(always, INFINITE, 10, 0.2)


@given(rate=st.integers(1, 200), places=st.integers(0, 260))
@settings(max_examples=examples(80))
def test_the_share_refused_of_a_steady_stream_is_erlangs(rate: int, places: int) -> None:
    """Erlang's B formula, by its recursion; the load is what comes while an address is held."""
    found = day_of(demand(walk_in={"rate": f"{rate}/h", "stay": "20m"}), HOUR)
    known = erlang(rate, places)
    if known < 0.3:
        assert found.refused(places) == pytest.approx(np.full(len(found.moments), known), abs=1e-6)


def erlang(load: float, places: int) -> float:
    """The share of clients who find no place."""
    share = 1.0
    for place in range(1, places + 1):
        share = load * share / (place + load * share)
    return share


def test_twelve_addresses_are_too_few_for_ten_an_hour() -> None:
    """With leases of an hour there are ten on average, and one client in eight is refused."""
    said = size(demand(walk_in={"rate": "10/h", "stay": "20m"}), HOUR, 12, 0.2)
    assert erlang(10, 12) == pytest.approx(1 / 8, abs=0.01)
    assert said.peak == 10 < said.capacity < said.needed()
    assert said.refused_per_day == pytest.approx(240 * erlang(10, 12), rel=0.05)
    assert said.risk > 0.9


small_groups = st.lists(
    st.tuples(st.integers(1, 12), st.integers(5, 90), st.integers(1, 120)), min_size=0, max_size=3
)


@given(groups=small_groups, walking=st.integers(0, 12), always=st.integers(0, 5))
@settings(max_examples=examples(80))
def test_the_numbers_taken_are_distributed_as_counted_out(
    groups: list[tuple[int, int, int]], walking: int, always: int
) -> None:
    """At each moment: binomials of the groups and a Poisson number, convolved one by one."""
    said = demand(
        devices=str(always),
        arrivals=[
            {"at": "09:00", "devices": str(n), "over": f"{over}m", "stay": f"{stay}m"}
            for n, over, stay in groups
        ],
        walk_in={"rate": f"{walking}/h", "stay": "25m"},
    )
    found = day_of(said, HOUR)
    for moment in (9.25, 9.75, 10.5, 11.25):
        at = min(int(np.searchsorted(found.moments, moment * HOUR)), len(found.moments) - 1)
        now = float(found.moments[at])
        counted = np.zeros(1)
        counted[0] = 1.0
        for n, over, stay in groups:
            came = min(max((now - 9 * HOUR) / (over * MINUTE), 0), 1)
            gone = (now - 9 * HOUR - hold(stay * MINUTE, HOUR)) / (over * MINUTE)
            share = came - min(max(gone, 0), 1)
            counted = np.convolve(
                counted,
                [math.comb(n, k) * share**k * (1 - share) ** (n - k) for k in range(n + 1)],
            )
        walk = [math.exp(-walking) * walking**k / math.factorial(k) for k in range(80)]
        counted = np.concatenate([np.zeros(always), np.convolve(counted, walk)])
        above = 1 - np.cumsum(counted)
        for share in (0.5, 0.9, 0.999):
            assert (
                found.quantile(share, np.array([at]))[0]
                == np.flatnonzero(above <= 1 - share + 1e-9)[0]
            )


class Lived(NamedTuple):
    """Days lived client by client."""

    most: NDArray[np.int64]
    """The most addresses taken on each day, with addresses without end."""
    refused: NDArray[np.int64]
    """Clients that find no address in a pool of some size, on each day."""


CROWDS: list[tuple[dict[str, Any], int]] = [
    ({"walk_in": {"rate": "10/h", "stay": "20m"}}, 60),
    ({"walk_in": {"rate": "40/h", "between": "08:00-20:00", "stay": {"mean": "25m", "cv": "0.8"}},
      "leave": {"release": "5%"}}, 60),
    ({"walk_in": {"rate": "100/h", "between": "11:00-13:00", "stay": {"mean": "30m", "cv": "0.5"}}},
     60),
    ({"walk_in": {"rate": "30/h", "between": "06:00-22:00", "stay": {"mean": "1h", "cv": "1"}}},
     720),
    ({"arrivals": [{"at": "09:00", "devices": "20", "over": "30m", "stay": "1h"}], "devices": "7",
      "walk_in": {"rate": "40/h", "between": "08:00-18:00", "stay": {"mean": "25m", "cv": "0.8"}}},
     60),
    ({"arrivals": [{"at": "06:30", "devices": "90", "over": "2h", "stay": {"mean": "40m",
      "cv": "0.6"}}], "growth": "10%", "horizon": "2 years", "leave": {"release": "20%"}}, 30),
    ({"arrivals": [{"at": "08:00", "devices": "60", "over": "2h", "stay": {"mean": "6h", "cv": "1"},
      "returning": "90%"}]}, 1_080),
    ({"walk_in": {"rate": "20/h", "between": "20:00-04:00", "stay": {"mean": "3h", "cv": "0.5"},
      "returning": "50%"}, "leave": {"release": "10%"}}, 720),
]  # fmt: skip


@pytest.mark.parametrize("number", range(len(CROWDS)))
def test_the_chance_of_a_refusal_is_that_of_days_lived(number: int) -> None:
    """For pools that are too small on one day in three, in thirty, in a thousand.

    The promise of the module: the smallest sufficient pool is right within two addresses, or two
    percent; the days lived have an error of their own, three times which is allowed.
    """
    fields, lease = CROWDS[number]
    said, lease = demand(**fields), lease * MINUTE
    found, days = day_of(said, lease), examples(1_500)
    lived = live(said, lease, 0, days)
    for risk in (0.3, 0.03, 0.003):
        places = found.needed(risk)
        assert found.chance(places) <= risk < found.chance(places - 1)
        near = max(2, math.ceil(0.02 * places))
        error = 3 * math.sqrt(risk / days)
        assert (lived.most > places + near).mean() <= risk + error
        assert (lived.most > places - 1 - near).mean() >= risk - error


@pytest.mark.parametrize("number", range(len(CROWDS)))
@pytest.mark.parametrize("share", [0.6, 0.9, 1.05])
def test_refusals_are_those_of_days_lived(number: int, share: float) -> None:
    """Where many are refused, and where few are: the pool is a share of what is taken at peak."""
    fields, lease = CROWDS[number]
    said = demand(**fields)
    places = round(day_of(said, lease * MINUTE).peak * share)
    lived = live(said, lease * MINUTE, places, 600).refused
    known = size(said, lease * MINUTE, places, 0).refused_per_day
    error = 4 * lived.std() / math.sqrt(100)  # the program may have lived some days itself
    assert abs(known - lived.mean()) <= error + 0.1 * lived.mean()


def live(said: Demand, lease: int, places: int, days: int) -> Lived:
    """Let clients come and go on many days in a row; each renews at half its lease.

    Nothing of the program's sizing is used, but for the words of the demand.
    """
    chance = random.Random(days)  # noqa: S311 - a simulation
    growth = (1 + said.growth) ** said.horizon
    always = math.ceil(said.devices * growth - 1e-9)
    unbounded, bounded = _Held(), _Held()
    most, refused, before = [], [], 3
    for day in range(before + days):
        unbounded.give_back(day * DAY)
        peak, turned_away = always + len(unbounded.until), 0
        for at, end, who in sorted(_visits(said, growth, lease, chance)):
            now = day * DAY + at
            for held in (unbounded, bounded):
                held.give_back(now)
            unbounded.take(who, day * DAY + end)
            peak = max(peak, always + len(unbounded.until))
            if who in bounded.until or len(bounded.until) + always < places:
                bounded.take(who, day * DAY + end)
            else:
                turned_away += 1
        most.append(peak)
        refused.append(turned_away)
    return Lived(np.array(most[before:]), np.array(refused[before:]))


class _Held:
    """Who holds an address until when; a client that comes back keeps its own for longer."""

    def __init__(self) -> None:
        self.until: dict[float, float] = {}

    def take(self, who: float, end: float) -> None:
        self.until[who] = max(self.until.get(who, 0.0), end)

    def give_back(self, now: float) -> None:
        for who in [who for who, end in self.until.items() if end <= now]:
            del self.until[who]


def _visits(
    said: Demand, growth: float, lease: int, chance: random.Random
) -> Iterator[tuple[float, float, float]]:
    """When each client of a day comes, when its address is free again, and who it is."""

    def end(at: float, mean: float, cv: float) -> float:
        stay = chance.gammavariate(cv**-2, mean * cv**2) if cv else mean
        if chance.random() < said.leave.release:
            return at + stay
        expires, renews = at + lease, at + lease / 2
        while renews <= at + stay:
            expires, renews = renews + lease, renews + lease / 2
        return expires

    for place, group in enumerate(said.groups):
        count = math.ceil(group.devices * growth - 1e-9)
        same = round(count * group.returning)
        for number in range(count):
            at = group.at + (group.over or 0) * chance.random()
            who = place * 1e6 + number if number < same else -chance.random()
            yield at, end(at, group.stay.mean, group.stay.cv), who
    if said.walk_in is not None:
        walk_in = said.walk_in
        begin, last = map(float, walk_in.between)
        same = round(walk_in.rate * growth * (last - begin) * walk_in.returning)
        for number in range(same):
            at = chance.uniform(begin, last)
            yield at, end(at, walk_in.stay.mean, walk_in.stay.cv), 1e9 + number
        rest = walk_in.rate * growth - same / (last - begin)
        at = begin
        while rest > 0 and (at := at + chance.expovariate(rest)) < last:
            yield at, end(at, walk_in.stay.mean, walk_in.stay.cv), -at


demands = st.builds(
    lambda groups, rate, cv, always: demand(
        arrivals=groups,
        devices=str(always),
        walk_in={"rate": f"{rate}/h", "between": "07:00-19:00", "stay": {"mean": "40m", "cv": cv}},
    ),
    st.lists(arrivals, max_size=2),
    st.integers(0, 150),
    st.sampled_from(["0", "0.5", "1"]),
    st.integers(0, 50),
)


@given(said=demands, lease=leases)
@settings(max_examples=examples(40))
def test_a_grid_twice_as_fine_changes_less_than_an_address(said: Demand, lease: int) -> None:
    """The numbers are those of the day, not of the moments that are looked at."""
    rough, fine = (day_of(said, lease, step) for step in (STEP, STEP / 2))
    for places in (rough.needed(0.01), fine.needed(0.01)):
        one, other, more = rough.chance(places), fine.chance(places), fine.chance(places + 1)
        less = fine.chance(places - 1)
        # Between the chances of a pool that is one smaller and of one that is one larger.
        assert more - 1e-9 <= one <= less + 1e-9
        assert one == pytest.approx(other, rel=0.15, abs=1e-6)


@given(said=demands, lease=leases, more=st.integers(0, 40))
@settings(max_examples=examples(40))
def test_a_larger_pool_refuses_fewer(said: Demand, lease: int, more: int) -> None:
    """And the smallest that meets the risk is the smallest."""
    found = size(said, lease, 0, 0.0)
    needed = found.needed()
    occupancy = found.occupancy()
    assert occupancy.chance(needed) <= said.risk
    assert needed == 0 or occupancy.chance(needed - 1) > said.risk
    assert occupancy.chance(needed + more) <= occupancy.chance(needed)
    assert occupancy.refusals(needed + more) <= occupancy.refusals(needed) + 1e-9


@given(said=demands, capacity=st.integers(1, 2_000))
@settings(max_examples=examples(40))
def test_the_longest_lease_fits_and_no_longer_one_does(said: Demand, capacity: int) -> None:
    """Each of the lease times in common use is tried by itself."""
    found = Size(said, HOUR, capacity, 0.1)
    fitting = [lease for lease in USUAL if math.ceil(found.needed(lease) * 1.1 - 1e-6) <= capacity]
    assert found.longest_lease == (fitting[0] if fitting else None)
    prefix, kept = found.prefix(5), 5
    assert prefix is not None
    assert 2 ** (32 - prefix) >= found.comfortable() + kept + 2
    assert prefix == 30 or 2 ** (31 - prefix) < found.comfortable() + kept + 2


@pytest.mark.parametrize(
    ("returning", "lease", "taken"),
    [("100%", 3 * DAY, 200), ("0%", 3 * DAY, 600), ("90%", 3 * DAY, 240), ("90%", 2 * HOUR, 200)],
)
def test_who_comes_back_takes_no_second_address(returning: str, lease: int, taken: int) -> None:
    """200 a day with leases of three days are 200 devices, if they are the same ones."""
    group = {"at": "08:00", "devices": "200", "over": "1h", "stay": "8h", "returning": returning}
    found = size(demand(arrivals=[group]), lease, 250, 0.2)
    assert found.peak == taken
    assert found.needed() <= taken * 1.06


@given(
    share=st.integers(0, 100),
    lease=leases,
    over=st.integers(1, 600),
    stay=st.integers(5, 1_300),
)
@settings(max_examples=examples(40))
def test_a_device_that_returns_holds_what_some_day_of_it_holds(
    share: int, lease: int, over: int, stay: int
) -> None:
    """Moment by moment, against devices that come at random times on each of many days."""
    group = {"at": "08:00", "devices": "100", "over": f"{over}m", "stay": f"{stay}m",
             "returning": f"{share}%"}  # fmt: skip
    found = day_of(demand(arrivals=[group]), lease, HOUR)
    chance, days = np.random.default_rng(share), 8
    came = (8 * HOUR + over * MINUTE * chance.random((4_000, days))) + DAY * np.arange(days)
    until = came + hold(stay * MINUTE, lease)
    for moment in range(0, DAY, 5 * HOUR):
        now = moment + (days - 1) * DAY
        holds = (came <= now) & (now < until)
        same = holds.any(axis=1).mean()
        new = holds.mean(axis=0).sum()
        expected = share * same + (100 - share) * new
        mean = float(np.interp(moment, found.moments, found.mean))
        assert mean == pytest.approx(expected, abs=5 * 100 / math.sqrt(4_000) + 1)


def test_an_event_takes_what_comes_that_day_and_nothing_of_others() -> None:
    """Also beyond its midnight; with daily clients besides, of whom some come back."""
    group = {"at": "22:00", "devices": "300", "over": "4h", "stay": "2h", "on": "2027-03-31"}
    alone = size(demand(arrivals=[group]), 3 * DAY, 0, 0.2)
    assert (alone.peak, alone.needed()) == (300, 300)
    assert str(alone.peak_on) == "2027-04-01"
    assert alone.peak_at is not None
    assert alone.peak_at <= 2 * HOUR
    daily = {"at": "08:00", "devices": "50", "over": "1h", "stay": "4h", "returning": "100%"}
    both = size(demand(arrivals=[group, daily], devices="7"), 3 * DAY, 0, 0.2)
    assert both.peak == 357
    later = {**group, "on": "2027-04-09"}
    apart = size(demand(arrivals=[group, later]), 3 * DAY, 0, 0.2)
    assert apart.peak == 300, "the leases of the first are over"
    soon = {**group, "on": "2027-04-01"}
    assert size(demand(arrivals=[group, soon]), 3 * DAY, 0, 0.2).peak == 600
    assert size(demand(arrivals=[daily]).once(), 3 * DAY, 0, 0.2).peak == 50


@given(
    over=st.integers(1, 240),
    lease=st.sampled_from([10, 20, 60, 240]).map(lambda m: m * MINUTE),
    stay=st.integers(5, 600),
)
@settings(max_examples=examples(40))
def test_who_came_together_renews_together(over: int, lease: int, stay: int) -> None:
    """The busiest minute, against clients that renew at half their lease, give or take a bit."""
    group = {"at": "08:00", "devices": "600", "over": f"{over}m", "stay": f"{stay}m"}
    found = size(demand(arrivals=[group]), lease, 700, 0.2).renewals_per_second
    chance, half = np.random.default_rng(over), lease / 2
    came = over * MINUTE * chance.random(60_000)
    last = int(stay * MINUTE // half)
    at = came[:, None] + np.cumsum(half * chance.uniform(0.95, 1.05, (len(came), last)), axis=1)
    minutes = np.bincount((at.ravel() // MINUTE).astype(np.int64), minlength=1)
    lived = float(minutes.max()) / 100 / MINUTE if last else 0.0
    assert found == pytest.approx(lived, rel=0.15, abs=0.01)


def test_six_hundred_in_twenty_minutes_renew_as_fast_as_they_came() -> None:
    group = {"at": "08:00", "devices": "600", "over": "20m", "stay": "15m"}
    found = size(demand(arrivals=[group]), 20 * MINUTE, 700, 0.2)
    assert found.renewals_per_second == pytest.approx(0.5, rel=0.02)


def test_renewals_are_those_of_the_clients_that_are_there() -> None:
    """Each client renews at each half of its lease, while it stays."""
    stays = {"walk_in": {"rate": "60/h", "stay": "2h"}}
    assert size(demand(**stays), HOUR, 500, 0.2).renewals_per_second == pytest.approx(4 * 60 / 3600)
    short = {"walk_in": {"rate": "60/h", "stay": "25m"}}
    assert size(demand(**short), HOUR, 500, 0.2).renewals_per_second == 0
    assert size(demand(devices="90"), HOUR, 500, 0.2).renewals_per_second == pytest.approx(
        90 / 1800
    )


@given(
    spans=st.lists(
        st.tuples(st.integers(0, 6 * 96), st.integers(1, 200)).map(
            lambda two: (1_800_000_000 + two[0] * 900, 1_800_000_000 + (two[0] + two[1]) * 900)
        ),
        min_size=1,
        max_size=60,
    )
)
@settings(max_examples=examples(80))
def test_a_history_is_counted_out_moment_by_moment(spans: list[tuple[int, int]]) -> None:
    """The most that was held, when, and on each day."""
    seen = Observed.of(history(spans), HOUR)
    moments = sorted({moment for span in spans for moment in span})
    held = {m: sum(begin <= m < end for begin, end in spans) for m in moments}
    assert seen.peak == max(held.values())
    assert held[int(seen.peak_at)] == seen.peak
    for day, peak in zip(seen.days, seen.peaks, strict=True):
        inside = [m for m in moments if day * DAY <= m < (day + 1) * DAY]
        at_midnight = sum(begin <= day * DAY < end for begin, end in spans)
        assert peak == max([held[m] for m in inside] + [at_midnight])


def history(spans: list[tuple[int, int]]) -> History:
    begin, end = np.array(spans, dtype=np.float64).T
    return History(np.full(len(spans), 7, dtype=np.int64), begin, end)


def test_what_was_observed_says_what_the_plan_would_have_said() -> None:
    """Leases of forty days, made from a demand, need as many addresses as that demand."""
    said = demand(walk_in={"rate": "40/h", "between": "08:00-20:00", "stay": {"mean": "50m",
                  "cv": "0.6"}})  # fmt: skip
    chance = random.Random(5)  # noqa: S311 - a simulation
    spans = [
        (1_800_057_600 + day * DAY + int(at), 1_800_057_600 + day * DAY + math.ceil(end))
        for day in range(40)
        for at, end, _ in _visits(said, 1.0, HOUR, chance)
    ]
    known = demand(history="leases.csv").with_tables({}, history(spans))
    for lease in (HOUR, 30 * MINUTE, 4 * HOUR):
        expected = day_of(said, lease).needed(0.01)
        found = Size(known, HOUR, 0, 0).needed(lease)
        assert found == pytest.approx(expected, rel=0.04 if lease == HOUR else 0.08)


@given(said=demands, lease=leases, times=st.integers(2, 4))
@settings(max_examples=examples(40))
def test_more_of_everybody_takes_less_than_as_many_times_more(
    said: Demand, lease: int, times: int
) -> None:
    """Twice as many clients need fewer than twice the addresses, and more than before."""
    grown = demand(
        devices=str(said.devices * times),
        arrivals=[
            {"at": f"{g.at // 3600:02}:{g.at // 60 % 60:02}", "devices": str(g.devices * times),
             "over": f"{g.over}s", "stay": f"{g.stay.mean}s"}
            for g in said.groups
        ],
        walk_in={
            "rate": f"{said.walk_in.rate * times * 3600:.6f}/h", "between": "07:00-19:00",
            "stay": {"mean": "40m", "cv": f"{said.walk_in.stay.cv:g}"},
        } if said.walk_in else None,
    )  # fmt: skip
    one, many = (Size(each, lease, 0, 0) for each in (said, grown))
    assert one.needed() <= many.needed() <= times * one.needed() + times
    assert many.peak == pytest.approx(times * one.occupancy().peak, abs=1)


@given(said=demands, released=st.sampled_from([5, 50, 100]))
@settings(max_examples=examples(40))
def test_who_releases_takes_no_more(said: Demand, released: int) -> None:
    """The more clients release their address when they leave, the fewer are taken."""
    kinder = demand(
        **(said.model_dump(mode="json", exclude_defaults=True) or {"devices": "0"}),
        leave={"release": f"{released}%"},
    )
    assert day_of(kinder, HOUR).peak <= day_of(said, HOUR).peak + 1e-6
    assert day_of(kinder, HOUR).needed(0.01) <= day_of(said, HOUR).needed(0.01) + 1
