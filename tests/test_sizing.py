"""How many addresses are taken at the busiest moment, against a day lived minute by minute."""

from __future__ import annotations

import math
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st
from numpy.typing import NDArray

from conftest import examples
from reservoir.core.plan.model import Demand
from reservoir.core.sizing.demand import hold, peak_devices, peak_visits
from reservoir.core.values.durations import INFINITE

MINUTE, HOUR, DAY = 60, 3_600, 86_400


def demand(**fields: Any) -> Demand:
    return Demand.model_validate(fields)


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


@given(
    groups=st.lists(arrivals, min_size=1, max_size=4),
    lease=st.sampled_from([10, 45, 60, 240, 720, 1_440, 4_320]).map(lambda m: m * MINUTE),
)
@settings(max_examples=examples(60))
def test_the_peak_is_that_of_a_day_lived_minute_by_minute(
    groups: list[dict[str, str]], lease: int
) -> None:
    """Each group arrives evenly; whoever came on earlier days may still hold an address."""
    exact = peak_visits(demand(arrivals=groups), lease)
    lived = np.sum([taken(group, lease) for group in groups], axis=0).max()
    in_a_minute = sum(int(group["devices"]) / int(group["over"][:-1]) for group in groups)
    assert abs(exact - lived) <= in_a_minute + 1e-6


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
    assert peak_visits(hours, HOUR) == pytest.approx(40.0)
    always = demand(walk_in={"rate": "48/day", "stay": {"mean": "10m"}}, devices="5")
    assert peak_visits(always, 12 * HOUR) == pytest.approx(24.0)
    assert math.isinf(peak_visits(always, INFINITE))


@given(
    rate=st.integers(1, 200),
    devices=st.integers(0, 50),
    risk=st.sampled_from([0.001, 0.01, 0.1, 0.5]),
)
@settings(max_examples=examples(60))
def test_the_accepted_risk_and_no_more_is_taken(rate: int, devices: int, risk: float) -> None:
    """That share of clients finds no address, and with one address less more would."""
    walk_in = {"rate": f"{rate}/h", "stay": "20m"}
    said = demand(walk_in=walk_in, devices=str(devices), risk=f"{risk * 100:g}%")
    most = peak_devices(said, HOUR) - devices
    assert refused(rate, most) <= risk < (refused(rate, most - 1) if most else 1)


def refused(load: int, places: int) -> float:
    """The share of clients who find no place (Erlang's B formula, by its recursion)."""
    share = 1.0
    for place in range(1, places + 1):
        share = load * share / (place + load * share)
    return share


def test_twelve_addresses_are_too_few_for_ten_an_hour() -> None:
    """With leases of an hour there are ten on average, and one client in eight is refused."""
    assert refused(10, 12) == pytest.approx(1 / 8, abs=0.01)
    assert peak_devices(demand(walk_in={"rate": "10/h", "stay": "20m"}), HOUR) == 18
    assert refused(10, 18) < 0.01
