"""Writes facts with a sheet, and says exactly what it could not write.

What comes back claims to be *expressed*: reading the text again must give just these facts.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from itertools import chain
from typing import Any

from reservoir.core.values.addresses import MalformedValueError
from reservoir.core.wording import listed
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.facts.garbage import garbage_collection_paused
from reservoir.dialects.facts.kinds import LABEL, RUNNING_NUMBER
from reservoir.dialects.notations.nodes import Node
from reservoir.dialects.render.bulk import AT_ONCE, BulkWriter, Made, linked
from reservoir.dialects.sheet.model import Row, Sheet, every_row, kind_of
from reservoir.dialects.sheet.patterns import AROUND


@dataclass(frozen=True)
class Refusal:
    """A fact that could not be written, or a field of one that was left out."""

    fact: Fact
    field: str
    """The field that was left out; empty if the whole fact was."""
    reason: str

    @property
    def what(self) -> str:
        """What was left out, for a message."""
        return f"the {self.field} of {self.fact.label}" if self.field else self.fact.label


@dataclass(frozen=True)
class Written:
    """A configuration, and what it doesn't say."""

    text: str
    expressed: Fact
    """The device with all facts that the text states."""
    refusals: tuple[Refusal, ...]


def write_configuration(device: Fact, sheet: Sheet) -> Written:
    """Write a device's facts, in the order of the sheet's rows."""
    with garbage_collection_paused():
        if not sheet.is_plain:
            return write_exactly(device, sheet)
        return _written(device, _Writer(sheet, BulkWriter(sheet).make))


def write_exactly(device: Fact, sheet: Sheet) -> Written:
    """Write facts one by one, nothing in bulk: slowly, with the same result."""
    return _written(device, _Writer(sheet, lambda facts, rows, around: [None] * len(facts)))


def _written(device: Fact, writer: _Writer) -> Written:
    sheet = writer.sheet
    block = _Block(device, device.fields, {"device": device}, _by_kind(device.children))
    nodes: list[Node] = []
    for group in sheet.groups:
        own = writer.rows([group], block)
        nodes += [*writer.first, *own]
        writer.first = []
        apart, writer.apart = sorted(writer.apart.items(), key=_by_number), {}
        nodes += [node for _, node in apart]
    writer.finish(block)
    expressed = Fact("device", _only(device.fields, block.said), block.children)
    return Written(sheet.notation.write(nodes), expressed, tuple(writer.refusals))


@dataclass
class _Block:
    """A fact whose inside is being written."""

    fact: Fact
    fields: Mapping[str, Any]
    """The fact's, and those by which it names the fact that it belongs to."""
    around: Mapping[str, Fact]
    """It and the facts that it is in, by kind."""
    pending: dict[str, list[Fact]]
    """The facts inside that have not been written, by kind."""
    said: set[str] = field(default_factory=set)
    """Fields that some line says."""
    children: list[Fact] = field(default_factory=list)
    """The facts inside, as far as they are expressed."""
    beside: list[Node] = field(default_factory=list)
    """Nodes that belong to it and are beside it."""


