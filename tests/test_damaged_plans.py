"""Plans damaged at random: every problem has its place, and no check ever fails on what is left."""

from __future__ import annotations

import shutil
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import reservoir
from conftest import Run, examples
from met import meets, met
from reservoir.core.findings import Severity

DEMO = Path(reservoir.__file__).parent / "demo"
FILES = ["ferry-line.yaml", "ferry-line.yaml", "ferry-line.yaml", "bindings.csv", "inventory.csv"]
TYPED = "0123456789:{}[],#-\"'ab\t\x00é%&*!|>/."

Damage = Callable[[list[str], int, int], None]


def lose(lines: list[str], at: int, _column: int) -> None:
    """A line is gone."""
    del lines[at]


def double(lines: list[str], at: int, _column: int) -> None:
    """A line stands there twice."""
    lines.insert(at, lines[at])


def swap(lines: list[str], at: int, column: int) -> None:
    """A line and another have changed places."""
    other = column % len(lines)
    lines[at], lines[other] = lines[other], lines[at]


def cut(lines: list[str], at: int, column: int) -> None:
    """A line ends too early."""
    lines[at] = lines[at][:column]


def type_in(lines: list[str], at: int, column: int) -> None:
    """A character too many."""
    place = column % (len(lines[at]) + 1)
    lines[at] = lines[at][:place] + TYPED[column % len(TYPED)] + lines[at][place:]


def drop(lines: list[str], at: int, column: int) -> None:
    """A character too few."""
    place = column % (len(lines[at]) + 1)
    lines[at] = lines[at][:place] + lines[at][place + 1 :]


def indent(lines: list[str], at: int, _column: int) -> None:
    """A line stands too far to the right."""
    lines[at] = "  " + lines[at]


def outdent(lines: list[str], at: int, _column: int) -> None:
    """A line stands at the left margin."""
    lines[at] = lines[at].lstrip(" ")


DAMAGES: list[Damage] = [lose, double, swap, cut, type_in, drop, indent, outdent]

blows = st.tuples(st.sampled_from(DAMAGES), st.integers(0, 200), st.integers(0, 120))


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("damaged")


def damaged(folder: Path, kind: str, name: str, wounds: list[tuple[Damage, int, int]]) -> Path:
    """The demo's plan in a folder, one of its files damaged."""
    shutil.copytree(DEMO / kind, folder, dirs_exist_ok=True)
    lines = (DEMO / kind / name).read_text().split("\n")
    for damage, at, column in wounds:
        damage(lines, at % len(lines), column)
        lines = lines or [""]
    (folder / name).write_text("\n".join(lines))
    return folder / "ferry-line.yaml"


@meets("one that is refused", "one with findings")
@given(
    kind=st.sampled_from(["right", "hurried"]),
    name=st.sampled_from(FILES),
    wounds=st.lists(blows, min_size=1, max_size=4),
)
@settings(max_examples=examples(100))
def test_a_damaged_plan_is_refused_with_places_or_checked(
    folder: Path, kind: str, name: str, wounds: list[tuple[Damage, int, int]]
) -> None:
    """Places are inside the files; what is checked has no rule that failed; places are found."""
    plan = damaged(folder, kind, name, wounds)
    try:
        subject = reservoir.load(str(plan))
    except reservoir.InputError as refused:
        met("one that is refused")
        assert refused.problems
        for problem in refused.problems:
            lines = Path(problem.place.file).read_text().split("\n")
            assert 1 <= problem.place.line <= len(lines) + 1, problem
            assert problem.place.column >= 1, problem
            assert problem.message.isprintable()
        return
    for finding in reservoir.check(subject).findings:
        assert "this check itself failed" not in finding.message
        met("one with findings")
        place = subject.place(finding.at)
        assert place.line <= len(Path(place.file).read_text().split("\n"))
        assert finding.witness is None or finding.witness.sentence.isprintable()


@meets("one that is mended")
@given(name=st.sampled_from(FILES), wounds=st.lists(blows, min_size=1, max_size=3))
@settings(max_examples=examples(30))
def test_mending_a_damaged_plan_leaves_one_that_loads(
    folder: Path, name: str, wounds: list[tuple[Damage, int, int]]
) -> None:
    """With fewer findings than before, and no kind that it hadn't, but advice."""
    plan = damaged(folder, "hurried", name, wounds)
    try:
        before = reservoir.check(reservoir.load(str(plan)))
    except reservoir.InputError:
        return
    mended = reservoir.mend(plan)
    for file, text in mended.after.items():
        Path(file).write_text(text)
    after = reservoir.check(reservoir.load(str(plan)))
    met("one that is mended", len(mended.applied) > 0)
    assert len(after.findings) <= len(before.findings) - bool(mended.applied)
    known = {(finding.rule, finding.network) for finding in before.findings}
    grave = (finding for finding in after.findings if finding.severity > Severity.ADVICE)
    assert {(finding.rule, finding.network) for finding in grave} <= known


@pytest.mark.parametrize("name", ["campus", "shop", "lab"])
def test_realistic_plans_without_a_mistake_are_left_alone(name: str, run: Run) -> None:
    """A campus with a central server, a shop's box, a host of a lab: not even advice."""
    plan = Path(__file__).parent / "plans" / f"{name}.yaml"
    checked = run("check", str(plan), "--fail-on", "advice")
    assert checked.code == 0, checked.out
    assert checked.out.startswith("No findings")
