"""``dialect learn``: a sheet drafted from a device's configuration and the plan entered on it."""

from __future__ import annotations

import cProfile
import re
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import reservoir
from conftest import Run, examples
from met import meets, met
from reservoir.core.pools import Pools
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.learning.learner import Draft, Wishes, learn
from reservoir.dialects.learning.questions import MOST
from reservoir.dialects.learning.sample_plan import SAMPLE_DEVICE, plan_for_sample
from reservoir.dialects.parse.reader import read_configuration
from reservoir.dialects.sheet.library import Library
from reservoir.dialects.sheet.loader import load_sheet
from reservoir.dialects.sheet.model import Sheet
from reservoir.dialects.writing import write_device
from test_round_trip import DESK

UNKNOWN = sorted((DESK / "unknown").glob("*.txt"))
"""Configurations in formats that nobody wrote a sheet for, with the plan for samples entered."""

WRONG = {
    "attributes": "28:1: binding purser: the plan has another name",
    "machines": "35:1: binding steward: the plan has another name",
    "scopes": "28:1: not understood, inside pool mess",
    "stores": "13:1: pool mess: the plan has another dns",
    "titles": "32:1: not understood, inside pool",
}
"""Those in which somebody entered something else, or that say it in a way no sheet can."""

KNOWN = [
    *(name for name in Library().names if name != "linux-host"),  # its text is several files
    *(path.stem for path in DESK.glob("*.sheet")),
    *(f"also/{path.stem}" for path in (DESK / "also").glob("*.sheet")),
]

PLAN = plan_for_sample()

ASKED = {"service", "active"}
"""Fields that only an answer tells: no plan says that a service is on."""


def sheet_of(name: str) -> Sheet:
    """A shipped sheet, or one of the desk."""
    file = DESK / f"{name}.sheet"
    return load_sheet(file.read_text(), name) if file.exists() else Library().sheet(name)


def values(fact: Fact, around: tuple[Any, ...] = ()) -> Iterator[tuple[Any, ...]]:
    """What a fact and those inside it say, each value by itself."""
    named = fact.get("name") or fact.get("first") or fact.get("code") or fact.get("address")
    # A bound client is the same in its pool and in a table that names the pool.
    key = ((), "binding") if fact.kind == "binding" else (around, fact.kind, str(named))
    for name, value in fact.fields.items():
        if name not in ASKED and (fact.kind, name) != ("binding", "pool"):
            yield key, name, str(value)
    for child in fact.children:
        yield from values(child, key)


def read_by(text: str, sheet: Sheet) -> Counter[tuple[Any, ...]]:
    """What a sheet reads from a text."""
    return Counter(values(read_configuration(text, sheet).device))


def drafted(text: str) -> tuple[Draft, Sheet]:
    """The draft of a sample, which has to be a sheet."""
    draft = learn(text, PLAN, SAMPLE_DEVICE, Wishes())
    return draft, load_sheet(draft.text, "draft")


@pytest.mark.parametrize("name", KNOWN)
def test_a_draft_reads_what_the_sheet_reads_that_wrote_its_sample(name: str) -> None:
    """Of the sample and of the ferry line's devices, which it has never seen; nothing else."""
    sheet = sheet_of(name)
    text = write_device(Pools(PLAN), SAMPLE_DEVICE, sheet).text
    draft, learned = drafted(text)
    assert not draft.problems
    assert len(draft.questions) <= MOST
    others = [write_device(FERRY.pools, device, sheet).text for device in FERRY.plan.devices]
    for each in (text, *others):
        assert read_by(each, learned) == read_by(each, sheet)


FERRY = reservoir.load(Path(reservoir.__file__).parent / "demo/right/ferry-line.yaml")


