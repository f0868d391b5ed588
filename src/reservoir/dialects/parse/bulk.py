"""The fast road of reading: well-formed blocks by one expression each, values by the column.

For each row of the sheet's top level there is an expression for its whole block as the writer
lays it out. What these match is understood without being looked at line by line; everything
else, in order, is left to the exact reader. Both must understand any text alike.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from functools import lru_cache
from itertools import islice
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.notations.lines import Lines
from reservoir.dialects.notations.nodes import lines_of
from reservoir.dialects.parse.bulk_blocks import AT_ONCE, BlockReader, Numbered, RunReader
from reservoir.dialects.sheet.model import Sheet


class Understood(NamedTuple):
    """What the fast road made of a text."""

    facts: list[Fact]
    """In their order."""
    before: int
    """The line that they are all before: the first that undoes another, or one past the last."""
    rest: str
    """The lines left over, in order."""
    rest_lines: list[int]
    """The number in the whole text of each of them."""
    lines: int
    """Lines of what was understood."""
    understood: int
    """The same without the words that close blocks."""


class FastReader:
    """The fast road for one sheet."""

    def __init__(self, sheet: Sheet) -> None:
        """Compile the expressions of the rows that have some; of none if the notation has none."""
        self._notation = sheet.notation
        self._blocks: list[BlockReader] = []
        if isinstance(sheet.notation, Lines):
            group = 1
            for row in sheet.rows:
                if row.is_simple_block:
                    self._blocks.append(BlockReader(row, sheet.notation, group))
                    group += 1 + self._blocks[-1].groups
        sources = "|".join(f"({block.source})" for block in self._blocks)
        # A line that begins no block is taken by itself, so that nothing is searched for.
        self._expression = re.compile(rf"(?:{sources}|[^\n]*(?:\n|\Z))")
        self._closed_kinds = {
            block.row.kind
            for block in self._blocks
            if block.row.children and self._notation.nesting.end
        }
        words = "|".join(map(re.escape, sheet.undo_words))
        self._undoing = re.compile(rf"^[ \t]*(?:{words})[ \t]", re.MULTILINE) if words else None
        self._runs = [RunReader(block) for block in self._blocks if block.is_one_line]

    def understand(self, text: str) -> Understood | None:
        """What is well-formed in the text; None if it has to be read exactly as a whole."""
        if not self._blocks:
            return None
        numbered = Numbered.of(text)
        undoing = self._undoing and self._undoing.search(text)
        limit = undoing.start() if undoing else len(text)
        spans, facts = self._claimed(numbered, limit)  # facts of each span
        order = np.argsort(spans[:, 0], kind="stable")
        order = order[spans[order, 1] <= limit]
        spans = spans[order]
        kept = self._standing(text, spans)
        if kept is None:
            return None
        gaps = list(_gaps(text, spans[kept]))
        rest, rest_lines = [], list[int]()
        for begin, end in gaps:
            first = int(numbered.lines_at([begin])[0])
            piece = text[begin:end].rstrip("\n")
            rest.append(piece)
            rest_lines += range(first, first + piece.count("\n") + 1)
        taken = spans[kept]
        chosen = [fact for number in order[kept].tolist() for fact in facts[number]]
        ends = np.searchsorted(numbered.starts, taken[:, 1], "left")
        begins = np.searchsorted(numbered.starts, taken[:, 0], "left")
        lines = int((ends - begins).sum())
        closed = self._closed_kinds
        closing = sum(1 for fact in chosen if fact.kind in closed) if closed else 0
        before = int(numbered.lines_at([limit])[0]) if undoing else len(numbered.starts) + 1
        return Understood(chosen, before, "\n".join(rest), rest_lines, lines, lines - closing)

    def _claimed(self, text: Numbered, limit: int) -> tuple[NDArray[np.int64], list[list[Fact]]]:
        """Spans of matched blocks or runs of lines, shape (n, 2), and the facts of each.

        Nothing is begun at the limit or behind it.
        """
        spans: list[NDArray[np.int64]] = [np.empty((0, 2), np.int64)]
        facts: list[list[Fact]] = []
        position = 0
        while position < limit:
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
        self,
        text: Numbered,
        position: int,
        spans: list[NDArray[np.int64]],
        facts: list[list[Fact]],
    ) -> int:
        """Match blocks of any kind from a position; where to go on."""
        by_block: dict[int | None, list[re.Match[str]]] = {}
        for match in islice(self._expression.finditer(text.text, position), AT_ONCE):
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

        A block is not if it is in another; nor if an indented line after a gap belongs to it
        too. Where blocks are closed by a word, each gap must close what it opens.
        """
        ends = np.maximum.accumulate(spans[:, 1])
        kept = np.ones(len(spans), np.bool_)
        kept[1:] = spans[1:, 0] >= ends[:-1]
        for begin, end in _gaps(text, spans[kept]):
            piece = text[begin:end]
            if self._notation.nesting.end:
                if not self._closes_what_it_opens(piece):
                    return None
            elif self._is_indented(piece):
                kept[np.flatnonzero(kept & (spans[:, 1] <= begin))[-1:]] = False
        return kept

    def _is_indented(self, piece: str) -> bool:
        """Whether the first line that says something is indented."""
        said = (line for line in lines_of(piece) if not self._notation.is_comment(line.text))
        first = next(said, None)
        return first is not None and first.column > 1

    def _closes_what_it_opens(self, piece: str) -> bool:
        """Whether each block in it is closed, and nothing is closed that isn't open."""
        depth, nesting = 0, self._notation.nesting
        for line in lines_of(piece):
            if self._notation.is_comment(line.text):
                continue
            if line.text == nesting.end:
                depth -= 1
            elif nesting.is_opening(line.text):
                depth += 1
            if depth < 0:
                return False
        return depth == 0


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
