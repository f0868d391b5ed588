"""The rules that sets decide, against an oracle that walks each address of small plans."""

from __future__ import annotations

from collections import Counter
from pathlib import Path
from typing import Any
from unittest.mock import patch

import pytest
from hypothesis import example, given, settings

import reservoir
from conftest import examples
from met import meets, met
from oracle import Walked, plans, text_of
from oracle_findings import findings
from oracle_witnesses import holds
from reservoir.core.checks import Report
from reservoir.core.findings import Severity
from reservoir.core.plan.edits import Edit, with_edit
from reservoir.core.plan.model import format_path
from reservoir.files.plan_edits import edited


@pytest.fixture(scope="module")
def file(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("oracle") / "plan.yaml"


def checked(file: Path, text: str) -> Report:
    file.write_text(text)
    return reservoir.check(reservoir.load(file))


def counted(report: Report) -> Counter[tuple[str, str]]:
    return Counter((finding.rule, format_path(finding.at)) for finding in report.findings)


def said(report: Report) -> Counter[tuple[str, str]]:
    return Counter((finding.rule, finding.message) for finding in report.findings)


def errors(report: Report) -> Counter[tuple[str, str | None]]:
    graver = (f for f in report.findings if f.severity is Severity.ERROR)
    return Counter((finding.rule, finding.network) for finding in graver)


BACKWARDS = {
    "reservoir": 1,
    "devices": {"a": {"interfaces": {"deck": {"address": "10.84.0.32/26"}}}, "b": {}},
    "networks": {
        "n0": {
            "subnet": "10.84.0.32/27",
            "ranges": "all",
            "served_by": [],
            "exclusions": ["10.84.0.1-10.84.0.0"],
            "static": [],
            "bindings": [],
        }
    },
}
"""All that the network names besides its subnet holds nothing."""


@meets("five findings or fewer", "ten findings")
@given(plan=plans())
@example(plan=BACKWARDS)
@settings(max_examples=examples(300))
def test_no_finding_is_missed_and_none_is_invented(file: Path, plan: dict[str, Any]) -> None:
    """Rule and place of every finding, as often as the oracle finds it; witnesses really hold."""
    with patch("reservoir.core.checks.suggestions.MOST_WORK", 0):  # what is suggested, others test
        report = checked(file, text_of(plan))
    walked = Walked(plan)
    assert counted(report) == findings(walked)
    met("five findings or fewer", len(report.findings) <= 5)
    met("ten findings", len(report.findings) >= 10)
    assigned = {(pool.network, a) for pool in walked.pools for a in pool.assignable}
    assert report.assignable == len(assigned)
    for finding in report.findings:
        witness = finding.witness
        assert witness is not None or finding.severity is Severity.ADVICE
        assert witness is None or holds(witness, walked), finding


@meets("a suggestion")
@given(plan=plans())
@settings(max_examples=examples(45))
def test_each_suggestion_removes_its_finding(file: Path, plan: dict[str, Any]) -> None:
    """Applied to the file's text, one suggestion at a time; it adds no error.

    What it makes of the file is what it makes of the plan in memory, where it was tried.
    """
    text = text_of(plan)
    report = checked(file, text)
    before = reservoir.load(file).plan
    for finding in report.findings:
        met("a suggestion", len(finding.suggestions) > 0)
        for suggestion in finding.suggestions:
            edit = Edit(suggestion.path, suggestion.old, suggestion.new)
            after = checked(file, edited(text, edit))
            key = finding.rule, finding.message
            assert said(after)[key] < said(report)[key], suggestion
            assert not errors(after) - errors(report), suggestion
            again, tried = reservoir.load(file).plan, with_edit(before, suggestion)
            assert again.networks == tried.networks
            assert again.devices == tried.devices


@meets("something mended", "something left")
@given(plan=plans())
@settings(max_examples=examples(45))
def test_mending_never_makes_anything_worse(file: Path, plan: dict[str, Any]) -> None:
    """After mending there are fewer findings, and no network has one of a new kind but advice."""
    before = checked(file, text_of(plan))
    mended = reservoir.mend(file)
    if not mended.applied:
        assert not mended.after
        return
    after = checked(file, mended.after[str(file)])
    met("something mended")
    met("something left", len(after.findings) > 0)
    grave = [[f for f in each.findings if f.severity > Severity.ADVICE] for each in (before, after)]
    assert len(grave[1]) < len(grave[0]) or len(after.findings) < len(before.findings)
    kinds = {(f.rule, f.network) for f in grave[0]}
    assert {(f.rule, f.network) for f in grave[1]} <= kinds
