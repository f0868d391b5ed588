"""Sections: a heading in brackets, and lines of a key and a value under it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import ClassVar

from reservoir.dialects.carriers.nodes import Carrier, Node, Nodes, joined, numbered_lines


@dataclass(frozen=True)
class Sections(Carrier):
    """Sections and their lines; lines before the first section stand at the top."""

    words: ClassVar[tuple[str, ...]] = ("assign",)

    def read(self, text: str) -> Nodes:
        top: list[Node] = []
        comments = 0
        section: Node | None = None
        for number, offset, raw in numbered_lines(text):
            line = raw.strip(" \t\r")
            if not line:
                continue
            if self.comments and line.startswith(self.comments):
                comments += 1
                continue
            end = offset + len(raw) + 1
            node = Node(self.normal(line), number, raw.index(line[0]) + 1, start=offset, end=end)
            if line.startswith("["):
                section = node
                top.append(node)
            elif section is None:
                top.append(node)
            else:
                section.children.append(node)
                section.end = end
        return Nodes(top, comments, [])

    def write(self, nodes: Sequence[Node]) -> str:
        lines: list[str] = []
        for node in nodes:
            if lines and node.text.startswith("["):
                lines.append("")
            lines += [node.text, *(child.text for child in node.children)]
        return joined(lines)

    def normal(self, line: str) -> str:
        mark = self.nesting.assign.strip()
        if line.startswith("[") or mark not in line:
            return line
        key, _, value = line.partition(mark)
        return f"{key.rstrip()}{self.nesting.assign}{value.lstrip()}"
