"""The fast road of writing: facts that a row's block says whole, as lines at once.

What is asked of each row is settled once for each set of fields that facts come with; then every
such fact is one formatting. A fact that isn't that plain (a value that has to be refused, a field
without a line) is left to the exact writer.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import Any, NamedTuple

from reservoir.core.addressing import MalformedValueError
from reservoir.dialects.carriers.lines import Lines
from reservoir.dialects.sheet import Row, Sheet, grouped
from reservoir.dialects.vocabulary import NOTHING, Fact


class _Line(NamedTuple):
    """A line for facts with certain fields."""

    row: Row
    template: str
    """With a ``%s`` for each value."""
    values: tuple[tuple[str, Callable[[Any], str]], ...]
    is_free: bool
    """Whether it is for any values of the fields."""
    is_whole: bool
    """Whether no field goes unsaid; of a block, whether that is so is seen with its layout."""

    def text(self, fields: Mapping[str, Any]) -> str:
        return self.template % tuple([write(fields[name]) for name, write in self.values])


class _Layout(NamedTuple):
    """A block for facts with certain fields: its lines, and between them kinds of fact inside."""

    steps: tuple[Any, ...]
    """Lines; and for each kind of fact inside, the kind and the rows that may say it."""


class FastWriter:
    """The fast road for one sheet."""

    def __init__(self, sheet: Sheet) -> None:
        """Look for the rows that can be written so; there are some if the notation is lines."""
        carrier = sheet.carrier
        self._indent = " " * carrier.nesting.indent
        self._end = carrier.nesting.end
        self._layouts: dict[tuple[int, tuple[str, ...]], _Layout | None] = {}
        self._choices: dict[tuple[int, tuple[str, ...]], list[_Line]] = {}
        self._is_lines = isinstance(carrier, Lines)

    def lines(self, fact: Fact, rows: Sequence[Row]) -> tuple[list[str], Fact] | None:
        """The lines of a fact that one of the rows says whole, and the fact as they say it.

        None if it isn't that plain.
        """
        if not self._is_lines:
            return None
        line = self._chosen(fact, rows, "")
        if line is None:
            return None
        try:
            if not line.row.children:
                return None if fact.children else ([line.text(fact.fields)], fact)
            return self._written(fact, line.row)
        except MalformedValueError:
            return None

    def _written(self, fact: Fact, row: Row) -> tuple[list[str], Fact] | None:
        fields = fact.fields
        key = (row.number, tuple(fields))
        if key not in self._layouts:
            self._layouts[key] = self._layout(row, fields)
        layout = self._layouts[key]
        if layout is None:
            return None
        written: list[str] = []
        placed: list[Fact] = []
        for step in layout.steps:
            if isinstance(step, _Line):
                written.append(step.text(fields))
                continue
            kind, rows = step
            for child in fact.children:
                if child.kind != kind:
                    continue
                line = self._chosen(child, rows, self._indent) if not child.children else None
                if line is None:
                    return None
                written.append(line.text(child.fields))
                placed.append(child)
        if len(placed) != len(fact.children):
            return None
        if row.children and self._end:
            written.append(self._end)
        if any(one is not other for one, other in zip(placed, fact.children, strict=True)):
            fact = replace(fact, children=placed)
        return written, fact

    def _layout(self, row: Row, fields: Mapping[str, Any]) -> _Layout | None:
        """How facts with these fields are laid out; None if the block can't say them whole."""
        if not row.is_simple_block:
            return None
        head = _line(row, fields, "")
        if head is None:
            return None
        steps: list[Any] = [head]
        said = set(row.mentioned)
        for kind, rows in grouped(row.children):
            if kind:
                steps.append((kind, rows))
                continue
            for inner in rows:
                stated = inner.mentioned & fields.keys()
                if inner.repeat == "*" or inner.conditions:
                    if stated:
                        return None  # depends on the value
                elif inner.applies(dict.fromkeys(fields, True)):
                    line = _line(inner, fields, self._indent)
                    if line is None:
                        return None
                    steps.append(line)
                    said |= inner.mentioned
                elif not inner.repeat:
                    return None
        return _Layout(tuple(steps)) if fields.keys() <= said else None

    def _chosen(self, fact: Fact, rows: Sequence[Row], indent: str) -> _Line | None:
        """The line of the first row that says the fact whole."""
        key = (rows[0].number, tuple(fact.fields))
        lines = self._choices.get(key)
        if lines is None:
            made = [_line(row, fact.fields, indent) for row in rows]
            lines = self._choices[key] = [line for line in made if line is not None]
        for line in lines:
            if line.is_free or _is_so(line.row, fact.fields):
                return line if line.is_whole else None
        return None


def _is_so(row: Row, fields: Mapping[str, Any]) -> bool:
    """Whether the fields have the values that the row is for."""
    if row.same_as and any(fields.get(a) != fields.get(b) for a, b in row.same_as.items()):
        return False
    return not row.conditions or all(fields.get(n) == v for n, v in row.conditions.items())


def _line(row: Row, fields: Mapping[str, Any], indent: str) -> _Line | None:
    """The row's line for facts with these fields; None if it needs others or is no plain line."""
    if row.links or row.pieces or row.is_implied or not row.required <= fields.keys():
        return None
    if any(fields[name] == NOTHING for name in row.mentioned & fields.keys()):
        return None
    template, values = row.pattern.laid_out(fields.keys())
    is_whole = bool(row.children) or fields.keys() <= row.mentioned
    is_free = not row.same_as and not row.conditions
    return _Line(row, indent + template, values, is_free, is_whole)
