"""Changing a text of lines: whole lines are taken out and put in, the others stay."""

from __future__ import annotations

import re
from abc import abstractmethod
from collections.abc import Iterator, Sequence
from typing import ClassVar

from reservoir.dialects.notations.nodes import (
    Node,
    Notation,
    Spot,
    TextEdit,
    back_over,
    blanks_at,
    joined,
    spaced,
)


class ByLines(Notation):
    """A notation in which a node is a line, or some."""

    line_by_line: ClassVar[bool] = True
    nests: ClassVar[bool] = False
    """Whether what is inside stands deeper."""

    @abstractmethod
    def lines(self, node: Node, around: Sequence[Node]) -> Iterator[str]:
        """The lines of a node that is in others, without the blanks before all of them."""

    def is_apart(self, node: Node, around: Sequence[Node]) -> bool:
        """Whether an empty line may stand before such a node."""
        return not around

    def cut(self, text: str, around: Sequence[Node], node: Node) -> list[TextEdit]:
        start, end = node.start, end_of(node)
        if self.is_apart(node, around) and _is_empty_before(text, start):
            end += len(_empty_line_at(text, end))
            if end >= len(text):
                start = back_over("\r\n", text, start - 1) if start else 0
                start += len(_empty_line_at(text, start))
        return [TextEdit(start, end, "")]

    def put(self, text: str, spot: Spot, nodes: Sequence[Node]) -> list[TextEdit]:
        rendered = [list(self.lines(node, spot.around)) for node in nodes]
        apart = self.is_apart(nodes[0], spot.around)
        lines = spaced(nodes, rendered) if apart else [line for some in rendered for line in some]
        indent, offset = self._indent(text, spot), self.offset(text, spot, nodes[0])
        new = joined(indent + line if line else "" for line in lines)
        kind = spot.after.kind if spot.after is not None else None
        joins = [len(own) == 1 and n.kind == kind for own, n in zip(rendered, nodes, strict=True)]
        if apart and not joins[0] and not _is_empty_before(text, offset):
            new = "\n" + new
        if apart and not all(joins) and offset < len(text) and not _empty_line_at(text, offset):
            new += "\n"
        return [TextEdit(offset, offset, new)]

    def swap(self, text: str, around: Sequence[Node], node: Node, new: Node) -> list[TextEdit]:
        indent = blanks_at(text, node.start)
        lines = joined(indent + line for line in self.lines(new, around))
        return [TextEdit(node.start, end_of(node), lines)]

    def offset(self, text: str, spot: Spot, node: Node) -> int:
        """Where the lines of new nodes go, of which this is the first."""
        if spot.after is not None:
            return end_of(spot.after)
        if spot.before is not None:
            return spot.before.start
        if not spot.around:
            return len(text)
        inside = spot.around[-1].children
        return max(map(end_of, inside)) if inside else text.index("\n", spot.around[-1].start) + 1

    def _indent(self, text: str, spot: Spot) -> str:
        """The blanks before lines there: as before their neighbours."""
        inside = spot.around[-1].children if spot.around else []
        beside = spot.after or spot.before or next(iter(inside), None)
        if beside is not None:
            return blanks_at(text, beside.start)
        if not spot.around or not self.nests:
            return ""
        return blanks_at(text, spot.around[-1].start) + " " * self.nesting.indent


def end_of(node: Node) -> int:
    """Where a node ends with all that is in it."""
    return max([node.end, *map(end_of, node.children)])


def _is_empty_before(text: str, offset: int) -> bool:
    """Whether the line before is empty, or there is none."""
    before = text[max(offset - 3, 0) : offset].replace("\r", "")
    return offset == 0 or before.endswith("\n\n") or before == "\n"


def _empty_line_at(text: str, offset: int) -> str:
    found = re.compile(r"\r?\n").match(text, offset)
    return found[0] if found else ""
