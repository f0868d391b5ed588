"""Work grows as the input does: lines that run are counted, by function, at three sizes."""

from __future__ import annotations

import json
import sys
from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from ipaddress import IPv4Interface
from pathlib import Path
from types import CodeType, FrameType
from typing import Any

import pytest
from click.testing import CliRunner

from reservoir import cli
from reservoir.cli.commands import reservoir
from reservoir.core.checks import suggestions
from reservoir.dialects.behaviour.device import Behaviour
from reservoir.dialects.sheet.library import Library
from reservoir.dialects.sheet.model import Sheet

SIZES = (4, 16, 64)
"""Each four times the one before: linear work grows to four times, quadratic work to sixteen."""

MOST = 7
"""How many times the lines that the first step adds the second may add: n log n is about 5."""

LEAST = 16 * SIZES[1]
"""Lines that prove nothing."""

FIRST = 128 * SIZES[2]
"""Nor do so many of what only the largest input needs: few are worked out in another way."""

DIALECTS = Library().names

IN_EVERY_COMMAND = ("larkspur", "merganser", "linux-host")
"""Of these, those whose devices find their pools by subnet, by interface, or have one for each
client. What reading, lifting, lowering and writing take shows in one command for the others."""


def subnet(number: int, host: int = 0) -> str:
    """An address in subnet ``number``."""
    return f"10.{100 + number // 250}.{number % 250}.{host}"


def span(number: int, first: int, last: int) -> str:
    return f"{subnet(number, first)}-{subnet(number, last)}"


def binding(number: int, host: int, client: int) -> dict[str, Any]:
    mac = f"00:00:5e:00:{client >> 8:02x}:{client & 255:02x}"
    return {"name": f"printer-{client}", "mac": mac, "address": subnet(number, host)}


def network(number: int, **other: Any) -> dict[str, Any]:
    """A network in which every kind of thing that a plan holds is right."""
    return {
        "subnet": f"{subnet(number)}/24",
        "gateway": subnet(number, 1),
        "dns": ["10.84.0.53"],
        "lease": "8h",
        "served_by": ["pier"],
        "ranges": [span(number, 20, 99)],
        "exclusions": [span(number, 40, 44)],
        "bindings": [binding(number, 10, number)],
        **other,
    }


def plan(networks: Sequence[Mapping[str, Any]], dialect: str = "larkspur") -> str:
    """A plan of networks with an interface at each gateway, on as many devices as they need."""
    sheet = Library().sheet(dialect)
    most = 1 if Behaviour(sheet).uses_pools_in_order else len(networks)
    devices: dict[str, Any] = {}
    named: dict[str, Any] = {}
    for number in range(0, len(networks), most):
        name = f"pier-{number}" if number else "pier"
        some = networks[number : number + most]
        gateways = dict.fromkeys(f"{one['gateway']}/{one['subnet'].split('/')[1]}" for one in some)
        interfaces = {"uplink": {"address": f"10.84.{number // 200}.{2 + number % 200}/16"}}
        interfaces |= {f"port{n}": {"address": own} for n, own in enumerate(gateways)}
        routes = [{"to": "0.0.0.0/0", "via": "10.84.255.1"}]
        devices[name] = {"dialect": dialect, "interfaces": interfaces, "routes": routes}
        its = {"served_by": [name]}
        named |= {f"net-{number + n}": {**one, **its} for n, one in enumerate(some)}
    return json.dumps({"reservoir": 1, "devices": devices, "networks": named}, indent=1)


def right(size: int) -> list[dict[str, Any]]:
    return [network(number) for number in range(size)]


def crowded(size: int) -> list[dict[str, Any]]:
    """One network with many ranges, exclusions and bindings."""
    wide = {"subnet": "10.100.0.0/16", "gateway": "10.100.0.1"}
    ranges = [span(number + 1, 20, 99) for number in range(size)]
    exclusions = [span(number + 1, 40, 44) for number in range(size)]
    bindings = [binding(number + 1, 10, number) for number in range(size)]
    return [network(0, **wide, ranges=ranges, exclusions=exclusions, bindings=bindings)]


def mistaken(size: int) -> list[dict[str, Any]]:
    """Each network has a range that ends in the subnet after it."""
    return [
        network(number, ranges=[f"{subnet(number, 20)}-{subnet(number + 1, 99)}"])
        for number in range(size)
    ]


def misplaced(size: int) -> list[dict[str, Any]]:
    """Each network has a gateway and a binding that a slip took into another subnet."""
    return [
        network(number, gateway=f"10.{100 + number // 250}.{200 + number}.1",
                bindings=[binding(number + 1, 10, number)])
        for number in range(size)
    ]  # fmt: skip


