"""``reservoir size`` as people use it, and its numbers against the rehearsal's virtual days."""

from __future__ import annotations

import json
import math
import random
from collections.abc import Callable
from pathlib import Path
from typing import Any

import jsonschema
import numpy as np
import pytest
import yaml
from hypothesis import given, settings
from hypothesis import strategies as st

import reservoir
from conftest import Run, examples
from reservoir.core.plan.demand import Demand
from reservoir.core.sizing import occupancy
from reservoir.core.sizing.streams import crowd
from reservoir.core.values.durations import format_duration
from reservoir.rehearsal.day import NetworkDay, rehearse_day

Put = Callable[[str, str], Path]

WIFI = """
devices:
  pier:
    dialect: larkspur
    interfaces: {{deck: {{address: 10.84.20.1/22}}}}
networks:
  wifi:
    subnet: 10.84.20.0/22
    gateway: 10.84.20.1
    ranges: [10.84.20.20-10.84.{last}]
    dns: [10.84.20.2]
    lease: {lease}
    demand: {demand}
"""

SAILINGS = (
    '{arrivals: [{at: "06:30", devices: 300, over: 20m, stay: 55m},'
    ' {at: "12:00", devices: 280, over: 20m, stay: 55m}]}'
)


def sized(run: Run, *arguments: str) -> dict[str, Any]:
    """The JSON of ``size`` for one network, and the summary."""
    ended = run("size", *arguments, "--format", "json")
    assert ended.code in (0, 1), ended.err
    data = json.loads(ended.out)
    assert data["command"] == "size"
    assert (ended.code == 1) == bool(data["summary"]["too_small"])
    return dict(data["networks"][0])


def test_a_plan_is_sized_with_every_figure_of_the_interface(run: Run, put: Put) -> None:
    """Peak and when, risk, refusals, range, lease, prefix, renewals, outage."""
    put("plan.yaml", WIFI.format(last="21.99", lease="12h", demand=SAILINGS))
    found = sized(run, "plan.yaml")
    assert found["network"] == "wifi"
    assert found["assignable"] == 336
    assert (found["peak"], found["peak_at"]) == (580, "12:20")
    assert found["risk"] == 1
    assert found["refused_per_day"] == pytest.approx(580 - 336, abs=1)
    assert (found["smallest_range"], found["with_headroom"]) == (580, 696)
    assert found["prefix"] == 22
    assert found["lease"] == 43_200
    assert found["outage_survived"] == 21_600
    assert found["longest_lease"] is None
    needed = {row["lease"]: row["smallest_range"] for row in found["lease_times"]}
    assert needed[14_400] == 300
    page = run("size", "plan.yaml")
    assert page.code == 1
    for said in ("580 addresses taken at 12:20", "100% chance", "696 with 20% headroom",
                 "<- now", "without headroom"):  # fmt: skip
        assert said in page.out, said


def test_what_is_suggested_makes_refusals_vanish_in_rehearsal(run: Run, put: Put) -> None:
    """A day with the lease that is too long refuses clients; with either suggestion it doesn't."""
    text = {"last": "20.150", "lease": "8h", "demand": SAILINGS.replace("300", "100").replace(
        "280", "90")}  # fmt: skip
    put("plan.yaml", WIFI.format(**text))
    found = sized(run, "plan.yaml")
    assert found["refused_per_day"] > 50
    assert refused(run) == pytest.approx(found["refused_per_day"], abs=3)
    lease = format_duration(found["longest_lease"])
    for remedy in ({"lease": lease}, {"last": f"20.{20 + found['with_headroom'] - 1}"}):
        put("plan.yaml", WIFI.format(**(text | remedy)))
        assert sized(run, "plan.yaml")["risk"] == 0
        assert refused(run) == 0
        assert run("check", "plan.yaml", "--select", "capacity").code == 0


def refused(run: Run) -> int:
    """Clients that find no address on the virtual day."""
    lived = run("rehearse", "plan.yaml", "--day", "--clients", "1", "--format", "json")
    return int(json.loads(lived.out)["days"][0]["refused"])


