"""Findings as SARIF 2.1.0 (OASIS standard), for viewers of code and pipelines."""

from __future__ import annotations

import json
import os
from collections.abc import Iterator, Sequence
from pathlib import PurePath
from typing import Any
from urllib.parse import quote

from reservoir.core.checks import Report, Rule, rules
from reservoir.core.findings import Finding, Severity
from reservoir.core.plan.model import format_path
from reservoir.core.problems import Place
from reservoir.core.subject import Subject
from reservoir.version import __version__

SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/os/schemas/sarif-schema-2.1.0.json"
"""Names the standard's schema; nothing is fetched from there."""

_LEVELS = {Severity.ERROR: "error", Severity.WARNING: "warning", Severity.ADVICE: "note"}


def pieces(report: Report, subject: Subject, width: int) -> Iterator[str]:
    """The report of a check as SARIF."""
    broken = {finding.rule for finding in report.findings}
    known = [rule for name, rule in rules().items() if name in broken]
    places = {rule.name: number for number, rule in enumerate(known)}
    run = {
        "tool": {
            "driver": {
                "name": "Reservoir",
                "semanticVersion": __version__,
                "rules": [_rule(rule) for rule in known],
            }
        },
        "columnKind": "unicodeCodePoints",
        "artifacts": [{"location": _artifact(file)} for file in subject.files],
        "results": [_result(f, report.findings, subject, places) for f in report.findings],
    }
    yield json.dumps({"$schema": SCHEMA, "version": "2.1.0", "runs": [run]}, indent=2) + "\n"


def _rule(rule: Rule) -> dict[str, Any]:
    manual = rule.manual
    return {
        "id": rule.name,
        "name": type(rule).__name__,
        "shortDescription": {"text": manual["summary"]},
        "fullDescription": {"text": manual["why"]},
        "help": {"text": manual["remedy"]},
        "defaultConfiguration": {"level": _LEVELS[rule.severity]},
        "properties": {"tags": [rule.family]},
    }


def _result(
    finding: Finding, found: Sequence[Finding], subject: Subject, places: dict[str, int]
) -> dict[str, Any]:
    texts = [finding.message]
    if finding.witness is not None:
        texts.append(f"Example: {finding.witness.sentence}.")
    for suggestion in finding.suggestions:
        untried = "" if finding.is_tried else " (not tried)"
        texts.append(f"Fix at {format_path(suggestion.path)}: {suggestion.words}{untried}.")
    result: dict[str, Any] = {
        "ruleId": finding.rule,
        "level": _LEVELS[finding.severity],
        "message": {"text": "\n".join(texts)},
        "locations": [
            {
                "physicalLocation": _physical(subject.place(finding.at)),
                "logicalLocations": [{"fullyQualifiedName": format_path(finding.at)}],
            }
        ],
    }
    if finding.rule in places:
        result["ruleIndex"] = places[finding.rule]
    if finding.cause is not None:
        result["relatedLocations"] = [
            {
                "message": {"text": f"caused by {finding.cause.rule}: {finding.cause.message}"},
                "physicalLocation": _physical(subject.place(finding.cause.at)),
            }
        ]
    if finding.accepted is not None:
        result["suppressions"] = [{"kind": "external", "justification": finding.accepted}]
    return result


def _physical(place: Place) -> dict[str, Any]:
    return {
        "artifactLocation": _artifact(place.file),
        "region": {"startLine": place.line, "startColumn": place.column},
    }


def _artifact(file: str) -> dict[str, str]:
    """A file by a relative reference, or by an absolute one where its path is absolute."""
    path = PurePath(file)
    return {"uri": path.as_uri() if path.is_absolute() else quote(os.fsencode(path.as_posix()))}
