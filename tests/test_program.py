"""The program as a whole: start-up, the demo, the schema, the interface for Python."""

from __future__ import annotations

import json
import re
import shutil
import subprocess
import sys
from collections.abc import Callable
from importlib import resources
from pathlib import Path

import jsonschema
import pytest
import yaml

import reservoir
from conftest import Run
from reservoir.cli.commands import COMMANDS

Put = Callable[[str, str], Path]

HEAVY = ("numpy", "pydantic", "yaml", "pandas", "scipy", "matplotlib", "rich")


@pytest.mark.parametrize(
    ("arguments", "absent"),
    [(["--version"], (*HEAVY, "click")), (["--help"], HEAVY), (["check", "--help"], HEAVY)],
)
def test_start_loads_nothing_heavy(arguments: list[str], absent: tuple[str, ...]) -> None:
    """Asking for help or the version costs no more than Click."""
    script = (
        "import sys, atexit; from reservoir.cli import main; "
        f"sys.argv = ['reservoir', *{arguments}]; "
        f"atexit.register(lambda: print([m for m in {absent} if m in sys.modules])); main()"
    )
    ended = subprocess.run(
        [sys.executable, "-c", script], capture_output=True, text=True, check=True
    )
    assert ended.stdout.splitlines()[-1] == "[]"


def test_a_check_starts_with_what_it_needs_and_one_thread() -> None:
    """The demo's plan has walk-ins, groups and head-counts; none of them needs a large package."""
    plan = Path(reservoir.__file__).parent / "demo/right/ferry-line.yaml"
    script = (
        "import sys, atexit; from pathlib import Path; from reservoir.cli import main; "
        f"sys.argv = ['reservoir', 'check', {str(plan)!r}, '--quiet']; "
        "atexit.register(lambda: print("
        "[m for m in ('scipy', 'matplotlib', 'pandas', 'ruamel', 'numpy.random', 'jinja2') "
        "if m in sys.modules], len(list(Path('/proc/self/task').glob('*'))))); main()"
    )
    ended = subprocess.run(
        [sys.executable, "-c", script],
        capture_output=True,
        text=True,
        check=True,
        env={"PATH": "/usr/bin:/bin"},
    )
    assert ended.stdout.splitlines()[-1] == "[] 1"


PLAN, ROUTER, LEASES = "right/ferry-line.yaml", "running/pier-router.larkspur", "running/leases.csv"

CALLS = {
    "new": ("new", "--into", PLAN, "--device", "pier-router", "--clients", "120", "--yes"),
    "check": ("check", "hurried/ferry-line.yaml", "--prove"),
    "explain": ("explain", "gateway-in-pool"),
    "mend": ("mend", "hurried/ferry-line.yaml", "--in-place"),
    "write": ("write", PLAN),
    "read": ("read", ROUTER),
    "convert": ("convert", ROUTER, "--to", "fulmar"),
    "compare": ("compare", ROUTER, PLAN, "--device", "pier-router", "--script", "change"),
    "leases": ("leases", LEASES, "--plan", PLAN, "--format", "json"),
    "adopt": ("adopt", LEASES, "--into", PLAN),
    "rehearse": ("rehearse", PLAN, "--network", "crew"),
    "verify": ("verify", PLAN, "--on", "nowhere0", "--yes"),
    "stand-in": ("stand-in", PLAN, "--device", "nobody"),
    "size": ("size", PLAN, "--network", "crew", "--figure", "crew.png"),
    "map": ("map", PLAN, "--free", "/20"),
    "find": ("find", "10.84.20.30", "crew", PLAN, "--leases", LEASES),
    "lsp": ("lsp",),
    "report": ("report", PLAN, "--out", "report.html"),
    "dialect": ("dialect", "try", "thimble"),
    "schema": ("schema", "check"),
    "demo": ("demo", "elsewhere"),
}
"""A call of each command, among them some that write files, figures too."""


@pytest.mark.parametrize("name", COMMANDS)
def test_a_fork_does_what_a_start_does(
    name: str, installed: Path, run: Run, tmp_path: Path
) -> None:
    """To the byte: most tests fork a program that is loaded, and this is what they rest on."""
    done = []
    for start in (None, installed):
        shutil.copytree(Path(reservoir.__file__).parent / "demo", tmp_path, dirs_exist_ok=True)
        ended = run(*CALLS[name], start=start)
        files = [file for file in tmp_path.rglob("*") if file.is_file()]
        done.append((ended, {file: file.read_bytes() for file in files}))
        shutil.rmtree(tmp_path)
    assert done[0] == done[1]


def test_as_a_module_and_a_library() -> None:
    """``python -m reservoir`` works; importing the library loads nothing heavy."""
    version = subprocess.run(
        [sys.executable, "-m", "reservoir", "--version"], capture_output=True, text=True, check=True
    )
    assert version.stdout == f"reservoir {reservoir.__version__}\n"
    light = f"import sys, reservoir; print([m for m in {HEAVY} if m in sys.modules])"
    loaded = subprocess.run(
        [sys.executable, "-c", light], check=True, capture_output=True, text=True
    )
    assert loaded.stdout == "[]\n"


