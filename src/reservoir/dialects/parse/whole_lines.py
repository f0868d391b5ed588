"""Reads records in one go that are written as a sheet writes them, instead of piece by piece.

The pieces of a record may come in any order. Most come in the sheet's own, one blank apart and
without quotes: then one expression finds the values of all of them.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property, lru_cache
from itertools import chain, compress
from typing import Any

from reservoir.core.values.addresses import MalformedValueError
from reservoir.dialects.facts.kinds import RUNNING_NUMBER
from reservoir.dialects.forms.form import TOKEN
from reservoir.dialects.parse.columns import Columns
from reservoir.dialects.sheet.model import Row
from reservoir.dialects.sheet.patterns import Literal, Slot

_VALUE = "([^ \\t\\n\"']+)"
"""A value in such a record: one piece, whatever its form is."""


@dataclass(frozen=True)
class WholeLine:
    """A row with all that may be inside it, as one line."""

    row: Row

    @cached_property
    def _expression(self) -> re.Pattern[str]:
        parts = [re.escape(_literal(self.row))]
        for inner in _inside(self.row):
            key, slot = _literal(inner), _slot(inner)
            piece = f" {re.escape(key)}{_VALUE}" if slot else f"( {re.escape(key)})"
            parts.append(f"(?:{piece})?" if inner.repeat else piece)
        return re.compile("".join(parts))

    def read(self, lines: Sequence[str]) -> Columns:
        """What :func:`read_columns` makes of a row's lines, of all that is in these.

        None is the row's where a value in one of them can't be read.
        """
        found = list(map(self._expression.fullmatch, lines))
        groups = [match.groups() for match in found if match]
        columns = zip(_inside(self.row), zip(*groups, strict=True), strict=True) if groups else ()
        fields: dict[str, list[Any]] = {}
        try:
            for inner, texts in columns:
                fields |= _columns_of(inner, texts)
        except MalformedValueError:
            return Columns([False] * len(lines), {})
        return Columns([match is not None for match in found], fields)


@lru_cache(maxsize=1 << 8)
def whole_lines(rows: tuple[Row, ...]) -> Sequence[WholeLine]:
    """Of rows that begin alike, those that may be read so; a line of one is none of those before.

    What is before them must lack a piece that they need: the first row under which nothing is
    wrong is the one that counts.
    """
    made: list[WholeLine] = []
    for number, row in enumerate(rows):
        if not _is_plain(row):
            break
        needed = {_literal(inner) for inner in _inside(row) if not inner.repeat}
        if all(needed - set(map(_literal, _inside(before))) for before in rows[:number]):
            made.append(WholeLine(row))
    return made


def _is_plain(row: Row) -> bool:
    """Whether a row opens a fact, and all that is inside it are pieces with one value or none."""
    if not row.opens_fact or row.is_in_implied or _slot(row) or not _literal(row):
        return False
    inside = _inside(row)
    fields = list(chain.from_iterable(map(_fields, inside)))
    return all(map(_is_plain_piece, inside)) and len(set(fields)) == len(fields)


def _inside(row: Row) -> list[Row]:
    """The rows on a row's line; those that name what they belong to have lines of their own."""
    return [inner for inner in row.children if not inner.links]


def _is_plain_piece(inner: Row) -> bool:
    slot, elements = _slot(inner), inner.pattern.elements
    is_known = not slot or not (slot.part or slot.field == RUNNING_NUMBER)
    is_simple = len(elements) == 1 + bool(slot) and " " not in _literal(inner)
    return is_known and is_simple and not (inner.kind or inner.children or inner.same_as)


def _literal(row: Row) -> str:
    """The literal text that a row's own line begins with."""
    first = row.pattern.elements[0] if row.pattern.elements else None
    return first.text if isinstance(first, Literal) else ""


def _slot(row: Row) -> Slot | None:
    """The first slot of a row's own line."""
    return row.pattern.slots[0] if row.pattern.slots else None


def _fields(inner: Row) -> list[str]:
    slot = _slot(inner)
    return [*inner.conditions, *([slot.field] if slot else [])]


def _columns_of(inner: Row, texts: Sequence[str | None]) -> dict[str, list[Any]]:
    """What a piece states in each line; None where it isn't there.

    Raises:
        MalformedValueError: a value can't be read.
    """
    settled = {
        name: [None if text is None else value for text in texts]
        for name, value in inner.conditions.items()
    }
    slot = _slot(inner)
    if slot is None:
        return settled
    if slot.form.pattern != TOKEN:
        fits = re.compile(slot.form.pattern).fullmatch
        if not all(map(fits, compress(texts, texts))):  # type: ignore[arg-type]
            raise MalformedValueError("a value has another form")
    values = slot.form.read_all(texts)
    if inner.repeat == "*":
        values = [v if v is None or type(v) is tuple else (v,) for v in values]
    return settled | {slot.field: values}
