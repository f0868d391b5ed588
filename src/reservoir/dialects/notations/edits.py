"""Changes a text of statements: some are taken out or put in, the others stay to the byte."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import TYPE_CHECKING

from reservoir.dialects.notations.nodes import (
    Node,
    Spot,
    TextEdit,
    back_over,
    blanks_at,
    end_of,
    joined,
    spaced,
)
from reservoir.dialects.notations.tables import BLANKS, ROW, is_row
from reservoir.dialects.notations.tables import GIVEN as COLUMN

if TYPE_CHECKING:
    from reservoir.dialects.notations.layout import Layout


@dataclass(frozen=True)
class Edits:
    """What changes a text in a layout."""

    layout: Layout

    def cut(self, text: str, around: Sequence[Node], node: Node) -> list[TextEdit]:
        """What takes a node out."""
        if self._is_on_line(around, node):
            return [self._without_piece(text, around[-1], node)]
        if self._is_step(around, node):
            return [TextEdit(*self._whole(text, *line), "") for line in _lines_through(node)]
        if self._is_behind_dash(around, node) and around[-1].children[1:]:
            return [TextEdit(node.start, around[-1].children[1].start, "")]
        start, end = self._whole(text, self._start(text, node), end_of(node))
        if self._is_apart(around) and _is_empty_before(text, start):
            end += len(_empty_line_at(text, end))
            if end >= len(text):
                start = back_over("\r\n", text, start - 1) if start else 0
                start += len(_empty_line_at(text, start))
        return [TextEdit(start, end, "")]

    def put(self, text: str, spot: Spot, nodes: Sequence[Node]) -> list[TextEdit]:
        """What puts nodes in."""
        pieces = [node for node in nodes if self._is_on_line(spot.around, node)]
        rows = [node for node in nodes if is_row(node.text) and self.layout.table]
        others = [node for node in nodes if node not in pieces and node not in rows]
        edits = self._put_pieces(text, spot, pieces) if pieces else []
        if rows:
            edits += self._put_rows(text, spot, rows)
        if others:
            edits.append(
                self._put_statements(text, self._before_headings(text, spot, others), others)
            )
        return edits

    def swap(self, text: str, around: Sequence[Node], node: Node, new: Node) -> list[TextEdit]:
        """What puts a node where another stands."""
        if self._is_on_line(around, node):
            if is_row(around[-1].text) and self.layout.table:
                value = self.layout.tables.quoted(new.text.partition(COLUMN)[2])
                return [TextEdit(node.start, node.end, value)]
            return [TextEdit(node.start, node.end, new.text)]
        if self._is_step(around, node) or (is_row(node.text) and self.layout.table):
            spot = Spot(tuple(around), node, None)
            return [*self.cut(text, around, node), *self.put(text, spot, [new])]
        lines = list(self.layout.lines(new, around))
        between = "\n" + self._blanks_before(text, node)
        if not self._is_alone(text, node):
            lines, between = [line.strip() for line in lines], " "
        return [TextEdit(self._start(text, node), end_of(node), between.join(lines))]

    def _start(self, text: str, node: Node) -> int:
        """Where a statement begins with the mark before it, ticked or not."""
        signs = self.layout.signs
        if not signs.tick:
            return node.start
        line = text.rfind("\n", 0, node.start) + 1
        found = re.fullmatch(f"([ \t]*){signs.any_tick}", text[line : node.start])
        return line + found.end(1) if found else node.start

    def _is_on_line(self, around: Sequence[Node], node: Node) -> bool:
        """Whether a node is a piece or a cell of the one that it is in."""
        if not around:
            return False
        owner = around[-1]
        if is_row(owner.text) or self.layout.is_flat:
            return True
        return self.layout.is_piece(node.text) and not self.layout.is_heading(owner.text)

    def _is_step(self, around: Sequence[Node], node: Node) -> bool:
        """Whether each statement in a node says the steps to it."""
        layout = self.layout
        is_path = bool(layout.path) and not layout.has_blocks
        is_file = bool(layout.files) and not around
        return is_path and not layout.is_heading(node.text) and not is_file

    def _is_behind_dash(self, around: Sequence[Node], node: Node) -> bool:
        return bool(around) and around[-1].text == self.layout.dash and around[-1].line == node.line

    def _is_apart(self, around: Sequence[Node]) -> bool:
        """Whether empty lines may stand between the nodes of a place."""
        return not around or (bool(self.layout.files) and len(around) == 1)

    def _whole(self, text: str, start: int, end: int) -> tuple[int, int]:
        """A stretch with all of its lines if nothing else stands on them, or the blanks before."""
        begin, after = _line_at(text, start)[0], _line_after(text, end)
        if text[begin:start].strip(" \t") or not self._is_last(text, end):
            return back_over(" \t", text, start), end
        return begin, after

    def _is_last(self, text: str, end: int) -> bool:
        """Whether nothing but a comment follows on a line."""
        rest = text[end : _line_at(text, end)[1]].strip(" \t")
        trailing = self.layout.signs.trailing
        return not rest or (bool(trailing) and rest.startswith(trailing))

    def _is_alone(self, text: str, node: Node) -> bool:
        """Whether no other statement stands on a node's lines; the dash of an item is none."""
        before = text[_line_at(text, node.start)[0] : self._start(text, node)]
        before = before.replace(self.layout.dash, " ") if self.layout.dash else before
        return not before.strip(" \t") and self._is_last(text, end_of(node))

    def _without_piece(self, text: str, owner: Node, node: Node) -> TextEdit:
        if not is_row(owner.text):
            return TextEdit(back_over(" \t", text, node.start), node.end, "")
        if self.layout.table:
            blank = " " * (node.end - node.start) if self.layout.table == BLANKS else ""
            return TextEdit(node.start, node.end, blank)
        following = next((child.start for child in owner.children if child.start > node.start), 0)
        if following:
            return TextEdit(node.start, following, "")
        return TextEdit(back_over(" \t", text, node.start), node.end, "")

    def _put_pieces(self, text: str, spot: Spot, nodes: Sequence[Node]) -> list[TextEdit]:
        owner = spot.around[-1]
        if is_row(owner.text) and self.layout.table:
            return self._put_cells(text, owner, nodes)
        pieces = self.layout.on_line(owner)
        last = next((piece for piece in reversed(pieces) if spot.after in (None, piece)), None)
        at = last.end if last is not None else owner.start + _said_length(text, owner)
        return [TextEdit(at, at, "".join(f" {node.text}" for node in nodes))]

    def _put_cells(self, text: str, row: Node, cells: Sequence[Node]) -> list[TextEdit]:
        """What puts values into the columns of a row."""
        tables, line = self.layout.tables, _line_at(text, row.start)
        header = self._header_above(text, row)
        names = tables.cells(text[slice(*header)]) if header is not None else []
        known = {name.text: number for number, name in enumerate(names)}
        edits = []
        for cell in cells:
            name, _, value = cell.text.partition(COLUMN)
            if name in known:
                edits.append(tables.filled(text, line, names, known[name], value))
            elif header is not None:
                new = Node(ROW, children=[cell])
                edits += tables.added(text, [header], [new])[0]
                edits.append(tables.filled(text, line, names, len(names), value))
        return edits

    def _put_rows(self, text: str, spot: Spot, rows: Sequence[Node]) -> list[TextEdit]:
        """What adds rows to the table there; with a table if there is none."""
        tables, beside = self.layout.tables, spot.after or spot.before
        owner = spot.around[-1] if spot.around else None
        header = None
        if beside is not None and is_row(beside.text):
            header = self._header_above(text, beside)
        elif owner is not None:
            begin = text.find("\n", owner.start) + 1
            header = next(iter(self._table_lines(text, begin)), None) if begin else None
            wanted = {name for row in rows for name in _columns(row)}
            header = header if header is not None and wanted & self._names(text, header) else None
        if header is None:
            lines = tables.lines(rows)
            at = self._offset(text, spot)
            return [TextEdit(at, at, joined(lines))]
        table = list(self._table_lines(text, header[0]))
        edits, lines = tables.added(text, table, rows)
        at = _line_after(text, end_of(beside)) if beside is not None and spot.after else 0
        at = at or _line_after(text, table[-1][1] if spot.before is None else header[1])
        indent = blanks_at(text, header[0])
        if self.layout.signs.tick:  # above the marks, the line of names stands deeper
            indent = indent[: -len(self.layout.signs.tick) - 1]
        return [*edits, TextEdit(at, at, joined(indent + line for line in lines))]

    def _names(self, text: str, line: tuple[int, int]) -> set[str]:
        return {cell.text for cell in self.layout.tables.cells(text[slice(*line)])}

    def _header_above(self, text: str, row: Node) -> tuple[int, int] | None:
        """The line above a row that names its columns."""
        start = text.rfind("\n", 0, row.start) + 1
        while start:
            start = text.rfind("\n", 0, start - 1) + 1
            line = _line_at(text, start)
            if _columns(row) <= self._names(text, line):
                return line
        return None

    def _table_lines(self, text: str, offset: int) -> Iterator[tuple[int, int]]:
        """The lines of a table from that of its names on: from where to where each is."""
        columns = 0
        while offset < len(text):
            line = _line_at(text, offset)
            cells = self.layout.tables.cells(text[slice(*line)])
            if len(cells) < min(columns, 2) or self.layout.is_apart(text[slice(*line)].strip()):
                return
            if not text[slice(*line)].strip():
                return
            yield line
            columns = len(cells)
            offset = text.find("\n", line[1]) + 1 or len(text)

    def _before_headings(self, text: str, spot: Spot, nodes: Sequence[Node]) -> Spot:
        """A place for statements, which would belong to a heading if they stood after it."""
        layout = self.layout
        if not layout.heading or layout.is_heading(nodes[0].text):
            return spot
        if layout.files and not spot.around:
            return spot
        if spot.after is not None and not layout.is_heading(spot.after.text):
            return spot
        siblings = spot.around[-1].children if spot.around else self._headings(text)
        first = next((node for node in siblings if layout.is_heading(node.text)), None)
        return spot if first is None else Spot(spot.around, None, first)

    def _headings(self, text: str) -> Iterator[Node]:
        """The headings of a text, as far as they are told by their lines."""
        for found in re.finditer(r"[^\n]+", text):
            said = found[0].strip(" \t\r")
            if self.layout.is_heading(said):
                at = found.start() + found[0].index(said)
                yield Node(said, column=at - found.start() + 1, start=at, end=at + len(said))

    def _put_statements(self, text: str, spot: Spot, nodes: Sequence[Node]) -> TextEdit:
        layout, beside = self.layout, spot.after or spot.before
        rendered = [list(layout.lines(node, spot.around)) for node in nodes]
        apart = self._is_apart(spot.around)
        lines = [line for some in rendered for line in some]
        if beside is not None and not self._is_alone(text, beside):
            said = " ".join(line.strip() for line in lines)
            if spot.after is not None:
                return TextEdit(end_of(spot.after), end_of(spot.after), f" {said}")
            return TextEdit(beside.start, beside.start, f"{said} ")
        if apart:
            lines = spaced(nodes, rendered, layout.is_heading)
        indent = self._indent(text, spot)
        owner = spot.around[-1] if spot.around else None
        if (
            beside is None
            and owner is not None
            and layout.signs.opens
            and not self._has_room(text, owner)
        ):
            return self._with_block(text, owner, [indent + line for line in lines])
        if spot.after is None and self._is_behind_dash(spot.around, beside or Node("")):
            at = beside.start if beside is not None else 0
            return TextEdit(at, at, "".join(f"{line}\n{indent}" for line in lines))
        at = self._offset(text, spot)
        new = joined(indent + line if line else "" for line in lines)
        if not apart:
            return TextEdit(at, at, new)
        kind = spot.after.kind if spot.after is not None else None
        joins = [
            len(own) == 1 and node.kind == kind and not layout.is_heading(node.text)
            for own, node in zip(rendered, nodes, strict=True)
        ]
        if not joins[0] and not _is_empty_before(text, at):
            new = "\n" + new
        if not all(joins) and at < len(text) and not _empty_line_at(text, at):
            new += "\n"
        return TextEdit(at, at, new)

    def _has_room(self, text: str, owner: Node) -> bool:
        """Whether lines may stand in a node, between its sign and the one that closes it."""
        if self.layout.is_heading(owner.text):
            return True
        return owner.opens and not text[owner.inner : _line_at(text, owner.inner)[1]].strip()

    def _with_block(self, text: str, owner: Node, lines: Sequence[str]) -> TextEdit:
        """What puts lines into a node that has no block, or one without lines."""
        signs = self.layout.signs
        inside = "\n" + joined(lines) + blanks_at(text, owner.start)
        if owner.opens:
            return TextEdit(owner.inner, owner.end - len(signs.closes), inside)
        end = owner.end - len(signs.ends) if text[: owner.end].endswith(signs.ends) else owner.end
        return TextEdit(end, owner.end, f" {signs.opens}{inside}{signs.closes}")

    def _offset(self, text: str, spot: Spot) -> int:
        """Where the lines of new nodes go."""
        if spot.after is not None:
            return _line_after(text, end_of(spot.after))
        if spot.before is not None:
            return text.rfind("\n", 0, spot.before.start) + 1
        if not spot.around:
            return len(text)
        owner = spot.around[-1]
        inside = self.layout.inside(owner)
        ends = max(map(end_of, inside)) if inside else owner.inner or owner.end
        if self._is_step(spot.around[:-1], owner):
            ends = end_of(owner)
        return _line_after(text, ends)

    def _indent(self, text: str, spot: Spot) -> str:
        """The blanks before lines there: as before their neighbours."""
        layout = self.layout
        inside = layout.inside(spot.around[-1]) if spot.around else []
        beside = spot.after or spot.before or next(iter(inside), None)
        if beside is not None:
            return self._blanks_before(text, beside)
        if not spot.around:
            return ""
        owner = spot.around[-1]
        blanks = self._blanks_before(text, owner)
        is_deeper = layout.has_blocks and not layout.is_heading(owner.text)
        is_deeper &= not (layout.files and len(spot.around) == 1)
        return blanks + " " * layout.indent * is_deeper

    def _blanks_before(self, text: str, node: Node) -> str:
        """The blanks that stand before a node, or as many as what else stands before it."""
        start = text.rfind("\n", 0, node.start) + 1
        before = text[start : node.start]
        dash = self.layout.dash
        if dash and dash in before and not before.replace(dash, " ").strip(" \t"):
            return before.replace(dash, " ")
        return blanks_at(text, node.start)


