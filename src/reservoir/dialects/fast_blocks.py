"""Expressions for well-formed blocks and runs of lines, with their values by the column."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from itertools import accumulate
from typing import Any

from reservoir.core.addressing import MalformedValueError
from reservoir.dialects.carriers.lines import Lines
from reservoir.dialects.patterns import Slot, joined_parts
from reservoir.dialects.sheet import Row, grouped
from reservoir.dialects.vocabulary import Fact

SHORTEST_RUN = 16
"""Lines of one kind that are worth looking for as a run."""

AT_ONCE = 8_192
"""Matches that are looked at together: enough for columns, few enough to stay in the cache."""


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
        """The fields of each line, by the texts of its slots.

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
            slot.form.read_all(column) for slot, column in zip(self.slots, texts, strict=True)
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


_Lined = tuple[tuple[str, ...], int, int, int]
"""The texts of a line's slots, empty for none; where the first line of its kind begins in the
text; how many lines after that it is; which match it belongs to."""


@dataclass
class _Repeated:
    """A part of a block: any number of lines of some rows."""

    rows: list[Row]
    group: int
    indent: str
    line_end: str

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

    def lines(self, text: str, matches: Sequence[re.Match[str]], group: int) -> list[list[_Lined]]:
        """For each row, its lines in all of the matches."""
        found: list[list[_Lined]] = [[] for _ in self.rows]
        for owner, match in enumerate(matches):
            begin, end = match.span(group)
            if begin == end:
                continue
            for order, groups in enumerate(self._find(text, begin, end)):
                number = next(n for n, place in enumerate(self._places) if groups[place])
                found[number].append((groups[self._slices[number]], begin, order, owner))
        return found


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
        opening = f"(?<!{re.escape(sign.opens)})" if sign.end else ""
        self._inner_end = opening + self._line_end
        self._indent = " " * sign.indent
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
        self._repeated.append(_Repeated(rows, self.groups, self._indent, self._inner_end))

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
        self, text: str, matches: list[re.Match[str]]
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

    def _facts(self, text: str, matches: Sequence[re.Match[str]]) -> list[Fact]:
        """The fact of each match, with an offset for a line and lines after that for a column.

        Raises:
            MalformedValueError: a value somewhere can't be read.
        """
        places = [self.group + place for place in self._places]
        made = self._values.fields([_groups(match, places) for match in matches])
        for group, settled in self._there:
            for fields, match in zip(made, matches, strict=True):
                if match[self.group + group]:
                    fields.update(settled)
        facts = [
            Fact(self.row.kind, fields, [], match.start(), 0)
            for fields, match in zip(made, matches, strict=True)
        ]
        for part in self._repeated:
            lines = part.lines(text, matches, self.group + part.group)
            _attach(part.rows, lines, facts)
        return facts

    def facts_of_lines(self, texts: Sequence[Any], offset: int) -> list[Fact]:
        """The facts of one-line blocks that follow one another from an offset.

        Raises:
            MalformedValueError: a value somewhere can't be read.
        """
        kind = self.row.kind
        made = self._values.fields(texts)
        return [Fact(kind, fields, [], offset, order) for order, fields in enumerate(made)]


def _attach(rows: Sequence[Row], lines: Sequence[Sequence[_Lined]], facts: Sequence[Fact]) -> None:
    """Put what the lines state into their owners: items of a list, or facts in their order."""
    placed: list[tuple[int, Fact]] = []
    for row, found in zip(rows, lines, strict=True):
        made = _Values.of(row).fields(_none_for_empty([texts for texts, *_ in found]))
        for (_, offset, order, owner), fields in zip(found, made, strict=True):
            if row.kind:
                placed.append((owner, Fact(row.kind, fields, [], offset, order)))
            else:
                _append_items(facts[owner].fields, fields)
    if len(rows) > 1:
        placed.sort(key=lambda entry: (entry[0], entry[1].column))
    for owner, child in placed:
        facts[owner].children.append(child)


def _none_for_empty(found: list[tuple[str, ...]]) -> Sequence[tuple[str | None, ...]]:
    """Texts with None for those that are not there."""
    if not any("" in texts for texts in found):
        return found
    return [tuple([text or None for text in texts]) for texts in found]


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

    def take(self, text: str, position: int) -> tuple[int, list[Fact]]:
        """Where a run from this position ends, and its facts; none if there is no plain run."""
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
            return end, self._block.facts_of_lines(_none_for_empty(texts), begin)
        except MalformedValueError:
            return position, []
