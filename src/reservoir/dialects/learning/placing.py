"""Puts rows of a draft where a sheet has them: what only names its fact, under the row of that."""

from __future__ import annotations

from collections.abc import Sequence

from reservoir.dialects.learning.explaining import Field
from reservoir.dialects.learning.rows import DraftRow, Element


def placed(rows: Sequence[DraftRow]) -> list[DraftRow]:
    """The rows, those that only name what they belong to under its row."""
    every = [row for top in rows for row in top.walk()]
    for binding in (row for row in every if row.kind == "binding"):
        if not any("subnet" in slot for row in binding.walk() for slot in row.slots):
            # One that has a subnet is a pool of its own, with an interface of its own.
            for row in binding.walk():
                row.elements = list(map(_of_pool, row.elements))
    top = list(rows)
    for kind in ("interface", "pool"):
        first = next((row for row in every if row.kind == kind), None)
        if first is not None:
            _say_more_of(first, every)
            inside = [row for row in top if _belongs_to(row, kind) and first not in row.walk()]
            top = [row for row in top if row not in inside]
            first.rows += inside
    return top


def _belongs_to(row: DraftRow, kind: str) -> bool:
    """Whether a row, or all that it only frames, names the fact of a kind that it belongs to."""
    if any(slot.startswith(f"{kind}.") for slot in row.slots):
        return True
    on_line = [inner for inner in row.rows if inner.is_piece]
    if any(slot.startswith(f"{kind}.") for inner in on_line for slot in inner.slots):
        return True
    held = [inner for inner in row.rows if not (inner.is_piece or inner.is_left)]
    return row.is_frame and bool(held) and all(_belongs_to(inner, kind) for inner in held)


def _say_more_of(first: DraftRow, every: Sequence[DraftRow]) -> None:
    """Make rows that say more of the facts that another row opens name these."""
    opened = {statement.fact for statement in first.statements}
    for row in every:
        facts = {statement.fact for statement in row.statements}
        if row is first or row.kind != first.kind or not facts <= opened:
            continue
        of_fact = {Field("name"): Field(f"{first.kind}.name")}
        naming = [
            each for each in (row, *(r for r in row.rows if r.is_piece)) if "name" in each.slots
        ]
        if naming:
            row.kind, row.margin = "", "?"
            naming[0].elements = [
                element if isinstance(element, str) else (of_fact.get(element[0], element[0]),)
                for element in naming[0].elements
            ]


def _of_pool(element: Element) -> Element:
    return (Field("pool.interface"),) if element == (Field("interface"),) else element
