"""Parts of a device's configuration that have nothing in common: no address, and no name.

What a device does for a network depends on the network's own part, and on what all parts share. So
a large configuration is changed part by part, and each state that is gone through is judged in a
text that is as small as the change.
"""

from __future__ import annotations

from collections.abc import Collection, Hashable, Iterable, Iterator, Mapping, Sequence, Set
from contextlib import suppress
from dataclasses import dataclass
from typing import NamedTuple

from reservoir.core.plan.offered import OFFERED
from reservoir.core.values.addresses import MalformedValueError, Prefix, Span
from reservoir.core.values.options import servers_in
from reservoir.dialects.facts.by_address import FactsByAddress, addresses_of
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.facts.options import option_data
from reservoir.dialects.facts.whereabouts import Whereabouts
from reservoir.dialects.notations.nodes import Node, all_nodes
from reservoir.dialects.parse.node_reader import Said
from reservoir.dialects.render.present_text import PresentText
from reservoir.dialects.render.statements import line_of
from reservoir.dialects.sheet.model import Sheet


class TextPart(NamedTuple):
    """A part of two configurations of a device, with what all parts share."""

    old: str
    new: str


def parts_that_differ(old: PresentText, new: PresentText, sheet: Sheet) -> list[TextPart]:
    """The parts in which two configurations of a device differ; one, if what all share differs.

    Linear in the texts but for sorting, if little is shared. What is about other things is in none.
    """
    sides = [_Side.of(old, sheet), _Side.of(new, sheet)]
    newly = _servers_named(sides[0]) ^ _servers_named(sides[1])
    shared = [sheet.notation.write(side.shared) for side in sides]
    if shared[0] != shared[1] or old.nodes.faults or new.nodes.faults:
        return [TextPart(old.text, new.text)]
    pieces = [piece for side in sides for piece in side.pieces]
    parts: dict[int, tuple[list[Node], list[Node]]] = {}
    for number, (piece, part) in enumerate(zip(pieces, _components(pieces, newly), strict=True)):
        is_new = number >= len(sides[0].pieces)
        parts.setdefault(part, ([], []))[is_new].append(piece.node)
    texts = (
        TextPart(*(side.with_shared(nodes, sheet) for side, nodes in zip(sides, part, strict=True)))
        for part in parts.values()
    )
    return [part for part in texts if part.old != part.new]


@dataclass(frozen=True)
class _Piece:
    """A node at the top, what it is about, and what it names."""

    node: Node
    spans: Collection[Span]
    names: Collection[Hashable]
    declared: Collection[Hashable]
    """Those of its names that are its own."""
    servers: Set[int]
    """The addresses of servers that clients are offered by it."""


@dataclass(frozen=True)
class _Side:
    """What one configuration has at the top."""

    shared: Sequence[Node]
    """What is about no addresses."""
    pieces: Sequence[_Piece]

    @classmethod
    def of(cls, present: PresentText, sheet: Sheet) -> _Side:
        whereabouts = Whereabouts(present.reading.device)
        shared, pieces = list[Node](), list[_Piece]()
        for node in _framed_apart(present.nodes.top, present.said):
            said = [present.said[n] for n in all_nodes((node,)) if n in present.said]
            facts = {id(each.fact): each.fact for each in said}.values()
            spans = {span for fact in facts for span in _spans(fact, whereabouts)}
            if spans:
                # Lines are known by their text, whatever they are about.
                declared = {
                    tuple(line_of(inner, sheet) for inner in _to_first(node)),
                    *(name for fact in facts for name in _own_name(fact)),
                }
                names = declared.union(*map(_names, facts))
                servers = {address for fact in facts for address in _servers(fact)}
                pieces.append(_Piece(node, spans, names, declared, servers))
            elif said:
                shared.append(node)
        return cls(shared, pieces)

    def with_shared(self, nodes: Iterable[Node], sheet: Sheet) -> str:
        """The text of some nodes and of those that are shared, in their order."""
        return sheet.notation.write(_joined_again([*self.shared, *nodes]))


def _framed_apart(nodes: Iterable[Node], said: Mapping[Node, Said]) -> Iterator[Node]:
    """The nodes of the top level; of one that only frames others, one for each of these."""
    for node in nodes:
        if node in said and said[node].row.is_frame and node.children:
            yield from (node.holding([inner]) for inner in _framed_apart(node.children, said))
        else:
            yield node


