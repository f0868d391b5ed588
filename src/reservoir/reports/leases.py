"""What a lease list says of a plan, for people and as JSON."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING, NamedTuple

from reservoir.core.findings import Severity
from reservoir.core.leases.contradictions import Contradiction, LeasesChecked, PoolUsage
from reservoir.core.leases.table import LeaseTable
from reservoir.core.values.addresses import format_address
from reservoir.core.wording import counted, listed_briefly
from reservoir.reports.frame import as_text, frame
from reservoir.reports.theme import columns, styled, wrapped

if TYPE_CHECKING:
    from reservoir.reports.outputs.leases import ContradictionObject, Output, UsageObject

HEADINGS = ("network", "server", "addresses", "taken", "free", "share", "bound", "end within 1h")


class LeasesSeen(NamedTuple):
    """A lease list, and what it says of a plan."""

    leases: LeaseTable
    file: str
    checked: LeasesChecked


def lines(checked: LeasesChecked, leases: LeaseTable, file: str, width: int) -> Iterator[str]:
    """A line for each network and server, then what contradicts the plan; a line with counts."""
    heading, *rows = columns([HEADINGS, *map(row, checked.usage)], left=(0, 1))
    yield styled(heading, "heading")
    yield from rows
    yield ""
    for each in checked.contradictions:
        place = f"{file}:{int(leases.line[each.row])}"
        head = f"{each.severity.word} {each.rule}  {place}"
        yield styled(each.severity.word, each.severity.word) + head[len(each.severity.word) :]
        yield from wrapped(each.message, width, "    ")
    if checked.contradictions:
        yield ""
    if unheard := not_listed(checked):
        yield from wrapped(unheard, width, "")
    yield from wrapped(closing(checked), width, "")


def not_listed(checked: LeasesChecked) -> str:
    """That nothing may be known of networks without a lease; empty if each has one."""
    listed = {each.network for each in checked.usage if each.taken or each.bound}
    others = list(dict.fromkeys(e.network for e in checked.usage if e.network not in listed))
    if not others:
        return ""
    they_are, their = ("it is", "its") if len(others) == 1 else ("they are", "their")
    return (
        f"No present lease is listed in {listed_briefly(others, 3)}: how full {they_are} isn't "
        f"known unless the list is of {their} servers."
    )


def row(each: PoolUsage) -> tuple[str, ...]:
    """A network in the cells of a table: see :data:`HEADINGS`."""
    return (
        each.network,
        each.server or "-",
        f"{each.assignable:,}",
        f"{each.taken:,}",
        f"{each.free:,}",
        f"{each.share:.0%}",
        f"{each.bound:,}",
        f"{each.expiring:,}",
    )


def closing(checked: LeasesChecked) -> str:
    """How many leases there are, and how many of them contradict the plan."""
    expired = f", {checked.expired:,} of them expired" if checked.expired else ""
    counts = Counter(each.severity for each in checked.contradictions)
    nouns = ((Severity.ERROR, "error"), (Severity.WARNING, "warning"))
    parts = [counted(counts[severity], noun) for severity, noun in nouns if counts[severity]]
    said = ", ".join(parts) or "nothing contradicts the plan"
    return f"{counted(checked.leases, 'lease')}{expired}: {said}."


def as_json(
    checked: LeasesChecked,
    leases: LeaseTable,
    file: str,
    inputs: Sequence[str],
    notes: Sequence[str],
) -> Iterator[str]:
    """One JSON object, whose fields are only ever added to; ``notes`` say how it was read."""
    counts = Counter(each.severity for each in checked.contradictions)
    output: Output = {
        **frame("leases", inputs),
        "notes": list(notes),
        "networks": [_usage(each) for each in checked.usage],
        "findings": [_finding(each, leases, file) for each in checked.contradictions],
        "summary": {
            "leases": checked.leases,
            "expired": checked.expired,
            "errors": counts[Severity.ERROR],
            "warnings": counts[Severity.WARNING],
        },
    }
    yield as_text(output)


def _usage(each: PoolUsage) -> UsageObject:
    return {
        "network": each.network,
        "server": each.server,
        "assignable": each.assignable,
        "taken": each.taken,
        "free": each.free,
        "share": round(each.share, 4),
        "bound": each.bound,
        "expiring": each.expiring,
    }


def _finding(each: Contradiction, leases: LeaseTable, file: str) -> ContradictionObject:
    return {
        "rule": each.rule,
        "severity": each.severity.word,
        "message": each.message,
        "file": file,
        "line": int(leases.line[each.row]),
        "network": each.network or None,
        "client": leases.client_text(each.row),
        "name": leases.name[each.row],
        "address": format_address(int(leases.address[each.row])),
    }