@pytest.mark.parametrize(
    ("name", "device"),
    [
        ("larkspur", "pier-router"),
        ("merganser", "harbour-office"),
        ("merganser", "ferry-heron"),
        ("tamarack", "harbour-office"),
        ("fulmar", "pier-router"),
        ("items", "harbour-office"),
        ("steps", "pier-router"),
    ],
)
def test_any_plan_will_do(name: str, device: str) -> None:
    """Also one in which a network, a zone and an interface have one name, and gateways are own.

    Of a pair only the first is in the sample: what the second has to be told isn't known, so that
    the line that names the partner can't be a row yet, which the draft says.
    """
    sheet = sheet_of(name)
    text = write_device(FERRY.pools, device, sheet).text
    draft = learn(text, FERRY.plan, device, Wishes())
    assert all("needs trait pair" in problem.message for problem in draft.problems)
    assert draft.changes_nothing
    read, wanted = (read_by(text, by) for by in (load_sheet(draft.text, "draft"), sheet))
    unread = {what[1] for what in wanted - read}
    assert ("partner" in unread) == bool(draft.problems)
    # That an interface is on is said by a word that stands nowhere else here.
    assert not unread - {"enabled", "partner"}
    assert not read - wanted


@pytest.mark.parametrize("file", UNKNOWN, ids=lambda file: file.stem)
def test_a_format_that_nobody_wrote_a_sheet_for(file: Path, run: Run, tmp_path: Path) -> None:
    """The unedited draft reads all of it, and written into itself it stays as it is."""
    run("dialect", "learn", "--plan-for-sample", "-o", "sample-plan.yaml")
    (tmp_path / "box.txt").write_text(file.read_text())
    ended = run("dialect", "learn", "box.txt", "--plan", "sample-plan.yaml", "-o", "box.sheet")
    wrong = WRONG.get(file.stem)
    assert ended.code == bool(wrong), ended.err
    assert wrong is None or f"box.txt:{wrong}" in ended.err
    tried = run("dialect", "try", "box.sheet", "--sample", "box.txt")
    assert tried.code == (file.stem in ("scopes", "stores", "titles")), tried.err
    said = (tmp_path / "box.sheet").read_text()
    assert len(said.partition("---")[2].strip().split("\n")) <= 60
    assert int(re.findall("([0-9]+) values of the plan read", ended.err)[0]) >= 35


ENTERED = re.compile(r"10\.84\.6\d\.\d+|mess|lounge|berth3|[\w-]+\.example|\d{3,6}")


@meets("told")
@given(file=st.sampled_from(UNKNOWN), seed=st.integers(0, 10_000))
@settings(max_examples=examples(40))
def test_what_was_entered_wrong_is_told_and_little_is_lost(file: Path, seed: int) -> None:
    """One value of a sample is another: it isn't read as planned, and most of the rest still is."""
    sound = file.read_text()
    hits = list(ENTERED.finditer(sound))
    hit = hits[seed % len(hits)]
    new = f"{hit[0][:-1]}{(int(hit[0][-1]) + 3) % 10}" if hit[0][-1].isdigit() else f"x{hit[0]}"
    was, now = (
        learn(text, PLAN, SAMPLE_DEVICE, Wishes()).agreement
        for text in (sound, f"{sound[: hit.start()]}{new}{sound[hit.end() :]}")
    )
    assert was is not None
    assert now is not None
    assert now.right > was.right / 2
    if now.right < was.right:
        met("told")
        assert len(now.otherwise) + len(now.missing) > 0
        assert (now.otherwise, now.missing) != (was.otherwise, was.missing)


FRAGMENTS = [
    "10.84.61.0/24", "10.84.61.20", "mess", "berth1", '"mess', "{", "}", "[", "]", ";", "|", "---",
    "#", " ", "\t", "=", ": ", "<a>", "</a>", "- ", "\\", "\0", "\x1b[31m", "\u2028", "{name}",
    "end",
    "00:00:5e:00:53:a1", "7h", "255.255.255.0", "*", "left", "'", "999.1.1.1", "7" * 30,
]  # fmt: skip


