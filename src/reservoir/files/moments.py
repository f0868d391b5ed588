"""Times as lists write them: with an offset, by a zone's clocks, the day or the month first.

What the whole of a column decides is decided once, and what is wrong in many cells for one reason
is one problem.
"""

from __future__ import annotations

import datetime
import math
import re
from collections.abc import Callable, Mapping
from dataclasses import dataclass
from zoneinfo import ZoneInfo

from reservoir.core.values.addresses import MalformedValueError
from reservoir.core.values.clients import Client
from reservoir.core.wording import counted

NEVER = "never"
"""The end of a lease that has none."""

ORDERS = ("day-first", "month-first")
"""How dates with two numbers before the year are read."""

LIKE = "2027-03-31T12:00:00+00:00"

_LOCAL = re.compile(
    r"(?P<a>[0-9]{1,4})(?P<sign>[-./])(?P<b>[0-9]{1,2})(?P=sign)(?P<c>[0-9]{1,4})[T ]+"
    r"(?P<hour>[0-9]{1,2}):(?P<minute>[0-9]{2})(?::(?P<second>[0-9]{2})(?:[.,][0-9]+)?)?"
    r"(?: ?(?P<half>[AaPp])\.?[Mm]\.?)?"
)
"""A time without an offset."""


@dataclass(frozen=True)
class ListNotation:
    """How a list writes what it has."""

    columns: Mapping[str, str] | None = None
    """What it calls its columns, by the names that are known."""
    zone: str | None = None
    """The time zone of times that name no offset; None if there may be none."""
    order: str | None = None
    """One of :data:`ORDERS`; None if the list itself has to tell."""
    client: Client | None = None
    """Whose leases they are, where the list doesn't say."""
    printed_by: str | None = None
    """The dialect of the device that printed it; recognised if None."""


PLAIN = ListNotation()
"""A list that needs no explanation."""


def read_moment(text: str) -> float:
    """When something is, in seconds since 1970.

    Raises:
        MalformedValueError: it is no time with an offset, no number of seconds, and not ``never``.
    """
    moment = _absolute(text)
    if moment is None:
        raise MalformedValueError(
            f"{text!r} is not a time: write it like {LIKE}, or in seconds since 1970"
        )
    return moment


def _absolute(text: str) -> float | None:
    """A time that says all by itself; None of any other text."""
    if text == NEVER:
        return math.inf
    if text.isascii() and text.isdigit() and len(text) <= 12:
        return float(text)
    try:
        moment = datetime.datetime.fromisoformat(text)
    except ValueError:
        return None
    return moment.timestamp() if moment.tzinfo is not None else None


def read_moments(
    texts: Mapping[int, str], notation: ListNotation, complain: Callable[[int, str], None]
) -> dict[int, float]:
    """The times of a column, in seconds since 1970.

    Args:
        texts: The cells that aren't empty, by their rows.
        notation: How the list writes times.
        complain: Takes what is wrong, with the first row where it is.

    Returns:
        By row; without those that are wrong.
    """
    found: dict[int, float] = {}
    local: dict[int, re.Match[str]] = {}
    for row, text in texts.items():
        moment = _absolute(text)
        written = _LOCAL.fullmatch(text) if moment is None else None
        if moment is not None:
            found[row] = moment
        elif written is not None:
            local[row] = written
        else:
            message = f"{text!r} is not a time: write it like {LIKE}, or in seconds since 1970"
            complain(row, message)
    if local:
        found |= _by_clock(local, notation, complain)
    return found


def _by_clock(
    local: Mapping[int, re.Match[str]],
    notation: ListNotation,
    complain: Callable[[int, str], None],
) -> dict[int, float]:
    """The times that name no offset."""
    first = next(iter(local))
    if notation.zone is None:
        says = "--zone Europe/Lisbon says whose clock it is"
        complain(first, f"{local[first][0]!r} has no offset{_as_others(local)}; {says}")
        return {}
    order, doubt = _order(local, notation.order)
    if doubt:
        complain(*doubt)
        return {}
    clock, found = ZoneInfo(notation.zone), dict[int, float]()
    twice, never = list[int](), list[int]()
    for row, written in local.items():
        try:
            moment = _moment(written, order)
        except ValueError:
            complain(row, f"{written[0]!r} is no time of any day")
            continue
        early, late = (moment.replace(tzinfo=clock, fold=fold) for fold in (0, 1))
        back = early.astimezone(datetime.UTC).astimezone(clock).replace(tzinfo=None)
        if back != moment:
            never.append(row)
        elif early.utcoffset() != late.utcoffset():
            twice.append(row)
        found[row] = early.timestamp()
    for rows, what in ((never, "is never there"), (twice, "is there twice")):
        if rows:
            others = _as_others(rows)
            complain(
                rows[0],
                f"{local[rows[0]][0]!r} {what} in {notation.zone}, where the clocks change"
                f"{others}; write it with its offset, like {LIKE}",
            )
    return {row: moment for row, moment in found.items() if row not in {*never, *twice}}


def _as_others(rows: Mapping[int, object] | list[int]) -> str:
    """That a cell stands for others with the same problem."""
    more = len(rows) - 1
    return f", as {counted(more, 'other')}" if more else ""


def _order(
    local: Mapping[int, re.Match[str]], said: str | None
) -> tuple[str, tuple[int, str] | None]:
    """Whether the day or the month comes first where the year is last; or what is in doubt."""
    day_first, month_first, open_rows = list[int](), list[int](), list[int]()
    for row, written in local.items():
        if len(written["a"]) == 4:
            continue
        first, second = int(written["a"]), int(written["b"])
        if first > 12:
            day_first.append(row)
        elif second > 12:
            month_first.append(row)
        elif first != second:
            open_rows.append(row)
    if day_first and month_first:
        rows = sorted((day_first[0], month_first[0]))
        both = " and ".join(repr(local[row][0]) for row in rows)
        return ORDERS[0], (rows[0], f"{both} can't both be dates: which comes first, day or month?")
    shown = ORDERS[0] if day_first else ORDERS[1] if month_first else None
    if said is not None and shown is not None and said != shown:
        row = (day_first or month_first)[0]
        return said, (row, f"{local[row][0]!r} is no date with the {said.replace('-', ' ')}")
    if said is None and shown is None and open_rows:
        text = local[open_rows[0]][0]
        says = f"--dates {ORDERS[0]} or --dates {ORDERS[1]} says it"
        return ORDERS[0], (open_rows[0], f"{text!r} may begin with the day or the month; {says}")
    return said or shown or ORDERS[0], None


def _moment(written: re.Match[str], order: str) -> datetime.datetime:
    """A time without a zone.

    Raises:
        ValueError: there is no such day or time of day.
    """
    first, second, third = int(written["a"]), int(written["b"]), int(written["c"])
    if len(written["a"]) == 4:
        year, month, day = first, second, third
    else:
        day, month = (first, second) if order == ORDERS[0] else (second, first)
        year = third if len(written["c"]) == 4 else 2000 + third
    hour, half = int(written["hour"]), written["half"]
    if half is not None:
        if not 1 <= hour <= 12:
            raise ValueError
        hour = hour % 12 + (12 if half in "pP" else 0)
    return datetime.datetime(
        year, month, day, hour, int(written["minute"]), int(written["second"] or 0)
    )
