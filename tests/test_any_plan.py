"""Whatever a plan says, sound or full of mistakes: every command has an answer, and they agree."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Sequence
from pathlib import Path
from typing import Any
from xml.etree.ElementTree import fromstring

import click
import pytest
from click.testing import CliRunner, Result
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import examples
from met import meets, met
from oracle import plans, text_of
from reservoir.cli.commands import reservoir

OF_ONE_PLAN = ("check", "size", "map", "rehearse", "report")
"""The commands that tell of one plan."""


def forms_of(name: str) -> list[str]:
    """The formats that a command has."""
    command = reservoir.get_command(click.Context(reservoir), name)
    assert command is not None
    (form,) = (option for option in command.params if option.name == "form")
    assert isinstance(form.type, click.Choice)
    return list(form.type.choices)


CALLS = [(name, form) for name in OF_ONE_PLAN for form in forms_of(name)]


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("any")


def told(*arguments: str | Path) -> Result:
    """What a command says in this process; a defect is raised as it is."""
    ended = CliRunner().invoke(reservoir, [str(each) for each in arguments], catch_exceptions=False)
    assert ended.exit_code in (0, 1, 2), ended.output
    return ended


def data_of(*arguments: str | Path) -> dict[str, Any]:
    data: dict[str, Any] = json.loads(told(*arguments, "--format", "json").stdout)
    return data


def hostile(plan: dict[str, Any], texts: Sequence[str]) -> dict[str, Any]:
    """The plan with texts that mean something to terminals, pages, tables and devices."""
    for (number, network), text in zip(enumerate(plan["networks"].values()), texts, strict=False):
        network["domain"] = "sable.example"
        network["exclusions"] = [
            {"range": each, "reason": f"{text} {number}"} if isinstance(each, str) else each
            for each in network["exclusions"]
        ]
        for host in (*network["static"], *network["bindings"]):
            host["name"] = text
    return plan


texts = st.lists(
    st.sampled_from([
        "=cmd()", "<script>alert(1)</script>", "a|b `c` [d](e)", "-- x; done", "\"q\" 'r' \\n",
        "été ß", "]]>", "{{ 7 * 7 }}", "@here", "%s {0} {name}", "../up", "a,b;c d",
    ]),
    min_size=3, max_size=3,
)  # fmt: skip


@meets("a plan that is refused", "an answer")
@given(plan=plans(), names=texts, call=st.sampled_from(CALLS))
@settings(max_examples=examples(120))
def test_every_command_has_an_answer(
    folder: Path, plan: dict[str, Any], names: Sequence[str], call: tuple[str, str]
) -> None:
    """In every format: no defect, and what is data can be read as such."""
    command, form = call
    (folder / "plan.yaml").write_text(text_of(hostile(plan, names)))
    arguments: list[str | Path] = [command, folder / "plan.yaml", "--format", form]
    ended = told(*arguments)
    met("a plan that is refused" if ended.exit_code == 2 else "an answer")
    if ended.exit_code == 2:
        assert ended.stderr
        return
    assert "\x1b" not in ended.output
    if form in ("json", "sarif"):
        assert isinstance(json.loads(ended.stdout), dict)
    if form == "html":
        assert "<script>alert" not in ended.stdout


@meets("a difference")
@given(old=plans(), new=plans(), form=st.sampled_from(["text", "json", "markdown"]))
@settings(max_examples=examples(50))
def test_any_two_plans_can_be_compared(
    folder: Path, old: dict[str, Any], new: dict[str, Any], form: str
) -> None:
    """If one differs from the other, the other differs from the one; none differs from itself."""
    files = [folder / "old.yaml", folder / "new.yaml"]
    for file, plan in zip(files, (old, new), strict=True):
        file.write_text(text_of(plan))
    assert told("compare", *files, "--format", form).exit_code in (0, 2)
    found = [told("compare", *pair, "--format", "json") for pair in (files, files[::-1])]
    if any(each.exit_code for each in found):
        assert [each.exit_code for each in found] == [2, 2]
        return
    there, back = (json.loads(each.stdout)["networks"] for each in found)
    assert any(network["changes"] for network in there) == any(n["changes"] for n in back)
    met("a difference", any(network["changes"] for network in there))
    itself = data_of("compare", files[0], files[0])
    assert not any(network["changes"] for network in itself["networks"])


@meets("a finding accepted beside another")
@given(plan=plans(), data=st.data())
@settings(max_examples=examples(60))
def test_each_format_has_each_finding(
    folder: Path, plan: dict[str, Any], data: st.DataObject
) -> None:
    """With its rule, its message and, where one was accepted, why; and all count alike."""
    file = folder / "plan.yaml"
    file.write_text(text_of(plan))
    before = findings(file)
    if not before:
        return
    chosen = data.draw(st.sampled_from(before))
    agreed = {"rule": chosen["rule"], "at": chosen["at"], "because": "agreed at the quay"}
    file.write_text(text_of({**plan, "accept": [agreed]}))
    data_now = data_of("check", file)
    found = data_now["findings"]
    rules = Counter(each["rule"] for each in found)
    sarif = json.loads(told("check", file, "--format", "sarif").stdout)["runs"][0]["results"]
    assert Counter(result["ruleId"] for result in sarif) == rules
    accepted = [each for each in found if each["accepted"]]
    assert sum("suppressions" in result for result in sarif) == len(accepted)
    junit = fromstring(told("check", file, "--format", "junit").stdout)  # noqa: S314 - our own
    lines = Counter(
        line.split(": ")[2]
        for part in (*junit.iter("failure"), *junit.iter("system-out"))
        for line in (part.text or "").splitlines()
    )
    assert lines == rules
    summary = data_now["summary"]
    graded = Counter(each["severity"] for each in found if not each["accepted"])
    assert (summary["errors"], summary["warnings"], summary["advice"]) == (
        graded["error"], graded["warning"], graded["advice"],
    )  # fmt: skip
    assert summary["accepted"] == len(accepted) >= 1
    met("a finding accepted beside another", len(found) > len(accepted))
    text = told("check", file).stdout
    assert f"{len(accepted)} accepted" in text


@meets("an error that is accepted", "an error beside it")
@given(plan=plans(), data=st.data())
@settings(max_examples=examples(60))
def test_accepting_and_grading_change_nothing_else(
    folder: Path, plan: dict[str, Any], data: st.DataObject
) -> None:
    """A finding that is accepted, or is graded as something else, is the same finding."""
    file = folder / "plan.yaml"
    file.write_text(text_of(plan))
    before = findings(file)
    if not before:
        return
    errors = {each["rule"] for each in before if each["severity"] == "error"}
    rule = data.draw(st.sampled_from(sorted({each["rule"] for each in before})))
    grade = data.draw(st.sampled_from(["error", "warning", "advice"]))
    agreed = {"rule": rule, "at": "*", "because": "known", "until": "2999-12-31"}
    file.write_text(text_of({**plan, "accept": [agreed], "checks": {"severity": {rule: grade}}}))
    after = findings(file)
    for each in (*before, *after):
        if each["rule"] == rule:
            assert each in before or (each["severity"], each["accepted"]) == (grade, "known")
            del each["severity"], each["accepted"]
        each["line"] = each["column"] = 0
        del each["suggestions"]  # one that would add an error is not made, whatever is an error
    assert sorted(map(str, before)) == sorted(map(str, after))
    worst = max((each.get("severity", "") for each in after), key=GRAVITY.index)
    met("an error that is accepted", rule in errors)
    met("an error beside it", worst == "error")
    for fail_on, limit in (("error", 3), ("warning", 2), ("advice", 1), ("never", 4)):
        ended = told("check", file, "--fail-on", fail_on)
        assert ended.exit_code == (GRAVITY.index(worst) >= limit)


GRAVITY = ["", "advice", "warning", "error"]


def findings(file: Path) -> list[dict[str, Any]]:
    """The findings of a plan, as data."""
    found: list[dict[str, Any]] = data_of("check", file)["findings"]
    return found
