"""Findings as Markdown, for a change request or a comment on one."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import groupby

from reservoir.core.checks import Report
from reservoir.core.findings import Finding
from reservoir.core.plan.edits import Edit
from reservoir.core.plan.model import format_path
from reservoir.core.subject import Subject
from reservoir.reports.markup import code, plain
from reservoir.reports.summary import summary_line


def report_text(report: Report, subject: Subject) -> str:
    """The report of a check as Markdown: a list for each network, consequences indented."""
    return "\n".join(_lines(report, subject)) + "\n"


def _lines(report: Report, subject: Subject) -> Iterator[str]:
    yield "# Findings"
    yield ""
    shown = [finding for finding in report.findings if finding.accepted is None]
    kept = set(map(id, shown))

    def leads(finding: Finding) -> Finding:
        return finding.cause if finding.cause and id(finding.cause) in kept else finding

    for network, group in groupby(shown, key=lambda finding: leads(finding).network):
        about = network if network in subject.plan.networks else None
        subnet = f" {subject.plan.networks[about].subnet}" if about else ""
        yield f"## {plain(network or 'The plan')}{subnet}"
        yield ""
        for finding in group:
            indent = "" if leads(finding) is finding else "  "
            yield from (indent + line for line in _item(finding, subject))
        yield ""
    accepted = [finding for finding in report.findings if finding.accepted is not None]
    if accepted:
        yield "## Accepted"
        yield ""
        for finding in accepted:
            because = plain(finding.accepted or "")
            yield f"- {code(finding.rule)}: {plain(finding.message)} ({because})"
        yield ""
    yield plain(summary_line(report))


def _item(finding: Finding, subject: Subject) -> Iterator[str]:
    place = code(str(subject.place(finding.at)))
    yield f"- **{finding.severity.word}** {code(finding.rule)} {place}: {plain(finding.message)}"
    if finding.witness is not None:
        yield f"  - example: {plain(finding.witness.sentence)}"
    for suggestion in finding.suggestions:
        yield f"  - {_edit(suggestion)}"


def _edit(suggestion: Edit) -> str:
    where = f"fix at {code(format_path(suggestion.path))}"
    if suggestion.new is None:
        return f"{where}: remove {code(suggestion.old or '')}"
    if suggestion.old is None:
        return f"{where}: add {code(suggestion.new)}"
    return f"{where}: replace {code(suggestion.old)} with {code(suggestion.new)}"
