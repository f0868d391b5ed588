"""Tables: a line of column names, and under it a line of cells for each thing.

A row is a node whose cells are inside it by the names of their columns: ``Name=crew``. So the order
of the columns doesn't matter, and the sheet names those that it knows.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import NamedTuple

from reservoir.core.values.addresses import MalformedValueError
from reservoir.dialects.notations.nodes import Node, RowLike, ScopeLike, TextEdit, Undo

ROW = "|row"
"""The text of a node that is nothing but pieces: a table's row, ``key=value`` without a word."""

GIVEN = "="
"""Stands between a column's name and a cell in a node's text."""

BLANKS = "blanks"
"""Instead of a sign between cells: two blanks or more, or where the columns begin."""

_RULE = re.compile(r"[-+=|: \t]+")


def is_row(text: str) -> bool:
    """Whether a node is a row, or what undoes one."""
    return text.endswith(ROW)


class Cell(NamedTuple):
    """What stands in one column of a line."""

    text: str
    start: int
    end: int
    """Offsets in the line, of what is between the signs, without the blanks around it."""


@dataclass(frozen=True)
class Tables:
    """Reads and writes the lines of tables whose cells are apart by a sign."""

    sign: str
    is_apart: Callable[[str], bool]
    """Whether a line that begins so would be none of a table."""
    tick: str = ""
    """The mark before a row that somebody ticks once it is done."""
    undo: Undo | None = None
    """How a line is undone."""

    @property
    def _blanks(self) -> str:
        return " " if self.sign == "\t" else " \t"

    @cached_property
    def _quoted(self) -> re.Pattern[str]:
        """A cell in quotation signs, with what is around it (RFC 4180 section 2)."""
        blanks = f"[{self._blanks}]*"
        return re.compile(f'{blanks}"((?:[^"]|"")*)"{blanks}(?={re.escape(self.sign)}|$)')

    def cells(self, line: str, columns: Sequence[Cell] = ()) -> list[Cell]:
        """The cells of a line; ``columns`` are those of the line of names above it."""
        if self.sign == BLANKS:
            return _by_blanks(line, columns)
        cells, at = list[Cell](), 0
        while True:
            quoted = self._quoted.match(line, at)
            end = quoted.end() if quoted is not None else line.find(self.sign, at)
            end = end if end >= 0 else len(line)
            said = line[at:end].strip(self._blanks)
            start = line.index(said, at) if said else at
            text = said if quoted is None else quoted[1].replace('""', '"')
            cells.append(Cell(text, start, start + len(said)))
            if end >= len(line):
                return cells
            at = end + len(self.sign)

    def read(self, nodes: Iterable[Node], scope: Sequence[ScopeLike], text: str) -> Iterator[Node]:
        """The nodes of one place; the lines of a table there as rows, without that of the names."""
        kinds = [
            _Columns.of(row) for rows in scope for row in rows.rows if row.pattern.begins == ROW
        ]
        names: list[Cell] = []
        for node in nodes:
            if not kinds or node.children:
                yield node
                continue
            begin = node.start
            if self.sign in ("\t", BLANKS):  # blanks before a line tell which column is empty
                begin = text.rfind("\n", 0, node.start) + 1
            is_undone = self.undo is not None and node.text.startswith(self.undo.before)
            if is_undone and self.undo is not None:
                begin = node.start + len(self.undo.before)
            line = text[begin : node.end]
            cells = self.cells(line, names)
            if _is_header(cells, kinds, is_first=not names):
                names = cells
            elif not names or len(cells) == 1 < len(names):
                yield node
            elif not (_RULE.fullmatch(line) and re.search("[-=]", line)):
                row = _row(node, names, cells, begin)
                if is_undone and self.undo is not None:
                    row.text = self.undo.undoing(ROW)
                if row.children:
                    yield row

    def lines(self, rows: Sequence[Node]) -> list[str]:
        """The line of names, and one for each row."""
        names = _ordered([[_name_of(cell) for cell in row.children] for row in rows])
        table = [names, *(self._values(row, names) for row in rows)]
        if self.sign in (BLANKS, "|"):
            table = [[self.quoted(text) for text in line] for line in table]
            widths = [max(len(line[n]) for line in table) for n in range(len(names))]
            between = "  " if self.sign == BLANKS else " | "
            lines = [between.join(map(str.ljust, line, widths)) for line in table]
        else:
            lines = [self.sign.join(map(self.quoted, line)) for line in table]
        marks = [self._mark + row.text.removesuffix(ROW) for row in rows]
        before = [" " * max(map(len, marks), default=0), *marks]
        return [mark + line.rstrip(" ") for mark, line in zip(before, lines, strict=True)]

    @property
    def _mark(self) -> str:
        return f"{self.tick} " if self.tick else ""

    def _values(self, row: Node, names: Sequence[str]) -> list[str]:
        values = {_name_of(cell): _value_of(cell) for cell in row.children}
        return [values.get(name, "") for name in names]

    def quoted(self, text: str) -> str:
        """A cell's text as it stands between signs."""
        needs_quotes = self.sign in text or '"' in text or self.is_apart(text)
        if self.sign == BLANKS or not needs_quotes:
            return text
        return '"' + text.replace('"', '""') + '"'

    def fit(self, value: str) -> str:
        """A value, if it can stand in a cell.

        Raises:
            MalformedValueError: it would be taken for two, or for none.
        """
        is_odd = re.search("[ \t]{2}", value) or self.is_apart(value)
        if value != value.strip() or (self.sign == BLANKS and is_odd):
            raise MalformedValueError(f"{value!r} can't stand in a table's cell")
        return value

    def added(
        self, text: str, lines: Sequence[tuple[int, int]], rows: Sequence[Node]
    ) -> tuple[list[TextEdit], list[str]]:
        """What adds the columns to a table that it lacks, and the lines of rows for it then.

        Args:
            text: The whole text.
            lines: From where to where the table's lines are, that of the names first.
            rows: The new rows.
        """
        header = text[slice(*lines[0])]
        names = self.cells(header)
        known = [cell.text for cell in names]
        wanted = _ordered([[_name_of(cell) for cell in row.children] for row in rows])
        lacking = [name for name in wanted if name not in known]
        edits = [
            self.filled(text, lines[0], names, len(known) + n, name)
            for n, name in enumerate(lacking)
        ]
        known += lacking
        made = ((row, self._values(row, known)) for row in rows)
        return edits, [
            self._mark + row.text.removesuffix(ROW) + self._laid_out(values, names, header)
            for row, values in made
        ]

    def _laid_out(self, values: Sequence[str], names: Sequence[Cell], header: str) -> str:
        """A line of cells below a line of names."""
        if self.sign != BLANKS:
            framed = "|" if header.startswith("|") else ""
            between = f" {self.sign} " if f" {self.sign} " in header else self.sign
            ends = [*(cell.start - len(between) for cell in names[1:]), len(header)]
            widths = [end - cell.start for cell, end in zip(names, ends, strict=True)]
            widths = [width if between != self.sign else 0 for width in widths]
            widths += [0] * (len(values) - len(widths))
            padded = [self.quoted(v).ljust(width) for v, width in zip(values, widths, strict=True)]
            if framed:
                return f"| {between.join(padded[1:-1])} |"
            return between.join(padded).rstrip(" ")
        line = ""
        for number, value in enumerate(values):
            at = names[number].start if number < len(names) else 0
            line = line.ljust(max(at, len(line) + 2 if line.strip() else 0)) + value
        return line.rstrip()

    def filled(
        self, text: str, line: tuple[int, int], names: Sequence[Cell], column: int, value: str
    ) -> TextEdit:
        """What puts a value into a column of a line; see :meth:`settled`."""
        start, end = line
        cells = self.cells(text[start:end], names)
        here = cells[column] if column < len(cells) else None
        if here is not None and self.sign != BLANKS:
            return TextEdit(start + here.start, start + here.end, self.quoted(value))
        if here is not None and (here.text or start + here.start < end):
            at = start + here.start
            # What is empty has blanks, which the value takes the place of.
            return TextEdit(at, start + here.end if here.text else min(at + len(value), end), value)
        place = names[column].start if column < len(names) else -1
        mark = _mark_for(text)
        return TextEdit(end, end, f"{mark}{column}:{place}:{self.quoted(value)}{mark}")

    def settled(self, text: str, was: str) -> str:
        """A text in which values that were put behind the ends of lines stand in their columns.

        Args:
            text: The text, changed.
            was: As it was before.
        """
        mark = _mark_for(was)
        if mark not in text:
            return text
        behind = re.compile(f"{mark}([0-9]+):(-?[0-9]+):([^\0]*){mark}")
        lines = []
        for line in text.split("\n"):
            # Rows put in at two places may each add the same column to the names.
            found = sorted({(int(m[1]), int(m[2]), m[3]) for m in behind.finditer(line)})
            lines.append(self._lengthened(behind.sub("", line), found) if found else line)
        return "\n".join(lines)

    def _lengthened(self, line: str, values: Sequence[tuple[int, int, str]]) -> str:
        """A line with values in columns behind its end: the column's number, its place, each."""
        line, newline = (line[:-1], "\r") if line.endswith("\r") else (line, "")
        count = len(self.cells(line))
        for column, place, value in values:
            if self.sign == BLANKS:
                line = line.ljust(max(place, len(line) + 2)) + value
            else:
                line += self.sign * (column - count + 1) + value
                count = column + 1
        return line + newline


