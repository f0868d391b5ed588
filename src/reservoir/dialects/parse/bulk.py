"""Makes the facts of plain blocks: of all nodes that are alike at once, values by the column.

A block is plain if nothing in it is to be reported and nothing undoes anything. What it states
then doesn't depend on what stands around it, so the facts of such blocks are made before the
nodes are taken one by one. Every other block is left to the node reader, whose rules these are.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from enum import IntEnum
from heapq import merge
from itertools import compress, repeat
from operator import itemgetter
from typing import Any, NamedTuple

from reservoir.dialects.facts.fact import Fact, facts_at
from reservoir.dialects.facts.kinds import RUNNING_NUMBER
from reservoir.dialects.notations.nodes import Node, all_nodes
from reservoir.dialects.parse.columns import read_columns
from reservoir.dialects.parse.node_reader import Made, Said
from reservoir.dialects.parse.whole_lines import whole_lines
from reservoir.dialects.sheet.model import Row, Scope, Sheet, kind_of

AT_ONCE = 4_096
"""Blocks that are looked at together: enough for columns, few enough to stay in the cache."""


class _State(IntEnum):
    """What is known of a node with all that is in it, or of a fact."""

    PLAIN = 0
    WRONG = 1
    """The node reader would report something."""
    UNSURE = 2
    """Only the node reader can tell."""


class _Lines(NamedTuple):
    """Nodes that begin alike, or that are one row's: their columns."""

    places: list[int]
    """Where they stand among the nodes that are looked at together; ascending."""
    nodes: list[Node]
    owners: list[int]
    """The number of the fact that each is in."""
    fields: dict[str, list[Any]]
    """What each states, once they are some row's; None where it doesn't state a field."""

    def only(self, chosen: Sequence[object]) -> _Lines:
        """Some of them, as nobody's lines."""
        return _Lines(
            list(compress(self.places, chosen)),
            list(compress(self.nodes, chosen)),
            list(compress(self.owners, chosen)),
            {},
        )

    def read(self, row: Row) -> tuple[_Lines, _Lines]:
        """Those that are a row's, with what they state, and the others."""
        matching, fields = read_columns(row.pattern, [node.text for node in self.nodes])
        its, others = self, _NO_LINES
        if not all(matching):
            its, others = self.only(matching), self.only([not match for match in matching])
        settled = {name: [value] * len(its.nodes) for name, value in row.conditions.items()}
        return its._replace(fields=fields | settled), others

    def with_others(self, others: _Lines) -> _Lines:
        """These and others, in their order, as nobody's lines."""
        both = (zip(*lines[:3], strict=True) for lines in (self, others))
        lines = list(merge(*both, key=itemgetter(0)))
        places, nodes, owners = map(list, zip(*lines, strict=True)) if lines else ([], [], [])
        return _Lines(places, nodes, owners, {})

    def numbers(self) -> Iterable[int | None]:
        """The running number of each, which is no field of a fact; they then have it no more."""
        return self.fields.pop(RUNNING_NUMBER, None) or repeat(None, len(self.nodes))

    def values(self) -> list[dict[str, Any]]:
        """The fields of each."""
        if not self.fields:
            return [{} for _ in self.nodes]
        # A dict that begins with one field and is given the others takes a third of the time of
        # one that is made of pairs.
        (name, first), *others = self.fields.items()
        made = [{name: value} if value is not None else {} for value in first]
        for name, column in others:
            for fields, value in zip(made, column, strict=True):
                if value is not None:
                    fields[name] = value
        return made

    @property
    def with_part(self) -> list[bool]:
        """Which of them state only a part of a value."""
        parts = [column for name, column in self.fields.items() if ":" in name]
        return [any(value is not None for value in values) for values in zip(*parts, strict=True)]


_States = bytes | bytearray
"""A state for each of some nodes or facts."""

_NO_LINES = _Lines([], [], [], {})


@dataclass
class _Facts:
    """Facts that are being made."""

    facts: list[Fact]
    states: bytearray
    lists: dict[tuple[int, str], Row] = field(default_factory=dict)
    """For each list of values, by its fact's number and its field, the row that adds to it."""
    implied: set[tuple[int, Row]] = field(default_factory=set)
    """The facts inside each that open without a line of their own."""

    def spoil_unsure(self, numbers: Iterable[int], states: _States) -> None:
        """Note those in which something is unsure."""
        if _State.UNSURE in states:
            self.spoil(compress(numbers, (s == _State.UNSURE for s in states)), _State.UNSURE)

    def spoil(self, numbers: Iterable[int], state: int) -> None:
        """Note what keeps some of them from being plain."""
        for number in numbers:
            self.states[number] = max(self.states[number], state)


