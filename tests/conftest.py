"""Runs the installed program as a user does: on files in a temporary folder."""

from __future__ import annotations

import fcntl
import os
import shutil
import subprocess
import sys
from collections.abc import Callable
from dataclasses import dataclass
from functools import cache, partial
from pathlib import Path

import pytest
from hypothesis import HealthCheck, settings

import real_clients
import real_host
from warm import WarmProgram

settings.register_profile(
    "long", max_examples=5_000, deadline=None, suppress_health_check=list(HealthCheck)
)
# The same examples each time, so that what lands is judged by itself; the long run finds new ones.
settings.register_profile(
    "normal", settings.get_profile("long"), max_examples=100, derandomize=True
)
settings.register_profile("few", settings.get_profile("normal"), max_examples=5)
RUN = os.environ.get("RESERVOIR_EXAMPLES", "normal")
settings.load_profile(RUN)


def examples(number: int) -> int:
    """Examples for a property: so many in the normal run.

    In the long run they are twenty times as many, in the quick one a twentieth, but two at least.
    """
    return {"long": number * 20, "few": max(number // 20, 2)}.get(RUN, number)


REAL = {"network_service", "dhcp_clients", "browser", "neovim"}
"""Fixtures of what isn't ours: the operating system's services, a browser, an editor."""

LONG = {"steps", "report_page", "installed"}
"""Fixtures that take their time: every line counted, all of a report drawn, the program started."""

FEW_CASES = 3
"""In the quick run, so many of a test's cases."""


def pytest_collection_modifyitems(config: pytest.Config, items: list[pytest.Item]) -> None:
    """Mark each test by the fixtures that it uses: ``real``, ``long``, or else ``fast``.

    In the quick run, a test that has many cases keeps a few, spread evenly.
    """
    cases: dict[str, list[pytest.Item]] = {}
    for item in items:
        used = set(getattr(item, "fixturenames", ()))
        item.add_marker("real" if used & REAL else "long" if used & LONG else "fast")
        cases.setdefault(item.nodeid.partition("[")[0], []).append(item)
    if RUN == "few":
        kept = {item for one in cases.values() for item in one[:: -(-len(one) // FEW_CASES)]}
        config.hook.pytest_deselected(items=[item for item in items if item not in kept])
        items[:] = [item for item in items if item in kept]


@pytest.fixture(scope="session")
def network_service() -> None:
    """The operating system's own network service, or why it can't be tried here."""
    if why := real_host.why_not():
        pytest.skip(why)


@pytest.fixture(scope="session")
def dhcp_clients() -> None:
    """The operating system's own DHCP clients, or why they can't be tried here."""
    if why := real_clients.why_not():
        pytest.skip(why)


@pytest.fixture(scope="session")
def browser() -> str:
    """A browser without a window, or that there is none."""
    found = shutil.which("chromium")
    if found is None:
        pytest.skip("chromium is not installed: no browser to try it in")
    return found


@pytest.fixture(scope="session")
def neovim() -> str:
    """An editor that needs no window, or that there is none."""
    found = shutil.which("nvim")
    if found is None:
        pytest.skip("nvim is not installed: no editor to try it in")
    return found


def made_once(factory: pytest.TempPathFactory, name: str, make: Callable[[Path], object]) -> Path:
    """A folder that is filled once in a run of the tests, by whichever process comes first."""
    root = factory.getbasetemp()
    if "PYTEST_XDIST_WORKER" in os.environ:
        root = root.parent
    folder, done = root / name, root / f"{name}.made"
    with (root / f"{name}.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not done.exists():
            shutil.rmtree(folder, ignore_errors=True)
            folder.mkdir()
            make(folder)
            done.touch()
    return folder


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


@pytest.fixture(scope="session")
def installed() -> Path:
    """The installed program, to be started."""
    return Path(sys.executable).parent / "reservoir"


ENVIRONMENT = {"PATH": "/usr/bin:/bin", "LANG": "C.UTF-8"}
if "PYTHONPATH" in os.environ:  # a changed copy of the program is tested (mutants.py)
    ENVIRONMENT["PYTHONPATH"] = os.environ["PYTHONPATH"]

READ_AT_START = ("PYTHON", "LANG", "LC_")
"""How variables begin that the interpreter reads once, when it starts."""


@cache
def _warm() -> WarmProgram:
    return WarmProgram(ENVIRONMENT)


def program(
    folder: Path,
    *arguments: str,
    stdin: str | bytes = "",
    start: Path | None = None,
    **environment: str,
) -> Ended:
    """Run ``reservoir`` with these arguments in a folder; it must not fail by a defect.

    Args:
        folder: The working folder.
        arguments: The command and what it is given.
        stdin: Standard input.
        start: The installed program, if it has to be started; else a fork of the loaded one runs.
        environment: Further variables.
    """
    given = stdin if isinstance(stdin, bytes) else stdin.encode()
    its = {**ENVIRONMENT, **environment}
    if start is not None:
        command = [str(start), *arguments]
        ended = subprocess.run(
            command, cwd=folder, input=given, capture_output=True, env=its, check=False
        )
        code, out, err = ended.returncode, ended.stdout, ended.stderr
    else:
        assert not any(name.startswith(READ_AT_START) for name in environment), environment
        code, out, err = _warm().run(arguments, folder, its, given)
    assert b"Traceback" not in err, err
    assert code != 70, err
    return Ended(code, out.decode(), err.decode())


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
