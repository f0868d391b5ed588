"""Tables that a demand names: arrivals that come together, and leases of the past."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence

import numpy as np
from pydantic import ValidationError

from reservoir.core.leases.table import LeaseTable
from reservoir.core.plan.demand import Arrival
from reservoir.core.plan.history import History
from reservoir.core.problems import InputError, Place, Problem
from reservoir.core.wording import hint
from reservoir.files.lease_list import read_leases
from reservoir.files.moments import PLAIN, ListNotation
from reservoir.files.plan_errors import described_errors
from reservoir.files.tables import TablePlaces, csv_rows
from reservoir.files.texts import read_utf8

TIMETABLE_COLUMNS = ("at", "devices", "over", "stay", "returning", "on")
REQUIRED = ("at", "devices", "stay")

LARGEST_TIMETABLE = 16 * 1024 * 1024
"""Bytes."""

LONGEST_HISTORY = 10 * 366 * 86_400
"""Seconds."""

HISTORY_COLUMNS = {"starts": "start", "expires": "end"}
"""What a history calls the columns of a lease list."""


def read_timetable(file: str, instead: str | None = None) -> Sequence[Arrival]:
    """Read the groups of a timetable, whose first line names its columns, in any order.

    Args:
        file: Its path.
        instead: A text that counts instead of what the file has.

    Raises:
        InputError: the file can't be read, or with every wrong cell.
    """
    data = read_utf8(file, LARGEST_TIMETABLE) if instead is None else instead.encode()
    data = data.replace(b"\r\n", b"\n")
    rows, lines = csv_rows(file, data.decode())
    header = [cell.strip() for cell in rows[0]] if rows else []
    _require_columns(file, header)
    places = TablePlaces(file, data, lines[1:], {name: header.index(name) for name in header})
    arrivals, problems = [], []
    for number, row in enumerate(rows[1:]):
        if len(row) != len(header):
            message = f"the row has {len(row)} cells, but the first line has {len(header)} columns"
            problems.append(Problem(Place(file, lines[number + 1]), message))
            continue
        cells = {name: cell.strip() for name, cell in zip(header, row, strict=True)}
        try:
            arrivals.append(Arrival.model_validate({k: v for k, v in cells.items() if v}))
        except ValidationError as error:
            problems += [
                Problem(places.place(number, str(path[0]) if path else "at"), message)
                for path, message, _ in described_errors(error)
            ]
    if problems:
        raise InputError(problems)
    return arrivals


def _require_columns(file: str, header: Sequence[str]) -> None:
    """Require the columns of a timetable, each once.

    Raises:
        InputError: one is missing, there twice, or unknown.
    """
    wanted = f"its first line should be: {','.join(TIMETABLE_COLUMNS)}"
    problems = [
        f"{name!r} is not a column of a timetable{hint(name, TIMETABLE_COLUMNS)}; {wanted}"
        for name in header
        if name not in TIMETABLE_COLUMNS
    ]
    problems += [
        f"the column {name} is missing; {wanted}" for name in REQUIRED if name not in header
    ]
    problems += [
        f"the column {name} is there twice; {wanted}"
        for name in TIMETABLE_COLUMNS
        if header.count(name) > 1
    ]
    if problems:
        raise InputError([Problem(Place(file, 1), message) for message in problems])


def read_history(file: str, notation: ListNotation = PLAIN) -> History:
    """Read leases of the past: a lease list that says when each began and ended.

    Args:
        file: Its path, or ``-`` for standard input.
        notation: How it writes what it has; the columns ``start`` and ``end`` are known besides.

    Raises:
        InputError: the file can't be read, or with every row that doesn't say it.
    """
    return history_of(file, read_leases(file, notation, also=HISTORY_COLUMNS).leases)


def history_of(file: str, leases: LeaseTable) -> History:
    """The leases of the past that a list says of each when it began and ended.

    Args:
        file: Where the list is, for messages.
        leases: The list.

    Raises:
        InputError: with every row that doesn't say it.
    """
    problems = _incomplete(file, leases)
    if not len(leases):
        problems = [Problem(Place(file), "the history has no leases")]
    if problems:
        raise InputError(problems)
    return History(leases.address, leases.starts, leases.expires)


def _incomplete(file: str, leases: LeaseTable) -> list[Problem]:
    """The rows that don't say when a lease began and ended."""
    found = []
    for what, missing in (
        ("start", ~np.isfinite(leases.starts)),
        ("end", np.isnan(leases.expires)),
    ):
        for row in np.flatnonzero(missing).tolist():
            where = Place(file, int(leases.line[row]))
            found.append(Problem(where, f"{what}: a history says when each lease began and ended"))
    for row in np.flatnonzero(leases.expires < leases.starts).tolist():
        where = Place(file, int(leases.line[row]))
        found.append(Problem(where, "end: the lease ends before it begins"))
    found += _far_off(file, leases)
    return sorted(found, key=lambda problem: problem.place.line or math.inf)


def _far_off(file: str, leases: LeaseTable) -> Iterator[Problem]:
    """The times that no history spans: every day between would be looked at."""
    known = leases.starts[np.isfinite(leases.starts)]
    if not len(known):
        return  # that none began is told of each
    usual = np.median(known)
    for what, times in (("start", leases.starts), ("end", leases.expires)):
        is_far = np.isfinite(times) & (np.abs(times - usual) > LONGEST_HISTORY)
        for row in np.flatnonzero(is_far).tolist():
            message = f"{what}: over ten years from when most leases began"
            message += "; a lease without an end has `never`" if what == "end" else ""
            yield Problem(Place(file, int(leases.line[row])), message)
