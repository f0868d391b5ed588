"""Sections: a heading in brackets, and lines of a key and a value under it.

A device's configuration may be several such files. As one text, each begins with a line that
names it; as nodes, each is one with its sections inside.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import ClassVar

from reservoir.dialects.notations.by_lines import ByLines
from reservoir.dialects.notations.files import FILE_MARK
from reservoir.dialects.notations.nodes import (
    Node,
    Nodes,
    Spot,
    joined,
    line_nodes,
)


@dataclass(frozen=True)
class Sections(ByLines):
    """Sections and their lines; lines before the first section stand at the top."""

    words: ClassVar[tuple[str, ...]] = ("assign", "files", "also", "once")

    def read(self, text: str) -> Nodes:
        root = Node("")
        around, section = root, root
        # A file's mark may begin like a comment.
        nodes, comments = line_nodes(text, ())
        for node in nodes:
            if self.nesting.files and node.text.startswith(FILE_MARK):
                node.text = self._bare_name(node.text.removeprefix(FILE_MARK))
                around = section = self._file(node, root)
            elif self.is_comment(node.text):
                comments += 1
            elif node.text.startswith("["):
                section = self._section(node, around)
            else:
                node.text = self.normal(node.text)
                section.children.append(node)
        return Nodes(root.children, comments, [])

    def _file(self, node: Node, root: Node) -> Node:
        """The file that begins with a node; that which a file of its folder adds to."""
        name, is_more, _ = node.text.partition(f"{self.nesting.also}/")
        same = (file for file in root.children if file.text == name)
        found = next(same, None) if is_more and self.nesting.also else None
        if found is None:
            root.children.append(node)
        return found or node

    def _section(self, node: Node, around: Node) -> Node:
        """The section that begins with a node; the first of its name, where that is one."""
        if node.text.strip("[]") in self.nesting.once.split():
            for section in around.children:
                if section.text == node.text:
                    return section
        around.children.append(node)
        return node

    def _bare_name(self, name: str) -> str:
        """A file's name without what puts files into order: ``50-deck`` is ``deck``."""
        return re.sub("^[0-9]+-", "", name.strip(" \t"))

    def write(self, nodes: Sequence[Node]) -> str:
        return joined(self._with_empty_lines(nodes, ()))

    def _with_empty_lines(self, nodes: Sequence[Node], around: Sequence[Node]) -> Iterator[str]:
        for number, node in enumerate(nodes):
            if number and self.is_apart(node, around):
                yield ""
            yield from self.lines(node, around)

    def lines(self, node: Node, around: Sequence[Node]) -> Iterator[str]:
        if self.nesting.files and not around:
            yield f"{FILE_MARK}{self.nesting.files}{node.text}"
            yield from self._with_empty_lines(node.children, (node,))
        else:
            yield node.text
            yield from (child.text for child in node.children)

    def is_apart(self, node: Node, around: Sequence[Node]) -> bool:
        return node.text.startswith("[") or bool(self.nesting.files and not around)

    def offset(self, text: str, spot: Spot, node: Node) -> int:
        first = re.search(r"^[ \t]*\[", text, re.MULTILINE)
        if first and spot == Spot((), None, None) and not self.is_apart(node, ()):
            return first.start()  # what stands after a heading would belong to it
        return super().offset(text, spot, node)

    def normal(self, line: str) -> str:
        mark = self.nesting.assign.strip()
        if line.startswith("[") or mark not in line:
            return line
        key, _, value = line.partition(mark)
        return f"{key.rstrip()}{self.nesting.assign}{value.lstrip()}"
