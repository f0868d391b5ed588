"""Reads configuration with a sheet: nodes to facts, and what was not understood."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field
from typing import Any

from reservoir.core.schema_types import nearest
from reservoir.dialects.carriers import Node, nodes_of
from reservoir.dialects.patterns import BadValueError
from reservoir.dialects.sheet import Row, Scope, Sheet
from reservoir.dialects.vocabulary import KINDS, Fact


@dataclass(frozen=True, order=True)
class Unread:
    """A line that was not understood, or a block that lacks something."""

    line: int
    column: int
    message: str


@dataclass(frozen=True)
class Reading:
    """What a configuration states."""

    device: Fact
    """The device; every other fact stands in it or deeper."""
    unread: tuple[Unread, ...]
    """What concerns lending and was not understood, by line."""
    lines: int
    """Lines with something on them, comments not counted."""
    foreign: int
    """Lines that have nothing to do with lending; they are no fault."""
    comments: int


def read_configuration(text: str, sheet: Sheet) -> Reading:
    """Read a configuration. Never fails: what can't be read is reported in ``unread``."""
    nodes = nodes_of(text, sheet)
    reader = _Reader(sheet)
    device = Fact("device", {})
    state = _Block(device, "", 1)
    for node in nodes.top:
        reader.take(node, sheet.scope, state)
    unread = [*reader.unread, *(Unread(*fault) for fault in nodes.faults)]
    return Reading(
        device=device,
        unread=tuple(sorted(unread)),
        lines=_count(nodes.top),
        foreign=reader.foreign,
        comments=nodes.comments,
    )


def _count(nodes: Iterable[Node]) -> int:
    return sum(1 + _count(node.children) if node.children else 1 for node in nodes)


@dataclass
class _Block:
    """A fact whose inside is being read."""

    fact: Fact
    label: str
    line: int
    said: dict[str, int] = field(default_factory=dict)
    """Fields that a line has given, and that line."""


_Match = tuple[Row, dict[str, Any]]
"""One way to understand a node."""


class _Reader:
    def __init__(self, sheet: Sheet) -> None:
        self.sheet = sheet
        self.unread: list[Unread] = []
        self.foreign = 0
        self.misshapen = 0
        """Lines about lending that have the shape of no row; a wrong value doesn't count."""

    def take(self, node: Node, scope: Scope, block: _Block) -> None:
        """Understand one node and what is inside it."""
        text = node.text
        candidates = scope.candidates(text)
        matches: list[_Match] = []
        fault: BadValueError | None = None
        for row in candidates:
            try:
                if (values := row.pattern.read(text)) is not None:
                    matches.append((row, values))
            except BadValueError as error:
                fault = fault or error
        if len(matches) > 1:
            self._best(matches, node, block)
        elif matches:
            self._accept(*matches[0], node, block)
        elif fault is not None:
            self._report(node, fault.message, fault.column)
            self._inside_of_unread(node, candidates)
        else:
            self._not_understood(node, scope, block, candidates)

    def _best(self, matches: list[_Match], node: Node, block: _Block) -> None:
        """Of several readings, the one under which most lines have the shape that they should.

        Then the one that leaves least unread; the sheet's order decides ties.
        """
        trials = []
        for match in matches:
            trial = _Reader(self.sheet)
            copy = _Block(Fact(block.fact.kind, dict(block.fact.fields)), block.label, block.line)
            trial._accept(*match, node, copy)
            trials.append((trial.misshapen, len(trial.unread), trial.foreign))
        self._accept(*matches[trials.index(min(trials))], node, block)

    def _accept(self, row: Row, values: dict[str, Any], node: Node, block: _Block) -> None:
        if row.conditions:
            values.update(row.conditions)
        for name, other in row.same_as.items():
            values[name] = values[other]
        if row.kind and row.kind != "device":
            fact = Fact(row.kind, values, [], node.line, node.column)
            block.fact.children.append(fact)
            if not row.children and not node.children:
                return
            inner = _Block(fact, fact.label, node.line, dict.fromkeys(values, node.line))
            self._children(node, row, inner)
            self._require(row, inner, node)
            return
        for name, value in values.items():
            self._set(name, value, row, node, block)
        self._children(node, row, block)

    def _set(self, name: str, value: Any, row: Row, node: Node, block: _Block) -> None:
        fields = block.fact.fields
        if row.repeat == "*" and not row.kind:
            fields[name] = (
                *fields.get(name, ()),
                *(value if isinstance(value, tuple) else (value,)),
            )
        elif name in block.said and fields[name] != value:
            first = block.said[name]
            self._report(
                node, f"{block.label or 'the device'} has its {name} already (line {first})"
            )
        else:
            fields[name] = value
            block.said[name] = node.line

    def _children(self, node: Node, row: Row, block: _Block) -> None:
        for child in node.children:
            self.take(child, row.scope, block)

    def _require(self, row: Row, block: _Block, node: Node) -> None:
        for child in row.children:
            if not child.kind and not child.repeat:
                missing = child.pattern.required_fields - block.fact.fields.keys()
                if missing:
                    self._report(node, f"{block.label} lacks its line: {child.pattern.shape}")

    def _not_understood(
        self, node: Node, scope: Scope, block: _Block, candidates: list[Row]
    ) -> None:
        inside = KINDS[block.fact.kind].lends
        lending = [row for row in candidates if _is_lending(row, block)]
        if not inside and not lending:
            near = self._near_lending_head(node, scope, block)
            if near is None:
                self.foreign += 1 + _count(node.children)
                return
            hint = f" (did you mean {near!r}?)"
        else:
            hint = self._hint(node, scope, candidates)
        self.misshapen += 1
        where = f", inside {block.label} (line {block.line})" if block.label else ""
        self._report(node, f"not understood{where}: {node.text!r}{hint}")
        self._inside_of_unread(node, candidates)

    def _hint(self, node: Node, scope: Scope, candidates: list[Row]) -> str:
        if candidates:
            row = max(candidates, key=lambda row: row.pattern.progress(node.text))
            column = row.pattern.progress(node.text)
            return f"; expected a line like: {row.pattern.shape}" if column else ""
        near = nearest(node.text.split(" ")[0], scope.by_head)
        return f" (did you mean {near!r}?)" if near else ""

    def _near_lending_head(self, node: Node, scope: Scope, block: _Block) -> str | None:
        """A row about lending that the line's first word nearly is."""
        word = node.text.split(" ")[0]
        heads = [head for head, rows in scope.by_head.items() if _is_lending(rows[0], block)]
        near = nearest(word, heads)
        return near if near and len(word) > 2 and abs(len(near) - len(word)) < 2 else None

    def _inside_of_unread(self, node: Node, candidates: list[Row]) -> None:
        """What stands inside a line that was not understood can't be placed either."""
        for child in node.children:
            self._report(child, f"not read, because line {node.line} was not understood")
            self._inside_of_unread(child, candidates)

    def _report(self, node: Node, message: str, column: int = 0) -> None:
        self.unread.append(Unread(node.line, node.column + column, message))


def _is_lending(row: Row, block: _Block) -> bool:
    return KINDS[row.kind or block.fact.kind].lends
