"""Reads configuration with a sheet: nodes to facts, and what was not understood."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from operator import attrgetter
from typing import Any

from reservoir.core.addressing import MalformedValueError
from reservoir.core.schema_types import nearest
from reservoir.dialects.block import Block, by_link, first_like
from reservoir.dialects.carriers.nodes import Node, Nodes
from reservoir.dialects.collector import without_collector
from reservoir.dialects.patterns import BadValueError, head_of, joined_parts
from reservoir.dialects.sheet import Row, Scope, Sheet, kind_of
from reservoir.dialects.undoing import taken_back
from reservoir.dialects.vocabulary import KINDS, RUNNING_NUMBER, Fact


@dataclass(frozen=True, order=True)
class Unread:
    """A line that was not understood, or a block that lacks something."""

    line: int
    column: int
    message: str
    lines: int = 1
    """As many lines were not read because of it: its own, and those inside it."""


@dataclass(frozen=True)
class Reading:
    """What a configuration states."""

    device: Fact
    """The device; every other fact stands in it or deeper."""
    unread: tuple[Unread, ...]
    """What concerns lending and was not understood, by line."""
    lines: int
    """Lines with something on them, comments not counted."""
    understood: int
    """Lines that begin something that was understood."""
    foreign: int
    """Lines that have nothing to do with lending; they are no fault."""
    comments: int

    @property
    def unread_lines(self) -> int:
        """Lines that concern lending and were not understood."""
        return sum(unread.lines for unread in self.unread)


@dataclass(frozen=True)
class Said:
    """How a node was understood."""

    row: Row
    values: Mapping[str, Any]
    """What its own line states."""
    number: int | None
    """Its running number, if it has one."""
    fact: Fact
    """The fact that it opens or adds to."""
    owner: tuple[Any, ...] = ()
    """The fields by which it names the fact that it belongs to."""


FAST_FROM_LINES = 2_000
"""Shorter texts are read before the fast road's expressions would have been compiled."""


def read_configuration(text: str, sheet: Sheet) -> Reading:
    """Read a configuration. Never fails: what can't be read is reported in ``unread``."""
    if text.count("\n") < FAST_FROM_LINES:
        return read_exactly(text, sheet)
    return read_fast(text, sheet)


def read_exactly(text: str, sheet: Sheet) -> Reading:
    """Read a configuration node by node."""
    return _understood(sheet.carrier.read(text), sheet, text)


def read_nodes(text: str, sheet: Sheet) -> tuple[Reading, Nodes, dict[int, Said]]:
    """Read a configuration node by node; also the nodes, and by the ``id`` of each what it says."""
    nodes = sheet.carrier.read(text)
    said: dict[int, Said] = {}
    return _understood(nodes, sheet, text, said), nodes, said


def read_fast(text: str, sheet: Sheet) -> Reading:
    """Read well-formed blocks in bulk and the rest node by node; the result is the same."""
    from reservoir.dialects.fast_reader import fast_reader  # late: costs NumPy

    with without_collector():
        bulk = fast_reader(sheet).understand(text)
        if bulk is None:
            return read_exactly(text, sheet)
        nodes = sheet.carrier.read(bulk.rest)
        numbers = bulk.rest_lines
        for node in _all_nodes(nodes.top):
            node.line = numbers[node.line - 1]
        faults = [fault._replace(line=numbers[fault.line - 1]) for fault in nodes.faults]
        reading = _understood(Nodes(nodes.top, nodes.comments, faults), sheet, bulk.rest)
        device = reading.device
        device.children += bulk.facts
        if len(device.children) > len(bulk.facts):
            device.children.sort(key=attrgetter("line"))
        return replace(
            reading,
            lines=reading.lines + bulk.lines,
            understood=reading.understood + bulk.understood,
        )