def _mark_for(text: str) -> str:
    """A mark that stands nowhere in a text."""
    return "\0" * (1 + max(map(len, re.findall("\0+", text)), default=0))


class _Columns(NamedTuple):
    """The columns that a row of the sheet knows."""

    known: frozenset[str]
    needed: frozenset[str]

    @classmethod
    def of(cls, row: RowLike) -> _Columns:
        cells = [(inner.pattern.begins.partition(GIVEN)[0], inner) for inner in row.scope.rows]
        return cls(
            frozenset(name for name, _ in cells),
            frozenset(name for name, inner in cells if not inner.repeat),
        )


def _is_header(cells: Sequence[Cell], kinds: Sequence[_Columns], *, is_first: bool) -> bool:
    """Whether a line names columns: all that are needed, or any where no others were named yet."""
    names = {cell.text for cell in cells}
    return any(
        (kind.needed and kind.needed <= names) or (is_first and kind.known & names)
        for kind in kinds
    )


def _row(node: Node, names: Sequence[Cell], cells: Sequence[Cell], begin: int) -> Node:
    """The row that a line is, which begins at an offset."""
    row = Node(ROW, node.line, node.column, [], node.start, node.end)
    for number, cell in enumerate(cells):
        name = names[number].text if number < len(names) else ""
        if cell.text and (name or number >= len(names)):
            place = node.line, cell.start + 1
            inside = Node(f"{name}{GIVEN}{cell.text}", *place, [], begin + cell.start)
            inside.end, inside.elsewhere = begin + cell.end, len(name) + len(GIVEN)
            row.children.append(inside)
    return row


