"""Finds facts by what they state, and takes some out: linear, however many lines undo others."""

from __future__ import annotations

from bisect import bisect_left, insort
from collections.abc import Sequence
from typing import Any

from reservoir.dialects.facts.fact import Fact

_Key = tuple[str, tuple[str, ...]]
"""A kind, and the names of fields."""


class FactsLike:
    """A list of facts that grows at its end, in which the first is found that states something.

    What is taken out stays in the list until :meth:`settle`, so that places stay what they are.
    """

    def __init__(self, facts: list[Fact]) -> None:
        self.facts = facts
        self.unfinished: list[int] = []
        """Places of facts that may still be added to."""
        self._gone: set[int] = set()
        self._tables: dict[_Key, dict[tuple[Any, ...], list[int]]] = {}
        """By kind and fields that somebody asked for: the places, ascending, by their values."""
        self._known: dict[_Key, int] = {}
        """How many of the facts each table has."""

    def first(self, kind: str, fields: dict[str, Any]) -> int | None:
        """The place of the first fact of a kind that has these fields."""
        found = [p for p in self.unfinished if self._is_like(p, kind, fields)][:1]
        names = tuple(sorted(fields))
        places = self._table((kind, names)).get(tuple(fields[name] for name in names), [])
        while places and not self._is_like(places[0], kind, fields):
            del places[0]
        return min([*found, *places[:1]], default=None)

    def take_out(self, unwanted: Sequence[Fact]) -> bool:
        """Take out the first fact like each of these; whether there was one."""
        found = False
        for fact in unwanted:
            place = self.first(fact.kind, fact.fields)
            if place is not None:
                found = True
                self._gone.add(place)
        return found

    def changed(self, place: int) -> None:
        """A fact's fields are others now."""
        for key, table in self._tables.items():
            if place < self._known[key]:
                self._enter(place, key, table)

    def settle(self) -> None:
        """Drop from the list what was taken out."""
        if self._gone:
            kept = [fact for place, fact in enumerate(self.facts) if place not in self._gone]
            self.facts[:] = kept
        self.unfinished, self._gone, self._tables, self._known = [], set(), {}, {}

    def _is_like(self, place: int, kind: str, fields: dict[str, Any]) -> bool:
        fact = self.facts[place]
        return (
            place not in self._gone and fact.kind == kind and fields.items() <= fact.fields.items()
        )

    def _table(self, key: _Key) -> dict[tuple[Any, ...], list[int]]:
        table = self._tables.setdefault(key, {})
        for place in range(self._known.get(key, 0), len(self.facts)):
            self._enter(place, key, table)
        self._known[key] = len(self.facts)
        return table

    def _enter(self, place: int, key: _Key, table: dict[tuple[Any, ...], list[int]]) -> None:
        kind, names = key
        fact = self.facts[place]
        if fact.kind == kind and fact.fields.keys() >= set(names):
            places = table.setdefault(tuple(fact.fields[name] for name in names), [])
            at = bisect_left(places, place)
            if places[at : at + 1] != [place]:
                insort(places, place)


def without_fields(fields: dict[str, Any], less: dict[str, Any]) -> bool:
    """Take values out of fields, and items out of lists; whether there were any."""
    found = False
    for name, value in less.items():
        there = fields.get(name)
        if isinstance(there, tuple) and isinstance(value, tuple | int | str):
            items = value if type(value) is tuple else (value,)
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
