"""Understands the nodes of a configuration with a sheet, one by one."""

from __future__ import annotations

import re
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, replace
from types import MappingProxyType
from typing import Any

from reservoir.core.values.addresses import MalformedValueError, is_ipv6
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.facts.kinds import KINDS, RUNNING_NUMBER
from reservoir.dialects.forms.plain import HOST
from reservoir.dialects.notations.nodes import Node, all_nodes
from reservoir.dialects.parse.diagnostics import Diagnostics
from reservoir.dialects.parse.elsewhere import (
    counted_from_subnets,
    facts_inside,
    fill_made_of,
    put_inside,
)
from reservoir.dialects.parse.foreign import Other
from reservoir.dialects.parse.not_understood import (
    EVERYTHING,
    meant_about_dhcp,
    meant_among,
)
from reservoir.dialects.parse.open_fact import OpenFact, Reopening
from reservoir.dialects.parse.owners import put_into_owners
from reservoir.dialects.parse.undo import taken_back
from reservoir.dialects.parse.withdrawn import FactsLike, without_fields
from reservoir.dialects.sheet.model import Row, Scope, Sheet, kind_of
from reservoir.dialects.sheet.patterns import BadValueError, head_of, joined_parts


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


Made = tuple[Row, Fact]
"""A fact that was made before the nodes are taken one by one, and the row that opens it."""

_Match = tuple[Row, dict[str, Any]]
"""One way to understand a node."""


