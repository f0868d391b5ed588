"""Paths: a statement says step by step where it belongs, and equal steps are the same thing.

Where a step ends is told by the rows of the sheet: a row matches the beginning of a statement, and
the rows inside it match what follows.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from reservoir.dialects.notations.nodes import Node, RowLike, ScopeLike, Undo

BLANKS = "blanks"
"""Instead of a sign between steps: blanks, as between words."""


@dataclass(eq=False)
class Paths:
    """Cuts statements into steps; made for one text."""

    sign: str
    """What stands between steps, as it is written; or blanks."""
    undo: Undo | None = None
    _openings: dict[tuple[RowLike, bool], re.Pattern[str] | None] = field(default_factory=dict)
    """For each row, and by whether what follows is known, what finds where its step ends."""

    @property
    def between(self) -> str:
        """What is written between steps."""
        return " " if self.sign == BLANKS else self.sign

    def read(self, nodes: Iterable[Node], scope: Sequence[ScopeLike]) -> list[Node]:
        """The nodes of one place, those that share steps inside one node for these."""
        root = Node("")
        inner: dict[tuple[Node, str], Node] = {}
        path, around, within = "", root, scope
        for node in nodes:
            text = self._stated(node.text)
            is_undone = text is not node.text
            if is_undone or not path or not text.startswith(path):
                path, around, within = "", root, scope
            rest = len(path)
            steps, within = self._steps(text, rest, within)
            for begin, end, after in steps:
                rest = after
                said = text[begin:end]
                if is_undone and not begin and self.undo is not None:
                    said = self.undo.undoing(said)
                around = _follow(said, node, begin, around, inner)
            path = "" if is_undone else text[:rest]
            if rest:
                node.column += rest + len(node.text) - len(text)
                node.text = text[rest:]
            # A path may also be gone through by longer ones, before it or after it.
            known = inner.setdefault((around, node.text), node)
            if known is node or not (known.children or node.children):
                around.children.append(node)
            else:
                known.children += node.children
        return root.children

    def _stated(self, text: str) -> str:
        """The statement that one is or undoes."""
        undone = self.undo.undone(text) if self.undo and not self.undo.after else None
        return text if undone is None else undone

    def _steps(
        self, text: str, at: int, scope: Sequence[ScopeLike]
    ) -> tuple[list[tuple[int, int, int]], Sequence[ScopeLike]]:
        """The steps of a statement from an offset on, but for the last.

        Where each begins, ends, and the next begins; also the rows among which the last one is.
        """
        steps: list[tuple[int, int, int]] = []
        while True:
            rest = text[at:]
            rows = [row for some in scope for row in some.candidates(rest)]
            found = self._step(text, at, rows)
            if found is None:
                return steps, scope
            end, after = found
            said = text[at:end]
            steps.append((at, end, after))
            scope = [row.scope for row in rows if row.scope.rows and row.pattern.match(said)]
            at = after

    def _step(self, text: str, at: int, rows: Sequence[RowLike]) -> tuple[int, int] | None:
        """Where the step that begins somewhere ends, and where the next begins."""
        rest = text[at:]
        if any(not row.scope.rows and row.pattern.match(rest) for row in rows):
            return None
        for is_known in (True, False):
            for row in rows:
                opening = self._opening(row, is_known=is_known)
                found = opening.match(text, at) if opening is not None else None
                if found is not None:
                    return found.start("after"), found.end("after")
        if self.sign.strip() == self.sign:
            return None
        # No row tells; but a sign with blanks around it is in no value.
        between = re.compile(self._between).search(text, at + 1)
        return None if between is None or between.end() == len(text) else between.span()

    @property
    def _between(self) -> str:
        """A regular expression for what is between steps."""
        if self.sign == BLANKS:
            return "[ \\t]+"
        blanks = "[ \\t]*" if self.sign.strip() != self.sign else ""
        return f"{blanks}{re.escape(self.sign.strip())}{blanks}"

    def _opening(self, row: RowLike, *, is_known: bool) -> re.Pattern[str] | None:
        """Finds where a row's step ends; if that is to be known, only before what may be in it."""
        key = row, is_known
        if key not in self._openings:
            inside = row.scope.rows
            heads = [inner.pattern.begins.rstrip(" ") for inner in inside]
            follows = (
                f"(?={'|'.join(map(re.escape, heads))})" if is_known and all(heads) else "(?=.)"
            )
            step = row.pattern.before(" \t" if self.sign == BLANKS else self.sign.strip()[:1] + " ")
            made = re.compile(f"{step}(?P<after>{self._between}){follows}") if inside else None
            self._openings[key] = made
        return self._openings[key]


def _follow(
    said: str, leaf: Node, begin: int, around: Node, inner: dict[tuple[Node, str], Node]
) -> Node:
    """The node that a step leads to; it begins with the statement if it isn't there yet."""
    known = inner.get((around, said))
    if known is None:
        known = Node(said, leaf.line, leaf.column + begin, [], leaf.start, leaf.end)
        inner[around, said] = known
        around.children.append(known)
    return known
