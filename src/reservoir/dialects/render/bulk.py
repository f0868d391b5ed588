"""Makes the nodes of plain facts: of all that are alike at once, values by the column.

A fact is plain if its rows say it whole, with all that is in it. Which rows these are is settled
once for all facts that have the same fields. Every other fact is left to the writer, whose rules
these are.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from operator import is_
from typing import Any, NamedTuple

from reservoir.core.values.addresses import MalformedValueError
from reservoir.dialects.facts.fact import NOTHING, Fact
from reservoir.dialects.facts.kinds import RUNNING_NUMBER
from reservoir.dialects.notations.nodes import Node
from reservoir.dialects.sheet.model import Row, Sheet, every_row
from reservoir.dialects.sheet.patterns import ValueWriter

AT_ONCE = 4_096
"""Facts that are written together: enough for columns, few enough to stay in the cache."""


class Made(NamedTuple):
    """What was made of a plain fact."""

    row: Row
    nodes: list[Node]
    """Its own, and those that belong to it and stand beside it."""
    expressed: Fact
    """The fact, with what is in it in the order of its nodes."""


class _Line(NamedTuple):
    """A node for each fact, with what is in it."""

    template: str
    """With a ``%s`` for each value."""
    values: tuple[ValueWriter, ...]
    inside: list[_Step]
    is_frame: bool
    """Whether it is there only if something is in it."""
    opens: bool
    """Whether lines may be in it, be there any or not."""


class _Items(NamedTuple):
    """A node for each item of a list."""

    row: Row
    field: str


class _Inner(NamedTuple):
    """Facts of a kind that are in others, and the rows that may say them."""

    kind: str
    rows: Sequence[Row]


_Step = _Line | _Items | _Inner


class _Layout(NamedTuple):
    """How facts that have certain fields are written."""

    row: Row
    steps: list[_Step]


@dataclass
class _Group:
    """Facts of one kind that are written alike."""

    facts: Sequence[Fact]
    fields: Sequence[Mapping[str, Any]]
    """Those of each, its running number, and those by which it names the fact that it is in."""
    around: Sequence[Mapping[str, Fact]]
    """The facts that each is in, by kind."""
    beside: list[list[Node]] = field(init=False)
    inside: list[list[Fact]] = field(init=False)
    """What has been written of what is in each."""
    refused: set[int] = field(default_factory=set)
    """Those in which something isn't plain."""

    def __post_init__(self) -> None:
        self.beside = [[] for _ in self.facts]
        self.inside = [[] for _ in self.facts]

    def part(self, chosen: slice | Sequence[int]) -> _Group:
        """Some of them, from the beginning."""
        numbers = range(len(self.facts))[chosen] if isinstance(chosen, slice) else chosen
        columns = self.facts, self.fields, self.around
        return _Group(*([column[n] for n in numbers] for column in columns))  # type: ignore[arg-type]