def test_a_library_says_what_is_wrong_with_an_input(tmp_path: Path) -> None:
    """The exception that the functions name is theirs, and lists every problem with its place."""
    plan = tmp_path / "plan.yaml"
    plan.write_text(
        "reservoir: 1\nnetworks:\n  crew: {subnet: 10.84.30.0/33, gatewy: 10.84.30.1}\n"
    )
    with pytest.raises(reservoir.InputError) as refused:
        reservoir.load(str(plan))
    problems = refused.value.problems
    assert [(p.place.line, p.place.column) for p in problems] == [(3, 18), (3, 33)]
    assert "did you mean gateway?" in problems[1].message


def test_the_demo_walks_through_the_job(run: Run, tmp_path: Path) -> None:
    """The hurried plan has a dozen kinds of mistakes, the right one none, and all of it is kept."""
    demo = run("demo")
    assert demo.code == 0, demo.err
    assert "Each file was read back" in demo.err
    made = {path.name for path in (tmp_path / "ferry-line").iterdir()}
    assert {"report.html", "map.svg", "passenger-wifi-hurried.png", "change"} <= made
    assert "100% chance that on a day a client gets no address" in demo.out
    hurried = json.loads(run("check", "ferry-line/hurried/ferry-line.yaml", "--format", "json").out)
    assert {finding["rule"] for finding in hurried["findings"]} == {
        "gateway-in-pool",
        "gateway-outside-subnet",
        "gateway-edge-address",
        "range-outside-subnet",
        "range-takes-edge-address",
        "ranges-overlap",
        "networks-overlap",
        "pools-overlap",
        "static-in-pool",
        "binding-address-twice",
        "binding-outside-subnet",
        "pool-empty",
        "pool-undersized",
        "server-not-reached",
        "secondary-unserved",
        "lease-rounded",
        "lease-too-long",
        "lease-too-short",
        "subnet-outgrown",
        "address-held-twice",
        "demand-unknown",
    }
    for finding in hurried["findings"]:
        assert (tmp_path / finding["file"]).exists()
        assert finding["line"] > 1
    right = json.loads(run("check", "ferry-line/right/ferry-line.yaml", "--format", "json").out)
    back = json.loads(run("check", "ferry-line/read-back.yaml", "--format", "json").out)
    assert right["findings"] == []
    assert {finding["rule"] for finding in back["findings"]} == {"demand-unknown"}, "read, not told"
    assert {**right["summary"], "advice": 1} == back["summary"]
    assert right["summary"]["networks"] >= 8
    assert right["summary"]["devices"] >= 3
    (tmp_path / "ferry-line/right/ferry-line.yaml").write_text("mine")
    assert run("demo").code == 2
    assert (tmp_path / "ferry-line/right/ferry-line.yaml").read_text() == "mine"


def test_the_schema_says_what_the_program_accepts(run: Run) -> None:
    """The demo's plans validate; a wrong key doesn't; the schema itself is a schema."""
    schema = json.loads(run("schema").out)
    jsonschema.Draft202012Validator.check_schema(schema)
    for plan in ("hurried", "right"):
        text = (resources.files("reservoir.demo") / plan / "ferry-line.yaml").read_text()
        data = json.loads(json.dumps(yaml.safe_load(text), default=str))
        jsonschema.validate(data, schema)
        data["networks"]["crew"]["gatewy"] = "10.84.30.1"
        with pytest.raises(jsonschema.ValidationError):
            jsonschema.validate(data, schema)


def test_the_library_lists_what_is_public() -> None:
    """By `dir`, as a shell completes it: what the interface names, and nothing else."""
    stub = Path(reservoir.__file__).with_suffix(".pyi").read_text()
    assert set(dir(reservoir)) == set(re.findall(r" as (\w+)$", stub, re.MULTILINE))
    assert all(getattr(reservoir, name).__doc__ for name in dir(reservoir) if name[0] != "_")


def test_for_python(put: Put) -> None:
    """Load, check, write, read: values come back, nothing is printed or written."""
    plan = put(
        "plan.yaml",
        "devices: {pier: {dialect: larkspur, interfaces: {deck: {address: 10.84.30.1/24}}}}\n"
        "networks:\n  crew: {subnet: 10.84.30.0/24, gateway: 10.84.30.1, dns: [],\n"
        "    served_by: pier, ranges: all, demand: {devices: 100}}\n",
    )
    loaded = reservoir.load(str(plan))
    assert reservoir.check(loaded).findings == ()
    (written,) = reservoir.write(loaded)
    file = plan.with_name("pier.larkspur")
    file.write_text(written.text)
    (read,) = reservoir.read([str(file)])
    assert list(read.lifted.networks) == ["crew"]
    assert read.dialect == "larkspur"
    assert read.share == 1.0
    assert {f.rule for f in reservoir.check(reservoir.combine([read])).findings} <= {
        "demand-unknown",
        "dns-missing",
    }
