"""Expressions for well-formed blocks and runs of lines, with their values by the column."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from itertools import accumulate
from typing import Any

import numpy as np
from numpy.typing import NDArray

from reservoir.core.values.addresses import MalformedValueError
from reservoir.dialects.facts.fact import Fact, facts_at
from reservoir.dialects.notations.lines import Lines
from reservoir.dialects.sheet.model import Row, grouped
from reservoir.dialects.sheet.patterns import Slot, joined_parts

SHORTEST_RUN = 16
"""Lines of one kind that are worth looking for as a run."""

AT_ONCE = 8_192
"""Matches that are looked at together: enough for columns, few enough to stay in the cache."""


@dataclass(frozen=True)
class Numbered:
    """A text whose lines are numbered."""

    text: str
    starts: NDArray[np.int64]
    """The offset of each line's first character, shape (lines,)."""

    @classmethod
    def of(cls, text: str) -> Numbered:
        """Number the lines."""
        if text.isascii():
            ends = np.flatnonzero(np.frombuffer(text.encode("ascii"), np.uint8) == 10)
        else:
            ends = np.flatnonzero(np.frombuffer(text.encode("utf-32-le"), np.uint32) == 10)
        return cls(text, np.concatenate([np.zeros(1, np.int64), ends.astype(np.int64) + 1]))

    def lines_at(self, offsets: Sequence[int] | NDArray[np.int64]) -> NDArray[np.int64]:
        """The lines, from 1, in which offsets are, shape (offsets,)."""
        return np.asarray(np.searchsorted(self.starts, offsets, "right"), np.int64)


@dataclass
class _Values:
    """The slots of some lines, and how to make fields of their texts by the column."""

    slots: tuple[Slot, ...]
    settled: Mapping[str, Any] = field(default_factory=dict)
    """Fields that the lines state by being there."""
    same_as: Mapping[str, str] = field(default_factory=dict)

    @classmethod
    def of(cls, row: Row) -> _Values:
        """Those of one row."""
        return cls(row.pattern.slots, row.conditions, row.same_as)

    def fields(self, found: Sequence[Sequence[str | None]]) -> list[dict[str, Any]]:
        """The fields of each line, by the texts of its slots; empty or None for none.

        Raises:
            MalformedValueError: a value somewhere can't be read.
        """
        made = self._made(list(zip(*found)) if self.slots else [], len(found))  # noqa: B905
        for name, value in self.settled.items():
            for fields in made:
                fields[name] = value
        for name, other in self.same_as.items():
            for fields in made:
                if other in fields:
                    fields.setdefault(name, fields[other])
        return made

    def _made(self, texts: Sequence[Sequence[str | None]], count: int) -> list[dict[str, Any]]:
        if not texts:
            return [{} for _ in range(count)]
        columns = [
            slot.form.read_all([text or None for text in column] if "" in column else column)
            for slot, column in zip(self.slots, texts, strict=True)
        ]
        if any(slot.part for slot in self.slots):
            return [self._joined(values) for values in zip(*columns, strict=True)]
        # A dict that begins with one field and is given the others takes a third of the time of
        # one that is made of pairs.
        made: list[dict[str, Any]] = [{self.slots[0].field: value} for value in columns[0]]
        for slot, column in zip(self.slots[1:], columns[1:], strict=True):
            name = slot.field
            if None in column:
                for fields, value in zip(made, column, strict=True):
                    if value is not None:
                        fields[name] = value
            else:
                for fields, value in zip(made, column, strict=True):
                    fields[name] = value
        if None in columns[0]:
            for fields in made:
                if fields[self.slots[0].field] is None:
                    del fields[self.slots[0].field]
        return made

    def _joined(self, values: Sequence[Any]) -> dict[str, Any]:
        fields: dict[str, Any] = {}
        parts: dict[str, dict[str, int]] = {}
        for slot, value in zip(self.slots, values, strict=True):
            if value is not None and slot.part:
                parts.setdefault(slot.field, {})[slot.part] = value
            elif value is not None:
                fields[slot.field] = value
        return fields | joined_parts(parts)