_Placed = dict[int, list[Fact]]
"""The facts of some nodes, by the nodes' places."""

_Take = Callable[[Row, _Lines], _States]
"""Understands lines as a row's; the state of each."""


class BulkReader:
    """Makes the facts of plain blocks."""

    def __init__(self, sheet: Sheet, said: dict[Node, Said] | None) -> None:
        """Take the sheet, and where to note how each node was understood, if that is wanted."""
        self._undo_words = sheet.undo_words
        self._notation = sheet.notation
        self._said = said
        self.made: dict[Node, Made] = {}
        """What was made of each plain block, by its first node."""

    def make(self, nodes: Sequence[Node], scope: Scope) -> None:
        """Make the facts of the plain blocks among some nodes and inside those that hold them."""
        for begin in range(0, len(nodes), AT_ONCE):
            some = nodes[begin : begin + AT_ONCE]
            whole = None if self._said is not None else self._notation.uncut_lines(some)
            self._make_some(self._left_by_whole_lines(some, whole, scope) if whole else some, scope)

    def _left_by_whole_lines(
        self, nodes: Sequence[Node], lines: Sequence[str], scope: Scope
    ) -> Sequence[Node]:
        """Make the facts of the lines that are as their sheet writes them; the other nodes."""
        places: dict[str, list[int]] = {}
        for place, head in enumerate(scope.heads_of(lines)):
            places.setdefault(head, []).append(place)
        made: set[int] = set()
        for head, some in places.items():
            rows = () if head in self._undo_words else whole_lines(tuple(scope.rows_for(head)))
            for row in rows:
                left = [place for place in some if place not in made]
                matching, fields = row.read([lines[place] for place in left])
                its = list(compress(left, matching))
                self._keep_whole(row.row, [nodes[place] for place in its], fields)
                made.update(its)
        return [node for place, node in enumerate(nodes) if place not in made]

    def _keep_whole(self, row: Row, nodes: list[Node], fields: dict[str, list[Any]]) -> None:
        settled = {name: [value] * len(nodes) for name, value in row.conditions.items()}
        values = _Lines([], nodes, [], fields | settled).values()
        _fill_equal(row, values)
        kind = kind_of(row)
        for node, fact in zip(nodes, facts_at(kind, values, nodes), strict=True):
            node.kind = kind
            self.made[node] = row, fact

    def _make_some(self, nodes: Sequence[Node], scope: Scope) -> None:
        for head, lines in self._alike(nodes, [0] * len(nodes), scope).items():
            if head not in self._undo_words:
                rows = scope.rows_for(head)
                left = self._try(rows, lines, lambda row, its: self._keep(row, its, rows))  # noqa: B023
                for node in left.nodes:
                    self._forget(node)

    def _alike(
        self, nodes: Sequence[Node], owners: Sequence[int], scope: Scope
    ) -> dict[str, _Lines]:
        """The nodes by the word that their rows are found by; all together that have no such."""
        places: dict[str, list[int]] = {"": []}
        places |= {word: [] for word in (*scope.by_head, *self._undo_words)}
        others = places[""]
        for place, head in enumerate(scope.heads_of([node.text for node in nodes])):
            places.get(head, others).append(place)
        return {
            head: _Lines(some, [nodes[n] for n in some], [owners[n] for n in some], {})
            for head, some in places.items()
            if some
        }

    def _try(self, rows: Sequence[Row], lines: _Lines, take: _Take) -> _Lines:
        """Understand lines as the first row's under which nothing is wrong; what is left."""
        for row in rows:
            its, lines = lines.read(row)
            if its.nodes:
                states = take(row, its)
                if _State.WRONG in states:
                    wrong = [state == _State.WRONG for state in states]
                    lines = lines.with_others(its.only(wrong))
        return lines

    def _keep(self, row: Row, lines: _Lines, rivals: Sequence[Row]) -> _States:
        """Keep the facts that are plain, or those inside a row that opens none."""
        if not row.opens_fact:
            if len(rivals) == 1:
                self.make([child for node in lines.nodes for child in node.children], row.scope)
            return bytes([_State.UNSURE]) * len(lines.nodes)
        if row.is_in_implied:
            return bytes([_State.UNSURE]) * len(lines.nodes)
        made = self._facts(row, lines)
        plain = [state == _State.PLAIN for state in made.states]
        facts = zip(repeat(row), compress(made.facts, plain), strict=False)
        self.made.update(zip(compress(lines.nodes, plain), facts, strict=False))
        if _State.UNSURE in made.states:
            for node, state in zip(lines.nodes, made.states, strict=True):
                if state == _State.UNSURE:
                    self._forget(node)
        return made.states

    def _forget(self, node: Node) -> None:
        """Leave a node as it was for the node reader to understand."""
        for inner in (node, *all_nodes(node.children)):
            inner.kind = ""
            if self._said is not None:
                self._said.pop(inner, None)

    def _facts(self, row: Row, lines: _Lines) -> _Facts:
        """The facts that lines open, with all that is in them."""
        kind, nodes, numbers = kind_of(row), lines.nodes, lines.numbers()
        values = lines.values()
        facts = facts_at(kind, values, nodes)
        own = [dict(one) for one in values] if self._said is not None else []
        made = _Facts(facts, bytearray(len(facts)))
        for node in nodes:
            node.kind = kind
        made.spoil(compress(range(len(facts)), lines.with_part), _State.UNSURE)
        if row.children or any(node.children for node in nodes):
            inside = _inside(nodes, range(len(nodes)))
            placed = self._fill(made, *inside, row.scope)
            for place in sorted(placed):
                facts[inside[1][place]].children += placed[place]
            _require(made, range(len(facts)), row.needed_inside)
        _fill_equal(row, values)
        if self._said is not None:
            for node, fact, says, number in zip(nodes, facts, own, numbers, strict=True):
                owner = tuple(fact.get(link) for link in row.links)
                self._said[node] = Said(row, says, number, fact, owner)
        return made

    def _fill(
        self, into: _Facts, nodes: Sequence[Node], owners: Sequence[int], scope: Scope
    ) -> _Placed:
        """Put what nodes state into the facts that they are in; the facts to be put there too."""
        placed: _Placed = {}
        implied: dict[Row, list[tuple[Row, _Lines]]] = {}
        for head, every in sorted(self._alike(nodes, owners, scope).items(), key=scope.tells_most):
            rows, lines = scope.rows_for(head), every
            if head in self._undo_words:
                into.spoil(lines.owners, _State.UNSURE)
                continue
            if into.states.count(0) < len(
                into.states
            ):  # what is wrong already needs no more to be understood
                lines = lines.only([not into.states[owner] for owner in lines.owners])

            def take(row: Row, its: _Lines, rows: Sequence[Row] = rows) -> _States:
                if row.owner is not None and row.owner.is_implied and not row.opens_fact:
                    implied.setdefault(row.owner, []).append((row, its))
                    states = _also_read_as(its, row, rows)
                elif row.opens_fact:
                    states = self._place(row, its, placed)
                else:
                    states = self._add(into, row, its, placed)
                    if len(rows) > 1:
                        states = bytes(map(max, states, _also_read_as(its, row, rows)))
                into.spoil_unsure(its.owners, states)
                return states

            into.spoil(self._try(rows, lines, take).owners, _State.WRONG)
        for row, some in implied.items():
            self._imply(into, row, some, placed)
        return placed

    def _place(self, row: Row, lines: _Lines, placed: _Placed) -> _States:
        """Place the facts that lines open inside others; the state of each."""
        if row.links or row.is_in_implied:
            return bytes([_State.UNSURE]) * len(lines.nodes)
        made = self._facts(row, lines)
        placed.update(zip(lines.places, ([fact] for fact in made.facts), strict=True))
        return made.states

    def _add(self, into: _Facts, row: Row, lines: _Lines, placed: _Placed) -> _States:
        """Add the fields that lines state to the facts that they are in; the state of each."""
        states = bytearray(len(lines.nodes))
        kind, numbers = kind_of(row), lines.numbers()
        add = _add_items if row.repeat == "*" else _add_fields
        add(into, row, lines, states)
        for node in lines.nodes:
            node.kind = kind
        for line in compress(range(len(states)), lines.with_part):
            states[line] = _State.UNSURE
        if self._said is not None:
            for node, values, owner, number in zip(
                lines.nodes, lines.values(), lines.owners, numbers, strict=True
            ):
                self._said[node] = Said(row, values, number, into.facts[owner])
        if row.children or any(node.children for node in lines.nodes):
            inner = self._fill(into, *_inside(lines.nodes, lines.owners), row.scope)
            _, around = _inside(lines.nodes, lines.places) if inner else ([], [])
            for place in sorted(inner):
                placed.setdefault(around[place], []).extend(inner[place])
            _require(into, lines.owners, row.needed_pieces)
        return states

    def _imply(
        self, into: _Facts, row: Row, some: Sequence[tuple[Row, _Lines]], placed: _Placed
    ) -> None:
        """Make the facts that open with the first of the lines inside them."""
        first: dict[int, tuple[int, Node]] = {}
        for _, lines in some:
            for place, node, owner in zip(lines.places, lines.nodes, lines.owners, strict=True):
                first[owner] = min(first.get(owner, (place, node)), (place, node), key=_place)
        values = [dict(row.conditions) for _ in first]
        facts = facts_at(row.kind, values, [node for _, node in first.values()])
        made = _Facts(facts, bytearray(len(facts)))
        numbers = {owner: number for number, owner in enumerate(first)}
        for inner, lines in some:
            its = lines._replace(owners=[numbers[owner] for owner in lines.owners])
            made.spoil_unsure(its.owners, self._add(made, inner, its, {}))
        _require(made, range(len(facts)), row.needed_inside)
        for (owner, (place, _)), fact, state in zip(first.items(), facts, made.states, strict=True):
            placed.setdefault(place, []).append(fact)
            again = (owner, row) in into.implied or self._undo_words
            into.implied.add((owner, row))
            into.spoil([owner], _State.UNSURE if again else state)


