"""Records: one line each, a word and then ``key=value`` in any order."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any, ClassVar

from reservoir.dialects.notations.by_lines import ByLines
from reservoir.dialects.notations.nodes import (
    Node,
    Nodes,
    Piece,
    Spot,
    TextEdit,
    Undo,
    back_over,
    joined,
    line_nodes,
    spaced,
)

_PIECE = re.compile(r"""[^ \t"']*(?:"(?:[^"\\]|\\.|"")*"|'(?:[^'\\]|\\.|'')*'|["'])?[^ \t"']*""")
"""What stands between blanks; a quoted value may have blanks in it."""
_NEEDS_CARE = re.compile("[\t\"']|  ")
"""What keeps a record from being cut at each blank."""
_ROW_PIECE = re.compile(r"\[\?[ \t]*(?P<maybe>[^\]]*?)[ \t]*\]|(?P<sure>[^ \t\[]+)")


@dataclass(frozen=True)
class Records(ByLines):
    """Flat records: nothing is inside a line but its own pieces."""

    has_undo: ClassVar[bool] = True
    has_comment_pairs: ClassVar[bool] = True
    has_pieces: ClassVar[bool] = True

    def read(self, text: str) -> Nodes:
        nodes, comments = line_nodes(text, self.comments, _Record, self.pairs)
        return Nodes(nodes, comments, [])

    def uncut_lines(self, nodes: Sequence[Node]) -> Sequence[str] | None:
        whole = [node.whole for node in nodes if isinstance(node, _Record) and node.whole]
        return whole if len(whole) == len(nodes) else None

    def write(self, nodes: Sequence[Node]) -> str:
        return joined(spaced(nodes, (list(self.lines(node, ())) for node in nodes)))

    def lines(self, node: Node, around: Sequence[Node]) -> Iterator[str]:
        yield " ".join([node.text, *(child.text for child in node.children)])

    def cut(self, text: str, around: Sequence[Node], node: Node) -> list[TextEdit]:
        if not around:
            return super().cut(text, around, node)
        return [TextEdit(back_over(" \t", text, node.start), node.end, "")]

    def swap(self, text: str, around: Sequence[Node], node: Node, new: Node) -> list[TextEdit]:
        if not around:
            return super().swap(text, around, node, new)
        return [TextEdit(node.start, node.end, new.text)]

    def put(self, text: str, spot: Spot, nodes: Sequence[Node]) -> list[TextEdit]:
        if not spot.around:
            return super().put(text, spot, nodes)
        record = spot.around[-1]
        last = spot.after or (record.children or [record])[-1]
        end = last.start + last.column - 1 + len(last.text) if last is record else last.end
        return [TextEdit(end, end, "".join(f" {node.text}" for node in nodes))]

    def pieces(self, line: str) -> Iterator[Piece]:
        for found in _ROW_PIECE.finditer(line):
            name = found.lastgroup or ""
            yield Piece(found[name], found.start(name), name == "maybe")

    def undone(self, node: Node, undo: Undo) -> Node | None:
        if node.text != undo.before.strip() or not node.children:
            return None
        first, *rest = node.children
        return replace(first, children=rest)

    def undoing(self, around: Sequence[Node], node: Node, undo: Undo) -> Node | None:
        if around:
            return None  # a piece of a record can't be undone without the record
        record = Node(node.text)
        return Node(undo.before.strip(), children=[record, *node.children], kind=node.kind)


class _Record(Node):
    """A record, which is cut into its pieces when somebody first looks into it.

    Its text is its first piece, and the others are inside. A large text is mostly read without
    that, line by line.
    """

    __slots__ = ("whole",)

    def __init__(
        self, whole: str, line: int, column: int, _children: list[Node], start: int, end: int
    ) -> None:
        self.whole = whole
        """The whole line; empty once it is cut."""
        self.line, self.column, self.start, self.end = line, column, start, end
        self.kind = ""

    def __getattr__(self, name: str) -> Any:
        """What it has only once it is cut."""
        if name not in ("text", "children") or not self.whole:
            raise AttributeError(name)
        line, start = self.line, self.start + self.column - 1
        first, *others = _pieces(self.whole)
        self.whole, self.text = "", first[0]
        self.children = [
            Node(piece, line, self.column + at, [], start + at, start + at + len(piece))
            for piece, at in others
        ]
        return getattr(self, name)


def _pieces(text: str) -> Iterator[tuple[str, int]]:
    """Each piece of a record, and where it begins in it."""
    if _NEEDS_CARE.search(text):
        yield from ((found[0], found.start()) for found in _PIECE.finditer(text) if found[0])
        return
    at = 0
    for piece in text.split(" "):
        yield piece, at
        at += len(piece) + 1
