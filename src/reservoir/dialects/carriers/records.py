"""Records: one line each, a word and then ``key=value`` in any order."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from reservoir.dialects.carriers.nodes import (
    Carrier,
    Node,
    Nodes,
    Piece,
    joined,
    numbered_lines,
    spaced,
)

_PIECE = re.compile(r"""[^ \t"']*(?:"(?:[^"\\]|\\.|"")*"|'(?:[^'\\]|\\.|'')*'|["'])?[^ \t"']*""")
"""What stands between blanks; a quoted value may have blanks in it."""
_ROW_PIECE = re.compile(r"\[\?[ \t]*(?P<maybe>[^\]]*?)[ \t]*\]|(?P<sure>[^ \t\[]+)")


@dataclass(frozen=True)
class Records(Carrier):
    """Flat records: nothing stands inside a line but its own pieces."""

    def read(self, text: str) -> Nodes:
        top: list[Node] = []
        comments = 0
        for number, offset, raw in numbered_lines(text):
            line = raw.strip(" \t\r")
            if self.comments and line.startswith(self.comments):
                comments += 1
            elif line:
                end = offset + len(raw) + 1
                first, *rest = _pieces(raw.rstrip(" \t\r"))
                children = [Node(piece, number, at, start=offset, end=end) for at, piece in rest]
                top.append(Node(first[1], number, first[0], children, offset, end))
        return Nodes(top, comments, [])

    def write(self, nodes: Sequence[Node]) -> str:
        return joined(spaced(nodes, ([_line(node)] for node in nodes)))

    def pieces(self, line: str) -> Iterator[Piece]:
        for found in _ROW_PIECE.finditer(line):
            name = found.lastgroup or ""
            yield Piece(found[name], found.start(name), name == "maybe")


def _pieces(line: str) -> Iterator[tuple[int, str]]:
    """Each piece with its column from 1."""
    for found in _PIECE.finditer(line):
        if found[0]:
            yield found.start() + 1, found[0]


def _line(node: Node) -> str:
    return " ".join([node.text, *(child.text for child in node.children)])
