"""A sheet, loaded: what a dialect looks like and how its devices behave."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from itertools import groupby
from typing import Any

from reservoir.dialects.forms import DurationForm
from reservoir.dialects.patterns import LinePattern


@dataclass(frozen=True)
class Nesting:
    """How lines stand inside one another."""

    indent: int
    """Blanks that the writer puts before each deeper line."""
    end: str = ""
    """The word that closes a block; without it, indentation alone says what is inside."""
    opens: str = ""
    """What a line that opens a block ends with, where blocks are closed by a word."""


@dataclass(frozen=True)
class Naming:
    """What the device takes for a name of a pool or binding."""

    longest: int = 0
    """Most characters; 0 is no limit."""
    characters: str = ""
    """The characters allowed, as in a regular expression's set; empty is any."""


@dataclass(eq=False)
class Row:
    """One row of a sheet's body: a line of configuration and the facts that it states."""

    number: int
    """Its line in the sheet."""
    kind: str
    """The kind of fact that it opens; empty if it adds fields to the enclosing fact."""
    repeat: str
    """``*`` many or one per list item, ``?`` perhaps, empty for exactly one."""
    conditions: Mapping[str, Any]
    """Fields that must have a value for the row to be written, and have it when it is read."""
    same_as: Mapping[str, str]
    """Fields that must equal another field of the fact, likewise."""
    pattern: LinePattern
    children: list[Row] = field(default_factory=list)

    @cached_property
    def scope(self) -> Scope:
        """The rows that may stand inside, found by how their lines begin."""
        return Scope(self.children)

    @cached_property
    def groups(self) -> list[tuple[str, list[Row]]]:
        """The rows inside, those of one kind together: other ways to say the same fact."""
        return grouped(self.children)

    def applies(self, fields: Mapping[str, Any]) -> bool:
        """Whether a fact with these fields can be said by this row. No field is None."""
        if not self.pattern.required_fields <= fields.keys():
            return False
        for name, value in self.conditions.items():
            if fields.get(name) != value:
                return False
        return all(fields.get(name) == fields.get(other) for name, other in self.same_as.items())


def grouped(rows: Iterable[Row]) -> list[tuple[str, list[Row]]]:
    """Neighbouring rows of one kind, together with that kind."""
    return [(kind, list(group)) for kind, group in groupby(rows, key=lambda row: row.kind)]


class Scope:
    """Rows among which a line is looked up by its first word."""

    def __init__(self, rows: list[Row]) -> None:
        """Sort the rows by head."""
        self.rows = rows
        self.by_head: dict[str, list[Row]] = {}
        self.headless = [row for row in rows if row.pattern.head is None]
        for row in rows:
            if row.pattern.head is not None:
                self.by_head.setdefault(row.pattern.head, []).append(row)

    def candidates(self, text: str) -> list[Row]:
        """The rows that a line may be, by its first word, in the sheet's order."""
        found = self.by_head.get(text.split(" ", 1)[0].split("\t", 1)[0], [])
        return found + self.headless if self.headless else found


@dataclass(frozen=True)
class Sheet:
    """A dialect."""

    name: str
    file: str
    """Where the sheet was read."""
    about: str
    suffix: str
    """How its files' names end."""
    comment: str
    nesting: Nesting
    naming: Naming
    duration: DurationForm
    traits: Mapping[str, str]
    limits: Mapping[str, int]
    """Most of something, by ``pool.dns`` (items of a list) or ``device.exclusion`` (facts)."""
    assumed: Mapping[tuple[str, str], Any]
    """Values that a field of a kind has when nothing says otherwise."""
    rows: tuple[Row, ...]

    @cached_property
    def scope(self) -> Scope:
        """The rows of the top level."""
        return Scope(list(self.rows))

    @cached_property
    def groups(self) -> list[tuple[str, list[Row]]]:
        """The rows of the top level, those of one kind together."""
        return grouped(self.rows)

    def trait(self, name: str) -> str:
        """The value of a trait."""
        return self.traits[name]
