"""What all commands have in common: one frame of JSON, the same bytes each time, plain pipes."""

from __future__ import annotations

import json
import re
from importlib import resources
from pathlib import Path
from typing import Any

import click
import jsonschema
import pytest

from conftest import Run, program
from reservoir.cli.commands import COMMANDS, reservoir
from reservoir.reports.outputs import OUTPUTS
from reservoir.version import __version__

NOW = ("--now", "2027-03-31T12:00:00+00:00")

SAID: dict[str, tuple[str, ...]] = {
    "check": ("check", "hurried/ferry-line.yaml", "--fail-on", "never"),
    "compare": ("compare", "running/pier-router.larkspur", "right/ferry-line.yaml"),
    "leases": ("leases", "running/leases.csv", "--plan", "right/ferry-line.yaml", *NOW),
    "adopt": ("adopt", "running/leases.csv", "--into", "right/ferry-line.yaml", *NOW),
    "rehearse": ("rehearse", "right/ferry-line.yaml", "--network", "crew", "--day"),
    "size": ("size", "hurried/ferry-line.yaml"),
    "find": (
        "find",
        "10.84.20.30",
        "crew",
        "10.90.0.1",
        "hurried/ferry-line.yaml",
        "--leases",
        "running/leases.csv",
    ),
    "map": ("map", "hurried/ferry-line.yaml", "--free", "/20", "--free-vlans"),
}
"""A call of each command that has JSON."""

ELSEWHERE = {"verify"}
"""Those that need a network that answers; `test_verify.py` looks at their JSON."""

LISTS = {
    "check": "findings", "compare": "networks", "leases": "networks", "adopt": "bindings",
    "rehearse": "networks", "size": "networks", "map": "networks",
    "find": "answers",
}  # fmt: skip
"""What each is about."""


@pytest.fixture(scope="module")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Path:
    """The demo's files."""
    folder = tmp_path_factory.mktemp("demo")
    for part in ("right", "hurried", "running"):
        (folder / part).mkdir()
        for file in (resources.files("reservoir.demo") / part).iterdir():
            if not file.name.startswith("__"):
                (folder / part / file.name).write_bytes(file.read_bytes())
    return folder


def commands_with(option: str) -> list[str]:
    """The commands that have an option."""
    group = click.Context(reservoir)
    found = []
    for name in COMMANDS:
        command = reservoir.get_command(group, name)
        assert command is not None
        if any(option in parameter.opts for parameter in command.params):
            found.append(name)
    return found


def test_every_command_that_has_json_is_tried_here() -> None:
    """A new one gets a line above."""
    group = click.Context(reservoir)
    has_json = [
        name
        for name in commands_with("--format")
        for parameter in getattr(reservoir.get_command(group, name), "params", ())
        if parameter.name == "form" and "json" in getattr(parameter.type, "choices", ())
    ]
    assert sorted(has_json) == sorted({*SAID, *ELSEWHERE}) == sorted(OUTPUTS)


@pytest.mark.parametrize("name", SAID)
def test_json_has_the_frame_and_says_the_same_each_time(
    name: str, installed: Path, demo: Path
) -> None:
    """One object: version, command, inputs, its list, a summary; nothing that isn't JSON."""
    first = program(demo, *SAID[name], "--format", "json")
    assert first.code in (0, 1), first.err

    def refuse(constant: str) -> Any:
        raise AssertionError(f"{constant} is not JSON")

    data = json.loads(first.out, parse_constant=refuse)
    assert list(data)[:3] == ["reservoir", "command", "inputs"]
    assert (data["reservoir"], data["command"]) == (__version__, name)
    assert data["inputs"]
    assert all((demo / file).exists() for file in data["inputs"])
    assert isinstance(data[LISTS[name]], list)
    assert isinstance(data["summary"], dict)
    elsewhere = {"PYTHONHASHSEED": "7", "TZ": "Asia/Tokyo"}
    again = program(demo, *SAID[name], "--format", "json", start=installed, **elsewhere)
    assert again.out == first.out


