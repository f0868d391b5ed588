"""What things are and where, for people and as JSON."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, NamedTuple

import numpy as np

from reservoir.core.leases.table import LeaseTable
from reservoir.core.plan.model import PlanPath, format_path
from reservoir.core.problems import Place
from reservoir.core.subject import Subject
from reservoir.core.values.addresses import format_address
from reservoir.core.whereabouts import Answer, Thing
from reservoir.core.wording import counted, shown
from reservoir.reports.frame import as_text, frame
from reservoir.reports.theme import moment, shown_moment, styled, wrapped

if TYPE_CHECKING:
    from reservoir.reports.outputs.find import AnswerObject, LeaseObject, Output

_INDENT = " " * 12

MOST = 20
"""Things of one kind that are listed at most for people; JSON has all."""


class LeaseList(NamedTuple):
    """A lease list and its file."""

    leases: LeaseTable
    file: str


def lines(
    answers: Sequence[Answer], subject: Subject, listed: LeaseList | None, width: int
) -> Iterator[str]:
    """What is known of each thing: what it is and where, who serves it, who has it, findings."""
    for number, answer in enumerate(answers):
        if number:
            yield ""
        yield styled(shown(answer.asked), "heading")
        yield from _things(answer, subject, width)
        for served in answer.servers:
            of = f"{served.network} by " if len({s.network for s in answer.servers}) > 1 else "by "
            yield from _row("served", f"{of}{served.server}, {served.way}", None, width)
        if listed is not None:
            yield from _leases(answer, listed, width)
        for finding in answer.findings[:MOST]:
            what = f"{finding.rule}: {finding.message}"
            place = subject.place(finding.at)
            yield from _row(finding.severity.word, what, place, width, finding.severity.word)
        if len(answer.findings) > MOST:
            more = f"{len(answer.findings) - MOST:,} more findings"
            yield f"{_INDENT}and {more}; reservoir check has all"
        yield from _unknown(answer, width)


def _things(answer: Answer, subject: Subject, width: int) -> Iterator[str]:
    alike: dict[tuple[str, PlanPath], list[Thing]] = {}
    for thing in answer.things:
        alike.setdefault((thing.role, thing.path), []).append(thing)
    for (role, path), some in list(alike.items())[:MOST]:
        more = f", and {len(some) - 1:,} more from there" if len(some) > 1 else ""
        yield from _row(role, f"{some[0].what}{more}", subject.place(path), width)
    if len(alike) > MOST:
        yield f"{_INDENT}and {len(alike) - MOST:,} more; --format json has all"


def _leases(answer: Answer, listed: LeaseList, width: int) -> Iterator[str]:
    leases, file = listed
    for row in answer.leases[:MOST]:
        address, end = format_address(int(leases.address[row])), float(leases.expires[row])
        until = f" until {shown_moment(end)}" if np.isfinite(end) else ""
        by = f", from {leases.server[row]}" if leases.server[row] else ""
        who = f"{shown(leases.label(row))} ({leases.client_text(row)})"
        place = Place(file, int(leases.line[row]))
        yield from _row("lease", f"{who} has {address}{until}{by}", place, width)
    if len(answer.leases) > MOST:
        yield f"{_INDENT}and {len(answer.leases) - MOST:,} more leases; --format json has all"


def _unknown(answer: Answer, width: int) -> Iterator[str]:
    """What is said of a thing of which nothing is known, and of free addresses."""
    if not (answer.things or answer.leases):
        yield from _row("unknown", "nothing here has this name or number", None, width)
    if answer.nearest is not None:
        what = f"it is in no network; the nearest is {answer.nearest}"
        yield from _row("nearest", what, None, width)
    if answer.free is not None:
        count = counted(answer.free.size, "address")
        yield from _row("around", f"{answer.free} is free, {count}", None, width)


def _row(
    label: str, text: str, place: Place | None, width: int, style: str = "name"
) -> Iterator[str]:
    """A label, a text in as many lines as it needs, and the place: at the right, or below."""
    lines = wrapped(text, width, _INDENT, f"{label:<12}")
    shown_lines = [styled(label, style) + lines[0][len(label) :], *lines[1:]]
    if place is not None:
        room = width - len(lines[0])
        if len(str(place)) + 2 <= room:
            shown_lines[0] += styled(str(place).rjust(room), "place")
        else:
            shown_lines.append(_INDENT + styled(str(place), "place"))
    yield from shown_lines


def as_json(
    answers: Sequence[Answer],
    subject: Subject,
    listed: LeaseList | None,
    inputs: Sequence[str],
) -> Iterator[str]:
    """One JSON object, whose fields are only ever added to."""
    output: Output = {
        **frame("find", inputs),
        "answers": [_answer(answer, subject, listed) for answer in answers],
        "summary": {
            "asked": len(answers),
            "known": sum(answer.is_known for answer in answers),
        },
    }
    yield as_text(output)


def _answer(answer: Answer, subject: Subject, listed: LeaseList | None) -> AnswerObject:
    return {
        "asked": answer.asked,
        "kind": answer.kind,
        "known": answer.is_known,
        "things": [
            {
                "role": thing.role,
                "what": thing.what,
                "network": thing.network,
                "address": None if thing.address is None else format_address(thing.address),
                "at": format_path(thing.path),
                "file": place.file,
                "line": place.line,
                "column": place.column,
            }
            for thing in answer.things
            for place in [subject.place(thing.path)]
        ],
        "servers": [
            {"network": network, "server": server, "way": way}
            for network, server, way in answer.servers
        ],
        "leases": [_lease(listed, row) for row in answer.leases] if listed is not None else [],
        "findings": [
            {
                "rule": finding.rule,
                "severity": finding.severity.word,
                "message": finding.message,
                "file": place.file,
                "line": place.line,
                "column": place.column,
            }
            for finding in answer.findings
            for place in [subject.place(finding.at)]
        ],
        "nearest": answer.nearest,
        "free": None if answer.free is None else str(answer.free),
    }


def _lease(listed: LeaseList, row: int) -> LeaseObject:
    leases, file = listed
    end = float(leases.expires[row])
    return {
        "client": leases.client_text(row),
        "name": leases.name[row],
        "address": format_address(int(leases.address[row])),
        "server": leases.server[row],
        "expires": moment(end) if np.isfinite(end) else None,
        "file": file,
        "line": int(leases.line[row]),
    }
