"""Paths: each line says everything about where it belongs, step by step."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import ClassVar

from reservoir.dialects.carriers.nodes import (
    Carrier,
    Node,
    Nodes,
    joined,
    lines_of,
    spaced,
)


@dataclass(frozen=True)
class Paths(Carrier):
    """Lines of steps with a separator between them; lines that share steps share their nodes."""

    words: ClassVar[tuple[str, ...]] = ("separator",)

    def read(self, text: str) -> Nodes:
        root = Node("")
        inner: dict[tuple[int, str], Node] = {}
        comments = 0
        mark = self.nesting.separator
        for line in lines_of(text):
            if self.is_comment(line.text):
                comments += 1
                continue
            at, parent = line.column - 1, root
            *steps, last = line.text.split(mark)
            for step in steps:
                name = step.strip(" \t")
                known = inner.get((id(parent), name))
                if known is None:
                    known = line.node(name)
                    known.column = _column(step, at)
                    inner[id(parent), name] = known
                    parent.children.append(known)
                at += len(step) + len(mark)
                parent = known
            leaf = line.node(last.strip(" \t"))
            leaf.column = _column(last, at)
            # A path may also be gone through by longer ones, before it or after it.
            if not inner.setdefault((id(parent), leaf.text), leaf).children:
                parent.children.append(leaf)
        return Nodes(root.children, comments, [])

    def write(self, nodes: Sequence[Node]) -> str:
        return joined(spaced(nodes, (list(self._lines(node, "")) for node in nodes)))

    def _lines(self, node: Node, before: str) -> Iterator[str]:
        if not node.children:
            yield before + node.text
        for child in node.children:
            yield from self._lines(child, f"{before}{node.text} {self.nesting.separator} ")


def _column(step: str, at: int) -> int:
    return at + len(step) - len(step.lstrip(" \t")) + 1
