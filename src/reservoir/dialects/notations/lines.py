"""Lines that are inside one another, by indentation or closed by a word."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import ClassVar

from reservoir.core.wording import nearest
from reservoir.dialects.notations.by_lines import ByLines
from reservoir.dialects.notations.nodes import (
    Fault,
    Node,
    Nodes,
    Undo,
    as_far_as_it_goes,
    joined,
    line_nodes,
    spaced,
)


@dataclass(frozen=True)
class Lines(ByLines):
    """Nested lines.

    Only blanks, tabs and line ends count as white space; other characters that look like it are
    part of what is written.
    """

    words: ClassVar[tuple[str, ...]] = ("indent", "end")
    nests: ClassVar[bool] = True
    has_undo: ClassVar[bool] = True
    has_comment_pairs: ClassVar[bool] = True

    def read(self, text: str) -> Nodes:
        return as_far_as_it_goes(lambda by_layout: self._read(text, by_layout))

    def _read(self, text: str, by_layout: bool) -> Nodes:
        nodes, comments = line_nodes(text, self.comments, pairs=self.pairs)
        if not self.nesting.end:
            return Nodes(_indented(nodes), comments, [])
        reader = _Reader(self, by_layout)
        for node in nodes:
            reader.take(node)
        reader.finish()
        return Nodes(reader.top, comments, reader.faults)

    def write(self, nodes: Sequence[Node]) -> str:
        return joined(spaced(nodes, (list(self.lines(node, ())) for node in nodes)))

    def lines(self, node: Node, around: Sequence[Node]) -> Iterator[str]:
        yield node.text
        deeper = " " * self.nesting.indent
        for child in node.children:
            if child.children or self._is_closed(child):
                yield from (deeper + line for line in self.lines(child, around))
            else:
                yield deeper + child.text
        if self._is_closed(node):
            yield self.nesting.end

    def _is_closed(self, node: Node) -> bool:
        """Whether a word closes the node's block."""
        end = self.nesting.end
        return bool(end) and (bool(node.children) or self.nesting.is_opening(node.text))

    def undoing(self, around: Sequence[Node], node: Node, undo: Undo) -> Node | None:
        said = node.text.removesuffix(self.nesting.opens)
        taken_back = Node(f"{undo.before}{said}{undo.after}", kind=node.kind)
        for outer in reversed(around):
            taken_back = Node(outer.text, children=[taken_back], kind=outer.kind)
        return taken_back


def _indented(nodes: Sequence[Node]) -> list[Node]:
    """The nodes of the top level, each with those that stand deeper after it inside."""
    top: list[Node] = []
    around: list[Node] = []
    for node in nodes:
        while around and around[-1].column >= node.column:
            around.pop()
        (around[-1].children if around else top).append(node)
        around.append(node)
    return top


class _Reader:
    """Puts lines into blocks that are closed by a word."""

    def __init__(self, lines: Lines, by_layout: bool) -> None:
        self.by_layout = by_layout
        self.nesting = lines.nesting
        self.top: list[Node] = []
        self.faults: list[Fault] = []
        self.open: list[tuple[int, Node]] = []
        self.is_laid_out = False
        """Whether what is inside a block has stood deeper somewhere."""

    def take(self, node: Node) -> None:
        indent = node.column
        if node.text == self.nesting.end:
            self._close(node, indent)
            return
        if self.by_layout:
            if self._is_misspelt_end(node, indent):
                around = self.open[-1][1]
                message = f"{node.text!r} closes {around.text!r} instead of {self.nesting.end!r}"
                self.faults.append(Fault(node.line, node.column, message))
                self._close(node, indent)
                return
            self._leave_blocks(node, indent)
        self._add(node)
        if self.nesting.is_opening(node.text):
            self.open.append((indent, node))

    def _is_misspelt_end(self, node: Node, indent: int) -> bool:
        """Whether a line stands where the innermost block should end, and reads nearly like it."""
        at_end = bool(self.open) and self.open[-1][0] == indent and self._is_left(indent)
        return at_end and nearest(node.text, [self.nesting.end]) is not None

    def _leave_blocks(self, node: Node, indent: int) -> None:
        """Close what has no end: blocks whose lines stand deeper than this line does."""
        while self.open and self._is_left(indent):
            self._not_closed(self.open.pop()[1])

    def _is_left(self, indent: int) -> bool:
        """Whether a line this deep is outside of the innermost block."""
        begin, node = self.open[-1]
        first = node.children[0].column if node.children else begin + self.is_laid_out
        return begin >= indent and first > begin

    def _add(self, node: Node) -> None:
        (self.open[-1][1].children if self.open else self.top).append(node)
        self.is_laid_out |= bool(self.open) and node.column > self.open[-1][0]

    def _close(self, closing: Node, indent: int) -> None:
        """Close the innermost block; by the layout, the one that begins as deep as this ends."""
        aligned = []
        if self.by_layout:
            aligned = [depth for depth, (at, _) in enumerate(self.open) if at == indent]
        lost = self.by_layout and not aligned and self.open and indent > self.open[-1][0]
        if not self.open or lost:
            message = f"{closing.text!r} closes nothing here"
            self.faults.append(Fault(closing.line, closing.column, message))
            return
        depth = aligned[-1] if aligned else len(self.open) - 1
        for _, node in self.open[depth + 1 :]:
            self._not_closed(node)
        self.open[depth][1].end = closing.end
        del self.open[depth:]

    def _not_closed(self, node: Node) -> None:
        message = f"the block {node.text!r} is not closed with {self.nesting.end!r}"
        self.faults.append(Fault(node.line, node.column, message))

    def finish(self) -> None:
        for _, node in self.open:
            self._not_closed(node)
