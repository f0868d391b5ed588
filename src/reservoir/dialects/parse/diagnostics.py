"""Collects what a reader does not understand, so that one mistake is reported once."""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import replace
from itertools import chain
from typing import Any

from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.notations.nodes import Node, all_nodes
from reservoir.dialects.parse.not_understood import NotUnderstood, meant_among, stated_by
from reservoir.dialects.parse.open_fact import OpenFact
from reservoir.dialects.sheet.model import Row, Scope


class Diagnostics:
    """What a reader did not understand."""

    def __init__(self) -> None:
        """Nothing yet."""
        self.not_understood: list[NotUnderstood] = []
        self._lost: set[Row] = set()
        """Rows that a line was meant for of which an earlier step was not understood."""

    def ownerless(self, row: Row, wanted: tuple[Any, ...], node: Node, block: OpenFact) -> None:
        """Report what names a fact that isn't there, unless the lack of that is reported."""
        kind, names = row.links[0].partition(".")[0], [str(value) for value in wanted]
        lost = (
            node
            for meant, nodes in block.misread.items()
            if meant.kind == kind
            for node in (*nodes, *all_nodes(chain.from_iterable(node.children for node in nodes)))
        )
        if None in wanted or any(name in node.text for node in lost for name in names):
            return
        fields = (link.partition(".")[2] for link in row.links)
        named = ", ".join(map(" ".join, zip(fields, names, strict=True)))
        message = f"there is no {kind} with {named}"
        if not self.gave_up_before(message, 1, block):
            self.say(node, message, states=stated_by(row), block=block)

    def require(self, rows: Iterable[Row], block: OpenFact, node: Node) -> None:
        """Report the rows that must be there and aren't."""
        missing = list(self._missing(rows, block))
        if missing:
            owner, lines = block.label or "the device", "lines" if missing[1:] else "line"
            shapes = " and ".join(row.pattern.shape for row in missing)
            states = frozenset[str]().union(*map(stated_by, missing))
            self.say(node, f"{owner} is missing its {lines}: {shapes}", states=states, block=block)

    def _missing(self, rows: Iterable[Row], block: OpenFact) -> Iterator[Row]:
        for row in rows:
            if row.kind or row.repeat or row.links or row in block.misread or row in self._lost:
                continue
            if row.is_frame:
                yield from self._missing(row.children, block)
            elif lacking := row.required - block.fact.fields.keys():
                parts = {name.partition(":")[0] for name in block.fact.fields if ":" in name}
                if lacking - parts - block.halves - _inner(row, block.fact):
                    yield row

    def whole(
        self, node: Node, block: OpenFact, row: Row | None, message: str, column: int = 0
    ) -> None:
        """Report a node that was not understood; what is inside it can't be placed either."""
        if row is not None:
            block.misread.setdefault(row, []).append(node)
        inside = list(all_nodes(node.children))
        lines = len({inner.line for inner in (node, *inside)})
        states = stated_by(row)
        if row is not None and inside and lines == 1:  # a path: it says what its last step says
            states |= self._lost_inside(node, row.scope)
        if not (node.children and self.gave_up_before(node.text, lines, block)):
            self.say(node, message, column, states, block, lines)

    def _lost_inside(self, node: Node, scope: Scope) -> frozenset[str]:
        """What is inside a node that was not understood is about."""
        states: frozenset[str] = frozenset()
        for child in node.children:
            row = meant_among(child.text, scope, scope.candidates(child.text)).row
            if row is not None:
                self._lost.add(row)
                states |= stated_by(row) | self._lost_inside(child, row.scope)
        return states

    def gave_up_before(self, what: str, lines: int, block: OpenFact) -> bool:
        """Whether the same was given up in a block; these lines then count there too."""
        place = block.given_up.setdefault(what, len(self.not_understood))
        if place == len(self.not_understood):
            return False
        first = self.not_understood[place]
        self.not_understood[place] = replace(first, lines=first.lines + lines)
        return True

    def say(
        self,
        node: Node,
        message: str,
        column: int = 0,
        states: frozenset[str] = frozenset(),
        block: OpenFact | None = None,
        lines: int = 1,
    ) -> None:
        """Report something that is wrong with a node, in a block if that matters."""
        within = block.fact if block is not None else None
        place = node.line, node.column + max(column - node.elsewhere, 0)
        self.not_understood.append(NotUnderstood(*place, message, lines, states, within))


def _inner(row: Row, fact: Fact) -> set[str]:
    """The fields of facts inside that a row states, and that are there."""
    kinds = row.pattern.inner_kinds
    inside = (child for child in fact.children if child.kind in kinds)
    return {f"{child.kind}.{name}" for child in inside for name in child.fields}