class BulkWriter:
    """Makes the nodes of plain facts."""

    def __init__(self, sheet: Sheet) -> None:
        """Take the sheet; layouts are settled as facts come."""
        self._layouts: dict[tuple[object, ...], _Layout | None] = {}
        self._tests: dict[int, _Tests] = {}
        self._has_links = any(row.links for row in every_row(sheet.rows))

    def make(
        self,
        facts: Sequence[Fact],
        rows: Sequence[Row],
        around: Sequence[Mapping[str, Fact]],
        numbers: Sequence[int] | None = None,
    ) -> list[Made | None]:
        """Make the nodes of facts of one kind; None for a fact that isn't plain.

        Args:
            facts: The facts.
            rows: The rows that may say them.
            around: The facts that each is in, by kind.
            numbers: The running number of each, if that is known already.
        """
        tests = self._tests.get(rows[0].number)
        if tests is None:
            tests = self._tests[rows[0].number] = _Tests.of(rows)
        if tests.has_number and numbers is None:
            return [None] * len(facts)
        fields: list[Mapping[str, Any]] = [fact.fields for fact in facts]
        if tests.has_number or tests.links:
            fields = [
                {**fact.fields, **linked(tests.links, owners), RUNNING_NUMBER: number}
                for fact, owners, number in zip(
                    facts, around, numbers or [0] * len(facts), strict=True
                )
            ]
        alike: dict[tuple[object, ...], list[int]] = {}
        for place, its in enumerate(fields):
            alike.setdefault(tests.key(its), []).append(place)
        every, made = _Group(facts, fields, around), list[Made | None]([None]) * len(facts)
        for key, places in alike.items():
            if key not in self._layouts:
                self._layouts[key] = _layout(rows, facts[places[0]], fields[places[0]])
            layout = self._layouts[key]
            if layout is not None:
                for place, one in zip(places, self._write(layout, every.part(places)), strict=True):
                    made[place] = one
        return made

    def _write(self, layout: _Layout, group: _Group) -> Iterator[Made | None]:
        """Write facts by their layout; by halves if a value somewhere can't be written."""
        nodes: list[list[Node]] = [[] for _ in group.facts]
        try:
            for step in layout.steps:
                self._take(step, group, nodes)
        except MalformedValueError:
            middle = len(group.facts) // 2
            if not middle:
                yield None
                return
            yield from self._write(layout, group.part(slice(middle)))
            yield from self._write(layout, group.part(slice(middle, None)))
            return
        for number, (fact, inside) in enumerate(zip(group.facts, group.inside, strict=True)):
            if number in group.refused or len(inside) != len(fact.children):
                yield None
            else:
                its_nodes = nodes[number] + group.beside[number]
                yield Made(layout.row, its_nodes, _with(fact, inside))

    def _take(self, step: _Step, group: _Group, into: list[list[Node]]) -> None:
        """Put the nodes of a step into a list for each fact.

        Raises:
            MalformedValueError: a value somewhere can't be written.
        """
        kind = group.facts[0].kind
        if isinstance(step, _Inner):
            self._take_inner(step, group, into)
        elif isinstance(step, _Items):
            for nodes, fields in zip(into, group.fields, strict=True):
                for item in fields[step.field]:
                    text = step.row.pattern.write({step.field: item}, set())
                    nodes.append(Node(text, kind=kind))
        else:
            lines = [Node(text, kind=kind, opens=step.opens) for text in _texts(step, group)]
            inside = [node.children for node in lines]
            for inner in step.inside:
                self._take(inner, group, inside)
            for nodes, node in zip(into, lines, strict=True):
                if node.children or not step.is_frame:
                    nodes.append(node)

    def _take_inner(self, step: _Inner, group: _Group, into: list[list[Node]]) -> None:
        """Put the nodes of facts that are in others into a list for each of these."""
        owners: list[int] = []
        numbers: list[int] = []
        facts: list[Fact] = []
        for owner, fact in enumerate(group.facts):
            inside = [child for child in fact.children if child.kind == step.kind]
            owners += [owner] * len(inside)
            numbers += range(1, len(inside) + 1)
            facts += inside
        if not facts:
            return
        around: Sequence[Mapping[str, Fact]] = [{}] * len(facts)
        if self._has_links:
            of_owner = [
                {**outer, fact.kind: fact}
                for fact, outer in zip(group.facts, group.around, strict=True)
            ]
            around = [of_owner[owner] for owner in owners]
        for owner, made in zip(owners, self.make(facts, step.rows, around, numbers), strict=True):
            if made is None:
                group.refused.add(owner)
                continue
            (group.beside if made.row.links else into)[owner].extend(made.nodes)
            group.inside[owner].append(made.expressed)


