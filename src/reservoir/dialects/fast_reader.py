"""The fast road of reading: well-formed blocks by one expression each, values by the column.

For each row of the sheet's top level there is an expression for its whole block as the writer
lays it out. What these match is understood without being looked at line by line; everything
else, in order, is left to the exact reader. Both must understand any text alike.
"""

from __future__ import annotations

import gc
import re
from collections.abc import Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from functools import cached_property
from itertools import compress
from typing import Any, NamedTuple

import numpy as np
from numpy.typing import NDArray

from reservoir.core.addressing import MalformedValueError
from reservoir.dialects.carriers.lines import Lines
from reservoir.dialects.patterns import Slot, joined_parts
from reservoir.dialects.sheet import Row, Sheet, grouped
from reservoir.dialects.vocabulary import Fact


class Understood(NamedTuple):
    """What the fast road made of a text."""

    facts: list[Fact]
    """In their order."""
    rest: str
    """The lines left over, in order."""
    rest_lines: list[int]
    """The number in the whole text of each of them."""
    lines: int
    """Lines that were understood."""


class Found(NamedTuple):
    """The text of a row's slots in one match, and where it begins."""

    texts: Sequence[str | None]
    offset: int


@dataclass
class _Line:
    """A row that is one line: how to make its fact's fields of its slots' texts."""

    row: Row

    @cached_property
    def slots(self) -> tuple[Slot, ...]:
        return self.row.pattern.slots

    def fields(self, found: Sequence[Sequence[str | None]]) -> list[dict[str, Any]]:
        """The fields of each match.

        Raises:
            MalformedValueError: a value somewhere can't be read.
        """
        columns = [
            slot.form.read_all(texts)
            for slot, texts in zip(self.slots, zip(*found, strict=True), strict=True)
        ]
        if any(slot.part for slot in self.slots):
            made = [self._joined(values) for values in zip(*columns, strict=True)]
        else:
            names = [slot.field for slot in self.slots]
            whole = not any(None in column for column in columns)
            pairs = (zip(names, values, strict=True) for values in zip(*columns, strict=True))
            made = [dict(p) if whole else {k: v for k, v in p if v is not None} for p in pairs]
        if not self.slots:
            made = [{} for _ in found]
        for name, value in self.row.conditions.items():
            for fields in made:
                fields[name] = value
        for name, other in self.row.same_as.items():
            for fields in made:
                if other in fields:
                    fields.setdefault(name, fields[other])
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

    lines: list[_Line]
    group: int

    @cached_property
    def expression(self) -> re.Pattern[str]:
        """Matches one of the lines; each has a group of its own, and those of its slots in it."""
        return re.compile("|".join(f"({line.row.pattern.strict})" for line in self.lines))

    @cached_property
    def _firsts(self) -> dict[int, tuple[_Line, int, int]]:
        """By the number of a line's own group: the line, its first slot's group, one past."""
        firsts, group = {}, 1
        for line in self.lines:
            firsts[group] = (line, group + 1, group + 1 + len(line.slots))
            group += 1 + len(line.slots)
        return firsts

    def found(self, text: str, begin: int, end: int) -> Iterator[tuple[_Line, Found]]:
        for match in self.expression.finditer(text, begin, end):
            line, first, past = self._firsts[
                next(group for group in self._firsts if match[group] is not None)
            ]
            yield line, Found(match.groups()[first - 1 : past - 1], match.start())


