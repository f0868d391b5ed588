"""Whatever a plan says, sound or full of mistakes: every command has an answer, and they agree."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path
from typing import Any

import pytest
from click.testing import CliRunner, Result
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import examples
from oracle import plans, text_of
from reservoir.cli.commands import reservoir

FORMATS = {
    "check": ("text", "json", "sarif", "junit", "markdown"),
    "size": ("text", "json"),
    "map": ("text", "json"),
    "rehearse": ("text", "json"),
    "report": ("html", "markdown"),
}
"""The commands that tell of one plan, and how."""

CALLS = [(name, form) for name, forms in FORMATS.items() for form in forms]


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
    if ended.exit_code == 2:
        assert ended.stderr
        return
    assert "\x1b" not in ended.output
    if form in ("json", "sarif"):
        assert isinstance(json.loads(ended.stdout), dict)
    if form == "html":
        assert "<script>alert" not in ended.stdout


@given(old=plans(), new=plans(), form=st.sampled_from(["text", "json", "markdown"]))
@settings(max_examples=examples(40))
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
    itself = data_of("compare", files[0], files[0])
    assert not any(network["changes"] for network in itself["networks"])