class NodeReader:
    """Makes facts of nodes, and reports what it doesn't understand."""

    def __init__(
        self,
        sheet: Sheet,
        said: dict[Node, Said] | None = None,
        made: Mapping[Node, Made] = MappingProxyType({}),
    ) -> None:
        self.sheet = sheet
        self.made = made
        """The fact that has been made of all that is in a node."""
        self.said = said
        """How each node was understood, if somebody wants to know."""
        self.undo_words = sheet.undo_words
        self._has_hosts = sheet.has_hosts
        self._lists: dict[int, FactsLike] = {}
        """The lists of facts that something was looked up in, by their ``id``."""
        self.diagnostics = Diagnostics()
        self.foreign: set[int] = set()
        """Lines about other things."""
        self.others: list[Other] = []
        """The same, each with what is inside it."""
        self.left_alone: set[int] = set()
        """Lines that the sheet leaves alone."""
        self.left_blocks: list[Other] = []
        """Those of them that have something inside."""
        self.of_ipv6: set[int] = set()
        """Lines that name an IPv6 address, which nothing here is about."""
        self.misshapen = 0
        """Nodes about DHCP that match no row; a wrong value doesn't count."""
        self.has_undone = False
        """Whether there was a line that undoes others, so that it matters what was read before."""

    def take_all(self, nodes: Iterable[Node], scope: Scope, block: OpenFact) -> None:
        """Understand what is in a block."""
        for node in nodes:
            made = self.made.get(node)
            if made is None:
                self.take(node, scope, block)
            else:
                block.given_up.pop("", None)
                self._add_fact(*made, node, block)

    def take(self, node: Node, scope: Scope, block: OpenFact) -> None:
        """Understand one node and what is inside it."""
        text = node.text
        candidates = scope.candidates(text)
        # A row may look like what undoes another: `no rest` is a state beside `rest`.
        may_undo = bool(self.undo_words) and head_of(text) in self.undo_words
        if may_undo and not any(row.pattern.match(text) for row in candidates):
            self._take_back(node, scope, block)
            return
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
        elif _names_ipv6(text):
            self.of_ipv6.update(inner.line for inner in (node, *all_nodes(node.children)))
        elif misread:
            row, fault = misread[0]
            self.diagnostics.whole(node, block, row, fault.message, fault.column)
        else:
            self._not_understood(node, scope, block, candidates)

    def _take_back(self, node: Node, scope: Scope, block: OpenFact) -> None:
        """Understand a line that undoes what others have said."""
        self.has_undone = True
        try:
            done = self._taken_back(node, scope, block, inside=False)
            earlier = None if done else self._earlier(block)
            if earlier is not None:
                done = self._taken_back_there(*earlier, [node], scope, inside=False)
        except BadValueError as error:
            self.diagnostics.say(node, error.message, error.column)
            return
        if done:
            block.taken_back += 1
            for inner in (node, *all_nodes(node.children)):
                inner.kind = block.fact.kind
        else:
            self.diagnostics.say(node, f"there is nothing here to undo with {node.text!r}")

    def _taken_back(self, node: Node, scope: Scope, block: OpenFact, *, inside: bool) -> bool:
        """Take back what a line, or a step of a path, says; whether it was there."""
        for row, values, inner in taken_back(node, scope, self.sheet, inside=inside):
            if inner.children and not row.pieces:
                if self._taken_back_inside(row, values, inner, block):
                    return True
                continue
            said = OpenFact(Fact(block.fact.kind, {}), "", node.line)
            if inner is node and not inside:  # a line of its own for undoing
                said.fact = Fact(block.fact.kind, values if row.adds_fields else {})
                gone = [] if row.adds_fields else [Fact(row.kind, values)]
                if row.links:
                    said.waiting = gone
                else:
                    said.fact.children = gone
            else:
                NodeReader(self.sheet)._accept(row, values, inner, said)
            if self._withdraw(block, said):
                return True
        return False

    def _withdraw(self, block: OpenFact, less: OpenFact) -> bool:
        """Take out of a fact what another states; whether something of it was there."""
        found = without_fields(block.fact.fields, less.fact.fields)
        for name in less.fact.fields:
            block.said.pop(name, None)
        both = (block.fact.children, less.fact.children), (block.waiting, less.waiting)
        for facts, unwanted in both:
            if unwanted and self._list(facts).take_out(unwanted):
                block.shrunk[id(facts)] = self._list(facts)
                found = True
        return found

    def _list(self, facts: list[Fact]) -> FactsLike:
        return self._lists.setdefault(id(facts), FactsLike(facts))

    def settle(self, block: OpenFact) -> None:
        """Drop what was taken out of a fact, once all of it is read, and of what is inside it."""
        for facts in block.shrunk.values():
            facts.settle()

    def _earlier(self, block: OpenFact) -> tuple[OpenFact, int] | None:
        """The fact that a line opens again: what it is in, and its place there."""
        again = block.reopens
        if again is None:
            return None
        if not again.is_looked_up:
            again.is_looked_up = True
            facts = self._list(again.around.fact.children)
            again.place = facts.first(again.kind, again.fields)
        return None if again.place is None else (again.around, again.place)

    def _taken_back_inside(
        self, row: Row, values: dict[str, Any], node: Node, block: OpenFact
    ) -> bool:
        """Take back what stands deeper in a path."""
        place = self._list(block.fact.children).first(row.kind, values)
        if place is None:
            return False
        return self._taken_back_there(block, place, node.children, row.scope, inside=True)

    def _taken_back_there(
        self, around: OpenFact, place: int, nodes: Iterable[Node], scope: Scope, *, inside: bool
    ) -> bool:
        """Take back what lines say of a fact that was read before; whether all was there."""
        facts = self._list(around.fact.children)
        fact = facts.facts[place]
        there = OpenFact(fact, fact.label, fact.line, shrunk=around.shrunk)
        done = all(self._taken_back(node, scope, there, inside=inside) for node in nodes)
        facts.changed(place)
        return done

    def _best(self, matches: list[_Match], node: Node, block: OpenFact) -> None:
        """Of several readings, the one under which most nodes have the shape that they should.

        Then the one that leaves least unread; the sheet's order decides ties.
        """
        trials: dict[int, tuple[int, int, int]] = {}
        # The likeliest first: none that has no row for something inside can be the very best.
        for number in sorted(range(len(matches)), key=lambda n: _lacks_rows(matches[n][0], node)):
            row, values = matches[number]
            trial = NodeReader(self.sheet, None if self.said is None else {})
            copy = OpenFact(Fact(block.fact.kind, dict(block.fact.fields)), block.label, block.line)
            trial._accept(row, dict(values), node, copy)
            lost = sum(unread.lines for unread in trial.diagnostics.not_understood)
            trials[number] = trial.misshapen, lost, len(trial.foreign)
            if trials[number] == (0, 0, 0):  # none can be better
                if not (row.adds_fields or copy.implied or trial.has_undone):
                    self._adopt(trial, copy, block)
                    return
                break
        best = min(trials, key=lambda number: (trials[number], number))
        self._accept(*matches[best], node, block)

    def _adopt(self, trial: NodeReader, copy: OpenFact, block: OpenFact) -> None:
        """Take over what a trial has read into a copy of a fact, instead of reading it again."""
        if self.said is not None and trial.said is not None:
            self.said.update(trial.said)
        block.given_up.pop("", None)
        self.of_ipv6 |= trial.of_ipv6
        self.left_alone |= trial.left_alone
        block.fact.children += copy.fact.children
        block.waiting += copy.waiting
        block.waiting_for.update(copy.waiting_for)

    def _accept(self, row: Row, values: dict[str, Any], node: Node, block: OpenFact) -> None:
        node.kind = kind_of(row)
        block.given_up.pop("", None)
        if row.conditions:
            values.update(row.conditions)
        number = values.pop(RUNNING_NUMBER, None)
        if row.owner is not None and row.owner.is_implied:
            block = self._implied(row.owner, node, block)
        if self.said is not None:
            self.said[node] = Said(row, dict(values), number, block.fact)
        inner = facts_inside(row, values, node)
        if row.adds_fields and not row.links:
            for name, value in values.items():
                self._set(name, value, row, node, block, number)
            put_inside(block.fact, inner)
            self.take_all(node.children, row.scope, block)
            self.diagnostics.require(row.pieces, block, node)
            return
        fact = Fact(node.kind, values, inner, node.line, node.column)
        if (row.children or node.children) and not self._inside(row, fact, node, block):
            return
        for name, other in row.same_as.items():
            if other in values:
                values.setdefault(name, values[other])
        fill_made_of(row, values)
        if self.said is not None:
            owner = tuple(fact.get(link) for link in row.links)
            self.said[node] = replace(self.said[node], fact=fact, owner=owner)
        self._add_fact(row, fact, node, block)

    def _add_fact(self, row: Row, fact: Fact, node: Node, block: OpenFact) -> None:
        """Put a fact into the block that it is in, or into the one that it names, later."""
        if row.links:
            block.waiting.append(fact)
            block.waiting_for[id(fact)] = row, node
        else:
            block.fact.children.append(fact)

    def _inside(self, row: Row, fact: Fact, node: Node, block: OpenFact) -> bool:
        """Understand what is inside a fact; false if that only undoes what was said of it."""
        inner = OpenFact(fact, fact.label, node.line, dict.fromkeys(fact.fields, node.line))
        if self.undo_words:
            inner.reopens = Reopening(block, row.kind, dict(fact.fields))
        self.take_all(node.children, row.scope, inner)
        self.settle(inner)
        if 0 < inner.taken_back == len(node.children) and self._earlier(inner) is not None:
            return False
        inner.label = fact.label
        inner.keep_lines()
        self._join_parts(inner, node)
        self.diagnostics.require(row.children, inner, node)
        self.finish(inner)
        return True

    def _implied(self, row: Row, node: Node, block: OpenFact) -> OpenFact:
        """The block of a fact that opens with the first of the lines inside it."""
        if row not in block.implied:
            fact = Fact(row.kind, dict(row.conditions), [], node.line, node.column)
            if self.undo_words:
                self._list(block.fact.children).unfinished.append(len(block.fact.children))
            block.fact.children.append(fact)
            block.implied[row] = OpenFact(
                fact,
                f"{row.kind} of {block.label}",
                node.line,
                misread=block.misread,
                given_up=block.given_up,
            )
        return block.implied[row]

    def finish(self, block: OpenFact) -> None:
        """Once all of a block is read: what lacks something, and what waits for its owner."""
        if self._has_hosts:
            for fact, message in counted_from_subnets(block.fact):
                self.diagnostics.say(Node("", fact.line, fact.column), message)
        for row, implied in block.implied.items():
            implied.keep_lines()
            at = Node("", implied.line, implied.fact.column)
            self._join_parts(implied, at)
            self.diagnostics.require(row.children, implied, at)
        put_into_owners(block, self.sheet, self.diagnostics)

    def _set(
        self, name: str, value: Any, row: Row, node: Node, block: OpenFact, number: int | None
    ) -> None:
        fields = block.fact.fields
        if row.repeat == "*":
            there = fields.get(name, ())
            at = len(there) if number is None else block.place_of(name, number)
            fields[name] = (
                *there[:at],
                *(value if type(value) is tuple else (value,)),
                *there[at:],
            )
        elif self.sheet.notation.once and name in block.said:
            is_list = type(value) is tuple
            fields[name] = (*fields[name], *value) if is_list else value
            block.said[name] = node.line
        elif name in block.said and fields[name] != value:
            owner, what = block.label or "the device", name.partition(":")[0]
            message = f"{owner} already has its {what} (line {block.said[name]})"
            if not self.diagnostics.gave_up_before("said twice", 1, block):
                self.diagnostics.say(node, message, states=EVERYTHING, block=block)
        else:
            fields[name] = value
            block.said[name] = node.line

    def _join_parts(self, block: OpenFact, node: Node) -> None:
        """Put together the values whose parts stood in several lines."""
        fields = block.fact.fields
        parts: dict[str, dict[str, int]] = {}
        for key in [key for key in fields if ":" in key and not key.endswith(f":{HOST}")]:
            name, _, part = key.partition(":")
            parts.setdefault(name, {})[part] = fields.pop(key)
        if not parts:
            return
        try:
            joined = joined_parts(parts, fields)
        except MalformedValueError as error:
            self.diagnostics.say(node, f"{error}, in: {block.label}")
            return
        unread = {name.partition(":")[0] for row in block.misread for name in row.mentioned}
        for key, value in joined.items():
            name, _, part = key.partition(":")
            if not part:
                fields[name] = value
                continue
            block.halves.add(name)
            if name not in unread:
                message = f"{block.label} has only a part of its {name}"
                self.diagnostics.say(node, message, states=frozenset({name}), block=block)

    def _not_understood(
        self, node: Node, scope: Scope, block: OpenFact, candidates: list[Row]
    ) -> None:
        if scope.leaves(node.text):
            self.left_alone.update(inner.line for inner in (node, *all_nodes(node.children)))
            self.left_blocks += [Other(node, scope)] if node.children else []
            return
        inside = KINDS[block.fact.kind].about_dhcp
        if inside or any(row.about_dhcp or _decides(row, node) for row in candidates):
            meant = meant_among(node.text, scope, candidates)
        else:
            meant = meant_about_dhcp(node, scope)
            if meant.row is None:
                other = Other(node, scope)
                self.others.append(other)
                self.foreign.update(other.lines)
                return
        self.misshapen += 1
        if meant.row is None and self.diagnostics.gave_up_before("", 1, block):
            return  # one more that belongs elsewhere, right after another
        where = f", inside {block.label} (line {block.line})" if block.label else ""
        message = f"not understood{where}: {node.text!r}{meant.hint}"
        self.diagnostics.whole(node, block, meant.row, message)


def _names_ipv6(text: str) -> bool:
    """Whether a line names an IPv6 address."""
    if text.count(":") < 2:
        return False
    words = _NOT_IPV6.split(text)
    return any(word.count(":") > 1 and is_ipv6(word.strip("./")) for word in words)


_NOT_IPV6 = re.compile(r"[^0-9A-Fa-f:./]+")


def _lacks_rows(row: Row, node: Node) -> bool:
    """Whether something in a node begins like no row that may be inside."""
    scope = row.scope
    return not scope.headless and any(
        scope.head_of(child.text) not in scope.by_head for child in node.children
    )


def _decides(row: Row, node: Node) -> bool:
    """Whether a node that begins like a row holds the address of an interface in another form.

    Which network the interface is in decides what its device serves there.
    """
    is_address = kind_of(row) == "interface" and "address" in row.mentioned
    return is_address and _DOTTED.search(node.text) is not None


_DOTTED = re.compile(r"[0-9]+\.[0-9]+\.[0-9]")
"""What an IPv4 address has in it."""