def reversed_(size: int) -> list[dict[str, Any]]:
    """Each network has ranges written high to low around its gateway: what is suggested fails."""
    return [
        network(number, gateway=subnet(number, 50), exclusions=[],
                ranges=[f"{subnet(number, 99)}-{subnet(number, 20)}"])
        for number in range(size)
    ]  # fmt: skip


def nested(size: int) -> list[dict[str, Any]]:
    """Each network's subnet is in the one before, /8 to /27, over and over."""
    around = [f"10.0.{number // 20}.{1 + number % 20}" for number in range(size)]
    subnets = [IPv4Interface(f"{a}/{8 + n % 20}").network for n, a in enumerate(around)]
    return [
        network(0, subnet=str(its), gateway=own, dns=[], ranges=[], exclusions=[], bindings=[])
        for its, own in zip(subnets, around, strict=True)
    ]


def nearly_named(size: int) -> list[dict[str, Any]]:
    """Each network names a server that there is not, but for a letter."""
    return [network(number, served_by=[f"peir-{number}"]) for number in range(size)]


def expectant(size: int) -> list[dict[str, Any]]:
    """Each network expects other clients, and some have too few addresses."""
    group = {"at": "09:00", "devices": 40, "over": "30m", "stay": {"mean": "1h", "cv": 0.5}}
    return [
        network(number, demand={
            "devices": number % 7,
            "arrivals": [group | {"devices": 20 + number % 90}],
            "walk_in": {"rate": f"{10 + number % 11}/h", "stay": "25m"},
        })
        for number in range(size)
    ]  # fmt: skip


def repeated(size: int) -> list[dict[str, Any]]:
    """Each network has the same subnet."""
    return [network(0, bindings=[binding(0, 10, number)]) for number in range(size)]


def entangled(size: int) -> list[dict[str, Any]]:
    """One network whose ranges and exclusions each overlap the next."""
    [one] = crowded(size)
    ranges = [f"{subnet(n + 1, 20)}-{subnet(n + 2, 30)}" for n in range(size)]
    exclusions = [f"{subnet(n + 1, 40)}-{subnet(n + 2, 42)}" for n in range(size)]
    return [one | {"ranges": ranges, "exclusions": exclusions}]


Steps = Callable[..., Counter[str]]


@pytest.fixture
def steps(monkeypatch: pytest.MonkeyPatch) -> Steps:
    """Runs a command and counts; a fixture, so that it is known which tests take that long.

    What may be spent on trying suggestions is spent at the smallest size already.
    """
    monkeypatch.setattr(suggestions, "MOST_WORK", 20 * SIZES[0])
    return lines_run


def lines_run(*arguments: str | Path) -> Counter[str]:
    """How often each function of the program runs one of its lines, in a run in this process.

    A loop inside a function counts too, which calls alone would not show.
    """
    own = str(Path(cli.__file__).parents[1])
    lines: dict[CodeType, list[int]] = {}
    steppers: dict[CodeType, Trace | None] = {}

    def stepper(code: CodeType) -> Trace | None:
        if not code.co_filename.startswith(own):
            return None
        count = lines[code] = [0]

        def step(_frame: FrameType, _event: str, _argument: object) -> Trace:
            count[0] += 1
            return step

        return step

    def enter(frame: FrameType, _event: str, _argument: object) -> Trace | None:
        code = frame.f_code
        if code not in steppers:
            steppers[code] = stepper(code)
        return steppers[code]

    sys.settrace(enter)
    try:
        ended = CliRunner().invoke(reservoir, [*map(str, arguments)])
    finally:
        sys.settrace(None)
    assert ended.exit_code in (0, 1, 2), ended.output
    counted: Counter[str] = Counter()
    for code, [count] in lines.items():
        counted[f"{code.co_filename}:{code.co_firstlineno} {code.co_name}"] += count
    return counted


def excess(counted: Sequence[Counter[str]]) -> list[str]:
    """The functions whose lines grow faster than the input."""
    small, middle, large = counted
    return [
        f"{where}: {small[where]}, {middle[where]}, {most}"
        for where, most in large.most_common()
        if most > MOST * max(small[where], middle[where])
        and most - middle[where] > MOST * max(middle[where] - small[where], LEAST)
        and (middle[where] or most > FIRST)
    ]


Trace = Callable[[FrameType, str, Any], Any]


Shape = Callable[[int], list[dict[str, Any]]]


def folders(tmp_path: Path) -> list[Path]:
    made = [tmp_path / str(size) for size in SIZES]
    for folder in made:
        folder.mkdir()
    return made