class _Tests(NamedTuple):
    """What it depends on how a fact is written, besides which fields it has."""

    number: int
    """Tells the rows from others."""
    conditions: list[tuple[str, Any]]
    pairs: list[tuple[str, str]]
    links: list[Row]
    """The rows that name the fact that they belong to."""
    has_number: bool
    """Whether some row has a running number."""

    @classmethod
    def of(cls, rows: Sequence[Row]) -> _Tests:
        """What rows and those inside them ask, of the same fact."""
        every = list(_of_one_fact(rows))
        mentioned = (name for row in every for name in row.mentioned)
        return cls(
            number=rows[0].number,
            conditions=[pair for row in every for pair in row.conditions.items()],
            pairs=[pair for row in every for pair in row.same_as.items()],
            links=[row for row in rows if row.links],
            has_number=RUNNING_NUMBER in mentioned,
        )

    def key(self, fields: Mapping[str, Any]) -> tuple[object, ...]:
        """The same for all facts that are written alike."""
        key: tuple[object, ...] = (self.number, *fields)
        if self.conditions or self.pairs:
            key += tuple([fields.get(name) == value for name, value in self.conditions])
            key += tuple([fields.get(name) == fields.get(other) for name, other in self.pairs])
        if NOTHING in fields.values():
            key += tuple([name for name, value in fields.items() if value == NOTHING])
        return key


def linked(rows: Sequence[Row], around: Mapping[str, Fact]) -> dict[str, Any]:
    """The values by which rows name the facts that they belong to."""
    values: dict[str, Any] = {}
    for row in rows:
        for link in row.links:
            kind, _, name = link.partition(".")
            if kind in around and name in around[kind].fields:
                values[link] = around[kind].fields[name]
    return values


def _of_one_fact(rows: Sequence[Row]) -> Iterator[Row]:
    for row in rows:
        yield row
        inner = [row for row in row.children if not (row.kind or row.is_only_read)]
        yield from _of_one_fact(inner)


def _layout(rows: Sequence[Row], fact: Fact, fields: Mapping[str, Any]) -> _Layout | None:
    """How a fact with these fields is written; None if no row says it whole."""
    row = next((row for row in rows if row.applies(fields)), None)
    if row is None:
        return None
    said = {*row.conditions, *row.same_as}
    steps = _inside(row, fields, said) if row.is_implied else _line(row, fields, said)
    return None if steps is None or fact.fields.keys() - said else _Layout(row, steps)


def _line(row: Row, fields: Mapping[str, Any], said: set[str]) -> list[_Step] | None:
    """The row's line, with what is in it; what it says of the fact is added to ``said``."""
    inside = _inside(row, fields, said)
    if inside is None or (row.is_frame and not inside):
        return inside
    template, values = row.pattern.laid_out(fields.keys())
    said |= {value.field for value in values}
    return [_Line(template, values, inside, row.is_frame, row.holds_lines)]


def _inside(row: Row, fields: Mapping[str, Any], said: set[str]) -> list[_Step] | None:
    """What is in a row's line; None if the writer has to see to it."""
    steps: list[_Step] = []
    for kind, rows in row.groups:
        if not rows[0].adds_fields:
            steps.append(_Inner(kind, rows))
            continue
        for inner in rows:
            some = _field_row(inner, fields, said)
            if some is None:
                return None
            steps += some
    return steps


def _field_row(row: Row, fields: Mapping[str, Any], said: set[str]) -> list[_Step] | None:
    """What a row that adds fields says of a fact."""
    if row.links or row.is_apart:
        applies = row.is_apart or row.applies({**fields, **dict.fromkeys(row.links, True)})
        return None if applies or not row.repeat else []
    if row.is_frame:
        return _line(row, fields, said)
    if row.repeat == "*":
        (name,) = row.pattern.required_fields
        if name not in fields:
            return []
        said.add(name)
        return [_Items(row, name)] if fields[name] else None
    if row.applies(fields):
        said.update(row.conditions)
        return _line(row, fields, said)
    return [] if row.repeat else None


def _texts(line: _Line, group: _Group) -> list[str]:
    """The line of each fact.

    Raises:
        MalformedValueError: a value somewhere can't be written.
    """
    if not line.values:
        return [line.template % ()] * len(group.facts)
    columns = [
        writer.many([fields[writer.field] for fields in group.fields]) for writer in line.values
    ]
    return [line.template % texts for texts in zip(*columns, strict=True)]


def _with(fact: Fact, children: list[Fact]) -> Fact:
    """The fact with what is in it in the order of its nodes."""
    return fact if all(map(is_, children, fact.children)) else replace(fact, children=children)
