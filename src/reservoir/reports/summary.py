"""A report in one line."""

from __future__ import annotations

from reservoir.core.checks.engine import Report
from reservoir.core.findings import Severity
from reservoir.core.wording import counted


def summary_line(report: Report) -> str:
    """Counts of findings, and what was looked at."""
    counts = [
        counted(report.of_severity(severity), noun)
        for severity, noun in (
            (Severity.ERROR, "error"),
            (Severity.WARNING, "warning"),
            (Severity.ADVICE, "piece of advice"),
        )
        if report.of_severity(severity)
    ]
    if report.accepted:
        counts.append(f"{report.accepted:,} accepted")
    said = ", ".join(counts) or "No findings"
    following = sum(f.cause is not None and f.accepted is None for f in report.findings)
    if following:
        said += f" ({following:,} caused by others)"
    among = " in the part that was checked, of" if report.is_partial else " in"
    return (
        f"{said}{among} {counted(report.networks, 'network')} on "
        f"{counted(report.devices, 'device')}; {counted(report.assignable, 'assignable address')}."
    )
