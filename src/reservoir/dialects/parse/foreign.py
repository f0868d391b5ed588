"""Lines that no row of a sheet is for: about other things, unless something speaks against that."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from difflib import SequenceMatcher
from functools import cached_property
from itertools import chain
from typing import NamedTuple

from reservoir.core.values.clients import Mac
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.facts.kinds import KINDS
from reservoir.dialects.notations.nodes import Node, all_nodes
from reservoir.dialects.parse.not_understood import NotUnderstood, stated_by
from reservoir.dialects.sheet.model import Row, Scope, Sheet, every_row, kind_of
from reservoir.dialects.sheet.patterns import BadValueError

NEARLY = 0.8
"""How alike two beginnings of lines are of which one may be the other, misspelt; 1 is the same."""

SHORTEST_NAME = 3
"""Characters of a pool's name by which a line is known to be about it."""


class Other(NamedTuple):
    """A line about other things, with what is inside it."""

    node: Node
    scope: Scope
    """Where it stands."""

    @property
    def lines(self) -> set[int]:
        """Its lines."""
        return {node.line for node in (self.node, *all_nodes(self.node.children))}


class Suspicion:
    """Tells which lines only seem to be about other things."""

    def __init__(self, sheet: Sheet, device: Fact) -> None:
        """Take what was read of the device."""
        self._sheet = sheet
        self._device = device

    def why(self, other: Other) -> tuple[str, frozenset[str]] | None:
        """Why a line is not about other things, and what it is about; None if nothing says so."""
        for row, what in (
            (self._behind_a_word(other), "but for how it begins it is a line like"),
            (self._like_a_block(other.node), "the lines inside are those of"),
        ):
            if row is not None:
                return f"{what}: {row.pattern.shape}", stated_by(row)
        for node in (other.node, *all_nodes(other.node.children)):
            named = self._named(node.text)
            if named is not None:
                return f"it names {named.label}", frozenset({named.kind})
        return None

    def swallowed(self, block: Other) -> Iterator[NotUnderstood]:
        """Lines in a block that is left alone which were probably to end it: headings, misspelt."""
        for node in block.node.children:
            row = self._nearly_opens(node.text)
            if row is not None:
                yield NotUnderstood(
                    node.line,
                    node.column,
                    f"not understood, inside {block.node.text!r}, which is left alone: "
                    f"{node.text!r}; it is nearly a line like: {row.pattern.shape}",
                    1,
                    stated_by(row) | {kind_of(row)},
                )

    def _nearly_opens(self, text: str) -> Row | None:
        """The row of the top level with rows inside that a line nearly is."""
        for row, begins in self._openings:
            start, half = text[: len(begins) + 1], len(begins) // 2
            if begins[:half] not in start and begins[half:] not in start:
                continue  # one slip leaves half of it as it is
            if SequenceMatcher(None, begins, start, autojunk=False).ratio() > NEARLY:
                return row
        return None

    @cached_property
    def _openings(self) -> Sequence[tuple[Row, str]]:
        """The rows of the top level with rows inside, and how they begin, where that tells."""
        rows = [row for row in self._sheet.scope.rows if row.scope.rows]
        return [
            (row, begins)
            for row in rows
            if len(begins := row.pattern.begins.strip()) > SHORTEST_NAME
        ]

    def _named(self, text: str) -> Fact | None:
        for word in _WORDS.findall(text):
            found = self._names.get(word)
            if found is None and len(word) >= _DIGITS:
                digits = re.sub("[:.-]", "", word).lower()
                found = self._clients.get(digits) if len(digits) == _DIGITS else None
            if found is not None:
                return found
        return None

    @cached_property
    def _names(self) -> Mapping[str, Fact]:
        """The pools by names that nothing else has, and that are no words of the dialect."""
        words = set(chain.from_iterable(row.pattern.words for row in every_row(self._sheet.rows)))
        facts = list(self._device.walk())
        words |= {str(fact.get("name")) for fact in (self._device, *facts) if fact.kind != "pool"}
        return {
            name: fact
            for fact in facts
            if fact.kind == "pool"
            if len(name := str(fact.get("name", ""))) >= SHORTEST_NAME and name not in words
            if not name.isdigit()
        }

    @cached_property
    def _clients(self) -> Mapping[str, Fact]:
        """The bindings by the digits of their MAC addresses."""
        bound = (fact for fact in self._device.walk() if fact.kind == "binding")
        return {f"{int(mac):012x}": f for f in bound if isinstance(mac := f.get("mac"), int | Mac)}

    def _behind_a_word(self, other: Other) -> Row | None:
        """The row about DHCP that a line is, but for its first word or the beginning of that."""
        text = other.node.text
        first, blank, rest = text.partition(" ")
        for inner in (rest, first.partition("-")[2] + blank + rest):
            for row in other.scope.candidates(inner) if inner.strip() else ():
                if row.about_dhcp and row.pattern.head is not None and _is(row, inner):
                    return row
        return None

    def _like_a_block(self, node: Node) -> Row | None:
        """The row about DHCP for whose lines most of those in a block are."""
        if not node.children:
            return None
        for row in self._blocks:
            inside = row.scope
            known = sum(
                any(_is(inner, child.text) for inner in inside.candidates(child.text))
                for child in node.children
            )
            if 2 * known > len(node.children):
                return row
        return None

    @cached_property
    def _blocks(self) -> Sequence[Row]:
        return [
            row
            for row in every_row(self._sheet.rows)
            if row.children and not row.is_piece and KINDS[kind_of(row)].about_dhcp
        ]


def _is(row: Row, text: str) -> bool:
    try:
        return row.pattern.read(text) is not None
    except BadValueError:
        return True  # a line of that kind, with a value that can't be


def told_apart(
    others: Sequence[Other], suspicion: Suspicion
) -> tuple[list[NotUnderstood], list[Other]]:
    """What is not understood of lines that no row is for, and what is about other things."""
    odd: list[NotUnderstood] = []
    left: list[Other] = []
    for other in others:
        why = suspicion.why(other)
        if why is None:
            left.append(other)
            continue
        reason, states = why
        node = other.node
        message = f"not understood: {node.text!r}; {reason}"
        odd.append(NotUnderstood(node.line, node.column, message, len(other.lines), states))
    return odd, left


def first_words(others: Sequence[Other]) -> Iterator[tuple[Other, int]]:
    """The first of the lines that begin with a word, and how many lines that word begins."""
    found: dict[str, list[Other]] = {}
    for other in others:
        found.setdefault(other.scope.head_of(other.node.text), []).append(other)
    for alike in found.values():
        yield alike[0], sum(len(other.lines) for other in alike)


_WORDS = re.compile(r"[^\s\"'<>={}\[\],;]+")
_DIGITS = 12
