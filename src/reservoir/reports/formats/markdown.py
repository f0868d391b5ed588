"""Findings as Markdown, for a change request or a comment on one."""

from __future__ import annotations

from collections.abc import Iterator

from reservoir.core.checks import Report
from reservoir.core.findings import Finding
from reservoir.core.plan.edits import Edit
from reservoir.core.plan.model import format_path
from reservoir.core.subject import Subject
from reservoir.reports.markup import code, plain
from reservoir.reports.outline import accepted, entries, sections
from reservoir.reports.summary import summary_line


def pieces(report: Report, subject: Subject, width: int) -> Iterator[str]:
    """The report as Markdown: a list for each topic, consequences indented; a line a piece."""
    for line in _lines(report, subject):
        yield f"{line}\n"


def _lines(report: Report, subject: Subject) -> Iterator[str]:
    yield "# Findings"
    yield ""
    for topic, inside in sections(entries(report)):
        yield f"## {plain(topic.heading(subject.plan, report))}"
        yield ""
        for finding, consequences in inside:
            yield from _item(finding, subject)
            for consequence in consequences:
                yield from ("  " + line for line in _item(consequence, subject))
        yield ""
    agreed = accepted(report)
    if agreed:
        yield "## Accepted"
        yield ""
        for finding in agreed:
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
        yield f"  - {_edit(suggestion)}{'' if finding.is_tried else ' (not tried)'}"


def _edit(suggestion: Edit) -> str:
    where = f"fix at {code(format_path(suggestion.path))}"
    if suggestion.new is None:
        return f"{where}: remove {code(suggestion.old or '')}"
    if suggestion.old is None:
        return f"{where}: add {code(suggestion.new)}"
    return f"{where}: replace {code(suggestion.old)} with {code(suggestion.new)}"