@settings(max_examples=examples(150))
@given(
    st.lists(st.lists(st.sampled_from(FRAGMENTS), max_size=6).map("".join), max_size=12).map(
        "\n".join
    )
)
def test_any_text_gives_a_draft(text: str) -> None:
    """Nothing in a sample makes it fail, nor gets into the sheet as a row of its own making."""
    draft = learn(text, PLAN, SAMPLE_DEVICE, Wishes())
    assert "\0" not in draft.text
    assert "\x1b" not in draft.text
    if draft.agreement is not None:
        load_sheet(draft.text, "draft")


def test_the_plan_for_samples_is_sound_and_its_values_differ(run: Run, tmp_path: Path) -> None:
    """No check finds an error in it, and it has no address, name, number or time twice."""
    run("dialect", "learn", "--plan-for-sample", "-o", "sample-plan.yaml")
    checked = run("check", "sample-plan.yaml")
    assert checked.code == 0, checked.out
    text = (tmp_path / "sample-plan.yaml").read_text()
    assert reservoir.load(tmp_path / "sample-plan.yaml").plan.networks == PLAN.networks
    addresses = re.findall(r"[0-9]+(?:\.[0-9]+){3}", text)
    twice = {a for a, count in Counter(addresses).items() if count > 1}
    assert twice == {"10.84.62.60"} - twice or twice <= {"10.84.62.60"}
    times = re.findall(r"lease: (\S+)", text)
    assert len(set(times)) == len(times) > len(PLAN.networks)


BOX = """\
quay quay-box
lending ready
leg berth1
  at 10.84.61.1/24
  warm
leg berth4
  cold
shelf mess
  net 10.84.61.0/24
  give 10.84.61.20 10.84.61.119
shelf lounge
  net 10.84.62.0/25
  give 10.84.62.40 10.84.62.90
"""


def test_answers_layouts_and_traits_are_options(run: Run, tmp_path: Path) -> None:
    """Each question names the option that answers it otherwise; the answer has no remark."""
    run("dialect", "learn", "--plan-for-sample", "-o", "sample-plan.yaml")
    (tmp_path / "box.txt").write_text(BOX)
    learned = ["dialect", "learn", "box.txt", "--plan", "sample-plan.yaml"]
    asked = run(*learned)
    for line, word in ((2, "service"), (5, "nothing"), (7, "nothing")):
        assert f"line {line}, " in asked.err
        assert f"--answer {line}={word}" in asked.err
    assert "left           | lending ready" in asked.out
    assert " ? enabled=no  |   cold" in asked.out
    answered = run(
        *learned, "--answer", "2=service", "--answer", "7=enabled", "--answer", "5=nothing",
        "--trait", "bound-address=inside", "--trait", "blank-lease=3h", "--name", "quay",
    )  # fmt: skip
    assert "line " not in answered.err.replace("lines", "")
    assert "device service=yes | lending ready" in answered.out
    assert "left               |   warm" in answered.out
    assert "trait     service        master" in answered.out
    assert "trait     bound-address  inside" in answered.out
    assert "trait     blank-lease    3h" in answered.out
    assert answered.out.startswith("sheet     quay\n")
    assert "a guess" not in answered.out
    wished = run(*learned, "--trait", "exclusions=in-pool")
    assert wished.code == 1
    assert "trait exclusions in-pool needs a row of kind exclusion" in wished.err
    other = run(*learned, "--layout", "block=indent 4", "--layout", 'comment="%"')
    assert "block     indent 4" in other.out
    assert 'comment   "%"' in other.out


