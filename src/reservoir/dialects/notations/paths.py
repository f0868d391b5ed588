"""Paths: each line says everything about where it belongs, step by step."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import ClassVar

from reservoir.dialects.notations.by_lines import ByLines, end_of
from reservoir.dialects.notations.nodes import (
    Node,
    Nodes,
    Spot,
    TextEdit,
    Undo,
    joined,
    line_nodes,
    spaced,
)


@dataclass(frozen=True)
class Paths(ByLines):
    """Lines of steps with a separator between them; lines that share steps share their nodes."""

    words: ClassVar[tuple[str, ...]] = ("separator",)
    has_undo: ClassVar[bool] = True
    has_comment_pairs: ClassVar[bool] = True

    def read(self, text: str) -> Nodes:
        root, mark = Node(""), self.nesting.separator
        leaves, comments = line_nodes(text, self.comments, pairs=self.pairs)
        inner: dict[tuple[Node, str], Node] = {}
        led_to: dict[str, Node] = {}  # by each path as it is written
        for leaf in leaves:
            path, found, last = leaf.text.rpartition(mark)
            around = root
            if found:
                if path not in led_to:
                    led_to[path] = _follow(path.split(mark), len(mark), leaf, root, inner)
                around = led_to[path]
                leaf.text = said = last.strip(" \t")
                leaf.column += len(path) + len(mark) + (last.index(said[0]) if said else len(last))
            # A path may also be gone through by longer ones, before it or after it.
            if not inner.setdefault((around, leaf.text), leaf).children:
                around.children.append(leaf)
        return Nodes(root.children, comments, [])

    def write(self, nodes: Sequence[Node]) -> str:
        return joined(spaced(nodes, (list(self.lines(node, ())) for node in nodes)))

    def lines(self, node: Node, around: Sequence[Node]) -> Iterator[str]:
        path = [*around, node]
        if not node.children:
            yield f" {self.nesting.separator} ".join(step.text for step in path)
        for child in node.children:
            yield from self.lines(child, path)

    def cut(self, text: str, around: Sequence[Node], node: Node) -> list[TextEdit]:
        ends = dict(_lines_through(node))
        if sum(end - start for start, end in ends.items()) == end_of(node) - node.start:
            return super().cut(text, around, node)
        return [TextEdit(start, end, "") for start, end in ends.items()]

    def swap(self, text: str, around: Sequence[Node], node: Node, new: Node) -> list[TextEdit]:
        spot = Spot(tuple(around), node, None)
        return [*self.cut(text, around, node), *self.put(text, spot, [new])]

    def undoing(self, around: Sequence[Node], node: Node, undo: Undo) -> Node | None:
        taken_back = Node(node.text + undo.after, kind=node.kind)
        for outer in reversed(around):
            taken_back = Node(outer.text, children=[taken_back], kind=outer.kind)
        taken_back.text = undo.before + taken_back.text
        return taken_back


def _lines_through(node: Node) -> Iterator[tuple[int, int]]:
    """The offsets of each line whose path goes through a node."""
    yield node.start, node.end
    for child in node.children:
        yield from _lines_through(child)


def _follow(
    steps: Sequence[str], apart: int, leaf: Node, root: Node, inner: dict[tuple[Node, str], Node]
) -> Node:
    """The node to which a path leads; those on the way that aren't there yet begin with it."""
    column, around = leaf.column, root
    for step in steps:
        name = step.strip(" \t")
        known = inner.get((around, name))
        if known is None:
            known = Node(name, leaf.line, _column(step, column), [], leaf.start, leaf.end)
            inner[around, name] = known
            around.children.append(known)
        column += len(step) + apart
        around = known
    return around


def _column(step: str, column: int) -> int:
    """Where a step begins, without the blanks before it."""
    return column + len(step) - len(step.lstrip(" \t"))
