"""What was not understood in a configuration, and what it was probably meant to be."""

from __future__ import annotations

from bisect import bisect, bisect_left
from collections.abc import Iterable
from dataclasses import dataclass, field
from itertools import chain
from typing import NamedTuple

from reservoir.core.wording import counted, nearest
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.facts.kinds import KINDS
from reservoir.dialects.notations.nodes import Fault, Node
from reservoir.dialects.sheet.model import Row, Scope, kind_of
from reservoir.dialects.sheet.patterns import BadValueError


@dataclass(frozen=True, order=True)
class NotUnderstood:
    """A line that was not understood, or a block that lacks something."""

    line: int
    column: int
    text: str
    """What is wrong there."""
    lines: int = 1
    """As many lines were not read because of it: its own, those inside it, others like it."""
    states: frozenset[str] = field(default=frozenset(), compare=False)
    """What it seems to be about: kinds of facts, and fields of the fact that it is in."""
    within: Fact | None = field(default=None, compare=False)
    """The fact that it is in."""

    @property
    def message(self) -> str:
        """What is wrong, and how much was skipped because of it."""
        more = self.lines - 1
        if not more:
            return self.text
        return f"{self.text}; {counted(more, 'more line')} skipped because of it"


EVERYTHING = frozenset(KINDS).union(*(kind.fields for kind in KINDS.values()))
"""What a text is about whose notation is broken."""


def with_faults(unread: Iterable[NotUnderstood], faults: Iterable[Fault]) -> list[NotUnderstood]:
    """What was not understood, and what is broken; not what is only wrong because of that."""
    by_line: dict[int, list[NotUnderstood]] = {}
    for found in sorted(unread):
        by_line.setdefault(found.line, []).append(found)
    known = {(found.line, found.column) for some in by_line.values() for found in some}
    lines = list(by_line)
    result: list[NotUnderstood] = []
    for fault in faults:
        if fault.opened in known:
            continue
        covered = slice(bisect_left(lines, fault.since or fault.line), bisect(lines, fault.line))
        lost = sum(found.lines for line in lines[covered] for found in by_line.pop(line))
        del lines[covered]
        result.append(NotUnderstood(*fault[:3], 1 + lost, EVERYTHING))
    return [*chain.from_iterable(by_line.values()), *result]


class Meant(NamedTuple):
    """The row that a text seems to have been meant for."""

    row: Row | None
    hint: str
    """The end of a message: what was expected, or the word that is nearly right."""


def stated_by(row: Row | None) -> frozenset[str]:
    """What a line of a row is about; see :attr:`NotUnderstood.states`."""
    if row is None:
        return frozenset()
    kind = kind_of(row)
    if not row.adds_fields:
        return frozenset({kind})
    is_lost = kind not in _MANY_SIDED or row.mentioned & {*KINDS[kind].identity}
    states = row.mentioned | {"address"} if row.mentioned & _ADDRESSES else row.mentioned
    return states | {kind} if is_lost else states


_ADDRESSES = frozenset(("addresses", "secondary"))
"""Fields that state addresses of an interface together."""


_MANY_SIDED = ("device", "interface", "pool")
"""Kinds of which much is left when one of their lines isn't understood, if it isn't the name."""


def meant_among(text: str, scope: Scope, candidates: list[Row]) -> Meant:
    """Which of the rows that begin like a text it was meant for; or of those that nearly do."""
    if candidates:
        row = _furthest(text, candidates)
        begun = row.pattern.head is not None or row.pattern.progress(text)
        return Meant(row, f"; expected a line like: {row.pattern.shape}") if begun else NOBODY
    return _nearly(text, scope, nearest(scope.head_of(text), scope.by_head))


def meant_about_dhcp(node: Node, scope: Scope) -> Meant:
    """A row about DHCP whose first word the node's first word nearly is."""
    word = scope.head_of(node.text)
    heads = [head for head, rows in scope.by_head.items() if rows[0].about_dhcp]
    near = nearest(word, heads)
    meant = _nearly(node.text, scope, near)
    if meant.row is None or near is None:
        return NOBODY
    is_like = len(word) > 2 and abs(len(near) - len(word)) < 2
    inside = meant.row.scope
    known = sum(inside.head_of(child.text) in inside.by_head for child in node.children)
    return meant if is_like or 2 * known > len(node.children) else NOBODY


def _nearly(text: str, scope: Scope, near: str | None) -> Meant:
    if near is None:
        return NOBODY
    corrected = text.replace(scope.head_of(text), near, 1)
    return Meant(_furthest(corrected, scope.by_head[near]), f" (did you mean {near!r}?)")


def _furthest(text: str, rows: list[Row]) -> Row:
    """The row that a text follows as far as possible: whole, whole but for a value, in part."""

    def progress(row: Row) -> float:
        try:
            whole = row.pattern.read(text) is not None
        except BadValueError:
            whole = True
        return float("inf") if whole else row.pattern.progress(text)

    return max(rows, key=progress)


NOBODY = Meant(None, "")