def _joined_again(nodes: Iterable[Node]) -> list[Node]:
    """Nodes in their order, those together again that were one before they were framed apart."""
    joined: list[Node] = []
    for node in sorted(nodes, key=lambda node: node.start):
        if joined and joined[-1].start == node.start and joined[-1].children and node.children:
            inside = [*joined[-1].children, *node.children]
            joined[-1] = node.holding(_joined_again(inside))
        else:
            joined.append(node)
    return joined


def _to_first(node: Node) -> Iterator[Node]:
    """A node, and what is in it as long as that is one."""
    yield node
    while len(node.children) == 1:
        (node,) = node.children
        yield node


def _spans(fact: Fact, whereabouts: Whereabouts) -> Iterator[Span]:
    """The addresses that a fact is about."""
    if fact.kind == "interface":
        yield from (prefix.span for prefix in addresses_of(fact))
        return
    span = whereabouts.of(fact)
    if span is not None:
        yield span
        gateway = fact.get("gateway")
        if isinstance(gateway, int) and not span.holds(gateway):
            # Its subnet may be mistyped: bindings near the gateway are taken for its.
            yield Prefix(gateway, 32 - (span.size - 1).bit_length()).span


def _servers_named(side: _Side) -> set[int]:
    return {address for piece in side.pieces for address in piece.servers}


def _servers(fact: Fact) -> Iterator[int]:
    """The addresses of servers that a fact offers clients."""
    for key in fact.fields.keys() & OFFERED.keys():
        if (value := fact.get(key)) is not None:
            yield from OFFERED[key].addresses(value)
    if fact.kind == "option" and isinstance(code := fact.get("code"), int):
        with suppress(MalformedValueError):  # who reads it says so
            yield from servers_in(code, option_data(fact))[1]


def _own_name(fact: Fact) -> Iterator[Hashable]:
    if fact.kind in ("pool", "interface") and "name" in fact.fields:
        yield fact.kind, fact.get("name")


def _names(fact: Fact) -> Iterator[Hashable]:
    """The pools and interfaces that a fact names."""
    if fact.kind == "interface":
        others = (fact.get("parent"), fact.get("member_of"))
        others += (*fact.get("members", ()), *fact.get("subinterfaces", ()))
        yield from (("interface", name) for name in others if name is not None)
    else:
        fields = fact.fields.keys() & {"pool", "interface"}
        yield from ((name, fact.get(name)) for name in fields)


def _components(pieces: Sequence[_Piece], newly: Set[int]) -> list[int]:
    """For each piece the number of its part: pieces that overlap or name each other are in one.

    Args:
        pieces: Those of both sides.
        newly: The addresses of servers that only one side offers: who offers one is in one part
            with the pool that it is in. What both offer is wrong at both ends, if it is.
    """
    declared = {name for piece in pieces for name in piece.declared}
    joined = _Joined()
    spans = sorted((span, number) for number, piece in enumerate(pieces) for span in piece.spans)
    reach, last = -1, 0
    for span, number in spans:
        if span.first <= reach:
            joined.join(last, number)
        if span.last > reach:
            reach, last = span.last, number
    for number, piece in enumerate(pieces):
        for address in newly & piece.servers if newly else ():
            joined.join(number, ("server", address))
    around = FactsByAddress((span.first, span.last, number) for span, number in spans)
    for address in newly:
        for number in around.within(Span(address, address)):
            joined.join(number, ("server", address))
    for number, piece in enumerate(pieces):
        for name in piece.names:
            if name in declared:
                joined.join(number, name)
    return [joined.number(number) for number in range(len(pieces))]


class _Joined:
    """Sets of things that were joined, each known by one of them (Tarjan's union-find)."""

    def __init__(self) -> None:
        self._above: dict[Hashable, Hashable] = {}
        self._numbers: dict[Hashable, int] = {}

    def join(self, one: Hashable, other: Hashable) -> None:
        """Put two things into one set."""
        self._above[self._root(one)] = self._root(other)

    def number(self, thing: Hashable) -> int:
        """The number of the set that a thing is in, from 0 in the order of asking."""
        return self._numbers.setdefault(self._root(thing), len(self._numbers))

    def _root(self, thing: Hashable) -> Hashable:
        above = self._above.setdefault(thing, thing)
        while above != thing:
            self._above[thing] = thing = self._above[above]
            above = self._above[thing]
        return thing
