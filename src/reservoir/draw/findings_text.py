"""Findings for people: by network, causes first, each with its place, its case and its remedy."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from itertools import groupby

from reservoir.core.checks import Report
from reservoir.core.findings import Finding, Severity, Suggestion
from reservoir.core.plan import Plan, PlanPath, format_path
from reservoir.core.problems import Place
from reservoir.draw.theme import styled, wrapped

BODY = " " * 9
"""What stands under a finding begins below its rule's name."""


def findings_text(
    report: Report, plan: Plan, place: Callable[[PlanPath], Place], width: int
) -> Iterator[str]:
    """The lines of a report; ``place`` finds where a plan path stands."""
    shown = [finding for finding in report.findings if finding.accepted is None]
    leaders = [f for f in shown if not any(_same(f.cause, other) for other in shown)]
    for network, group in groupby(leaders, key=lambda finding: finding.network):
        yield styled(_heading(network, plan), "heading")
        yield ""
        for finding in group:
            yield from _block(finding, place, width)
            followers = [f for f in shown if _same(f.cause, finding)]
            for follower in followers:
                yield from wrapped(
                    f"{follower.rule}: {follower.message}",
                    width,
                    BODY + "            ",
                    BODY + "leads to    ",
                )
            yield ""
    yield summary_line(report)


def _same(cause: Finding | None, finding: Finding) -> bool:
    return cause is not None and (cause.rule, cause.at, cause.message) == (
        finding.rule,
        finding.at,
        finding.message,
    )


def _heading(network: str | None, plan: Plan) -> str:
    if network is None or network not in plan.networks:
        return network or "The plan"
    served = ", ".join(service.device for service in plan.networks[network].served_by)
    by = f", served by {served}" if served else ""
    return f"{network}  {plan.networks[network].subnet}{by}"


def _block(finding: Finding, place: Callable[[PlanPath], Place], width: int) -> Iterator[str]:
    severity = styled(f"{finding.severity.word:<8}", finding.severity.word)
    where = str(place(finding.at))
    gap = max(width - 9 - len(finding.rule) - len(where), 2)
    yield f"{severity} {styled(finding.rule, 'name')}{' ' * gap}{styled(where, 'place')}"
    yield from wrapped(finding.message, width, BODY)
    if finding.witness is not None:
        yield from wrapped(
            finding.witness.sentence, width, BODY + "            ", BODY + "shown when  "
        )
    for suggestion in finding.suggestions:
        yield from _suggestion(suggestion, finding.at)


def _suggestion(suggestion: Suggestion, at: PlanPath) -> Iterator[str]:
    """The edit as a small difference; its path only where it isn't the finding's own place."""
    lines = [] if suggestion.path == at else [format_path(suggestion.path)]
    if suggestion.old is not None:
        lines.append(styled(f"- {suggestion.old}", "removed"))
    if suggestion.new is not None:
        lines.append(styled(f"+ {suggestion.new}", "added"))
    for number, line in enumerate(lines):
        yield BODY + ("            " if number else "put right   ") + line


def summary_line(report: Report) -> str:
    """Counts of findings, and what was looked at."""
    counts = [
        _counted(report.of_severity(severity), noun)
        for severity, noun in (
            (Severity.ERROR, "error"),
            (Severity.WARNING, "warning"),
            (Severity.ADVICE, "piece of advice"),
        )
        if report.of_severity(severity)
    ]
    if report.accepted:
        counts.append(f"{report.accepted} accepted")
    said = ", ".join(counts) or "Nothing to put right"
    following = sum(f.cause is not None and f.accepted is None for f in report.findings)
    if following:
        said += f" ({following:,} of them {'follows' if following == 1 else 'follow'} from others)"
    return (
        f"{said} in {_counted(report.networks, 'network')} on "
        f"{_counted(report.devices, 'device')}; {report.lendable:,} addresses can be lent."
    )


def _counted(number: int, noun: str) -> str:
    if number == 1:
        return f"1 {noun}"
    plural = "pieces of advice" if noun == "piece of advice" else f"{noun}s"
    return f"{number:,} {plural}"
