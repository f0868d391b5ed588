"""Runs the installed program as a user does: on files in a temporary folder."""

from __future__ import annotations

import os
import subprocess
import sys
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

PROGRAM = Path(sys.executable).parent / "reservoir"

settings.register_profile(
    "long", max_examples=5_000, deadline=None, suppress_health_check=list(HealthCheck)
)
# The same examples each time, so that what lands is judged by itself; the long run finds new ones.
settings.register_profile(
    "normal", settings.get_profile("long"), max_examples=100, derandomize=True
)
settings.load_profile(os.environ.get("RESERVOIR_EXAMPLES", "normal"))


def examples(number: int) -> int:
    """Examples for a property: so many in the normal run, twenty times as many in the long one."""
    return number * (20 if os.environ.get("RESERVOIR_EXAMPLES") == "long" else 1)


@dataclass(frozen=True)
class Ended:
    """How a run of the program ended."""

    code: int
    out: str
    err: str


Run = Callable[..., Ended]


@pytest.fixture
def run(tmp_path: Path) -> Run:
    """Run ``reservoir`` with these arguments in the temporary folder."""
    return partial(program, tmp_path)


def program(folder: Path, *arguments: str, stdin: str | bytes = "", **environment: str) -> Ended:
    """Run ``reservoir`` with these arguments in a folder; it must not fail by a defect."""
    given = stdin if isinstance(stdin, bytes) else stdin.encode()
    ended = subprocess.run(
        [str(PROGRAM), *arguments],
        cwd=folder,
        input=given,
        capture_output=True,
        env={"PATH": "/usr/bin:/bin", "LANG": "C.UTF-8", **environment},
        check=False,
    )
    out, err = ended.stdout.decode(), ended.stderr.decode()
    assert "Traceback" not in err, err
    assert ended.returncode != 70, err
    return Ended(ended.returncode, out, err)


@pytest.fixture
def put(tmp_path: Path) -> Callable[[str, str], Path]:
    """Put a file into the temporary folder; a plan's first line is added where it is missing."""

    def put_file(name: str, text: str) -> Path:
        if name.endswith(".yaml") and not text.startswith("reservoir:"):
            text = "reservoir: 1\n" + text
        path = tmp_path / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, encoding="utf-8")
        return path

    return put_file
