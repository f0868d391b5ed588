"""Findings as JUnit XML: a test case for each network and family of rules."""

from __future__ import annotations

import re
from collections.abc import Iterator
from xml.etree import ElementTree as ET  # only written, nothing is parsed

from reservoir.core.checks import Report
from reservoir.core.checks.rule import families
from reservoir.core.findings import Finding, Severity
from reservoir.core.subject import Subject

ELSEWHERE = "(plan)"
"""The name of the suite for findings about no network."""

_UNWRITABLE = re.compile("[^\t\n\r\u0020-\ud7ff\ue000-\ufffd\U00010000-\U0010ffff]")
"""Characters that XML 1.0 has no way to write (section 2.2)."""


def pieces(report: Report, subject: Subject, width: int) -> Iterator[str]:
    """The report of a check as JUnit XML; errors and warnings fail a case, advice is its output."""
    by_case: dict[tuple[str, str], list[Finding]] = {}
    for finding in report.findings:
        network = finding.network if finding.network in subject.plan.networks else None
        by_case.setdefault((network or ELSEWHERE, finding.family), []).append(finding)
    suites = ET.Element("testsuites", name="reservoir check")
    for network in (*subject.plan.networks, ELSEWHERE):
        _suite(suites, network, by_case, subject)
    for element in ("tests", "failures"):
        suites.set(element, str(sum(int(suite.get(element, "0")) for suite in suites)))
    ET.indent(suites)
    yield '<?xml version="1.0" encoding="UTF-8"?>\n' + ET.tostring(suites, "unicode") + "\n"


def _suite(
    suites: ET.Element,
    network: str,
    by_case: dict[tuple[str, str], list[Finding]],
    subject: Subject,
) -> None:
    suite = ET.SubElement(suites, "testsuite", name=_written(network))
    failed = 0
    for family in families():
        case = ET.SubElement(suite, "testcase", name=family, classname=_written(network))
        findings = by_case.get((network, family), [])
        said = [f for f in findings if f.accepted is None]
        failing = [f for f in said if f.severity > Severity.ADVICE]
        if failing:
            failed += 1
            worst = max(failing, key=lambda finding: finding.severity)
            failure = ET.SubElement(
                case, "failure", type=worst.severity.word, message=_written(worst.message)
            )
            failure.text = _lines(failing, subject)
        rest = [f for f in findings if f not in failing]
        if rest:
            ET.SubElement(case, "system-out").text = _lines(rest, subject)
    suite.set("tests", str(len(families())))
    suite.set("failures", str(failed))


def _lines(findings: list[Finding], subject: Subject) -> str:
    return "\n".join(
        _written(f"{subject.place(f.at)}: {f.severity.word}: {f.rule}: {f.message}")
        + (_written(f" (accepted: {f.accepted})") if f.accepted is not None else "")
        for f in findings
    )


def _written(text: str) -> str:
    return _UNWRITABLE.sub("\ufffd", text)