@dataclass
class _Writer:
    sheet: Sheet
    in_bulk: Callable[
        [Sequence[Fact], Sequence[Row], Sequence[Mapping[str, Fact]]], Sequence[Made | None]
    ]
    """Makes the nodes of facts of a kind that are plain, each in given facts."""
    refusals: list[Refusal] = field(default_factory=list)
    first: list[Node] = field(default_factory=list)
    """Nodes that are referred to by labels: they stand before what refers to them."""
    apart: dict[Row, Node] = field(default_factory=dict)
    """What frames nodes that are apart from the facts that they belong to, by its row."""

    def rows(self, groups: Sequence[tuple[str, list[Row]]], block: _Block) -> list[Node]:
        """The nodes inside a block, in the order of the sheet's rows."""
        nodes: list[Node] = []
        for kind, rows in groups:
            if rows[0].adds_fields:
                for row in rows:
                    self._field_row(row, block, nodes)
            else:
                self._facts(block.pending.pop(kind, []), rows, block, nodes)
        return nodes

    def _facts(self, facts: list[Fact], rows: list[Row], block: _Block, nodes: list[Node]) -> None:
        """Append the nodes of facts of one kind."""
        number = 1
        made = (self.in_bulk(some, rows, [block.around] * len(some)) for some in _portions(facts))
        for fact, plain in zip(facts, chain.from_iterable(made), strict=True):
            one = plain or self._fact(fact, rows, block.around, number)
            if one is not None:
                out = block.beside if one.row.links else nodes
                (self.first if one.row.is_apart else out).extend(one.nodes)
                block.children.append(one.expressed)
                number += 1

    def finish(self, block: _Block) -> None:
        """Report what no row has written."""
        where = f" in a {block.fact.kind}" if block.fact.kind != "device" else ""
        for group in block.pending.values():
            for fact in group:
                self._refuse(fact, "", f"{self.sheet.name} has no line for it{where}")
        self._note_unsaid(block.fact, block.said)

    def _fact(
        self, fact: Fact, rows: list[Row], around: Mapping[str, Fact], number: int
    ) -> Made | None:
        """Its nodes and what they express; None if it is refused."""
        fields = {**fact.fields, **linked(rows, around), RUNNING_NUMBER: number}
        if "pool" in around and self.sheet.has_hosts:
            fields[AROUND] = around["pool"].get("subnet")
        inner = _inner_facts(fact, rows)
        for one in inner:
            fields |= {f"{one.kind}.{name}": value for name, value in one.fields.items()}
        labels = dict.fromkeys(_labels(fact.kind, rows), _label_of(fact, around, number))
        fields |= labels
        row = next((row for row in rows if row.applies(fields)), None)
        if row is None:
            self._refuse(fact, "", self._why_not(fields, rows))
            return None
        its = replace(fact, fields=fact.fields | labels) if labels else fact
        block = _Block(fact, fields, {**around, fact.kind: its}, _by_kind(fact.children))
        block.said |= {*row.conditions, *row.same_as}
        for name, made in row.made_of.items():
            block.said |= {name, *made.parts} if fields.get(name) == made.of(fields) else set()
        for one in inner:
            block.pending[one.kind].remove(one)
        try:
            nodes = self._node(row, block, fields)
        except MalformedValueError as error:
            self._refuse(fact, "", str(error))
            return None
        for one in inner:
            names = {
                name.partition(".")[2] for name in block.said if name.startswith(f"{one.kind}.")
            }
            if names:
                block.children.insert(0, replace(one, fields=_only(one.fields, names), children=[]))
            self._note_unsaid(one, names)
        self.finish(block)
        expressed = Fact(
            fact.kind, _only(fact.fields, block.said), block.children, origin=fact.origin
        )
        return Made(row, nodes + block.beside, expressed)

    def _node(self, row: Row, block: _Block, fields: Mapping[str, Any]) -> list[Node]:
        """The row's node for some fields, or the nodes inside if it has no line of its own.

        Raises:
            MalformedValueError: a value can't be written, or a line lacks one.
        """
        if row.is_implied:
            return self.rows(row.groups, block)
        text = row.pattern.write(fields, block.said)
        node = Node(text, kind=block.fact.kind, opens=row.holds_lines)
        if row.children:
            node.children = self.rows(row.groups, block)
        return [node]

    def _field_row(self, row: Row, block: _Block, nodes: list[Node]) -> None:
        """Append the nodes of a row that adds fields; none if it doesn't apply.

        Raises:
            MalformedValueError: it must be there and can't be written.
        """
        out = self.first if row.is_apart else block.beside if row.links else nodes
        links = linked([row], block.around) if row.links else {}
        fields = {**block.fields, **links} if links else block.fields
        block = replace(block, fields=fields) if links else block
        if row.is_apart and row.is_frame:
            self._apart(row, block)
        elif row.is_frame:
            node = self._node(row, block, fields)[0]
            out += [node] if node.children else []
        elif row.repeat == "*":
            (name,) = row.pattern.required_fields - {RUNNING_NUMBER, *links}
            for number, item in enumerate(block.fields.get(name, ()), start=1):
                its = {**links, name: item, RUNNING_NUMBER: number}
                text = row.pattern.write(its, block.said)
                out.append(Node(text, kind=block.fact.kind))
        elif row.applies(fields):
            try:
                out += self._node(row, block, fields)
                block.said.update(row.conditions)
            except MalformedValueError as error:
                if not self._may_lack(row, block):
                    raise
                for name in row.required:
                    self._refuse(block.fact, name, str(error))
                    block.said.add(_refused(name))
        elif not self._may_lack(row, block):
            raise MalformedValueError(self._why_not(block.fields, [row]))

    def _apart(self, row: Row, block: _Block) -> None:
        """Put what a frame says of a fact beside what it says of others."""
        beside, block.beside = block.beside, []
        inside = [*self.rows(row.groups, block), *block.beside]
        block.beside = beside
        if inside:
            text = row.pattern.write(block.fields, block.said)
            frame = self.apart.setdefault(row, Node(text, kind=block.fact.kind, opens=True))
            frame.children += inside

    def _may_lack(self, row: Row, block: _Block) -> bool:
        return bool(row.repeat) or (block.fact.kind == "device" and not row.is_piece)

    def _note_unsaid(self, fact: Fact, said: set[str]) -> None:
        """Report the fields that no line has said, unless they say what is assumed anyway."""
        for name in fact.fields.keys() - said:
            assumed = self.sheet.assumed.get((fact.kind, name))
            if _refused(name) not in said and fact.fields[name] != assumed:
                self._refuse(fact, name, f"{self.sheet.name} has no line for its {name}")

    def _why_not(self, fields: Mapping[str, Any], rows: list[Row]) -> str:
        wanted = set(rows[0].needs) - fields.keys() if rows else set()
        if wanted:
            return f"{self.sheet.name} requires its {listed(sorted(wanted))}"
        return f"{self.sheet.name} has no line for it"

    def _refuse(self, fact: Fact, name: str, reason: str) -> None:
        self.refusals.append(Refusal(fact, name, reason))


