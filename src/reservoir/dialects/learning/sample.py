"""A sample as nodes, before anybody knows the rows of its sheet."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass

from reservoir.dialects.learning.layouts import LayoutGuess
from reservoir.dialects.learning.meanings import Meanings
from reservoir.dialects.notations import pieces as statement_pieces
from reservoir.dialects.notations.layout import Layout
from reservoir.dialects.notations.nodes import Node, RowLike
from reservoir.dialects.notations.paths import BLANKS
from reservoir.dialects.notations.tables import GIVEN, ROW, Cell, Tables

_RULE = re.compile(r"[-+=|: \t]+")


class NoRows:
    """A sheet without rows: nothing is known of what a text may be."""

    rows: Sequence[RowLike] = ()

    def candidates(self, text: str) -> Sequence[RowLike]:
        """None."""
        return ()


@dataclass
class Sample:
    """A text, and how it is laid out."""

    text: str
    layout: LayoutGuess
    meanings: Meanings

    def __post_init__(self) -> None:
        self.notation = self.layout.notation()

    @property
    def nodes(self) -> list[Node]:
        """The nodes of the text."""
        plain = self.layout.notation("path", "table", "pieces")
        top = plain.read(self.text, NoRows()).top
        if not isinstance(self.notation, Layout):
            return top
        return self._arranged(top)

    def on_line(self, node: Node) -> Sequence[Node]:
        """Of what is inside a node, what stands on its own line."""
        return self.notation.on_line(node)

    def _arranged(self, nodes: list[Node]) -> list[Node]:
        layout = self.notation
        assert isinstance(layout, Layout)
        if layout.table:
            nodes = self._tabled(nodes, layout)
        if layout.key_sign:
            for node in nodes:
                if node.text != ROW and not layout.is_heading(node.text):
                    doubled = layout.signs.doubled
                    statement_pieces.node_of(node, layout.key_sign, doubled=doubled)
        if layout.path:
            headings = [node for node in nodes if layout.is_heading(node.text)]
            nodes = [*self._steps([n for n in nodes if n not in headings], layout), *headings]
            for node in headings:
                node.children = self._arranged(node.children)
            return nodes
        for node in nodes:
            if node.text == ROW:
                continue
            if node.text == layout.dash and len(node.children) == 1:
                only = node.children[0]
                if not only.children and not (layout.assign and layout.assign in only.text):
                    node.text, node.children = f"{node.text} {only.text}", []
            inside = layout.inside(node)
            if inside:
                node.children = [*layout.on_line(node), *self._arranged(list(inside))]
        return nodes

    def _steps(self, nodes: Sequence[Node], layout: Layout) -> list[Node]:
        """Statements as the steps that they share: each word a step, or what a sign keeps apart."""
        root = Node("")
        inner: dict[tuple[Node, str], Node] = {}
        for node in nodes:
            around = root
            for step, column in self._words(node.text, layout):
                key = around, step
                if key not in inner:
                    place = node.line, node.column + column
                    inner[key] = Node(step, *place, [], node.start, node.end)
                    around.children.append(inner[key])
                around = inner[key]
            around.children += node.children
        return root.children

    def _words(self, text: str, layout: Layout) -> list[tuple[str, int]]:
        if layout.path == BLANKS:
            found: list[tuple[str, int]] = []
            for word in self.meanings.words(text):
                if word.is_value:
                    if found and word.column == found[-1][1] + len(found[-1][0]):
                        found[-1] = (found[-1][0] + word.text, found[-1][1])
                    else:
                        found.append((word.text, word.column))
                    continue
                for said in re.finditer(r"[^ \t]+", word.text):
                    at = word.column + said.start()
                    if found and at == found[-1][1] + len(found[-1][0]):
                        found[-1] = (found[-1][0] + said[0], found[-1][1])
                    else:
                        found.append((said[0], at))
            return found
        mark = layout.assign.strip()
        key = text.partition(layout.assign or "\0")[0] if mark else text
        sign = layout.path.strip()
        pieces: list[tuple[str, int]] = []
        at = 0
        while (end := text.find(sign, at, len(key))) >= 0:
            pieces.append((text[at:end].strip(), at))
            at = end + len(sign)
        pieces.append((text[at:].strip(), at))
        return [piece for piece in pieces if piece[0]]

    def _tabled(self, nodes: list[Node], layout: Layout) -> list[Node]:
        """The nodes of one place, the lines of a table there as rows."""
        tables = Tables(layout.table, lambda text: False)
        made: list[Node] = []
        names: list[Cell] = []
        for node in nodes:
            begin = node.start
            if layout.table in ("\t", BLANKS):
                begin = self.text.rfind("\n", 0, node.start) + 1
            line = self.text[begin : node.end]
            cells = tables.cells(line, names)
            titles = [cell.text for cell in cells if cell.text]
            if node.children or layout.is_heading(node.text):
                made.append(node)
                names = []
            elif names and _RULE.fullmatch(line) and re.search("[-=]", line):
                continue
            elif self._are_names(titles) and (len(titles) > 1 or _is_over_cells(node, nodes)):
                names = cells
            elif names and (len(cells) > 1 or len(names) == 1):
                made.append(_row(node, names, cells, begin))
            else:
                made.append(node)
        return made

    def _are_names(self, titles: Sequence[str]) -> bool:
        """Whether cells are the names of columns: no values, and nothing twice."""
        if not titles or len(set(titles)) < len(titles):
            return False
        return not any(
            m.is_sure for title in titles for w in self.meanings.words(title) for m in w.meanings
        ) and all(re.search("[A-Za-z]", title) and ":" not in title for title in titles)


def _is_over_cells(node: Node, nodes: Sequence[Node]) -> bool:
    """Whether a line is the first of some that are single words, like it."""
    return node is nodes[0] and len(nodes) > 1 and all(":" not in other.text for other in nodes)


def _row(node: Node, names: Sequence[Cell], cells: Sequence[Cell], begin: int) -> Node:
    row = Node(ROW, node.line, node.column, [], node.start, node.end)
    for name, cell in zip(names, cells, strict=False):
        if cell.text and name.text:
            piece = Node(f"{name.text}{GIVEN}{cell.text}", node.line, cell.start + 1)
            piece.start, piece.end = begin + cell.start, begin + cell.end
            row.children.append(piece)
    return row