@pytest.mark.parametrize(
    ("arguments", "why"),
    [
        (["--layout", "nest=2"], "'nest' says nothing of the layout"),
        (["--layout", "block=2"], "a block is: block indent 2"),
        (["--layout", "block"], "'block' is not like --layout"),
        (["--answer", "x=service"], "'x=service' is not like --answer"),
        (["--trait", "blank-lease=soon"], "--trait blank-lease"),
        (["--trait", "bound=inside"], "There is no trait 'bound'"),
        (["--trait", "bound-address=insid"], "did you mean inside?"),
        (["--device", "quai-box"], "There is no device 'quai-box' (did you mean quay-box?)"),
        (["--name", "A b"], "lower-case letters, digits"),
        (["--answer", "4=service"], "Nothing is asked about line 4 (--answer)"),
        (["--answer", "2=servce"], "Line 2 is nothing or service, not 'servce' (--answer)"),
        (["--plan-for-sample"], "before there is a sample"),
    ],
)
def test_what_cannot_be_is_refused(
    arguments: list[str], why: str, run: Run, tmp_path: Path
) -> None:
    """With what to write instead; nothing is written."""
    run("dialect", "learn", "--plan-for-sample", "-o", "sample-plan.yaml")
    (tmp_path / "box.txt").write_text(BOX)
    ended = run(
        "dialect", "learn", "box.txt", "--plan", "sample-plan.yaml", "-o", "box.sheet", *arguments
    )
    assert ended.code == 2
    assert why in ended.err
    assert not (tmp_path / "box.sheet").exists()


@pytest.mark.parametrize("text", ["", "hello\nworld\n", "\n\n#\n"])
def test_a_sample_of_something_else_is_refused(text: str, run: Run, tmp_path: Path) -> None:
    """Nothing of the plan is in it, so nothing can be learned; nothing is written."""
    run("dialect", "learn", "--plan-for-sample", "-o", "sample-plan.yaml")
    (tmp_path / "box.txt").write_text(text)
    ended = run("dialect", "learn", "box.txt", "--plan", "sample-plan.yaml", "-o", "box.sheet")
    assert ended.code == 2
    assert "was that plan entered on this device?" in ended.err
    assert not (tmp_path / "box.sheet").exists()


def test_much_that_is_about_other_things_takes_no_more_than_its_share() -> None:
    """Four times as many foreign lines cost four times as many calls, not sixteen times."""
    sound = (DESK / "unknown/larder.txt").read_text()
    calls = []
    for count in (150, 600):
        text = sound + "".join(f"noise {n} at 10.99.{n // 250}.{n % 250}\n" for n in range(count))
        profile = cProfile.Profile()
        profile.runcall(learn, text, PLAN, SAMPLE_DEVICE, Wishes())
        calls.append(sum(entry.callcount for entry in profile.getstats()))
    assert calls[1] < 4 * calls[0]


def test_an_edited_sheet_is_not_overwritten(run: Run, tmp_path: Path) -> None:
    """Unless it is forced; what nobody touched is written anew."""
    run("dialect", "learn", "--plan-for-sample", "-o", "sample-plan.yaml")
    (tmp_path / "box.txt").write_text(BOX)
    learned = ["dialect", "learn", "box.txt", "--plan", "sample-plan.yaml", "-o", "box.sheet"]
    assert run(*learned).code != 2
    assert run(*learned).code != 2
    edited = (tmp_path / "box.sheet").read_text() + "# mine\n"
    (tmp_path / "box.sheet").write_text(edited)
    assert run(*learned).code == 2
    assert (tmp_path / "box.sheet").read_text() == edited
    assert run(*learned, "--force").code != 2
    assert (tmp_path / "box.sheet").read_text() != edited


def test_a_device_is_named_where_several_serve(run: Run, tmp_path: Path) -> None:
    """And nothing is learned without a plan, or from a plan that serves nothing."""
    (tmp_path / "box.txt").write_text(BOX)
    assert "Give a sample and --plan" in run("dialect", "learn", "box.txt").err
    for name, served_by in (("none", "[]"), ("two", "[quay-box, other]")):
        (tmp_path / f"{name}.yaml").write_text(
            "reservoir: 1\ndevices: {quay-box: {}, other: {}}\nnetworks:\n"
            f"  mess: {{subnet: 10.84.61.0/24, served_by: {served_by}}}\n"
        )
        ended = run("dialect", "learn", "box.txt", "--plan", f"{name}.yaml")
        assert ended.code == 2
        assert "Name the device with --device" in ended.err
