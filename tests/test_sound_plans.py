"""Sound plans of many kinds have no error and no warning; a mistake in one is named first."""

from __future__ import annotations

import re
from pathlib import Path

import pytest

import reservoir
from conftest import Run
from reservoir.core.findings import Finding, Severity
from reservoir.core.subject import Subject

PLANS = Path(__file__).parent / "plans"
DEMO = Path(reservoir.__file__).parent / "demo/right/ferry-line.yaml"

SOUND = {
    re.search("^name: (.*)$", text, re.MULTILINE)[1]: text.rstrip("\n") + "\n"  # type: ignore[index]
    for text in (PLANS / "sound.yaml").read_text().split("\n---\n")
}
FAULTY = [
    [*map(str.strip, line.split("|")), ""][:5]
    for line in (PLANS / "faulty.txt").read_text().splitlines()
    if not line.startswith("#")
]


UNFELT = {
    "subnet-has-host-bits",  # devices take the subnet that is meant
    "range-takes-edge-address",  # no device assigns an edge
    "range-reversed",  # the other ranges do
    "ranges-overlap",  # of one server, which knows both
    "domain-invalid",  # clients take any text
    "interface-in-two-bridges",  # below IP
    "vlan-twice",
    "interface-mask-differs",  # where the device's subnet is the larger one
    "interface-edge-address",  # where no client is
    "next-hop-not-held",  # by a host that isn't in the plan, perhaps
    "relay-to-nobody",  # another server answers
    "address-held-twice",  # where no client is
    "option-address-invalid",  # clients don't ask time servers here
    "infrastructure-in-pool",  # unless it is a DNS server
}
"""Rules whose mistakes clients may not notice at once, and why."""


def leaders(subject: Subject) -> list[Finding]:
    """The findings that follow from no other, the gravest first."""
    found = reservoir.check(subject).findings
    own = [finding for finding in found if finding.cause is None and finding.accepted is None]
    return sorted(own, key=lambda finding: -finding.severity.value)


@pytest.mark.parametrize("name", SOUND)
def test_a_sound_plan_is_left_in_peace(name: str, tmp_path: Path) -> None:
    """What people write who know what they do: two subnets on a LAN, shared gateways, pairs."""
    file = tmp_path / "plan.yaml"
    file.write_text(SOUND[name])
    plan = reservoir.load(str(file))
    assert [f for f in leaders(plan) if f.severity is not Severity.ADVICE] == []
    rehearsed = reservoir.rehearse(plan)
    assert [each.failures for each in rehearsed.networks if each.failures] == []
    assert not rehearsed.left_out


def test_there_are_enough_of_them(run: Run) -> None:
    """Sixty with the demo and the plans in files of their own, which other tests check."""
    others = [DEMO, *(file for file in PLANS.glob("*.yaml") if file.name != "sound.yaml")]
    for file in others:
        assert "error" not in run("check", str(file), "--fail-on", "warning").out.split("\n")[0]
    assert len(SOUND) + len(others) >= 60
    assert len(FAULTY) >= 120


@pytest.mark.parametrize(
    ("name", "right", "wrong", "rule", "place"), FAULTY, ids=[" ".join(f[:3]) for f in FAULTY]
)
def test_a_mistake_is_named_first(
    name: str, right: str, wrong: str, rule: str, place: str, tmp_path: Path
) -> None:
    """By its rule, at its line; or where the other side of the contradiction is."""
    (sound,) = (text for called, text in SOUND.items() if called.startswith(name))
    assert right in sound
    faulty = sound.replace(right, wrong.replace("\\n", "\n"), 1)
    file = tmp_path / "plan.yaml"
    file.write_text(faulty)
    before = faulty[: faulty.index(place)] if place else sound[: sound.index(right)]
    subject = reservoir.load(str(file))
    first = leaders(subject)[0]
    assert (first.rule, subject.place(first.at).line) == (rule, before.count("\n") + 1)
    failures = [f for each in reservoir.rehearse(subject).networks for f in each.failures]
    assert all(failure.rule or failure.suspect for failure in failures)
    if first.severity is Severity.ERROR and first.rule not in UNFELT:
        assert failures
