"""``check --baseline``: findings of another day are known, new ones fail, gone ones are said."""

from __future__ import annotations

import json
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import Run, examples
from reservoir.core.checks import Report
from reservoir.core.checks.baseline import Known, held_to
from reservoir.core.findings import Finding, Severity
from reservoir.core.plan.model import format_path

findings = st.builds(
    lambda **given: Finding(family="ranges", **given),
    rule=st.sampled_from(["gateway-in-pool", "pool-undersized"]),
    severity=st.sampled_from([Severity.ERROR, Severity.WARNING]),
    message=st.sampled_from(["one", "two"]),
    at=st.sampled_from([("networks", "crew", "ranges", 0), ("networks", "crew", "ranges", 1)]),
)


def known(finding: Finding) -> Known:
    """A finding as a baseline has it."""
    where = format_path(finding.at)
    return Known(finding.rule, finding.severity.word, where, finding.message)


@given(st.lists(findings, max_size=8), st.lists(findings, max_size=8))
@settings(max_examples=examples(300))
def test_each_finding_of_then_makes_up_for_one_of_now(
    before: list[Finding], now: list[Finding]
) -> None:
    """By rule, severity and message, counted; a place that stayed the same comes first."""
    report = Report(tuple(now), 1, 1, 0, False, {})
    held = held_to(report, list(map(known, before)), "known.json")
    assert [f._replace(accepted=None) for f in held.findings] == now
    assert held.baseline is not None
    new = Counter(known(f)._replace(at="") for f in held.findings if f.accepted is None)
    gone = Counter(k._replace(at="") for k in held.baseline.gone)
    then, there = (Counter(known(f)._replace(at="") for f in some) for some in (before, now))
    assert (new, gone) == (there - then, then - there)
    assert held.baseline.known == len(now) - new.total()
    exact = Counter(map(known, before)) & Counter(map(known, now))
    accepted = Counter(known(f) for f in held.findings if f.accepted is not None)
    assert exact <= accepted


PLAN = """\
defaults: {dns: [10.84.0.53], lease: 12h}
devices: {pier: {dialect: larkspur, interfaces: {deck: {address: 10.84.30.1/24}}}}
networks:
  crew: {subnet: 10.84.30.0/24, gateway: 10.84.30.1, served_by: pier,
    ranges: [10.84.30.10-10.84.30.19, 10.84.30.250-10.84.31.9]}
"""


def test_a_plan_is_held_to_what_was_known_of_it(run: Run, put: Callable[[str, str], Path]) -> None:
    """The same fails no more; what is new does, whatever moved; what is gone is said."""
    put("plan.yaml", PLAN)
    first = run("check", "plan.yaml", "--format", "json", "--out", "known.json")
    assert first.code == 1
    same = run("check", "plan.yaml", "--baseline", "known.json")
    assert (same.code, "no finding of it is gone" in same.out) == (0, True)
    assert "reservoir write" not in same.err  # which refuses the errors that are there
    put("plan.yaml", PLAN.replace("[10.84.30.10", "[10.84.30.30, 10.84.30.10"))
    assert run("check", "plan.yaml", "--baseline", "known.json").code == 0
    put("plan.yaml", PLAN.replace("10.84.31.9", "10.84.31.12"))
    worse = run("check", "plan.yaml", "--baseline", "known.json")
    assert worse.code == 1
    assert "gone     range-outside-subnet at networks.crew.ranges[1]" in worse.out
    put("plan.yaml", PLAN.replace(", 10.84.30.250-10.84.31.9", ""))
    better = json.loads(
        run("check", "plan.yaml", "--baseline", "known.json", "--format", "json").out
    )
    assert "range-outside-subnet" in {known["rule"] for known in better["baseline"]["gone"]}
    partly = run("check", "plan.yaml", "--baseline", "known.json", "--at", "networks.crew")
    assert "are gone isn't known" in partly.out
    junit = run("check", "plan.yaml", "--baseline", "known.json", "--format", "junit")
    assert "of it" in junit.err


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("", "Expecting value"),
        ("[]", "not what `check --format json` prints"),
        ('{"command": "map"}', "it is what `map` prints"),
        ('{"command": "check"}', "it has no 'findings'"),
        ('{"command": "check", "findings": [7]}', "not what `check --format json` prints"),
        ("[" * 100_000, "not what `check --format json` prints"),
    ],
)
def test_what_is_no_baseline_is_refused(
    run: Run, put: Callable[[str, str], Path], text: str, said: str
) -> None:
    """With its place; nothing passes for known."""
    put("plan.yaml", PLAN)
    put("known.json", text)
    ended = run("check", "plan.yaml", "--baseline", "known.json")
    assert (ended.code, ended.out) == (2, "")
    assert "known.json:1:1: " in ended.err
    assert said in ended.err


def test_the_reasons_of_what_is_accepted_are_shown(
    run: Run, put: Callable[[str, str], Path]
) -> None:
    """With the finding and its place, below what is open."""
    accepting = "accept: [{rule: range-outside-subnet, at: networks.crew, because: 'next week'}]\n"
    put("plan.yaml", PLAN + accepting)
    out = run("check", "plan.yaml").out
    assert "Accepted\naccepted range-outside-subnet" in out
    assert "because  next week" in out
