"""Headings: what stands under one, until the next; files are headings by their names."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass

from reservoir.dialects.notations.blocks import Wording
from reservoir.dialects.notations.files import FILE_MARK
from reservoir.dialects.notations.nodes import Node, ScopeLike


@dataclass(frozen=True)
class Headings:
    """Puts statements under headings."""

    is_heading: Callable[[str], bool]
    wordings: tuple[Wording, ...]
    files: str
    also: str
    """What ends the name of a file's folder with more files, which are read after it."""
    once: frozenset[str]
    """The headings that are one however often they begin."""

    def over(self, nodes: Sequence[Node], rows: ScopeLike) -> list[Node]:
        """The nodes of the top level, under each heading and file what comes until the next.

        A heading that the sheet has nowhere else is in the one before, or in what that is in.
        """
        root = Node("")
        file: Node = root
        within: tuple[ScopeLike, ...] = (rows,)
        above: list[tuple[Node, tuple[ScopeLike, ...]]] = []
        for node in nodes:
            text = node.text
            if self.files and text.startswith(FILE_MARK):
                node.text = re.sub("^[0-9]+-", "", text.removeprefix(FILE_MARK).strip(" \t"))
                file, above = self._file(node, root), []
                within = inside_of(file.text, (rows,))
            elif not self.is_heading(text):
                (above[-1][0] if above else file).children.append(node)
            else:
                if _has(within, text):
                    above = []
                while above and not _has(above[-1][1], text):
                    above.pop()
                around, scope = above[-1] if above else (file, within)
                heading = self._only(node, around)
                heading.children, node.children = [*heading.children, *node.children], []
                above.append((heading, inside_of(text, scope)))
        return root.children

    def _file(self, node: Node, root: Node) -> Node:
        """The file that begins with a node; that which a file of its folder adds to."""
        name, is_more, _ = node.text.partition(f"{self.also}/")
        same = (file for file in root.children if file.text == name)
        found = next(same, None) if is_more and self.also else None
        if found is None:
            root.children.append(node)
        return found or node

    def _only(self, node: Node, around: Node) -> Node:
        """The heading that a node is; the first of its name, where that is one."""
        fitting = [words for words in self.wordings if words.fits(node.text)]
        if any(words.inside(node.text) in self.once for words in fitting):
            for heading in around.children:
                if heading.text == node.text:
                    return heading
        around.children.append(node)
        return node


def _has(scope: Iterable[ScopeLike], text: str) -> bool:
    """Whether some row may be a text."""
    return any(row.pattern.match(text) for some in scope for row in some.candidates(text))


def inside_of(text: str, scope: Iterable[ScopeLike]) -> tuple[ScopeLike, ...]:
    """The rows that may be inside a node with some text."""
    rows = [row for some in scope for row in some.candidates(text)]
    return tuple(row.scope for row in rows if row.scope.rows and row.pattern.match(text))