def _understood(
    nodes: Nodes, sheet: Sheet, text: str, said: dict[int, Said] | None = None
) -> Reading:
    reader = _Reader(sheet, said)
    device = Block(Fact("device", {}), "", 1)
    reader.take_all(nodes.top, sheet.scope, device)
    reader.finish(device)
    unread = [*reader.unread, *(Unread(*fault) for fault in nodes.faults)]
    return Reading(
        device=device.fact,
        unread=tuple(sorted(unread)),
        lines=sum(1 for line in text.split("\n") if line.strip(" \t\r")) - nodes.comments,
        understood=len({node.line for node in _all_nodes(nodes.top) if node.kind}),
        foreign=len(reader.foreign),
        comments=nodes.comments,
    )


def _all_nodes(nodes: Iterable[Node]) -> Iterator[Node]:
    for node in nodes:
        yield node
        if node.children:
            yield from _all_nodes(node.children)


_Match = tuple[Row, dict[str, Any]]
"""One way to understand a node."""


class _Reader:
    def __init__(self, sheet: Sheet, said: dict[int, Said] | None = None) -> None:
        self.sheet = sheet
        self.said = said
        """By the ``id`` of each node how it was understood, if somebody wants to know."""
        self.undo_words = sheet.undo_words
        self.unread: list[Unread] = []
        self.foreign: set[int] = set()
        """Lines about other things."""
        self.misshapen = 0
        """Nodes about lending that have the shape of no row; a wrong value doesn't count."""

    def take_all(self, nodes: Iterable[Node], scope: Scope, block: Block) -> None:
        """Understand what stands in a block."""
        for node in nodes:
            self.take(node, scope, block)

    def take(self, node: Node, scope: Scope, block: Block) -> None:
        """Understand one node and what is inside it."""
        text = node.text
        if self.undo_words and head_of(text) in self.undo_words:
            self._take_back(node, scope, block)
            return
        candidates = scope.candidates(text)
        matches: list[_Match] = []
        misread: list[tuple[Row, BadValueError]] = []
        for row in candidates:
            try:
                if (values := row.pattern.read(text)) is not None:
                    matches.append((row, values))
            except BadValueError as error:
                misread.append((row, error))
        if len(matches) > 1:
            self._best(matches, node, block)
        elif matches:
            self._accept(*matches[0], node, block)
        elif misread:
            row, fault = misread[0]
            block.misread.add(row)
            self._report_whole(node, fault.message, fault.column)
        else:
            self._not_understood(node, scope, block, candidates)

    def _take_back(self, node: Node, scope: Scope, block: Block) -> None:
        """Understand a line that takes back what others have said."""
        try:
            done = self._taken_back(node, scope, block, inside=False)
            if not done and block.earlier is not None:
                there = Block(block.earlier, block.label, block.line)
                done = self._taken_back(node, scope, there, inside=False)
        except BadValueError as error:
            self._report(node, error.message, error.column)
            return
        if done:
            block.taken_back += 1
            for inner in (node, *_all_nodes(node.children)):
                inner.kind = block.fact.kind
        else:
            self._report(node, f"there is nothing here for this to take back: {node.text!r}")

    def _taken_back(self, node: Node, scope: Scope, block: Block, *, inside: bool) -> bool:
        """Take back what a line, or a step of a path, says; whether it was there."""
        for row, values, inner in taken_back(node, scope, self.sheet, inside=inside):
            if inner.children and not row.pieces:
                if self._taken_back_inside(row, values, inner, block):
                    return True
                continue
            said = Block(Fact(block.fact.kind, {}), "", node.line)
            if inner is node and not inside:  # a line of its own for taking back
                said.fact = Fact(block.fact.kind, values if row.adds_fields else {})
                gone = [] if row.adds_fields else [Fact(row.kind, values)]
                if row.links:
                    said.waiting = [(row, fact, node) for fact in gone]
                else:
                    said.fact.children = gone
            else:
                _Reader(self.sheet)._accept(row, values, inner, said)
            if block.withdraw(said):
                return True
        return False

    def _taken_back_inside(
        self, row: Row, values: dict[str, Any], node: Node, block: Block
    ) -> bool:
        """Take back what stands deeper in a path."""
        fact = first_like(block.fact.children, row.kind, values)
        if fact is None:
            return False
        there = Block(fact, fact.label, node.line)
        return all(self._taken_back(n, row.scope, there, inside=True) for n in node.children)

    def _best(self, matches: list[_Match], node: Node, block: Block) -> None:
        """Of several readings, the one under which most nodes have the shape that they should.

        Then the one that leaves least unread; the sheet's order decides ties.
        """
        trials = []
        for row, values in matches:
            trial = _Reader(self.sheet)
            copy = Block(Fact(block.fact.kind, dict(block.fact.fields)), block.label, block.line)
            trial._accept(row, dict(values), node, copy)
            lost = sum(unread.lines for unread in trial.unread)
            trials.append((trial.misshapen, lost, len(trial.foreign)))
        self._accept(*matches[trials.index(min(trials))], node, block)

    def _accept(self, row: Row, values: dict[str, Any], node: Node, block: Block) -> None:
        node.kind = kind_of(row)
        if row.conditions:
            values.update(row.conditions)
        number = values.pop(RUNNING_NUMBER, None)
        if row.owner is not None and row.owner.is_implied:
            block = self._implied(row.owner, node, block)
        if self.said is not None:
            self.said[id(node)] = Said(row, dict(values), number, block.fact)
        if row.adds_fields and not row.links:
            for name, value in values.items():
                self._set(name, value, row, node, block)
            self.take_all(node.children, row.scope, block)
            self._require(row.pieces, block, node)
            return
        fact = Fact(node.kind, values, [], node.line, node.column)
        if (row.children or node.children) and not self._inside(row, fact, node, block):
            return
        for name, other in row.same_as.items():
            if other in values:
                values.setdefault(name, values[other])
        if self.said is not None:
            owner = tuple(fact.get(link) for link in row.links)
            self.said[id(node)] = replace(self.said[id(node)], fact=fact, owner=owner)
        if row.links:
            block.waiting.append((row, fact, node))
        else:
            block.fact.children.append(fact)

    def _inside(self, row: Row, fact: Fact, node: Node, block: Block) -> bool:
        """Understand what is inside a fact; false if that only takes back what was said of it."""
        inner = Block(fact, fact.label, node.line, dict.fromkeys(fact.fields, node.line))
        if self.undo_words:
            inner.earlier = first_like(block.fact.children, row.kind, fact.fields)
        self.take_all(node.children, row.scope, inner)
        if inner.earlier is not None and 0 < inner.taken_back == len(node.children):
            return False
        inner.label = fact.label
        fact.said = inner.said
        self._join_parts(inner, node)
        self._require(row.children, inner, node)
        self.finish(inner)
        return True

    def _implied(self, row: Row, node: Node, block: Block) -> Block:
        """The block of a fact that opens with the first of the lines inside it."""
        if row not in block.implied:
            fact = Fact(row.kind, dict(row.conditions), [], node.line, node.column)
            block.fact.children.append(fact)
            block.implied[row] = Block(fact, f"{row.kind} of {block.label}", node.line)
        return block.implied[row]

    def finish(self, block: Block) -> None:
        """Once all of a block is read: what lacks something, and what waits for its owner."""
        for row, implied in block.implied.items():
            at = Node("", implied.line, implied.fact.column)
            self._join_parts(implied, at)
            self._require(row.children, implied, at)
        owners: dict[tuple[str, ...], dict[tuple[Any, ...], Fact]] = {}
        for row, fact, node in sorted(block.waiting, key=lambda entry: entry[0].link_depth):
            links = row.links
            if links not in owners:
                owners[links] = by_link(block.fact, links)
            wanted = tuple(fact.fields.pop(link, None) for link in links)
            owner = owners[links].get(wanted)
            if owner is None:
                if None not in wanted:  # else its lack is reported already
                    named = ", ".join(
                        f"{link.partition('.')[2]} {value}"
                        for link, value in zip(links, wanted, strict=True)
                    )
                    self._report(node, f"there is no {links[0].partition('.')[0]} with {named}")
            elif row.adds_fields:
                label = owner.label
                for name, value in fact.fields.items():
                    if owner.fields.setdefault(name, value) != value:
                        self._report(node, f"{label} has its {name} already (line {owner.line})")
            else:
                owner.children.append(fact)

    def _set(self, name: str, value: Any, row: Row, node: Node, block: Block) -> None:
        fields = block.fact.fields
        if row.repeat == "*":
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

    def _join_parts(self, block: Block, node: Node) -> None:
        """Put together the values whose parts stood in several lines."""
        fields = block.fact.fields
        parts: dict[str, dict[str, int]] = {}
        for key in [key for key in fields if ":" in key]:
            name, _, part = key.partition(":")
            parts.setdefault(name, {})[part] = fields.pop(key)
        if not parts:
            return
        try:
            joined = joined_parts(parts)
        except MalformedValueError as error:
            self._report(node, f"{error}, in: {block.label}")
            return
        for key, value in joined.items():
            name, _, part = key.partition(":")
            if part:
                self._report(node, f"{block.label} has its {name} only in part")
            else:
                fields[name] = value

    def _require(self, rows: Iterable[Row], block: Block, node: Node) -> None:
        """Report the rows that must be there and aren't."""
        for row in rows:
            if row.kind or row.repeat or row.links or row in block.misread:
                continue
            if row.is_frame:
                self._require(row.children, block, node)
            elif row.required - block.fact.fields.keys():
                owner = block.label or "the device"
                self._report(node, f"{owner} lacks its line: {row.pattern.shape}")

    def _not_understood(
        self, node: Node, scope: Scope, block: Block, candidates: list[Row]
    ) -> None:
        inside = KINDS[block.fact.kind].lends
        if not inside and not any(row.lends for row in candidates):
            near = self._near_lending_head(node, scope)
            if near is None:
                self.foreign.add(node.line)
                self.foreign.update(inner.line for inner in _all_nodes(node.children))
                return
            hint = f" (did you mean {near!r}?)"
        else:
            hint = self._hint(node, scope, candidates)
        self.misshapen += 1
        where = f", inside {block.label} (line {block.line})" if block.label else ""
        self._report_whole(node, f"not understood{where}: {node.text!r}{hint}")

    def _hint(self, node: Node, scope: Scope, candidates: list[Row]) -> str:
        if candidates:
            row = max(candidates, key=lambda row: row.pattern.progress(node.text))
            begun = row.pattern.head is not None or row.pattern.progress(node.text)
            return f"; expected a line like: {row.pattern.shape}" if begun else ""
        near = nearest(scope.head_of(node.text), scope.by_head)
        return f" (did you mean {near!r}?)" if near else ""

    def _near_lending_head(self, node: Node, scope: Scope) -> str | None:
        """A row about lending that the text's first word nearly is."""
        word = scope.head_of(node.text)
        heads = [head for head, rows in scope.by_head.items() if rows[0].lends]
        near = nearest(word, heads)
        return near if near and len(word) > 2 and abs(len(near) - len(word)) < 2 else None

    def _report_whole(self, node: Node, message: str, column: int = 0) -> None:
        """Report a node that was not understood; what stands inside it can't be placed either."""
        inside = len({child.line for child in _all_nodes(node.children)} - {node.line})
        if inside:
            lines = "line inside it is" if inside == 1 else "lines inside it are"
            message += f"; the {inside:,} {lines} not read either"
        self.unread.append(Unread(node.line, node.column + column, message, 1 + inside))

    def _report(self, node: Node, message: str, column: int = 0) -> None:
        self.unread.append(Unread(node.line, node.column + column, message))