@dataclass
class _Block:
    """A row of the top level with everything inside it, as one expression."""

    row: Row
    nesting: Lines
    group: int
    """The number of the group that is the whole block, in the expression of all blocks."""
    source: str = ""
    once: list[tuple[_Line, int, int]] = field(default_factory=list)
    """Lines that come once or not at all: the group of the whole line, and its first slot's."""
    repeated: list[_Repeated] = field(default_factory=list)

    def __post_init__(self) -> None:
        sign = self.nesting.nesting
        opens = re.escape(sign.opens) if sign.end else ""
        not_opening = f"(?<!{opens})" if opens else ""
        line_end = r"[ \t\r]*(?:\n|\Z)"
        self._inner_end = not_opening + line_end
        self._indent = "[ \t]*" if sign.end else " " * sign.indent
        self.head = _Line(self.row)
        block = bool(self.row.children)
        self.groups = len(self.head.slots)
        self._add(f"{self.row.pattern.strict}{line_end if block else self._inner_end}")
        for kind, rows in grouped(self.row.children):
            for group in [rows] if kind else [[row] for row in rows]:
                self._add_rows(group)
        if block and sign.end:
            self._add(f"[ \t]*{re.escape(sign.end)}{line_end}")

    def _add(self, source: str) -> None:
        self.source += source

    def _add_rows(self, rows: list[Row]) -> None:
        first = rows[0]
        lines = [_Line(row) for row in rows]
        if first.kind or first.repeat == "*":
            inner = "|".join(row.pattern.strict_without_groups for row in rows)
            self.repeated.append(_Repeated(lines, self.groups + 1))
            self.groups += 1
            self._add(f"((?:{self._indent}(?:{inner}){self._inner_end})*)")
        else:
            self.once.append((lines[0], self.groups + 1, self.groups + 2))
            self.groups += 1 + len(lines[0].slots)
            maybe = "?" if first.repeat else ""
            self._add(f"({self._indent}{first.pattern.strict}{self._inner_end}){maybe}")

    def facts(self, text: str, matches: Sequence[re.Match[str]]) -> list[Fact]:
        """The fact of each match; line and column are offsets still.

        Raises:
            MalformedValueError: a value somewhere can't be read.
        """
        first, past = self.group + 1, self.group + 1 + self.groups
        groups = [match.group(self.group, *range(first, past))[1:] for match in matches]
        heads = self.head.fields([found[: len(self.head.slots)] for found in groups])
        for line, whole, first in self.once:
            self._add_once(line, whole, first, groups, heads)
        facts = [
            Fact(self.row.kind, fields, [], match.start())
            for fields, match in zip(heads, matches, strict=True)
        ]
        for part in self.repeated:
            self._add_repeated(part, text, matches, facts)
        return facts

    def _add_once(
        self,
        line: _Line,
        whole: int,
        first: int,
        groups: Sequence[Sequence[str | None]],
        heads: list[dict[str, Any]],
    ) -> None:
        there = [found[whole - 1] is not None for found in groups]
        past = first - 1 + len(line.slots)
        texts = [found[first - 1 : past] for found in compress(groups, there)]
        for fields, its in zip(compress(heads, there), line.fields(texts), strict=True):
            fields.update(its)

    def _add_repeated(
        self, part: _Repeated, text: str, matches: Sequence[re.Match[str]], facts: list[Fact]
    ) -> None:
        by_line: dict[int, tuple[_Line, list[Found], list[tuple[Fact, int]]]] = {}
        for match, fact in zip(matches, facts, strict=True):
            begin, end = match.span(self.group + part.group)
            if begin == end:
                continue
            for order, (line, found) in enumerate(part.found(text, begin, end)):
                entry = by_line.setdefault(id(line), (line, [], []))
                entry[1].append(found)
                entry[2].append((fact, order))
        placed: list[tuple[Fact, int, Fact]] = []
        for line, found_all, owners in by_line.values():
            made = line.fields([found.texts for found in found_all])
            if not line.row.kind:
                for (owner, _), fields in zip(owners, made, strict=True):
                    _append_items(owner.fields, fields)
                continue
            for (owner, order), found, fields in zip(owners, found_all, made, strict=True):
                placed.append((owner, order, Fact(line.row.kind, fields, [], found.offset)))
        if len(by_line) > 1:
            placed.sort(key=lambda entry: entry[1])
        for owner, _, child in placed:
            owner.children.append(child)