@dataclass
class _Repeated:
    """A part of a block: any number of lines of some rows."""

    rows: list[Row]
    group: int
    indent: str
    """An expression for what stands before each line."""
    line_end: str
    column: int
    """Where the lines begin."""

    @cached_property
    def _find(self) -> Any:
        """All lines in a stretch of text: the texts of all rows' own groups and slots."""
        rows = "|".join(f"({row.pattern.strict})" for row in self.rows)
        return re.compile(f"^{self.indent}(?:{rows}){self.line_end}", re.MULTILINE).findall

    @cached_property
    def _places(self) -> list[int]:
        """For each row, the place of its own group in what is found."""
        sizes = (1 + len(row.pattern.slots) for row in self.rows)
        return [0, *accumulate(sizes)][:-1]

    @cached_property
    def _slices(self) -> list[slice]:
        """For each row, the places of its slots."""
        return [
            slice(place + 1, place + 1 + len(row.pattern.slots))
            for place, row in zip(self._places, self.rows, strict=True)
        ]

    def attach(
        self, text: Numbered, matches: Sequence[re.Match[str]], group: int, facts: Sequence[Fact]
    ) -> None:
        """Put what the lines state into their owners: items of a list, or facts in their order.

        Args:
            text: The whole text.
            matches: The blocks.
            group: Which of their groups is this part.
            facts: What each block states; it is given what its lines state.
        """
        spans = [match.span(group) for match in matches]
        pieces = [text.text[begin:end] for begin, end in spans]
        counts = [piece.count("\n") for piece in pieces]
        if pieces and pieces[-1] and not pieces[-1].endswith("\n"):
            counts[-1] += 1  # the text ends there
        found = self._find("".join(pieces))
        owners = np.repeat(np.arange(len(counts)), counts).tolist()
        # The line on which each part begins, less the lines before it in what was found.
        ahead = text.lines_at([begin for begin, _ in spans]) - (np.cumsum(counts) - counts)
        lines = (np.arange(len(found)) + np.repeat(ahead, counts)).tolist()
        placed: list[Fact | None] = [None] * len(found)
        for row, place, slots in zip(self.rows, self._places, self._slices, strict=True):
            numbers = [number for number, groups in enumerate(found) if groups[place]]
            texts = [found[number][slots] for number in numbers]
            made = _Values.of(row).fields(texts)
            if row.kind:
                its_lines = [lines[number] for number in numbers]
                its_facts = facts_at(row.kind, made, its_lines, self.column)
                for number, fact in zip(numbers, its_facts, strict=True):
                    placed[number] = fact
            else:
                for number, fields in zip(numbers, made, strict=True):
                    _append_items(facts[owners[number]].fields, fields)
        for owner, child in zip(owners, placed, strict=True):
            if child is not None:
                facts[owner].children.append(child)