def test_a_demand_by_options_alone(run: Run) -> None:
    """Without a plan; with a pool it says whether that is enough."""
    stated = ("--rate", "40/h", "--stay", "25m", "--lease", "1h", "--risk", "1%")
    page = run("size", *stated)
    assert page.code == 0
    assert "40 addresses taken\n" in page.out
    assert "67 addresses for a chance of 1%" in page.out
    assert "refusal" not in page.out
    small = run("size", *stated, "--addresses", "60")
    assert small.code == 1
    assert "chance that on a day a client gets no address" in small.out
    found = sized(run, *stated, "--addresses", "67", "--devices", "9", "--growth", "10%/year",
                  "--horizon", "2 years", "--between", "08:00-20:00", "--cv", "0.8",
                  "--release", "5%", "--headroom", "0%",
                  "--arrival", "09:00,20,10m,2h")  # fmt: skip
    assert found["network"] is None
    assert found["assignable"] == 67
    assert found["smallest_range"] == found["with_headroom"] > 90


@pytest.mark.parametrize(
    ("arguments", "said"),
    [
        ((), "Give a plan, or state a demand: --devices, --rate, --arrival or --history."),
        (("--rate", "40/h", "--stay", "25m"), "The lease time is missing"),
        (("--rate", "40/h", "--lease", "1h"), "--rate goes with --stay"),
        (("--stay", "25m", "--devices", "4", "--lease", "1h"), "--stay goes with --rate"),
        (("--rate", "40", "--stay", "25m", "--lease", "1h"), "'40' is not a rate"),
        (("--rate", "40/h", "--stay", "25m", "--lease", "1x"), "'1x' is not a duration"),
        (("--rate", "40/h", "--stay", "25m", "--cv", "9", "--lease", "1h"), "at most 5"),
        (("--devices", "4", "--release", "150%", "--lease", "1h"), "no more than 100%"),
        (("--devices", "4", "--risk", "0%", "--lease", "1h"), "a risk is above 0%"),
        (("--arrival", "06:30,420", "--lease", "1h"), "is not of the form 06:30,420,20m,55m"),
        (("--rate", "4/h", "--stay", "infinite", "--lease", "1h"), "a stay ends"),
        (("--rate", "4/h", "--stay", "1h", "--lease", "infinite"), "can't be sized"),
        (("plan.yaml", "--devices", "4"), "Give a plan, or a demand by options"),
        (("plan.yaml", "--network", "wify"), "(did you mean wifi?)"),
        (("plan.yaml", "--figure", "day.gif"), "a figure is a .png, .svg or .pdf file"),
    ],
)
def test_calls_that_cannot_be_used(
    run: Run, put: Put, arguments: tuple[str, ...], said: str
) -> None:
    """Each with what is wrong, and status 2."""
    put("plan.yaml", WIFI.format(last="21.99", lease="45m", demand=SAILINGS))
    ended = run("size", *arguments)
    assert (ended.code, said in ended.err) == (2, True), ended.err


def test_a_timetable_beside_the_plan(run: Run, put: Put) -> None:
    """It counts as if its rows stood in the plan; what is wrong in it is listed by its cells."""
    put("plan.yaml", WIFI.format(last="23.250", lease="45m",
        demand="{arrivals: [{from: boats.csv}, {at: '18:00', devices: 9, stay: 1h}]}"))  # fmt: skip
    put("boats.csv", "devices,at,over,stay\n300,06:30,20m,55m\n280,12:00,,55m\n")
    assert sized(run, "plan.yaml")["peak"] == 300
    put("boats.csv", "devices,at,over,stay\n300,06:30,20m,55m\nmany,12.00,,55\n1,2\n")
    ended = run("size", "plan.yaml")
    assert ended.code == 2
    for said in ("boats.csv:3:1: devices is 'many'", "boats.csv:3:6: '12.00' is not a time of day",
                 "boats.csv:3:13: '55' is not a duration", "boats.csv:4:1: the row has 2 cells",
                 "4 problems"):  # fmt: skip
        assert said in ended.err, ended.err
    put("boats.csv", "when,devices,stay\n06:30,1,1h\n")
    wrong = run("check", "plan.yaml")
    assert "'when' is not a column of a timetable" in wrong.err
    assert "the column at is missing" in wrong.err
    put("boats.csv", "")
    assert run("size", "plan.yaml").code == 2


