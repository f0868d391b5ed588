"""The outline of a report: findings by what they are about, each with its consequences."""

from __future__ import annotations

from collections.abc import Sequence
from itertools import groupby
from typing import NamedTuple

from reservoir.core.checks import Report
from reservoir.core.findings import Finding
from reservoir.core.plan.model import Plan


class Entry(NamedTuple):
    """A finding that is shown by itself, and what follows from it."""

    finding: Finding
    consequences: Sequence[Finding]


class Topic(NamedTuple):
    """What findings are about: a network, or else a device, or the plan as a whole."""

    kind: str
    """``networks``, ``devices``, or empty for the plan as a whole."""
    name: str

    def heading(self, plan: Plan, report: Report) -> str:
        """The topic for people; of a network, its subnet and servers too."""
        if self.kind != "networks" or self.name not in plan.networks:
            return self.name or "The plan"
        network = plan.networks[self.name]
        served = ", ".join(report.servers[self.name])
        return f"{self.name}  {network.subnet}" + (f", served by {served}" if served else "")


class Section(NamedTuple):
    """The findings about one topic."""

    topic: Topic
    entries: Sequence[Entry]


def entries(report: Report) -> list[Entry]:
    """The findings that are not accepted, causes only, each with its consequences."""
    shown = [finding for finding in report.findings if finding.accepted is None]
    known = set(map(id, shown))
    consequences: dict[int, list[Finding]] = {}
    leaders: list[Finding] = []
    for finding in shown:
        if finding.cause is not None and id(finding.cause) in known:
            consequences.setdefault(id(finding.cause), []).append(finding)
        else:
            leaders.append(finding)
    return [Entry(finding, consequences.get(id(finding), ())) for finding in leaders]


def sections(found: Sequence[Entry]) -> list[Section]:
    """Entries by topic, in their order."""
    by_topic = groupby(found, key=lambda entry: _topic(entry.finding))
    return [Section(topic, list(group)) for topic, group in by_topic]


def accepted(report: Report) -> list[Finding]:
    """The findings that are accepted."""
    return [finding for finding in report.findings if finding.accepted is not None]


def _topic(finding: Finding) -> Topic:
    if finding.network is not None:
        return Topic("networks", finding.network)
    if finding.at[:1] == ("devices",) and len(finding.at) > 1:
        return Topic("devices", str(finding.at[1]))
    return Topic("", "")