def _fill_equal(row: Row, values: Iterable[dict[str, Any]]) -> None:
    """Give facts the fields that must equal others of theirs."""
    for name, other in row.same_as.items():
        for fields in values:
            if other in fields:
                fields.setdefault(name, fields[other])


def _inside(nodes: Sequence[Node], owners: Sequence[int]) -> tuple[list[Node], list[int]]:
    """The nodes directly inside some, and the number of what each is in."""
    children = [child for node in nodes for child in node.children]
    numbers = [number for node, number in zip(nodes, owners, strict=True) for _ in node.children]
    return children, numbers


def _place(entry: tuple[int, Node]) -> int:
    return entry[0]


def _also_read_as(lines: _Lines, row: Row, rows: Sequence[Row]) -> _States:
    """The state of lines that add fields as a row: unsure if another row reads them too."""
    others = [other.pattern.match for other in rows if other is not row]
    return bytes(
        _State.UNSURE if any(match(node.text) for match in others) else _State.PLAIN
        for node in lines.nodes
    )


def _add_fields(into: _Facts, row: Row, lines: _Lines, states: bytearray) -> None:
    """Add fields of which a fact has each once; a second time is left to the node reader."""
    facts = into.facts
    for name, column in lines.fields.items():
        for number, (node, owner, value) in enumerate(
            zip(lines.nodes, lines.owners, column, strict=True)
        ):
            if value is None:
                continue
            fact = facts[owner]
            fields = fact.fields
            if name in fields:
                states[number] = _State.UNSURE
                continue
            fields[name] = value
            if node.line != fact.line:
                if fact.said is None:
                    fact.said = {}
                fact.said[name] = node.line


def _add_items(into: _Facts, row: Row, lines: _Lines, states: bytearray) -> None:
    """Add items to lists; what two rows add to is left to the node reader, for the order."""
    for name, column in lines.fields.items():
        for number, (owner, value) in enumerate(zip(lines.owners, column, strict=True)):
            if value is None:
                continue
            fields = into.facts[owner].fields
            items = value if type(value) is tuple else (value,)
            fields[name] = (*fields.get(name, ()), *items)
            if into.lists.setdefault((owner, name), row) is not row:
                states[number] = _State.UNSURE


def _require(made: _Facts, numbers: Iterable[int], names: frozenset[str]) -> None:
    """Note the facts that lack a field which a line inside them has to state."""
    if names:
        facts = made.facts
        lacking = (number for number in numbers if not names <= facts[number].fields.keys())
        made.spoil(lacking, _State.WRONG)
