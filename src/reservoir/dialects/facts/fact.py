"""Facts: what a device's configuration states, whatever language it is written in.

Lowering makes facts of a plan, a writer writes them, a reader finds them again, lifting makes a
plan of them.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator
from dataclasses import dataclass, field
from typing import Any, Protocol

from reservoir.core.plan.model import PlanPath
from reservoir.core.values.addresses import format_address
from reservoir.dialects.facts.kinds import KINDS

NOTHING: tuple[()] = ()
"""The value of a field that says that there is none, where leaving it out would say otherwise."""


@dataclass(slots=True)
class Fact:
    """One thing that a configuration states."""

    kind: str
    fields: dict[str, Any]
    children: list[Fact] = field(default_factory=list)
    line: int = field(default=0, compare=False)
    column: int = field(default=0, compare=False)
    origin: PlanPath = field(default=(), compare=False)
    """Where it comes from in the plan, if it was made of one."""
    said: dict[str, int] | None = field(default=None, compare=False)
    """The line of each field that stands on another line than the fact's."""

    @property
    def place(self) -> tuple[str, int, int]:
        """What tells it from others of its text: its kind, line and column."""
        return self.kind, self.line, self.column

    def line_of(self, name: str) -> int:
        """The line of a field."""
        return (self.said or {}).get(name, self.line)

    def get(self, name: str, otherwise: Any = None) -> Any:
        """A field's value, if it has one."""
        return self.fields.get(name, otherwise)

    def of_kind(self, kind: str) -> Iterator[Fact]:
        """The facts of a kind in it."""
        return (child for child in self.children if child.kind == kind)

    def walk(self) -> Iterator[Fact]:
        """The facts inside it, however deep."""
        for child in self.children:
            yield child
            yield from child.walk()

    @property
    def label(self) -> str:
        """What to call it in a message: ``pool crew``, ``exclusion 10.84.30.40``."""
        for name in ("name", *KINDS[self.kind].identity):
            value = self.fields.get(name)
            if value is not None:
                its_type = KINDS[self.kind].fields[name].type
                return f"{self.kind} {format_address(value) if its_type == 'ip' else value}"
        return self.kind


class _Place(Protocol):
    """What stands somewhere in a text."""

    line: int
    column: int


def facts_at(kind: str, fields: Iterable[dict[str, Any]], places: Iterable[_Place]) -> list[Fact]:
    """A fact of a kind for each of some fields, by the place where it stands.

    The same as ``Fact(kind, fields, [], line, column)`` for each, in a third of the time: a
    million calls of an ``__init__`` are what reading a million lines would mostly wait for.
    """
    made = []
    for its_fields, place in zip(fields, places, strict=True):
        fact = object.__new__(Fact)
        fact.kind, fact.fields, fact.children = kind, its_fields, []
        fact.line, fact.column, fact.origin, fact.said = place.line, place.column, (), None
        made.append(fact)
    return made
