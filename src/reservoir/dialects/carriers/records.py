"""Records: one line each, a word and then ``key=value`` in any order."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass

from reservoir.dialects.carriers.nodes import (
    Carrier,
    Line,
    Node,
    Nodes,
    Piece,
    joined,
    lines_of,
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
        for line in lines_of(text):
            if self.is_comment(line.text):
                comments += 1
                continue
            first, *rest = _nodes(line)
            first.children = rest
            top.append(first)
        return Nodes(top, comments, [])

    def write(self, nodes: Sequence[Node]) -> str:
        return joined(spaced(nodes, ([_line(node)] for node in nodes)))

    def pieces(self, line: str) -> Iterator[Piece]:
        for found in _ROW_PIECE.finditer(line):
            name = found.lastgroup or ""
            yield Piece(found[name], found.start(name), name == "maybe")


def _nodes(line: Line) -> Iterator[Node]:
    """A node for each piece."""
    for found in _PIECE.finditer(line.text):
        if found[0]:
            node = line.node(found[0])
            node.column += found.start()
            yield node


def _line(node: Node) -> str:
    return " ".join([node.text, *(child.text for child in node.children)])