@pytest.mark.parametrize(
    ("command", "shape"),
    [
        ("check", right),
        ("check", crowded),
        ("check", mistaken),
        ("check", misplaced),
        ("check", repeated),
        ("check", entangled),
        ("check", reversed_),
        ("check", nested),
        ("check", nearly_named),
        ("check", expectant),
        ("mend", mistaken),
        ("mend", entangled),
        ("size", expectant),
        ("map", mistaken),
        ("map", entangled),
        ("report --format markdown", right),
        ("new --network lounge --device pier --clients 20 --yes --into", right),
    ],
)
def test_work_on_a_plan_grows_as_the_plan_does(
    steps: Steps, tmp_path: Path, command: str, shape: Shape
) -> None:
    """Whether it is right or full of mistakes, with many networks or much in one."""
    counted = []
    for folder, size in zip(folders(tmp_path), SIZES, strict=True):
        (folder / "plan.yaml").write_text(plan(shape(size)))
        counted.append(steps(*command.split(), folder / "plan.yaml"))
    assert not excess(counted)


@pytest.mark.parametrize("dialect", DIALECTS)
def test_work_on_configuration_grows_as_it_does(steps: Steps, tmp_path: Path, dialect: str) -> None:
    """Each command that reads it: by reading, lifting, lowering and writing."""
    runs: dict[str, list[Counter[str]]] = {
        "beside": [],
        "rehearse": [],
        "read": [],
        "into": [],
        "compare": [],
    }
    for folder, size in zip(folders(tmp_path), SIZES, strict=True):
        networks = right(size)
        if dialect == "linux-host":  # it holds one range for each network
            networks = [one | {"exclusions": []} for one in networks]
        (folder / "plan.yaml").write_text(plan(networks, dialect))
        write = ["write", str(folder / "plan.yaml"), "--out", str(folder / "out")]
        assert CliRunner().invoke(reservoir, write).exit_code == 0
        file = folder / "out" / f"pier.{dialect}"
        if file.is_file():
            file.write_text(with_lines_undone(file.read_text(), Library().sheet(dialect)))
        into = ("--into", file, "--out", folder / "new")
        runs["into"].append(steps("write", folder / "plan.yaml", *into))
        if dialect in IN_EVERY_COMMAND:
            runs["beside"].append(steps("check", folder / "plan.yaml", file))
            runs["read"].append(steps("read", file))
            runs["compare"].append(steps("compare", folder / "plan.yaml", file))
            runs["rehearse"].append(steps("rehearse", "--clients", "1", folder / "plan.yaml"))
    found = {run: excess(counted) for run, counted in runs.items() if counted}
    assert found == {key: [] for key in found}


@pytest.mark.parametrize("shape", [right, crowded])
def test_work_on_leases_and_changes_grows_as_they_do(
    steps: Steps, tmp_path: Path, shape: Shape
) -> None:
    """Comparing plans of which all differs, and lists of as many leases as there are bindings."""
    runs: dict[str, list[Counter[str]]] = {"compare": [], "script": [], "leases": [], "adopt": []}
    for folder, size in zip(folders(tmp_path), SIZES, strict=True):
        networks = shape(size)
        moved = [
            one | {"lease": "4h", "bindings": [b | {"address": b["address"][:-2] + "11"}
                                               for b in one["bindings"]]}
            for one in networks
        ]  # fmt: skip
        (folder / "plan.yaml").write_text(plan(networks))
        (folder / "new.yaml").write_text(plan(moved))
        rows = [f"00:00:5e:01:{n >> 8:02x}:{n & 255:02x},{subnet(n, 60)}" for n in range(size)]
        (folder / "leases.csv").write_text("\n".join(["mac,address", *rows, ""]))
        leases = folder / "leases.csv"
        runs["compare"].append(
            steps("compare", folder / "plan.yaml", folder / "new.yaml", "--leases", leases)
        )
        old, new = folder / "plan.yaml", folder / "new.yaml"
        if shape is right:  # what is in one network is changed together
            runs["script"].append(steps("compare", old, new, "--script", folder / "script"))
        runs["leases"].append(steps("leases", leases, "--plan", folder / "plan.yaml"))
        runs["adopt"].append(steps("adopt", leases, "--into", folder / "plan.yaml"))
    found = {run: excess(counted) for run, counted in runs.items() if counted}
    assert found == {key: [] for key in found}


def with_lines_undone(text: str, sheet: Sheet) -> str:
    """The text with each line of its last third undone at its end, if the dialect can."""
    if sheet.undo is None:
        return text
    lines = text.rstrip("\n").split("\n")
    undone = (line for line in lines[len(lines) * 2 // 3 :] if line and not line.startswith(" "))
    undoing = [f"{sheet.undo.before}{line}{sheet.undo.after}" for line in undone]
    return "\n".join([*lines, *undoing, ""])
