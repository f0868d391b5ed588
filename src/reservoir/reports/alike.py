"""Tables of many networks: rows that say the same are one row, with a count."""

from __future__ import annotations

from collections.abc import Collection, Hashable, Iterator, Mapping, Sequence

from reservoir.core.wording import listed_briefly
from reservoir.reports.theme import wrapped

MANY = 40
"""Rows up to which each stands by itself."""

VARIED = "…"
"""What stands in a cell in which the rows differ."""

Row = tuple[str, ...]


def alike(
    rows: Sequence[Row], alone: Collection[int], apart: Collection[int] = ()
) -> list[tuple[int, Row]]:
    """The rows to show, each with the place of the first that it stands for.

    Args:
        rows: The cells of each row; the first is its name.
        alone: The places of rows that stand by themselves, since more is said of them.
        apart: The columns in which rows that are one may differ, besides the name.
    """
    if len(rows) <= MANY:
        return list(enumerate(rows))
    groups: dict[Hashable, list[int]] = {}
    for place, row in enumerate(rows):
        cells = tuple(cell for column, cell in enumerate(row) if column and column not in apart)
        groups.setdefault(place if place in alone else cells, []).append(place)
    return [(places[0], _as_one([rows[place] for place in places])) for places in groups.values()]


def _as_one(rows: Sequence[Row]) -> Row:
    first = rows[0]
    if len(rows) == 1:
        return first
    cells = (
        cell if all(row[column] == cell for row in rows) else VARIED
        for column, cell in enumerate(first)
    )
    _, *others = cells
    return (f"{first[0]} and {len(rows) - 1:,} alike", *others)


def left_out(why: Mapping[str, str], done: str, width: int) -> Iterator[str]:
    """The networks that were left out, and why; many with one reason as one.

    Args:
        why: The reason of each.
        done: What was not done with them: ``sized``.
        width: Columns of the output.
    """
    by_reason: dict[str, list[str]] = {}
    for name, reason in why.items():
        by_reason.setdefault(reason, []).append(name)
    for reason, names in by_reason.items():
        if len(names) > MANY:
            told = f"{listed_briefly(names)} were not {done}: {reason}."
            yield from wrapped(told, width, "  ", "")
        else:
            yield from (f"{name} was not {done}: {reason}." for name in names)