def _by_blanks(line: str, columns: Sequence[Cell]) -> list[Cell]:
    """Cells apart by two blanks; if there are not as many as columns, cut where these begin."""
    found = [Cell(m[0], m.start(), m.end()) for m in re.finditer(r"[^ \t]+(?: [^ \t]+)*", line)]
    if not columns or len(found) == len(columns):
        return found
    starts = [column.start for column in columns]
    if not all(at >= len(line) or at == 0 or line[at - 1] in " \t" for at in starts):
        return found
    cells = []
    for at, end in zip(starts, [*starts[1:], len(line)], strict=True):
        raw = line[at : max(end, at)]
        said = raw.strip(" \t")
        start = at + len(raw) - len(raw.lstrip(" \t")) if said else at
        cells.append(Cell(said, start, start + len(said)))
    return cells


def _name_of(cell: Node) -> str:
    return cell.text.partition(GIVEN)[0]


def _value_of(cell: Node) -> str:
    return cell.text.partition(GIVEN)[2]


def _ordered(rows: Iterable[Sequence[str]]) -> list[str]:
    """All names, in an order that each row's own agrees with if they agree with each other."""
    names: list[str] = []
    for row in rows:
        at = 0
        for name in row:
            if name in names:
                at = names.index(name) + 1
            else:
                names.insert(at, name)
                at += 1
    return names