@dataclass
class BlockReader:
    """A row of the top level with everything inside it, as one expression."""

    row: Row
    carrier: Lines
    group: int
    """The number of the group that is the whole block, in the expression of all blocks."""

    def __post_init__(self) -> None:
        sign = self.carrier.nesting
        self._line_end = r"[ \t\r]*(?:\n|\Z)"
        opening = f"(?<!{re.escape(sign.opens)})" if sign.end and sign.opens else ""
        self._inner_end = opening + self._line_end
        self._indent = " " * sign.indent + (f"(?!{re.escape(sign.begins)})" if sign.begins else "")
        self.groups = 0
        self.source = ""
        self._slots: list[Slot] = []
        self._places: list[int] = []
        """The groups of the slots, counted from the block's own."""
        self._there: list[tuple[int, Mapping[str, Any]]] = []
        """Groups of whole lines, and the fields that such a line states by being there."""
        self._repeated: list[_Repeated] = []
        self._build()

    def _build(self) -> None:
        row, end = self.row, self.carrier.nesting.end
        self._add_slots(row)
        self.source = row.pattern.strict + (self._line_end if row.children else self._inner_end)
        for kind, rows in grouped(row.children):
            if kind:
                self._add_some(rows)
                continue
            for inner in rows:
                if inner.repeat == "*":
                    self._add_some([inner])
                else:
                    self._add_one(inner)
        if row.children and end:
            self.source += f"[ \t]*{re.escape(end)}{self._line_end}"
        self._values = _Values(tuple(self._slots), row.conditions, row.same_as)

    def _add_slots(self, row: Row) -> None:
        for slot in row.pattern.slots:
            self.groups += 1
            self._slots.append(slot)
            self._places.append(self.groups)

    def _add_some(self, rows: list[Row]) -> None:
        lines = "|".join(row.pattern.strict_without_groups for row in rows)
        self.source += f"((?:{self._indent}(?:{lines}){self._inner_end})*)"
        self.groups += 1
        self._repeated.append(
            _Repeated(
                rows, self.groups, self._indent, self._inner_end, self.carrier.nesting.indent + 1
            )
        )

    def _add_one(self, row: Row) -> None:
        line = f"{self._indent}{row.pattern.strict}{self._inner_end}"
        maybe = "?" if row.repeat else ""
        if row.conditions:
            self.groups += 1
            self._there.append((self.groups, row.conditions))
            self.source += f"({line}){maybe}"
        else:
            self.source += f"(?:{line}){maybe}"
        self._add_slots(row)

    @cached_property
    def is_one_line(self) -> bool:
        """Whether it is a line that begins with a word of its own, so that many go together."""
        return not self.row.children and bool(self.row.pattern.head) and not self._there

    def readable(
        self, text: Numbered, matches: list[re.Match[str]]
    ) -> tuple[list[re.Match[str]], list[Fact]]:
        """The matches whose values can all be read, and their facts."""
        try:
            return matches, self._facts(text, matches) if matches else []
        except MalformedValueError:
            if len(matches) == 1:
                return [], []
        middle = len(matches) // 2
        halves = [self.readable(text, half) for half in (matches[:middle], matches[middle:])]
        return halves[0][0] + halves[1][0], halves[0][1] + halves[1][1]

    def _facts(self, text: Numbered, matches: Sequence[re.Match[str]]) -> list[Fact]:
        """The fact of each match.

        Raises:
            MalformedValueError: a value somewhere can't be read.
        """
        places = [self.group + place for place in self._places]
        made = self._values.fields([_groups(match, places) for match in matches])
        for group, settled in self._there:
            for fields, match in zip(made, matches, strict=True):
                if match[self.group + group]:
                    fields.update(settled)
        lines = text.lines_at([match.start() for match in matches]).tolist()
        facts = facts_at(self.row.kind, made, lines, 1)
        for part in self._repeated:
            part.attach(text, matches, self.group + part.group, facts)
        return facts

    def facts_of_lines(self, texts: Sequence[Any], line: int) -> list[Fact]:
        """The facts of one-line blocks that follow one another from a line.

        Raises:
            MalformedValueError: a value somewhere can't be read.
        """
        made = self._values.fields(texts)
        return facts_at(self.row.kind, made, range(line, line + len(made)), 1)


def _append_items(fields: dict[str, Any], more: dict[str, Any]) -> None:
    for name, value in more.items():
        items = value if isinstance(value, tuple) else (value,)
        fields[name] = (*fields.get(name, ()), *items)


def _groups(match: re.Match[str], numbers: Sequence[int]) -> tuple[str | None, ...]:
    """The texts of several groups."""
    if len(numbers) > 1:
        return match.group(*numbers)
    return (match[numbers[0]],) if numbers else ()


class RunReader:
    """Lines of one kind that follow one another."""

    def __init__(self, block: BlockReader) -> None:
        self._block = block
        head = re.escape(block.row.pattern.head or "")
        self._stretch = re.compile(rf"(?:{head}[ \t][^\n]*\n){{{SHORTEST_RUN},{AT_ONCE}}}")
        self._find = re.compile(f"^{block.source}", re.MULTILINE).findall

    def take(self, numbered: Numbered, position: int) -> tuple[int, list[Fact]]:
        """Where a run from this position ends, and its facts; none if there is no plain run."""
        text = numbered.text
        found = self._stretch.match(text, position)
        if found is None:
            return position, []
        begin, end = found.span()
        texts = self._find(text, begin, end)
        if len(texts) != text.count("\n", begin, end):
            return position, []
        slots = len(self._block.row.pattern.slots)
        if slots == 1:
            texts = [(one,) for one in texts]
        try:
            return end, self._block.facts_of_lines(texts, int(numbered.lines_at([begin])[0]))
        except MalformedValueError:
            return position, []
