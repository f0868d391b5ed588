"""Sections: a heading in brackets, and lines of a key and a value under it.

A device's configuration may be several such files. As one text, each begins with a line that
names it; as nodes, each is one with its sections inside.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import ClassVar

from reservoir.dialects.carriers.files import FILE_MARK
from reservoir.dialects.carriers.nodes import (
    Carrier,
    Node,
    Nodes,
    joined,
    lines_of,
)


@dataclass(frozen=True)
class Sections(Carrier):
    """Sections and their lines; lines before the first section stand at the top."""

    words: ClassVar[tuple[str, ...]] = ("assign", "files")

    def read(self, text: str) -> Nodes:
        root = Node("")
        around, section = root, root
        comments = 0
        for line in lines_of(text):
            node = line.node(self.normal(line.text))
            if self.nesting.files and line.text.startswith(FILE_MARK):
                node.text = self._bare_name(line.text.removeprefix(FILE_MARK))
                root.children.append(node)
                around = section = node
            elif self.is_comment(line.text):
                comments += 1
            elif line.text.startswith("["):
                around.children.append(node)
                section = node
            else:
                section.children.append(node)
            section.end = around.end = line.end
        return Nodes(root.children, comments, [])

    def _bare_name(self, name: str) -> str:
        """A file's name without what puts files into order: ``50-deck`` is ``deck``."""
        return re.sub("^[0-9]+-", "", name.strip(" \t"))

    def write(self, nodes: Sequence[Node]) -> str:
        return joined(self._lines(nodes))

    def _lines(self, nodes: Sequence[Node]) -> Iterator[str]:
        for number, node in enumerate(nodes):
            is_file = self.nesting.files and not node.text.startswith("[")
            if number and (is_file or node.text.startswith("[")):
                yield ""
            if is_file:
                yield f"{FILE_MARK}{self.nesting.files}{node.text}"
                yield from self._lines(node.children)
                continue
            yield node.text
            yield from (child.text for child in node.children)

    def normal(self, line: str) -> str:
        mark = self.nesting.assign.strip()
        if line.startswith("[") or mark not in line:
            return line
        key, _, value = line.partition(mark)
        return f"{key.rstrip()}{self.nesting.assign}{value.lstrip()}"
