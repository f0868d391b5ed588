"""Statements without a value: the states of facts that they stand for."""

from __future__ import annotations

import re
from collections.abc import Sequence
from collections.abc import Set as AbstractSet

from reservoir.dialects.facts.kinds import KINDS
from reservoir.dialects.learning.entered import Known
from reservoir.dialects.learning.explaining import Field
from reservoir.dialects.learning.rows import DraftRow

BoolWords = tuple[str, ...]
"""The words for yes and no; none, where there are no such."""


def with_switches(
    rows: Sequence[DraftRow], owners: Sequence[Known], words: BoolWords
) -> tuple[BoolWords, list[DraftRow]]:
    """The rows of one place, those without a value with the state that they stand for.

    Two rows for both states of a switch, which differ in their last word, are one with a slot.

    Args:
        rows: Those that are in one place.
        owners: The facts that have it.
        words: The words for yes and no, if they are known: a sheet has only two.
    """
    for row in rows:
        if not (row.slots or row.kind or row.rows or row.is_left):
            _find_state(row, owners)
    states = [row for row in rows if "=" in row.margin and not row.kind]
    taken = set[int]()
    for row in states:
        other = next((other for other in states if _is_opposite(other, row)), None)
        if other is None or id(other) in taken:
            continue
        last = _last_word(row), _last_word(other)
        if words in ((), last):
            words = last
            taken.add(id(other))
            _take_both(row, other)
    return words, [row for row in rows if id(row) not in taken]


def _find_state(row: DraftRow, owners: Sequence[Known]) -> None:
    """Find the state in which a statement stands, and give the row that; else leave it alone."""
    its, every = {statement.owner for statement in row.statements}, {*owners}
    row.is_left = True
    if row.statements[0].owner.kind == "device" or len(every) < 2:
        return
    margin = "" if its == every else state_of(row, owners[0].kind, its, every)
    if margin is not None:
        row.is_left, row.margin = False, margin


def state_of(
    row: DraftRow, kind: str, its: AbstractSet[Known], every: AbstractSet[Known]
) -> str | None:
    """The margin of a row that stands just where a switch is on, or off; None if none is so."""
    for name, field in KINDS[kind].fields.items():
        for value in (False, True) if field.type == "bool" else ():
            if its == {fact for fact in every if fact.fields.get(name) is value}:
                state = f"{name}={'yes' if value else 'no'}"
                row.doubts.append(f"it stands only where {state}")
                return f"? {state}"
    return None


def _take_both(row: DraftRow, other: DraftRow) -> None:
    """Make one row of the two for the states of a switch: the one for yes, which comes first."""
    words = _last_word(row), _last_word(other)
    name = row.margin.removeprefix("? ").partition("=")[0]
    text = "".join(element for element in row.elements if isinstance(element, str))
    at = text.rindex(words[0])
    behind = text[at + len(words[0]) :]
    row.elements = [text[:at], (Field(name),), *([behind] if behind else [])]
    row.margin, row.doubts = "?", [f"{words[0]} or {words[1]} is {name}, yes or no"]
    row.statements += other.statements


def _last_word(row: DraftRow) -> str:
    """The last word of a statement without a value."""
    return re.split(r"[ =:|,\"]", row.statements[0].node.text.strip('"'))[-1]


def _is_opposite(row: DraftRow, other: DraftRow) -> bool:
    """Whether two rows say no and yes of the same, with another word at their end."""
    if not (row.margin.endswith("=no") and other.margin == f"{row.margin[:-2]}yes"):
        return False
    begins = [each.statements[0].node.text.removesuffix('"') for each in (row, other)]
    begins[0] = begins[0].removesuffix(_last_word(row))
    begins[1] = begins[1].removesuffix(_last_word(other))
    return begins[0] == begins[1] and bool(begins[0].strip())