def leases_of_a_month() -> str:
    """A history: each day some walk in at noon, one more each day; two are always there."""
    chance = random.Random(3)  # noqa: S311 - a sample
    lines = ["mac,address,start,end"]
    first = 1_800_057_600  # a midnight
    for day in range(28):
        for number in range(30 + day):
            begin = first + day * 86_400 + 43_200 + int(chance.expovariate(1 / 1_200))
            lines.append(
                f"00:00:5e:00:53:{number:02x},10.84.20.{30 + number},{begin},{begin + 5_400}"
            )
    for number in (200, 201):
        lines.append(f"00:00:5e:00:53:{number:02x},10.84.20.{number},{first},{first + 28 * 86_400}")
    lines.append(f"00:00:5e:00:53:ff,10.85.1.9,{first},{first + 3_600}")
    return "\n".join(lines) + "\n"


def test_a_history_of_leases(run: Run, put: Put) -> None:
    """The observed peak, its trend by day, and the same answers; of the network's own leases."""
    put("leases.csv", leases_of_a_month())
    put("plan.yaml", WIFI.format(last="20.120", lease="1h", demand="{history: leases.csv}"))
    found = sized(run, "plan.yaml")
    seen = found["observed"]
    assert 55 <= seen["peak"] <= 59
    assert seen["trend_per_day"] == pytest.approx(1, abs=0.1)
    assert len(seen["days"]) == 28
    assert found["peak_at"].startswith(("12:", "13:"))
    assert 40 <= found["peak"] <= 50
    page = run("size", "plan.yaml")
    assert f"growing by {seen['trend_per_day']:.2g}" in " ".join(page.out.split())
    assert page.out.count("####") >= 14
    alone = sized(run, "--history", "leases.csv", "--lease", "1h", "--addresses", "101")
    assert alone["observed"]["peak"] == seen["peak"]
    put("plan.yaml", WIFI.format(last="20.120", lease="1h", demand="{history: other.csv}"))
    put("other.csv", "mac,address,start,end\n00:00:5e:00:53:01,10.99.0.1,1,2\n")
    assert "other.csv has no lease of an address in 10.84.20.0/22" in run("size", "plan.yaml").err
    put("other.csv", "mac,address,start,end\n00:00:5e:00:53:01,10.84.20.9,,2\n"
        "00:00:5e:00:53:01,10.84.20.9,7,5\n"
        "00:00:5e:00:53:01,10.84.20.9,7,253402300799\n")  # fmt: skip
    wrong = run("size", "plan.yaml")
    assert "other.csv:2:1: start: a history says when each lease began and ended" in wrong.err
    assert "other.csv:3:1: end: the lease ends before it begins" in wrong.err
    assert "other.csv:4:1: end: over ten years from when most leases began" in wrong.err


def test_a_history_with_other_headers_from_standard_input(run: Run) -> None:
    """Its columns are mapped; a lease without an end is of somebody who is always there."""
    text = "HW;IP;FROM;TO\n" + "".join(
        f"00:00:5e:00:53:{n:02x};10.84.20.{n};2027-03-01T0{n}:00:00+00:00;{end}\n"
        for n, end in ((1, "never"), (2, "2027-03-01T04:00:00+00:00"), (3, "1804000000"))
    )
    mapped = "mac=HW,address=IP,starts=FROM,expires=TO"
    ended = run("size", "--history", "-", "--columns", mapped, "--lease", "1h", "--format", "json",
                stdin=text)  # fmt: skip
    assert ended.code == 0, ended.err
    found = json.loads(ended.out)["networks"][0]
    assert found["observed"]["peak"] == 3
    assert found["smallest_range"] >= 2


