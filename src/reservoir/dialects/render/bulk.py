"""The fast road of writing: facts that a row's block says whole, by the column.

What is asked of each row is settled once for each set of fields that facts come with; then the
values of thousands of such facts are written together. A fact that isn't that plain (a value that
has to be refused, a field without a line) is left to the exact writer.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from itertools import groupby
from operator import is_
from typing import Any, NamedTuple

from reservoir.core.values.addresses import MalformedValueError
from reservoir.dialects.facts.fact import NOTHING, Fact
from reservoir.dialects.facts.kinds import RUNNING_NUMBER
from reservoir.dialects.notations.lines import Lines
from reservoir.dialects.sheet.model import Row, Sheet, grouped
from reservoir.dialects.sheet.patterns import ValueWriter

AT_ONCE = 8_192
"""Facts that are written together: enough for columns, few enough to stay in the cache."""


class Said(NamedTuple):
    """Facts with the lines that say them, as they say them; no lines if that isn't so simple."""

    facts: Sequence[Fact]
    blocks: Sequence[Sequence[str]] = ()
    """The lines of each fact."""
    lines: Sequence[str] = ()
    """Or a line for each fact."""


class _Line(NamedTuple):
    """A line for facts with certain fields."""

    row: Row
    template: str
    """With a ``%s`` for each value."""
    values: tuple[ValueWriter, ...]
    is_free: bool
    """Whether it is for any values of the fields."""
    is_whole: bool
    """Whether no field goes unsaid; of a block, whether that is so is seen with its layout."""

    def texts(self, facts: Sequence[Fact]) -> list[str]:
        """The line of each fact.

        Raises:
            MalformedValueError: a value somewhere can't be written.
        """
        if not self.values:
            return [self.template % ()] * len(facts)
        columns = [
            writer.many([fact.fields[writer.field] for fact in facts]) for writer in self.values
        ]
        return [self.template % texts for texts in zip(*columns, strict=True)]


class _Layout(NamedTuple):
    """A block for facts with certain fields: its lines, and between them kinds of fact inside."""

    steps: tuple[Any, ...]
    """Lines; and for each kind of fact inside, the kind and the rows that may say it."""


class FastWriter:
    """The fast road for one sheet."""

    def __init__(self, sheet: Sheet) -> None:
        """Look for the rows that can be written so; there are some if the notation is lines."""
        carrier = sheet.notation
        self._indent = " " * carrier.nesting.indent
        self._end = carrier.nesting.end
        self._layouts: dict[tuple[int, tuple[str, ...]], _Layout | None] = {}
        self._choices: dict[tuple[int, tuple[str, ...]], list[_Line]] = {}
        self._is_lines = isinstance(carrier, Lines)

    def said(self, facts: Sequence[Fact], rows: Sequence[Row]) -> Iterator[Said]:
        """Facts of one kind that the rows may say, in order, those together that are alike."""
        if not self._is_lines:
            yield Said(facts)
            return
        for begin in range(0, len(facts), AT_ONCE):
            some = facts[begin : begin + AT_ONCE]
            for (line, fields), alike in groupby(some, key=lambda fact: self._kind(fact, rows)):
                yield from self._alike(list(alike), line, fields)

    def _kind(self, fact: Fact, rows: Sequence[Row]) -> tuple[_Line | None, tuple[str, ...]]:
        """What facts have in common that are written together."""
        return self._chosen(fact, rows, ""), tuple(fact.fields)

    def _alike(
        self, facts: Sequence[Fact], line: _Line | None, fields: tuple[str, ...]
    ) -> Iterator[Said]:
        """Write facts by one line, or its block; by halves if one of them can't be written."""
        said = None
        if line is not None:
            try:
                if line.row.children:
                    said = self._blocks(facts, line.row, fields)
                elif not any(fact.children for fact in facts):
                    said = Said(facts, lines=line.texts(facts))
            except MalformedValueError:
                said = None
        if said is not None:
            yield said
        elif line is None or len(facts) == 1:
            yield Said(facts)
        else:
            middle = len(facts) // 2
            yield from self._alike(facts[:middle], line, fields)
            yield from self._alike(facts[middle:], line, fields)

    def _blocks(self, facts: Sequence[Fact], row: Row, fields: tuple[str, ...]) -> Said | None:
        """The blocks of facts with these fields; None if one isn't that plain.

        Raises:
            MalformedValueError: a value somewhere can't be written.
        """
        key = (row.number, fields)
        if key not in self._layouts:
            self._layouts[key] = self._layout(row, facts[0].fields)
        layout = self._layouts[key]
        if layout is None:
            return None
        blocks: list[list[str]] = [[] for _ in facts]
        placed: list[list[Fact]] = [[] for _ in facts]
        for step in layout.steps:
            if isinstance(step, _Line):
                for block, text in zip(blocks, step.texts(facts), strict=True):
                    block.append(text)
            elif not self._inner(facts, step, blocks, placed):
                return None
        for fact, inside in zip(facts, placed, strict=True):
            if len(inside) != len(fact.children):
                return None
        if row.children and self._end:
            for block in blocks:
                block.append(self._end)
        return Said([_with(*pair) for pair in zip(facts, placed, strict=True)], blocks)

    def _inner(
        self,
        facts: Sequence[Fact],
        step: tuple[str, Sequence[Row]],
        blocks: Sequence[list[str]],
        placed: Sequence[list[Fact]],
    ) -> bool:
        """Write the facts of a kind in others; whether all are that plain.

        Raises:
            MalformedValueError: a value somewhere can't be written.
        """
        kind, rows = step
        owners: list[int] = []
        inside: list[Fact] = []
        for owner, fact in enumerate(facts):
            for child in fact.children:
                if child.kind == kind:
                    owners.append(owner)
                    inside.append(child)
        by_line: dict[int, tuple[_Line, list[int]]] = {}
        for number, child in enumerate(inside):
            line = None if child.children else self._chosen(child, rows, self._indent)
            if line is None:
                return False
            by_line.setdefault(id(line), (line, []))[1].append(number)
        texts = [""] * len(inside)
        for line, numbers in by_line.values():
            written = line.texts([inside[number] for number in numbers])
            for number, text in zip(numbers, written, strict=True):
                texts[number] = text
        for owner, child, text in zip(owners, inside, texts, strict=True):
            blocks[owner].append(text)
            placed[owner].append(child)
        return True

    def _layout(self, row: Row, fields: Mapping[str, Any]) -> _Layout | None:
        """How facts with these fields are laid out; None if the block can't say them whole."""
        if not _is_simple(row):
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


def _with(fact: Fact, children: list[Fact]) -> Fact:
    """The fact with what is in it in the order of its lines."""
    if all(map(is_, children, fact.children)):
        return fact
    return replace(fact, children=children)


def _is_simple(row: Row) -> bool:
    """Whether it opens a fact that is lines, one level deep, each field in one of them."""
    inside = [row, *row.children]
    fields = [name for one in inside if one is row or not one.kind for name in one.mentioned]
    return (
        not row.adds_fields
        and len(set(fields)) == len(fields)
        and not any(one.links or one.is_implied or one.pieces for one in inside)
        and not any(one.children for one in row.children)
        and RUNNING_NUMBER not in {name for one in inside for name in one.mentioned}
    )


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