MORE_SAID = [
    ("check", "hurried/ferry-line.yaml", "--prove"),
    ("check", "running/pier-router.larkspur"),
    (*SAID["compare"], "--leases", "running/leases.csv", *NOW),
    ("size", "--devices", "40", "--history", "history.csv", "--lease", "8h"),
    ("size", "right/ferry-line.yaml", "--network", "passenger-wifi"),
    ("rehearse", "hurried/ferry-line.yaml", "--network", "crew", "--clients", "2"),
    ("map", "right/ferry-line.yaml"),
]
"""Further calls, so that every field is there."""


@pytest.mark.parametrize("call", [*SAID.values(), *MORE_SAID], ids=" ".join)
def test_the_schema_describes_what_is_printed(run: Run, demo: Path, call: tuple[str, ...]) -> None:
    """All fields and no others, though a reader has to bear more: fields may be added."""
    history = "2027-03-30T08:00:00+00:00,2027-03-30T09:00:00+00:00"
    (demo / "history.csv").write_text(
        f"mac,address,start,end\n00:00:5e:00:53:01,10.84.20.9,{history}\n"
    )
    said = json.loads(program(demo, *call, "--format", "json").out)
    require_described(said, json.loads(run("schema", call[0]).out))


def require_described(said: Any, its_schema: Any) -> None:
    """Require that a schema describes what was printed, with all of its fields and no others."""
    jsonschema.Draft202012Validator.check_schema(its_schema)
    for described in (its_schema, *its_schema["$defs"].values()):
        assert described["description"]
        assert "additionalProperties" not in described
        if "properties" in described:
            described["additionalProperties"] = False
    jsonschema.validate(said, its_schema)


@pytest.mark.parametrize("name", SAID)
def test_text_in_a_pipe_is_plain_narrow_and_steady(name: str, installed: Path, demo: Path) -> None:
    """No escapes, no blanks at line ends, the same bytes in another time zone or locale."""
    first = program(demo, *SAID[name])
    assert "\x1b" not in first.out + first.err
    assert not re.search(r"[ \t]$", first.out, re.MULTILINE) or name == "adopt"  # a difference
    assert max(map(len, first.out.splitlines())) <= 120
    elsewhere = {"PYTHONHASHSEED": "7", "TZ": "Asia/Tokyo", "COLUMNS": "50"}
    again = program(demo, *SAID[name], start=installed, **elsewhere)
    assert (again.out, again.err) == (first.out, first.err)
    coloured = program(demo, *SAID[name], "--color", "always", "--quiet")
    assert click.unstyle(coloured.out) == first.out


def test_options_mean_the_same_everywhere() -> None:
    """`--format`, `--out`, `--quiet`, `--color` and `--dialect` are spelled and told alike."""
    group = click.Context(reservoir)
    told: dict[str, set[str]] = {}
    for name in COMMANDS:
        command = reservoir.get_command(group, name)
        assert command is not None
        for parameter in command.params:
            if not isinstance(parameter, click.Option):
                continue
            assert parameter.help, f"{name} {parameter.opts}"
            assert parameter.help.endswith((".", ")")), f"{name}: {parameter.help}"
            for option in parameter.opts:
                told.setdefault(option, set()).add(parameter.help)
    assert len(told["--quiet"]) == len(told["--color"]) == 1
    for short, long in (("-o", "--out"), ("-q", "--quiet")):
        assert told[short] <= told[long]
    # These say to no person what they do: a group, a log, the talk with an editor.
    assert set(COMMANDS) - set(commands_with("--quiet")) <= {"dialect", "stand-in", "lsp"}


def test_the_commands_come_in_the_order_of_the_job() -> None:
    """Start, check, write, change, rehearse, size, show; each once, each a module of its name."""
    assert len(set(COMMANDS)) == len(COMMANDS)
    order = ["new", "check", "write", "compare", "rehearse", "size", "map", "report", "demo"]
    assert [name for name in COMMANDS if name in order] == order
    folder = Path(str(resources.files("reservoir"))) / "cli"
    for name in COMMANDS:
        text = (folder / f"{name.replace('-', '_')}.py").read_text()
        assert f"``reservoir {name}``" in text.splitlines()[0]
