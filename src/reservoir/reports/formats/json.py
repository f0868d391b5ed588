"""Findings as JSON: one object, whose fields are only ever added to."""

from __future__ import annotations

import json
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any, cast

from pydantic_core import PydanticSerializationError, to_json

from reservoir.core.checks import Report
from reservoir.core.checks.baseline import Known
from reservoir.core.findings import Finding, Severity
from reservoir.core.plan.edits import Edit
from reservoir.core.plan.model import format_path
from reservoir.core.problems import InputError, Place, Problem
from reservoir.core.subject import Subject
from reservoir.reports.frame import frame

if TYPE_CHECKING:
    from reservoir.reports.outputs.check import (
        BaselineObject,
        CheckSummary,
        FindingObject,
        KnownObject,
        SuggestionObject,
        WitnessObject,
    )

AT_ONCE = 100
"""Findings that are written together: one after the other takes longer."""


def pieces(report: Report, subject: Subject, width: int) -> Iterator[str]:
    """The report as the text of one JSON object, some findings at a time."""
    yield "{\n"
    for key, value in frame("check", subject.files).items():
        yield f"  {json.dumps(key)}: {_written(value, 2)},\n"
    yield '  "findings": ['
    between = ""
    for begin in range(0, len(report.findings), AT_ONCE):
        some = report.findings[begin : begin + AT_ONCE]
        listed = _written([_finding(finding, subject) for finding in some], 2)
        yield between + listed.removeprefix("[").removesuffix("\n  ]")
        between = ","
    yield "\n  ],\n" if report.findings else "],\n"
    yield f'  "baseline": {_written(_baseline(report), 2)},\n'
    yield f'  "summary": {_written(_summary(report), 2)}\n}}\n'


def _written(value: Any, indent: int) -> str:
    """A value inside an object that is indented by so many columns."""
    try:
        text = to_json(value, indent=2).decode()  # json.dumps indents in Python, many times slower
    except PydanticSerializationError:  # a file's name that isn't UTF-8
        text = json.dumps(value, indent=2)
    return text.replace("\n", "\n" + " " * indent)


def _baseline(report: Report) -> BaselineObject | None:
    held = report.baseline
    if held is None:
        return None
    gone = [cast("KnownObject", known._asdict()) for known in held.gone]
    return {"file": held.name, "known": held.known, "gone": gone}


def read_findings(text: str, file: str) -> list[Known]:
    """The findings that `check --format json` printed.

    Raises:
        InputError: the text is something else.
    """
    try:
        found = json.loads(text)
        if found["command"] != "check":
            raise ValueError(f"it is what `{found['command']}` prints")
        fields = [[str(one[field]) for field in Known._fields] for one in found["findings"]]
    except (ValueError, KeyError, TypeError, RecursionError) as error:
        lacks = f"it has no {error}" if isinstance(error, KeyError) else str(error)
        message = f"this is not what `check --format json` prints: {lacks}"
        raise InputError([Problem(Place(file), message)]) from None
    return [Known(*values) for values in fields]


def _summary(report: Report) -> CheckSummary:
    return {
        "errors": report.of_severity(Severity.ERROR),
        "warnings": report.of_severity(Severity.WARNING),
        "advice": report.of_severity(Severity.ADVICE),
        "accepted": report.accepted,
        "networks": report.networks,
        "devices": report.devices,
        "assignable": report.assignable,
    }


def _finding(finding: Finding, subject: Subject) -> FindingObject:
    place = subject.place(finding.at)
    cause = finding.cause
    return {
        "rule": finding.rule,
        "family": finding.family,
        "severity": finding.severity.word,
        "message": finding.message,
        "at": format_path(finding.at),
        "file": place.file,
        "line": place.line,
        "column": place.column,
        "witness": cast("WitnessObject", finding.witness.as_json()) if finding.witness else None,
        "proof": {"shown": finding.proof.is_shown, "text": finding.proof.text}
        if finding.proof
        else None,
        "suggestions": [
            _suggestion(suggestion, finding.is_tried, subject) for suggestion in finding.suggestions
        ],
        "cause": {"rule": cause.rule, "at": format_path(cause.at)} if cause else None,
        "accepted": finding.accepted,
    }


def _suggestion(edit: Edit, is_tried: bool, subject: Subject) -> SuggestionObject:
    """The edit; where configuration was read, also the lines that it changes there."""
    result: SuggestionObject = {
        "path": format_path(edit.path),
        "old": edit.old,
        "new": edit.new,
        "tried": is_tried,
    }
    lines = subject.lines_of(edit)
    if lines:
        result["removes"] = [line.text for line in lines if not line.is_new]
        result["adds"] = [line.text for line in lines if line.is_new]
    return result
