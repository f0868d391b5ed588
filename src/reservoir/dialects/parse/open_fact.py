"""A fact whose inside is being read."""

from __future__ import annotations

from bisect import bisect
from dataclasses import dataclass, field
from typing import Any

from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.notations.nodes import Node
from reservoir.dialects.parse.withdrawn import FactsLike
from reservoir.dialects.sheet.model import Row


@dataclass(eq=False)
class OpenFact:
    """A fact whose inside is being read."""

    fact: Fact
    label: str
    line: int
    said: dict[str, int] = field(default_factory=dict)
    """Fields that a line has given, and that line."""
    implied: dict[Row, OpenFact] = field(default_factory=dict)
    """Facts inside that opened without a line of their own, by their row."""
    numbers: dict[str, list[int]] = field(default_factory=dict)
    """The numbers of the items of lists that have such, ascending."""
    halves: set[str] = field(default_factory=set)
    """Fields of which only a part was understood."""
    reopens: Reopening | None = None
    """How to find the same fact, if this may open it again: to undo some of what it says."""
    taken_back: int = 0
    """Lines that took something back."""
    misread: dict[Row, list[Node]] = field(default_factory=dict)
    """The nodes that were meant for a row and were not understood."""
    given_up: dict[str, int] = field(default_factory=dict)
    """What could not be placed, of which there may be more: its place in the report."""
    waiting: list[Fact] = field(default_factory=list)
    """Facts that name the fact that they belong to, which may still come."""
    waiting_for: dict[int, tuple[Row, Node]] = field(default_factory=dict)
    """The row and the node of each of these, by its ``id``."""
    shrunk: dict[int, FactsLike] = field(default_factory=dict)
    """The lists of facts, in it or deeper, from which some were taken, by their ``id``."""

    def place_of(self, name: str, number: int) -> int:
        """Where an item with a number of its own belongs in a list."""
        numbers = self.numbers.setdefault(name, [])
        place = bisect(numbers, number)
        numbers.insert(place, number)
        return place

    def keep_lines(self) -> None:
        """Leave with the fact the lines of the fields that stand on others than its own."""
        elsewhere = {name: line for name, line in self.said.items() if line != self.fact.line}
        self.fact.said = elsewhere or None


@dataclass(eq=False)
class Reopening:
    """A fact that a line opens, which may be there already."""

    around: OpenFact
    """What both are in."""
    kind: str
    fields: dict[str, Any]
    """What the line states of it."""
    place: int | None = None
    """Where the same fact is in what both are in, once that was looked up; None if it isn't."""
    is_looked_up: bool = False
