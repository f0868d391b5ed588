"""Puts rows of a draft where a sheet has them: what only names its fact, under the row of that."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

from reservoir.dialects.facts.kinds import ITEMS, KINDS
from reservoir.dialects.learning.entered import Known
from reservoir.dialects.learning.explaining import Field
from reservoir.dialects.learning.rows import DraftRow, Element
from reservoir.dialects.learning.states import state_of


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
            for row in inside:
                _owner_of(row, kind, every, first).rows.append(row)
    return top


def _owner_of(row: DraftRow, kind: str, every: Sequence[DraftRow], first: DraftRow) -> DraftRow:
    """Of the rows that open facts of a kind, the one that opens those which a row belongs to."""
    facts = {s.fact if s.fact.kind == kind else s.fact.pool for s in row.statements}
    opening = (other for other in every if other.kind == kind)
    return next((o for o in opening if {s.fact for s in o.statements} >= facts), first)


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
    """Make rows that say more of the facts that other rows open name these."""
    opening = [row for row in every if row.kind == first.kind]
    stated = {statement.fact for row in opening for statement in row.statements}
    for row in opening[1:]:
        facts = [statement.fact for statement in row.statements]
        others = {s.fact for other in opening if other is not row for s in other.statements}
        naming = _naming(row)
        says = {slot for each in (row, *row.rows) for slot in each.slots} - {"name"}
        if naming is None or not others.issuperset(facts):
            if not says and isinstance(row.elements[-1], str) and not row.rows:
                row.doubts.append("it may say more than the name")
            continue
        opening.remove(row)
        row.margin = _margin_of_more(row, says, Counter(facts), stated)
        row.is_left, row.kind = not row.margin, ""
        of_fact = {Field("name"): Field(f"{first.kind}.name")}
        naming.elements = [
            element if isinstance(element, str) else (of_fact.get(element[0], element[0]),)
            for element in naming.elements
        ]


def _naming(row: DraftRow) -> DraftRow | None:
    """The row, or the piece on its line, that has the name of its fact."""
    on_line = (inner for inner in row.rows if inner.is_piece)
    return next((each for each in (row, *on_line) if "name" in each.slots), None)


def _margin_of_more(
    row: DraftRow, says: set[Field], facts: Counter[Known], stated: set[Known]
) -> str:
    """The margin of a row that says more of facts: with the state that it stands for, if any.

    Empty if it says nothing that is known.
    """
    kind = row.kind
    if says:
        fields = KINDS[kind].fields
        lists = any(name in fields and fields[name].type in ITEMS for name in says)
        return "*" if lists and max(facts.values()) > 1 else "?"
    return state_of(row, kind, {*facts}, stated) or ""


def _of_pool(element: Element) -> Element:
    return (Field("pool.interface"),) if element == (Field("interface"),) else element
