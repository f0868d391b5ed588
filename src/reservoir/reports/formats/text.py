"""Findings for people: by network, causes first, each with its place, an example and a fix."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence

from reservoir.core.checks import Report, rules
from reservoir.core.findings import Finding, Severity
from reservoir.core.plan.edits import Edit
from reservoir.core.plan.model import PlanPath, format_path
from reservoir.core.subject import LineChange, Subject
from reservoir.core.wording import be, counted
from reservoir.reports.outline import Entry, accepted, entries, sections
from reservoir.reports.summary import summary_line
from reservoir.reports.theme import styled, wrapped

BODY = " " * 9
"""A finding's body is aligned with its rule's name."""

LABEL = 9
"""Columns of a label: ``example``, ``fix``, ``causes``."""

LABELLED = BODY + " " * LABEL
"""The continuation of a labelled text."""

SHOWN = 10
"""Findings of one rule that are shown in full; the rest are counted."""

ONE_BY_ONE = 2
"""Pieces of advice of one rule that are shown in full; more are shown as one."""

NAMED = 12
"""Networks that a line of advice lists before it counts the rest."""


def pieces(report: Report, subject: Subject, width: int) -> Iterator[str]:
    """The report as text, with styles: a line a piece."""
    for line in _lines_of(report, subject, width):
        yield f"{line}\n"


def _lines_of(report: Report, subject: Subject, width: int) -> Iterator[str]:
    found = entries(report)
    advice = [e for e in found if e.finding.severity is Severity.ADVICE and not e.consequences]
    apart = set(map(id, advice))
    graver = [entry for entry in found if id(entry) not in apart]
    counts = Counter(entry.finding.rule for entry in graver)
    left = dict.fromkeys(counts, SHOWN)
    for topic, inside in sections(graver):
        lines: list[str] = []
        for entry in inside:
            left[entry.finding.rule] -= 1
            if left[entry.finding.rule] >= 0:
                lines += _block(entry, subject, width)
        if lines:
            yield styled(topic.heading(subject.plan, report), "heading")
            yield from lines
            yield ""
    yield from _left_out(counts, width)
    yield from _advice([entry.finding for entry in advice], subject, width)
    yield from _accepted(report, subject, width)
    yield from baseline_lines(report, width)
    yield from wrapped(summary_line(report), width, "")


def _accepted(report: Report, subject: Subject, width: int) -> list[str]:
    """What the plan accepts, with its reasons; that of a baseline is counted elsewhere."""
    known = report.baseline.reason if report.baseline is not None else None
    lines: list[str] = []
    agreed = [finding for finding in accepted(report) if finding.accepted != known]
    for finding in agreed[:SHOWN]:
        lines.append(_head("accepted", finding, subject, width))
        lines += wrapped(finding.message, width, BODY)
        lines += _labelled("because", finding.accepted or "", width)
    if len(agreed) > SHOWN:
        lines.append(f"And {len(agreed) - SHOWN:,} more; --format json lists all.")
    return [styled("Accepted", "heading"), *lines, ""] if lines else []


def baseline_lines(report: Report, width: int) -> Iterator[str]:
    """What came of holding the findings to those of another day."""
    held = report.baseline
    if held is None:
        return
    told = f"{counted(held.known, 'finding')} {be(held.known)} in the baseline {held.name}; "
    if report.is_partial:
        told += "which of its findings are gone isn't known, as only a part was checked"
    else:
        gone = counted(len(held.gone), "finding") if held.gone else "no finding"
        told += f"{gone} of it {be(len(held.gone) or 1)} gone"
    yield from wrapped(f"{told}.", width, "")
    for known in held.gone[:SHOWN]:
        text = f"{known.rule} at {known.at}: {known.message}"
        yield from wrapped(text, width, BODY, f"{styled('gone', 'good')}{' ' * (len(BODY) - 4)}")
    if len(held.gone) > SHOWN:
        yield f"And {len(held.gone) - SHOWN:,} more; --format json lists all."
    yield ""


NOT_TRIED = "(not tried; check again after making it)"


def _head(word: str, finding: Finding, subject: Subject, width: int) -> str:
    """The first line of a finding: how grave it is, its rule and its place."""
    where = str(subject.place(finding.at))
    gap = " " * max(width - 9 - len(finding.rule) - len(where), 2)
    return (
        f"{styled(f'{word:<8}', word)} {styled(finding.rule, 'name')}{gap}{styled(where, 'place')}"
    )


def _block(entry: Entry, subject: Subject, width: int) -> Iterator[str]:
    finding, consequences = entry
    yield _head(finding.severity.word, finding, subject, width)
    yield from wrapped(finding.message, width, BODY)
    if finding.witness is not None:
        yield from _labelled("example", finding.witness.sentence, width)
    if finding.proof is not None:
        how = "" if finding.proof.is_shown else "can't show it: "
        yield from _labelled("replay", how + finding.proof.text, width)
    if finding.cause is not None:  # which wasn't selected, or is accepted
        cause = f"{finding.cause.rule}, {subject.place(finding.cause.at)}"
        yield from _labelled("due to", cause, width)
    label = "fix"
    for suggestion in finding.suggestions:
        lines = subject.lines_of(suggestion)
        edit = _lines(lines) if lines else _suggestion(suggestion, finding.at, width)
        yield from _under(label, edit)
        label = "or"  # another way
    if not finding.is_tried:
        yield from _labelled("", NOT_TRIED, width)
    if consequences:
        yield from _labelled("causes", _counted_rules(consequences), width)


def _labelled(label: str, text: str, width: int) -> list[str]:
    return wrapped(text, width, LABELLED, f"{BODY}{label:<{LABEL}}")


def _counted_rules(findings: Sequence[Finding]) -> str:
    """The rules of some findings, each with the number of findings if more than one."""
    counts = Counter(finding.rule for finding in findings)
    return ", ".join(rule if n == 1 else f"{rule} ({n:,} times)" for rule, n in counts.items())


def _under(label: str, lines: Iterable[str]) -> Iterator[str]:
    """Lines beside and below a label."""
    for line in lines:
        yield f"{BODY}{label:<{LABEL}}{line}"
        label = ""


def _lines(changes: Sequence[LineChange]) -> Iterator[str]:
    """The edit as the lines that it changes in a configuration."""
    for change in changes:
        sign, style = ("+", "added") if change.is_new else ("-", "removed")
        yield styled(f"{sign} {change.text}", style)


def _suggestion(suggestion: Edit, at: PlanPath, width: int) -> Iterator[str]:
    """The edit as a small difference; its path only where it isn't the finding's own place."""
    parts = [] if suggestion.path == at else [(format_path(suggestion.path), "")]
    if suggestion.old is not None:
        parts.append((f"- {suggestion.old}", "removed"))
    if suggestion.new is not None:
        parts.append((f"+ {suggestion.new}", "added"))
    fits = len(LABELLED) + sum(len(text) + 2 for text, _ in parts) <= width + 2
    texts = [styled(text, style) if style else text for text, style in parts]
    yield from ["  ".join(texts)] if fits else texts


def _left_out(counts: Mapping[str, int], width: int) -> Iterator[str]:
    """How many findings of each rule are not shown in full."""
    more = [f"{n - SHOWN:,} more of {rule}" for rule, n in counts.items() if n > SHOWN]
    if more:
        text = f"And {', '.join(more)}; --format json lists all, --at and --select narrow it down."
        yield from wrapped(text, width, "")
        yield ""


def _advice(advice: Sequence[Finding], subject: Subject, width: int) -> list[str]:
    """Advice last, by rule: what applies to many networks is said once."""
    by_rule: dict[str, list[Finding]] = {}
    for finding in advice:
        by_rule.setdefault(finding.rule, []).append(finding)
    lines: list[str] = []
    for rule, findings in by_rule.items():
        if len(findings) <= ONE_BY_ONE:
            for finding in findings:
                lines += _block(Entry(finding, ()), subject, width)
            continue
        lines.append(f"{styled('advice  ', 'advice')} {styled(rule, 'name')}")
        lines += wrapped(rules()[rule].manual["summary"], width, BODY)
        lines += _labelled("at", _listed(findings), width)
    return [styled("Advice", "heading"), *lines, ""] if lines else []


def _listed(findings: Sequence[Finding]) -> str:
    """The networks, or else the paths, that findings are about."""
    names = list(dict.fromkeys(f.network or format_path(f.at) for f in findings))
    more = f" and {len(names) - NAMED:,} more" if len(names) > NAMED else ""
    return ", ".join(names[:NAMED]) + more