def test_the_rehearsal_lives_what_was_observed(put: Put) -> None:
    """Clients come when they came and stay as they stayed; the mean is the sizing's."""
    put("leases.csv", leases_of_a_month())
    file = put("plan.yaml", WIFI.format(last="21.99", lease="1h", demand="{history: leases.csv}"))
    plan = reservoir.load(file)
    (size,) = reservoir.size(plan).networks
    days = [
        rehearse_day(plan.pools, reservoir.served_by(plan), seed=seed)[0]
        for seed in range(examples(4))
    ]
    assert not any(day.refused for day in days)
    taken = np.mean([np.mean(day.taken) for day in days])
    expected = float(np.mean(size.size.occupancy().mean))
    assert taken == pytest.approx(expected, rel=0.15)
    assert {day.peak_at // 3_600 for day in days} <= {12, 13, 14}


def test_a_demand_of_everything_in_a_plan_is_a_plan_and_valid(run: Run, put: Put) -> None:
    """All keys of a demand: they load, the schema accepts them, and a wrong one is named."""
    demand = (
        "{devices: 3, growth: 10%/year, horizon: 18 months, headroom: 5%, risk: 0.5%,\n"
        "      leave: {release: 5%}, walk_in: {rate: 300/day, between: '08:00-20:00',\n"
        "      stay: {mean: 25m, cv: 0.8}}, arrivals: {at: '06:30', devices: 9, stay: 2h}}"
    )
    plan = put("plan.yaml", WIFI.format(last="21.99", lease="45m", demand=demand))
    schema = json.loads(run("schema").out)
    written = yaml.safe_load(plan.read_text())
    jsonschema.validate(json.loads(json.dumps(written, default=str)), schema)
    found = sized(run, "plan.yaml")
    assert found["accepted_risk"] == 0.005
    assert found["headroom"] == 0.05
    for old, new, said in (
        ("cv: 0.8", "vc: 0.8", "there are mean, cv"),
        ("release: 5%", "released: 5%", "did you mean release?"),
        ("stay: 2h", "sty: 2h", "stay is missing"),
        ("mean: 25m", "mean: infinite", "a stay ends"),
        ("risk: 0.5%", "risk: 100%", "a risk is above 0% and below 100%"),
        ("at: '06:30'", "at: '25:30'", "is not a time of day"),
    ):
        put("plan.yaml", plan.read_text().replace(old, new))
        ended = run("check", "plan.yaml")
        assert (ended.code, said in ended.err) == (2, True), ended.err
        put("plan.yaml", WIFI.format(last="21.99", lease="45m", demand=demand))


def test_networks_that_cannot_be_sized_are_named(run: Run, put: Put) -> None:
    """Those without a demand, and those whose leases never end."""
    put(
        "plan.yaml",
        """
networks:
  crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20-99], demand: {devices: 40}}
  cabin: {subnet: 10.84.31.0/24, ranges: [10.84.31.20-99]}
  wifi: {subnet: 10.84.32.0/24, ranges: [10.84.32.20-99], lease: infinite,
         demand: {walk_in: {rate: 4/h, stay: 1h}}}
""",
    )
    ended = run("size", "plan.yaml")
    assert ended.code == 0
    assert "cabin was not sized: it states no demand." in ended.out
    assert "wifi was not sized: its leases never end and its clients come and go." in ended.out
    assert "Next: reservoir size plan.yaml --network crew" not in ended.out
    assert run("size", "plan.yaml", "--network", "cabin").code == 2


def test_the_figure_has_the_same_bytes_each_time(run: Run, put: Put, tmp_path: Path) -> None:
    """Drawn for one network; where several are sized, one has to be named."""
    put("plan.yaml", WIFI.format(last="21.99", lease="12h", demand=SAILINGS))
    for name, magic in (("a.pdf", b"%PDF"), ("a.png", b"\x89PNG"), ("b.png", b"\x89PNG")):
        run("size", "plan.yaml", "--figure", name)
        assert (tmp_path / name).read_bytes().startswith(magic)
    assert (tmp_path / "a.png").read_bytes() == (tmp_path / "b.png").read_bytes()


def random_demand(chance: random.Random) -> str:
    """A demand of a few dozen clients."""
    parts = [f"devices: {chance.randint(0, 3)}"]
    if chance.random() < 0.6:
        groups = [
            f'{{at: "{chance.randint(0, 23):02}:{chance.choice((0, 30)):02}", '
            f"devices: {chance.randint(1, 30)}, over: {chance.randint(1, 90)}m, "
            f"stay: {{mean: {chance.randint(5, 200)}m, cv: {chance.choice((0, 0.5, 1))}}}}}"
            for _ in range(chance.randint(1, 2))
        ]
        parts.append(f"arrivals: [{', '.join(groups)}]")
    if chance.random() < 0.7:
        begin = chance.randint(0, 18)
        parts.append(
            f"walk_in: {{rate: {chance.randint(1, 9)}/h, between: "
            f'"{begin:02}:00-{begin + chance.randint(2, 5):02}:00", '
            f"stay: {{mean: {chance.randint(5, 120)}m, cv: {chance.choice((0, 0.8))}}}}}"
        )
    parts.append(f"leave: {{release: {chance.choice((0, 5, 50))}%}}")
    return f"{{{', '.join(parts)}}}"


def many_networks(count: int, chance: random.Random) -> str:
    """A plan of networks with random demands, half of them with too few addresses."""
    interfaces, networks = [], []
    for number in range(count):
        octets = f"10.{84 + number // 200}.{number % 200}"
        interfaces.append(f"      p{number}: {{address: {octets}.1/24}}")
        networks.append(
            f"  n{number}: {{subnet: {octets}.0/24, gateway: {octets}.1, served_by: pier, "
            f"ranges: [{octets}.10-{octets}.{chance.choice((19, 24, 39, 240))}], "
            f"lease: {chance.choice(('90m', '4h', '12h', '1d'))}, demand: {random_demand(chance)}}}"
        )
    head = ["devices:", "  pier:", "    dialect: larkspur", "    interfaces:"]
    return "\n".join([*head, *interfaces, "networks:", *networks])


def test_sizes_are_those_of_the_rehearsals_virtual_days(put: Put) -> None:
    """Over 200 random demands: addresses taken through the day, and clients refused.

    How long addresses are taken is, for each network with room, the sum of what its clients hold:
    its mean and variance are known, so what was lived is so many standard deviations off.
    """
    chance = random.Random(11)  # noqa: S311 - a sample
    offs, came_refused, expected_refused, spread = [], 0.0, 0.0, 0.0
    for part in range(examples(3)):
        plan = reservoir.load(put(f"plan-{part}.yaml", many_networks(50, chance)))
        sizes = {one.name: one for one in reservoir.size(plan).networks}
        lived = rehearse_day(plan.pools, reservoir.served_by(plan), seed=part)
        assert len(lived) == 50
        for day in lived:
            size = sizes[day.network].size
            came_refused += day.refused
            expected_refused += size.refused_per_day
            spread += 4 * size.refused_per_day
            if not size.risk:
                offs.append(standard_deviations_off(day, size))
    assert len(offs) > examples(3) * 15
    found = np.array([off for off in offs if off is not None])
    assert np.abs(found).max() < 5
    assert 0.7 < np.sqrt((found**2).mean()) < 1.3
    assert abs(came_refused - expected_refused) < 4 * math.sqrt(spread) + 0.05 * expected_refused
    assert expected_refused > 100


def standard_deviations_off(day: NetworkDay, size: Any) -> float | None:
    """How far the time for which addresses were taken is from what is expected of it."""
    everybody = crowd(size.demand, size.lease)
    mean, variance = float(everybody.always * 86_400), 0.0
    for stream in everybody.streams:
        holds = stream.stays.holds(size.lease, stream.released)
        square = float(holds.shares @ holds.seconds**2)
        mean += stream.count * holds.mean
        variance += stream.count * (square - (holds.mean**2 if stream.is_known else 0))
        variance += stream.count * 300**2 / 6  # it was looked at each five minutes
    taken = sum(day.taken) * 300
    # Those who are there all day may still be switching on when it begins.
    return (taken - mean) / math.sqrt(variance) if variance else None


@pytest.mark.parametrize(
    ("demand", "said"),
    [
        ("walk_in: {rate: 999999999999/h, stay: 1h}", "more than 4,294,967,296 clients a day"),
        ("devices: 100000000000000000000", "it should be at most 4,294,967,296"),
        ("devices: 9, growth: 999999%/year, horizon: 9999 years", "more than 4,294,967,296"),
        ("walk_in: {rate: 1/h, stay: 900d}", "a year long at most"),
        ("walk_in: {rate: 1/h, stay: {mean: 300d, cv: 2}}", "some last for decades"),
        ("walk_in: {rate: 170000000/h, stay: 2d}", "no IPv4 subnet holds it"),
        ("arrivals: [{at: '08:00', devices: 4294967295, over: 10m, stay: {mean: 1h, cv: 2}}]", ""),
        ("devices: 4000000000, walk_in: {rate: 900/h, stay: 1h}", ""),
    ],
)
def test_any_number_has_an_answer(run: Run, put: Put, demand: str, said: str) -> None:
    """It is sized, or can't be meant; nothing of it takes longer because it is larger."""
    network = "{subnet: 10.0.0.0/8, ranges: all, lease: 1h, demand: {%s}}"
    put("plan.yaml", f"networks:\n  a: {network % demand}\n")
    sized = run("size", "plan.yaml")
    assert said in sized.out + sized.err
    checked = run("check", "plan.yaml", "--ignore", "gateways", "--ignore", "paths")
    assert checked.code == sized.code in (1, 2)


@given(
    rate=st.integers(500, 4_000),
    stay=st.sampled_from(["40m", "3h"]),
    devices=st.sampled_from([0, 300, 9_000]),
    share=st.floats(0.001, 0.2),
)
@settings(max_examples=examples(20))
def test_large_numbers_are_sized_as_they_are_counted_out(
    rate: int, stay: str, devices: int, share: float
) -> None:
    """What is taken for normal differs by less than a percent from what is counted out."""
    group = {"at": "07:00", "devices": devices, "over": "2h", "stay": "4h"}
    said = {"walk_in": {"rate": f"{rate}/h", "stay": stay}, "arrivals": [group]}
    everybody = crowd(Demand.model_validate(said), 3_600)
    sizes: list[tuple[int, float]] = []
    for large in (0.0, math.inf):
        with pytest.MonkeyPatch.context() as patched:
            patched.setattr(occupancy, "LARGE", large)
            taken = occupancy.Occupancy(everybody, 3_600)
            places = int(taken.peak)
            sizes.append((taken.needed(share), taken.refusals(places)))
    (normal, refused), (exact, refused_exactly) = sizes
    assert normal == pytest.approx(exact, rel=0.01, abs=1)
    assert refused == pytest.approx(refused_exactly, rel=0.05)


MORNING = 'at: "08:00", devices: 60, over: 1h, stay: 3h'
EVENING = 'at: "22:00", devices: 80, over: 4h, stay: 1h, on: 2027-03-31'
DEMANDS = {
    "returning": ("2d", f"{{arrivals: [{{{MORNING}, returning: 90%}}]}}"),
    "kept": ("3d", f"{{arrivals: [{{{MORNING}, returning: 100%}}]}}"),
    "event": ("1d", f"{{devices: 5, arrivals: [{{{EVENING}}}]}}"),
    "night": ("1h", "{walk_in: {rate: 20/h, between: 22:00-06:00, stay: 50m}}"),
}


@pytest.mark.parametrize("kind", DEMANDS)
def test_a_virtual_day_is_as_the_demand_says(run: Run, put: Put, kind: str) -> None:
    """Who returns has the address of yesterday; an event is alone; renewals are as sized."""
    lease, demand = DEMANDS[kind]
    put(
        "plan.yaml",
        f"""
devices: {{pier: {{dialect: larkspur, interfaces: {{deck: {{address: 10.84.30.1/24}}}}}}}}
networks:
  crew: {{subnet: 10.84.30.0/24, gateway: 10.84.30.1, dns: [10.84.30.1], ranges: [10.84.30.10-250],
         lease: {lease}, demand: {demand}}}
""",
    )
    [day] = json.loads(run("rehearse", "plan.yaml", "--day", "--format", "json").out)["days"]
    [sized] = json.loads(run("size", "plan.yaml", "--format", "json").out)["networks"]
    assert day["refused"] == 0
    assert day["peak"] == pytest.approx(sized["peak"], abs=2 if kind != "night" else 15)
    assert day["expected"] == sized["peak"]
    assert_as_many(day["renewals_per_second"], sized["renewals_per_second"])
    expected = {"returning": 66, "kept": 60, "event": 85, "night": sized["peak"]}
    assert sized["peak"] == expected[kind]
    assert sized["peak_on"] == ("2027-04-01" if kind == "event" else None)


def assert_as_many(lived: float, expected: float) -> None:
    """The most in a minute are as many as expected in one, but for what chance does to them."""
    count = 60 * expected
    assert 60 * lived >= count - 4 * math.sqrt(count)
    assert 60 * lived <= count + 5 * math.sqrt(count) + 4


def test_renewals_of_the_virtual_day_are_those_that_are_sized(run: Run, put: Put) -> None:
    """600 in 20 minutes, with leases of 20 minutes: half a one a second, in both."""
    put(
        "plan.yaml",
        """
devices: {pier: {dialect: larkspur, interfaces: {deck: {address: 10.84.40.1/21}}}}
networks:
  deck: {subnet: 10.84.40.0/21, gateway: 10.84.40.1, dns: [10.84.40.1], lease: 20m,
         ranges: [10.84.40.10-10.84.47.250],
         demand: {arrivals: [{at: "08:00", devices: 600, over: 20m, stay: 15m}]}}
""",
    )
    [day] = json.loads(run("rehearse", "plan.yaml", "--day", "--format", "json").out)["days"]
    assert day["expected_renewals"] == pytest.approx(0.5, rel=0.02)
    assert_as_many(day["renewals_per_second"], 0.5)


@pytest.mark.parametrize(("demand", "said"), [
    ('arrivals: [{at: "08:00", devices: 9, stay: 1h, returning: 101%}]', "no more than 100%"),
    ('arrivals: [{at: "08:00", devices: 9, stay: 1h, on: 2027-02-30}]', "is not a date"),
    ('arrivals: [{at: "08:00", devices: 9, stay: 1h, on: 2027-03-31, returning: 5%}]',
     "who comes on one day only doesn't return"),
    ("walk_in: {rate: 4/h, stay: 1h, between: 08:00-08:00}", "is not a time span"),
    ("devices: 4, zone: Europe/Lisbone", "is not a time zone, like Europe/Lisbon"),
])  # fmt: skip
def test_what_cannot_be_of_a_demand_is_named(run: Run, put: Put, demand: str, said: str) -> None:
    put("plan.yaml", f"networks:\n  crew: {{subnet: 10.84.30.0/24, demand: {{{demand}}}}}\n")
    ended = run("check", "plan.yaml")
    assert ended.code == 2
    assert said in ended.err


def test_options_say_who_returns_and_that_all_come_once(run: Run) -> None:
    base = ("size", "--arrival", "08:00,200,1h,8h", "--lease", "3d", "--format", "json")
    peaks = [
        json.loads(run(*base, *more).out)["networks"][0]["peak"]
        for more in ((), ("--returning", "90%"), ("--once",))
    ]
    assert peaks == [600, 240, 200]
    assert "contradict" in run(*base, "--once", "--returning", "9%").err
    assert "goes with" in run("size", "--devices", "4", "--returning", "9%", "--lease", "1h").err
