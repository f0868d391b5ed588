"""What was found as editors show it: findings at their places, consequences with their cause."""

from __future__ import annotations

from collections.abc import Callable, Container, Iterator, Sequence
from typing import NamedTuple

from lsprotocol import types

from reservoir.core.checks import Report
from reservoir.core.findings import Finding, Severity
from reservoir.core.problems import Place
from reservoir.core.wording import counted, shown
from reservoir.lsp.positions import Kind, Positions, uri_of
from reservoir.lsp.state import State, places_of

SOURCE = "reservoir"

MOST = 1_000
"""Findings of a file that are shown at most; how many more there are is said."""

PositionsOf = Callable[[State, str], Positions]

_SEVERITIES = {
    Severity.ERROR: types.DiagnosticSeverity.Error,
    Severity.WARNING: types.DiagnosticSeverity.Warning,
    Severity.ADVICE: types.DiagnosticSeverity.Information,
}


class Shown(NamedTuple):
    """A finding as it is shown, and where."""

    file: str
    diagnostic: types.Diagnostic
    finding: Finding | None = None


def shown_of(
    state: State, kind: Kind, positions_of: PositionsOf, has_related: bool
) -> Iterator[Shown]:
    """All that is to be shown of a state.

    Args:
        state: What is known.
        kind: What its main file is.
        positions_of: Gives the positions of a file of the state.
        has_related: Whether the editor shows places that a finding has besides its own.
    """
    grave = types.DiagnosticSeverity
    for place, message in places_of(state):
        severity = grave.Error if kind == "plan" else grave.Information
        spot = positions_of(state, place.file).at(place.line, place.column)
        yield Shown(place.file, types.Diagnostic(spot, shown(message), severity, source=SOURCE))
    report, subject = state.report, state.subject
    if report is None or subject is None:
        return
    counts: dict[str, int] = {}
    consequences = _consequences(report)
    for finding in report:
        if _follows(finding, consequences):
            continue  # shown with its cause
        place = subject.place(finding.at)
        counts[place.file] = counts.get(place.file, 0) + 1
        if counts[place.file] <= MOST:
            follows = consequences.get(id(finding), [])
            spot = positions_of(state, place.file).at(place.line, place.column)
            diagnostic = _diagnostic(finding, spot, [each.severity for each in follows])
            _tell_consequences(diagnostic, follows, state, positions_of, has_related)
            yield Shown(place.file, diagnostic, finding)
    for file, count in counts.items():
        if count > MOST:
            spot = positions_of(state, file).at(1, 1)
            message = f"{count - MOST:,} more findings; reservoir check lists all"
            yield Shown(file, types.Diagnostic(spot, message, grave.Warning, source=SOURCE))


def _consequences(report: Report) -> dict[int, list[Finding]]:
    """What follows from each finding that is not accepted, by the finding's identity."""
    found: dict[int, list[Finding]] = {id(f): [] for f in report if f.accepted is None}
    for finding in report:
        if _follows(finding, found):
            found[id(finding.cause)].append(finding)
    return found


def _follows(finding: Finding, causes: Container[int]) -> bool:
    """Whether a finding is shown with its cause: neither of them is accepted."""
    return finding.accepted is None and finding.cause is not None and id(finding.cause) in causes


def _diagnostic(
    finding: Finding, spot: types.Range, following: Sequence[Severity]
) -> types.Diagnostic:
    """A finding; it is as severe as the worst that follows from it."""
    message = finding.message
    if finding.witness is not None:
        message += f"\nExample: {finding.witness.sentence}."
    severity = _SEVERITIES[max([finding.severity, *following])]
    if finding.accepted is not None:
        message += f"\nAccepted: {finding.accepted}"
        severity = types.DiagnosticSeverity.Hint
    # Line by line, so that no control character of a plan gets to a terminal.
    message = "\n".join(map(shown, message.split("\n")))
    return types.Diagnostic(spot, message, severity, code=finding.rule, source=SOURCE)


def _tell_consequences(
    diagnostic: types.Diagnostic,
    follows: list[Finding],
    state: State,
    positions_of: PositionsOf,
    has_related: bool,
) -> None:
    """Say what follows from a finding: each at its place, or below its message."""
    if not follows:
        return
    assert state.subject is not None  # it has findings
    texts = [shown(f"causes {finding.rule}: {finding.message}") for finding in follows]
    if not has_related:
        diagnostic.message = "\n".join([diagnostic.message, *texts])
        return
    places: list[Place] = [state.subject.place(finding.at) for finding in follows]
    diagnostic.message += f"\nIt causes {counted(len(follows), 'other finding')}."
    diagnostic.related_information = [
        types.DiagnosticRelatedInformation(
            types.Location(
                uri_of(place.file), positions_of(state, place.file).at(place.line, place.column)
            ),
            text,
        )
        for place, text in zip(places, texts, strict=True)
    ]