def _columns(row: Node) -> set[str]:
    """The names of the columns in which a row has something."""
    return {cell.text.partition(COLUMN)[0] for cell in row.children}


def _said_length(text: str, node: Node) -> int:
    """How long a statement's words are where they stand, with the blanks between them."""
    words = map(re.escape, node.text.split())
    found = re.compile("[ \t]+".join(words)).match(text, node.start)
    return found.end() - node.start if found else len(node.text)


def _lines_through(node: Node) -> Iterator[tuple[int, int]]:
    """The offsets of each statement whose steps go through a node, in order."""
    found = {(node.start, node.end)}
    pending = list(node.children)
    while pending:
        inner = pending.pop()
        found.add((inner.start, inner.end))
        pending += inner.children
    yield from sorted(found)


def _line_at(text: str, offset: int) -> tuple[int, int]:
    """Where the line at an offset begins, and where it ends without its line end."""
    start = text.rfind("\n", 0, offset) + 1
    end = text.find("\n", offset)
    end = len(text) if end < 0 else end
    return start, end - (text[start:end].endswith("\r"))


def _line_after(text: str, offset: int) -> int:
    """Where the line after an offset's begins."""
    found = text.find("\n", offset)
    return len(text) if found < 0 else found + 1


def _is_empty_before(text: str, offset: int) -> bool:
    """Whether the line before is empty, or there is none."""
    before = text[max(offset - 3, 0) : offset].replace("\r", "")
    return offset == 0 or before.endswith("\n\n") or before == "\n"


def _empty_line_at(text: str, offset: int) -> str:
    found = re.compile(r"\r?\n").match(text, offset)
    return found[0] if found else ""