def _labels(kind: str, rows: Sequence[Row]) -> set[str]:
    """The labels by which lines elsewhere refer to a fact that rows state."""
    every = (inner for row in rows for inner in (row, *every_row(row.children)))
    slots = (slot for row in every if kind_of(row) == kind for slot in row.pattern.slots)
    return {slot.field for slot in slots if slot.field.startswith(LABEL)}


def _label_of(fact: Fact, around: Mapping[str, Fact], number: int) -> str:
    """What a fact is called where lines refer to it: as its pool is, with its number in that."""
    pool = fact if fact.kind == "pool" else around.get("pool", fact)
    name = str(pool.get("name", pool.kind))
    return name if fact is pool else f"{name}-{number}"


def _by_number(entry: tuple[Row, Node]) -> int:
    return entry[0].number


def _inner_facts(fact: Fact, rows: Sequence[Row]) -> list[Fact]:
    """Of what is in a fact, what its own lines state: the first of each kind that they have."""
    of_it = (r for row in rows for r in (row, *every_row(row.children)) if kind_of(r) == fact.kind)
    kinds = frozenset[str]().union(*(row.pattern.inner_kinds for row in of_it))
    found = (next(fact.of_kind(kind), None) for kind in sorted(kinds))
    return [one for one in found if one is not None]


def _portions(facts: Sequence[Fact]) -> Iterator[Sequence[Fact]]:
    """The facts in portions for columns that stay in the cache."""
    return (facts[begin : begin + AT_ONCE] for begin in range(0, len(facts), AT_ONCE))


def _by_kind(facts: Sequence[Fact]) -> dict[str, list[Fact]]:
    found: dict[str, list[Fact]] = {}
    for fact in facts:
        found.setdefault(fact.kind, []).append(fact)
    return found


def _refused(name: str) -> str:
    """The mark, among what was said, of a field whose refusal has been reported."""
    return f"refused {name}"


def _only(fields: dict[str, Any], said: set[str]) -> dict[str, Any]:
    return {name: value for name, value in fields.items() if name in said}
