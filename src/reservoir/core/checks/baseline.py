"""Holds findings to those of another day: what was known then, what is new, what is gone."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Hashable, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

from reservoir.core.checks.engine import Report
from reservoir.core.findings import Finding
from reservoir.core.plan.model import format_path


class Known(NamedTuple):
    """A finding of another day."""

    rule: str
    severity: str
    at: str
    """Its place in the plan."""
    message: str


@dataclass(frozen=True)
class Baseline:
    """What came of holding findings to those of another day."""

    name: str
    known: int
    """Findings that were there."""
    gone: Sequence[Known]
    """Those that aren't any more; nothing, if only a part was checked."""

    @property
    def reason(self) -> str:
        """Why what was there is accepted."""
        return f"in the baseline {self.name}"


def held_to(report: Report, before: Sequence[Known], name: str) -> Report:
    """The report with what was known before accepted, and what of it is gone.

    A finding is the same if rule, severity and message are, at its place first; else at another,
    since what is added to a list moves what comes after. Whatever else differs makes it new.

    Args:
        report: What was found now.
        before: What was found then.
        name: What that list is called.
    """
    places: dict[Hashable, list[int]] = defaultdict(list)
    moved: dict[Hashable, list[int]] = defaultdict(list)
    for number in reversed(range(len(before))):
        places[before[number]].append(number)
        moved[before[number]._replace(at="")].append(number)
    used: set[int] = set()
    same: dict[int, int] = {}

    def match(found: dict[Hashable, list[int]], key: Callable[[Finding], Hashable]) -> None:
        for place, finding in enumerate(report.findings):
            if place in same:
                continue
            candidates = found.get(key(finding), [])
            while candidates and candidates[-1] in used:
                candidates.pop()
            if candidates:
                same[place] = candidates.pop()
                used.add(same[place])

    match(places, _known)
    match(moved, lambda finding: _known(finding)._replace(at=""))
    gone = [] if report.is_partial else [k for n, k in enumerate(before) if n not in used]
    baseline = Baseline(name, len(same), gone)
    findings = tuple(
        finding._replace(accepted=baseline.reason)
        if place in same and finding.accepted is None
        else finding
        for place, finding in enumerate(report.findings)
    )
    return replace(report, findings=findings, baseline=baseline)


def _known(finding: Finding) -> Known:
    return Known(finding.rule, finding.severity.word, format_path(finding.at), finding.message)
