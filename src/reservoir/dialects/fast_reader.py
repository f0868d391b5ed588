"""The fast road of reading: well-formed blocks by one expression each, values by the column.

For each row of the sheet's top level there is an expression for its whole block as the writer
lays it out. What these match is understood without being looked at line by line; everything
else, in order, is left to the exact reader. Both must understand any text alike.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property, lru_cache
from itertools import accumulate, islice
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from reservoir.core.addressing import MalformedValueError
from reservoir.dialects.carriers.lines import Lines
from reservoir.dialects.patterns import Slot, joined_parts
from reservoir.dialects.sheet import Row, Sheet, grouped
from reservoir.dialects.vocabulary import Fact

SHORTEST_RUN = 16
"""Lines of one kind that are worth looking for as a run."""

AT_ONCE = 8_192
"""Matches that are looked at together: enough for columns, few enough to stay in the cache."""


class Understood(NamedTuple):
    """What the fast road made of a text."""

    facts: list[Fact]
    """In their order."""
    rest: str
    """The lines left over, in order."""
    rest_lines: list[int]
    """The number in the whole text of each of them."""
    lines: int
    """Lines of what was understood."""
    understood: int
    """The same without the words that close blocks."""


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
class _Block:
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
            if kind or any(inner.repeat == "*" for inner in rows):
                for some in [rows] if kind else [[inner] for inner in rows]:
                    self._add_some(some)
                continue
            for inner in rows:
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
        if not rows[0].kind and rows[0].repeat != "*":
            self._add_one(rows[0])
            return
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


class _Run:
    """Lines of one kind that follow one another."""

    def __init__(self, block: _Block) -> None:
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


class FastReader:
    """The fast road for one sheet."""

    def __init__(self, sheet: Sheet) -> None:
        """Compile the expressions of the rows that have some; of none if the notation has none."""
        self._carrier = sheet.carrier
        self._blocks: list[_Block] = []
        if isinstance(sheet.carrier, Lines):
            group = 1
            for row in sheet.rows:
                if row.is_simple_block:
                    self._blocks.append(_Block(row, sheet.carrier, group))
                    group += 1 + self._blocks[-1].groups
        sources = "|".join(f"({block.source})" for block in self._blocks)
        # A line that begins no block is taken by itself, so that nothing is searched for.
        self._expression = re.compile(rf"(?:{sources}|[^\n]*(?:\n|\Z))")
        self._closed_kinds = {
            block.row.kind
            for block in self._blocks
            if block.row.children and self._carrier.nesting.end
        }
        self._runs = [_Run(block) for block in self._blocks if block.is_one_line]

    def understand(self, text: str) -> Understood | None:
        """What is well-formed in the text; None if it has to be read exactly as a whole."""
        if not self._blocks:
            return None
        spans, facts = self._claimed(text)  # facts of each span
        order = np.argsort(spans[:, 0], kind="stable")
        spans = spans[order]
        kept = self._standing(text, spans)
        if kept is None:
            return None
        gaps = list(_gaps(text, spans[kept]))
        line_starts = _line_starts(text)
        rest, rest_lines = [], list[int]()
        for begin, end in gaps:
            first = int(np.searchsorted(line_starts, begin, "right"))
            piece = text[begin:end].rstrip("\n")
            rest.append(piece)
            rest_lines += range(first, first + piece.count("\n") + 1)
        taken = spans[kept]
        chosen = [fact for number in order[kept].tolist() for fact in facts[number]]
        _place(chosen, line_starts, self._carrier.nesting.indent)
        ends = np.searchsorted(line_starts, taken[:, 1], "left")
        begins = np.searchsorted(line_starts, taken[:, 0], "left")
        lines = int((ends - begins).sum())
        closing = sum(1 for fact in chosen if fact.kind in self._closed_kinds)
        return Understood(chosen, "\n".join(rest), rest_lines, lines, lines - closing)

    def _claimed(self, text: str) -> tuple[NDArray[np.int64], list[list[Fact]]]:
        """Spans of matched blocks or runs of lines, shape (n, 2), and the facts of each."""
        spans: list[NDArray[np.int64]] = [np.empty((0, 2), np.int64)]
        facts: list[list[Fact]] = []
        position = 0
        while position < len(text):
            for run in self._runs:
                end, made = run.take(text, position)
                if made:
                    facts.append(made)
                    spans.append(np.array([[position, end]], np.int64))
                    position = end
                    break
            else:
                position = self._take_some(text, position, spans, facts)
        return np.concatenate(spans), facts

    def _take_some(
        self, text: str, position: int, spans: list[NDArray[np.int64]], facts: list[list[Fact]]
    ) -> int:
        """Match blocks of any kind from a position; where to go on."""
        by_block: dict[int | None, list[re.Match[str]]] = {}
        for match in islice(self._expression.finditer(text, position), AT_ONCE):
            by_block.setdefault(match.lastindex, []).append(match)
            position = match.end()
        for block in self._blocks:
            good, made = block.readable(text, by_block.get(block.group, []))
            facts += [[fact] for fact in made]
            begins, ends = [m.start() for m in good], [m.end() for m in good]
            spans.append(np.array([begins, ends], np.int64).T)
        return position

    def _standing(self, text: str, spans: NDArray[np.int64]) -> NDArray[np.bool_] | None:
        """Which blocks are what they were matched as; None if that can't be said.

        A block is not if it lies in another; nor if an indented line after a gap belongs to it
        too. Where blocks are closed by a word, each gap must close what it opens.
        """
        ends = np.maximum.accumulate(spans[:, 1])
        kept = np.ones(len(spans), np.bool_)
        kept[1:] = spans[1:, 0] >= ends[:-1]
        for begin, end in _gaps(text, spans[kept]):
            piece = text[begin:end]
            if self._carrier.nesting.end:
                if not self._closes_what_it_opens(piece):
                    return None
            elif self._is_indented(piece):
                kept[np.flatnonzero(kept & (spans[:, 1] <= begin))[-1:]] = False
        return kept

    def _is_indented(self, piece: str) -> bool:
        """Whether the first line that says something is indented."""
        for line in piece.split("\n"):
            content = line.strip(" \t\r")
            if content and not content.startswith(self._carrier.comments or "\n"):
                return line[0] in " \t"
        return False

    def _closes_what_it_opens(self, piece: str) -> bool:
        """Whether each block in it is closed, by a word as deep as its beginning."""
        nesting, open_at = self._carrier.nesting, list[int]()
        for raw in piece.split("\n"):
            line = raw.rstrip(" \t\r")
            content = line.lstrip(" \t")
            if not content or content.startswith(self._carrier.comments or "\n"):
                continue
            indent = len(line) - len(content)
            if content == nesting.end:
                if not open_at or open_at.pop() != indent:
                    return False
            elif content.endswith(nesting.opens):
                open_at.append(indent)
        return not open_at


@lru_cache(maxsize=4)
def fast_reader(sheet: Sheet) -> FastReader:
    """The fast road for a sheet; compiling its expressions takes as long as a thousand lines."""
    return FastReader(sheet)


def _gaps(text: str, spans: NDArray[np.int64]) -> Iterator[tuple[int, int]]:
    """The stretches between spans that have something in them."""
    begins = np.concatenate([[0], spans[:, 1]])
    ends = np.concatenate([spans[:, 0], [len(text)]])
    for number in np.flatnonzero(ends > begins).tolist():
        begin, end = int(begins[number]), int(ends[number])
        if text[begin:end].strip(" \t\r\n"):
            yield begin, end


def _line_starts(text: str) -> NDArray[np.int64]:
    """The offset of each line's first character, shape (lines,)."""
    if text.isascii():
        ends = np.flatnonzero(np.frombuffer(text.encode("ascii"), np.uint8) == 10)
    else:
        ends = np.flatnonzero(np.frombuffer(text.encode("utf-32-le"), np.uint32) == 10)
    return np.concatenate([np.zeros(1, np.int64), ends.astype(np.int64) + 1])


def _place(facts: Sequence[Fact], line_starts: NDArray[np.int64], indent: int) -> None:
    """Turn what facts have for lines and columns, an offset and lines after it, into these."""
    inner = [child for fact in facts for child in fact.children]
    for some, column in ((facts, 1), (inner, indent + 1)):
        offsets = np.array([fact.line for fact in some], np.int64)
        orders = np.array([fact.column for fact in some], np.int64)
        lines = np.searchsorted(line_starts, offsets, "right") + orders
        for fact, line in zip(some, lines.tolist(), strict=True):
            fact.line, fact.column = line, column
