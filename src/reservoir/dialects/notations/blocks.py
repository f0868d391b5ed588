"""Puts statements inside one another: by indentation, by signs, or by words that open and close."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import NamedTuple

from reservoir.core.wording import nearest
from reservoir.dialects.notations.nodes import DEEPEST, Fault, Node
from reservoir.dialects.notations.scanning import Mark


class Wording(NamedTuple):
    """Words around any others: ``begin *``, ``*:``, ``[*]``."""

    before: str
    after: str
    is_whole: bool = False
    """Whether it is all of a text: there is no ``*``."""

    @classmethod
    def of(cls, text: str) -> Wording:
        """The wording of a text with one ``*``; without one, that text alone."""
        before, star, after = text.partition("*")
        return cls(before, after, not star)

    def fits(self, text: str) -> bool:
        """Whether a text is worded so, with something for the ``*``."""
        return (
            text == self.before
            if self.is_whole
            else (
                text.startswith(self.before)
                and text.endswith(self.after)
                and len(text) > len(self.before) + len(self.after)
            )
        )

    def begins(self, text: str) -> bool:
        """Whether a text is worded so, or begins so with a sign and is damaged at its end."""
        sign = self.before.strip()
        is_signed = bool(sign) and not sign[0].isalnum()
        return text.startswith(self.before) if is_signed else self.fits(text)

    def inside(self, text: str) -> str:
        """What stands for the ``*`` in a text."""
        return text[len(self.before) : len(text) - len(self.after)]


@dataclass(frozen=True)
class Words:
    """The words that open blocks, and those that close them."""

    opens: tuple[Wording, ...]
    closes: tuple[str, ...]
    """As many, or one for all; ``*`` in it is the first word of what opened the block."""

    def opening(self, text: str) -> int | None:
        """Which of the words open a block with a line; None if it opens none."""
        return next((n for n, words in enumerate(self.opens) if words.fits(text)), None)

    def closing(self, text: str) -> str:
        """What closes the block that a line opens."""
        number = self.opening(text) or 0
        closes = self.closes[min(number, len(self.closes) - 1)]
        if "*" not in closes:
            return closes
        said = self.opens[number].inside(text).split() or [""]
        return closes.replace("*", said[0])

    def may_close(self, text: str) -> bool:
        """Whether a line closes blocks of some kind."""
        return any(
            text == closes or ("*" in closes and Wording.of(closes).fits(text))
            for closes in self.closes
        )

    def does_close(self, text: str, opened: str) -> bool:
        """Whether a line closes the block that another one opened."""
        number = self.opening(opened) or 0
        closes = self.closes[min(number, len(self.closes) - 1)]
        if "*" not in closes:
            return text == closes
        words = Wording.of(closes)
        said = self.opens[number].inside(opened)
        return words.fits(text) and f"{said} ".startswith(f"{words.inside(text)} ")


def indented(nodes: Sequence[Node], dash: str) -> list[Node]:
    """The nodes of the top level, each with those that stand deeper after it inside.

    What begins with a dash is an item: the dash, and inside it what stands behind and below it. An
    item may be no deeper than what it is in.
    """
    top: list[Node] = []
    around: list[tuple[float, Node]] = []
    for node in _items(nodes, dash) if dash else nodes:
        depth = node.column + 0.5 if node.text == dash else node.column
        while around and around[-1][0] >= depth:
            around.pop()
        (around[-1][1].children if around else top).append(node)
        around.append((depth, node))
    return top


def _items(nodes: Iterable[Node], dash: str) -> Iterator[Node]:
    """The nodes, those that begin with a dash cut behind it."""
    for whole in nodes:
        node = whole
        while node.text.startswith(f"{dash} "):
            rest = node.text[len(dash) :].lstrip(" \t")
            at = len(node.text) - len(rest)
            yield Node(dash, node.line, node.column, [], node.start, node.start + len(dash))
            node = Node(rest, node.line, node.column + at, [], node.start + at, node.end)
        yield node


class BlockReader:
    """Puts statements into blocks that signs or words open and close."""

    def __init__(self, words: Words, closing_sign: str, by_layout: bool) -> None:
        """Take the words, or the sign that closes a block, and whether the layout counts too."""
        self.words = words
        self.sign = closing_sign
        self.by_layout = by_layout
        self.top: list[Node] = []
        self.faults: list[Fault] = []
        self.open: list[tuple[int, Node]] = []
        self.is_laid_out = False
        """Whether what is inside a block has stood deeper somewhere."""
        self.line = 0
        self.is_first = True
        """Whether what is taken is the first on its line, whose number that is."""

    def read(self, parts: Iterable[Node | Mark]) -> None:
        """Take all statements and signs."""
        for part in parts:
            node = part.node if isinstance(part, Mark) else part
            self.is_first, self.line = node.line != self.line, node.line
            if isinstance(part, Mark):
                if part.opens:
                    self._open_by_sign(part.node)
                else:
                    self._close(part.node, part.node.column)
            else:
                self._take(part)
        for _, node in self.open:
            self._not_closed(node)

    def _open_by_sign(self, sign: Node) -> None:
        """Open a block of the statement before; of one without words if there is none."""
        level = self.open[-1][1].children if self.open else self.top
        if not level or level[-1].opens or level[-1].end > sign.start:
            self._add(sign)
            level = [sign]
        node = level[-1]
        node.opens, node.inner = True, sign.end
        node.end = max(node.end, sign.end)
        self.open.append((node.column, node))

    def _take(self, node: Node) -> None:
        indent = node.column
        if self.words.closes and self.words.may_close(node.text):
            self._close(node, indent)
            return
        if self.by_layout and self.is_first:
            if self._is_misspelt_end(node, indent):
                around = self.open[-1][1]
                message = f"{node.text!r} closes {around.text!r} instead of {self._end(around)!r}"
                self.faults.append(Fault(node.line, node.column, message))
                self._close(node, indent, self._end(around))
                return
            while self.open and self._is_left(indent):
                self._not_closed(self.open.pop()[1])
        self._add(node)
        if self.words.opening(node.text) is not None:
            node.opens, node.inner = True, node.end
            self.open.append((indent, node))

    def _end(self, node: Node) -> str:
        return self.sign or self.words.closing(node.text)

    def _is_misspelt_end(self, node: Node, indent: int) -> bool:
        """Whether a line stands where the innermost block should end, and reads nearly like it."""
        at_end = bool(self.open) and self.open[-1][0] == indent and self._is_left(indent)
        return at_end and nearest(node.text, [self._end(self.open[-1][1])]) is not None

    def _is_left(self, indent: int) -> bool:
        """Whether a line this deep is outside of the innermost block."""
        begin, node = self.open[-1]
        first = node.children[0].column if node.children else begin + self.is_laid_out
        return begin >= indent and first > begin

    def _add(self, node: Node) -> None:
        (self.open[-1][1].children if self.open else self.top).append(node)
        self.is_laid_out |= bool(self.open) and node.column > self.open[-1][0]

    def _close(self, closing: Node, indent: int, text: str = "") -> None:
        """Close the innermost block; by the layout, the one that begins as deep as this ends."""
        text = text or closing.text
        by_layout = self.by_layout and self.is_first
        near = range(len(self.open) - 1, max(len(self.open) - 1 - DEEPEST, -1), -1)
        fitting = [depth for depth in near if self._closes(text, self.open[depth][1])]
        aligned = [depth for depth in near if by_layout and self.open[depth][0] == indent]
        lost = by_layout and not aligned and self.open and indent > self.open[-1][0]
        if lost or not fitting:
            message = f"{closing.text!r} closes nothing here"
            self.faults.append(Fault(closing.line, closing.column, message))
            return
        depth = next((depth for depth in aligned if depth in fitting), fitting[0])
        for _, node in self.open[depth + 1 :]:
            self._not_closed(node)
        self.open[depth][1].end = closing.end
        del self.open[depth:]

    def _closes(self, text: str, node: Node) -> bool:
        return text == self.sign if self.sign else self.words.does_close(text, node.text)

    def _not_closed(self, node: Node) -> None:
        message = f"the block {node.text!r} is not closed with {self._end(node)!r}"
        self.faults.append(Fault(node.line, node.column, message))