def _append_items(fields: dict[str, Any], more: dict[str, Any]) -> None:
    for name, value in more.items():
        items = value if isinstance(value, tuple) else (value,)
        fields[name] = (*fields.get(name, ()), *items)


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

    def understand(self, text: str) -> Understood | None:
        """What is well-formed in the text; None if it has to be read exactly as a whole."""
        if not self._blocks:
            return None
        spans, facts = self._claimed(text)
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
        chosen = [facts[number] for number in order[kept].tolist()]
        _place(chosen, line_starts)
        taken = spans[kept]
        ends = np.searchsorted(line_starts, taken[:, 1], "left")
        begins = np.searchsorted(line_starts, taken[:, 0], "left")
        return Understood(
            chosen,
            "\n".join(rest),
            rest_lines,
            int((ends - begins).sum()),
        )

    def _claimed(self, text: str) -> tuple[NDArray[np.int64], list[Fact]]:
        """Spans of matched blocks, shape (n, 2), and their facts; no two overlap."""
        by_block: dict[int | None, list[re.Match[str]]] = {b.group: [] for b in self._blocks}
        by_block[None] = []
        for match in self._expression.finditer(text):
            by_block[match.lastindex].append(match)
        del by_block[None]
        spans: list[NDArray[np.int64]] = [np.empty((0, 2), np.int64)]
        facts: list[Fact] = []
        for block in self._blocks:
            matches = by_block[block.group]
            try:
                made = block.facts(text, matches) if matches else []
            except MalformedValueError:
                matches, made = _one_by_one(block, text, matches)
            facts += made
            if matches:
                spans.append(np.array([match.span() for match in matches], np.int64))
        return np.concatenate(spans), facts

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
        depth = 0
        nesting = self._carrier.nesting
        for line in piece.split("\n"):
            content = line.strip(" \t\r")
            if not content or content.startswith(self._carrier.comments or "\n"):
                continue
            if content == nesting.end:
                depth -= 1
            elif content.endswith(nesting.opens):
                depth += 1
            if depth < 0:
                return False
        return depth == 0


def _gaps(text: str, spans: NDArray[np.int64]) -> Iterator[tuple[int, int]]:
    """The stretches between spans that have something in them."""
    begins = np.concatenate([[0], spans[:, 1]])
    ends = np.concatenate([spans[:, 0], [len(text)]])
    for number in np.flatnonzero(ends > begins).tolist():
        begin, end = int(begins[number]), int(ends[number])
        if text[begin:end].strip(" \t\r\n"):
            yield begin, end


def _one_by_one(
    block: _Block, text: str, matches: Sequence[re.Match[str]]
) -> tuple[list[re.Match[str]], list[Fact]]:
    """The matches whose values can all be read, and their facts."""
    if len(matches) == 1:
        return [], []
    middle = len(matches) // 2
    kept: list[re.Match[str]] = []
    facts: list[Fact] = []
    for half in (matches[:middle], matches[middle:]):
        try:
            made, good = block.facts(text, half), list(half)
        except MalformedValueError:
            good, made = _one_by_one(block, text, half)
        kept += good
        facts += made
    return kept, facts


def _line_starts(text: str) -> NDArray[np.int64]:
    """The offset of each line's first character, shape (lines,)."""
    if text.isascii():
        ends = np.flatnonzero(np.frombuffer(text.encode("ascii"), np.uint8) == 10)
    else:
        ends = np.flatnonzero(np.frombuffer(text.encode("utf-32-le"), np.uint32) == 10)
    return np.concatenate([np.zeros(1, np.int64), ends.astype(np.int64) + 1])


def _place(facts: Sequence[Fact], line_starts: NDArray[np.int64]) -> None:
    """Turn the offsets that facts have for lines into lines and columns."""
    every = [*facts, *(child for fact in facts for child in fact.children)]
    offsets = np.array([fact.line for fact in every], np.int64)
    lines = np.searchsorted(line_starts, offsets, "right")
    columns = offsets - line_starts[lines - 1] + 1 if every else offsets
    for fact, line, column in zip(every, lines.tolist(), columns.tolist(), strict=True):
        fact.line, fact.column = line, column


@contextmanager
def without_collector() -> Iterator[None]:
    """Leave the garbage collector off: among a million new facts it finds nothing but work."""
    was_on = gc.isenabled()
    gc.disable()
    try:
        yield
    finally:
        if was_on:
            gc.enable()
