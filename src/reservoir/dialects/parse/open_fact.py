"""A fact whose inside is being read, and what is taken out of it again."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.notations.nodes import Node
from reservoir.dialects.sheet.model import Row


@dataclass(eq=False)
class Block:
    """A fact whose inside is being read."""

    fact: Fact
    label: str
    line: int
    said: dict[str, int] = field(default_factory=dict)
    """Fields that a line has given, and that line."""
    implied: dict[Row, Block] = field(default_factory=dict)
    """Facts inside that opened without a line of their own, by their row."""
    earlier: Fact | None = None
    """The same fact, if this opens it again: to undo some of what it says."""
    taken_back: int = 0
    """Lines that took something back."""
    misread: dict[Row, list[Node]] = field(default_factory=dict)
    """The nodes that were meant for a row and were not understood."""
    given_up: dict[str, int] = field(default_factory=dict)
    """What could not be placed, of which there may be more: its place in the report."""
    waiting: list[tuple[Row, Fact, Node]] = field(default_factory=list)
    """Facts that name the fact that they belong to, which may still come."""

    def withdraw(self, less: Block) -> bool:
        """Take out what another block states; whether something of it was there."""
        found = without_fields(self.fact.fields, less.fact.fields)
        for name in less.fact.fields:
            self.said.pop(name, None)
        found |= without_facts(self.fact.children, less.fact.children)
        waiting = [fact for _, fact, _ in self.waiting]
        found |= without_facts(waiting, [fact for _, fact, _ in less.waiting])
        stay = set(map(id, waiting))
        self.waiting = [entry for entry in self.waiting if id(entry[1]) in stay]
        return found


def first_like(facts: Sequence[Fact], kind: str, fields: dict[str, Any]) -> Fact | None:
    """The first fact of a kind that has these fields."""
    for fact in facts:
        if fact.kind == kind and fields.items() <= fact.fields.items():
            return fact
    return None


def without_fields(fields: dict[str, Any], less: dict[str, Any]) -> bool:
    """Take values out of fields, and items out of lists; whether there were any."""
    found = False
    for name, value in less.items():
        there = fields.get(name)
        if isinstance(there, tuple) and isinstance(value, tuple | int | str):
            items = value if isinstance(value, tuple) else (value,)
            rest = tuple(item for item in there if item not in items)
            found |= rest != there
            fields[name] = rest
        elif there == value:
            found = True
        else:
            continue
        if not isinstance(there, tuple) or not fields[name]:
            del fields[name]
    return found


def without_facts(facts: list[Fact], gone: Sequence[Fact]) -> bool:
    """Take out of facts those that are like others; whether there was one."""
    found = False
    for unwanted in gone:
        fact = first_like(facts, unwanted.kind, unwanted.fields)
        if fact is not None:
            found = True
            facts[:] = [other for other in facts if other is not fact]
    return found


def by_link(block: Fact, links: tuple[str, ...]) -> dict[tuple[Any, ...], Fact]:
    """The facts in a block of the kind that links name, by the fields that they name."""
    kind = links[0].partition(".")[0]
    names = [link.partition(".")[2] for link in links]
    found: dict[tuple[Any, ...], Fact] = {}
    for fact in block.walk():
        if fact.kind == kind:
            found.setdefault(tuple(fact.get(name) for name in names), fact)
    return found
