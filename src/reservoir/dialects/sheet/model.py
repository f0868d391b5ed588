"""A sheet, loaded: what a dialect looks like and how its devices behave."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from itertools import groupby
from typing import Any

from reservoir.dialects.facts.fact import NOTHING
from reservoir.dialects.facts.kinds import EACH, LABEL, RUNNING_NUMBER
from reservoir.dialects.forms.durations import DurationForm
from reservoir.dialects.forms.plain import HOST
from reservoir.dialects.notations.nodes import Notation, Undo
from reservoir.dialects.sheet.made_of import MadeOf
from reservoir.dialects.sheet.patterns import LinePattern, head_of, heads_of


@dataclass(frozen=True)
class Naming:
    """What the device takes for a name of a pool or binding."""

    longest: int = 0
    """Most characters; 0 is no limit."""
    characters: str = ""
    """The characters allowed, as in a regular expression's set; empty is any."""


@dataclass(eq=False)
class Row:
    """One row of a sheet's body: a piece of configuration and the facts that it states."""

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
    """Empty for a fact that opens without a line of its own."""
    children: list[Row] = field(default_factory=list)
    pieces: list[Row] = field(default_factory=list)
    """Those of the rows inside that are on this row's line, in any order."""
    owner: Row | None = None
    """The row under which it is in the sheet."""
    about_dhcp: bool = False
    """Whether it is about DHCP."""
    is_piece: bool = False
    """Whether it is a piece of its owner's line."""
    is_on_line: bool = False
    """Whether it stands on its owner's line, be it written there in the sheet or below."""
    undo: LinePattern | None = None
    """The line that takes it back, if that is one of its own."""
    made_of: Mapping[str, MadeOf] = field(default_factory=dict)
    """Fields that are made of others: a name of its parts."""
    left: list[re.Pattern[str]] = field(default_factory=list)
    """Lines inside it that are left alone."""
    is_only_read: bool = False
    """Whether it is another way to say something, which is read and never written."""
    is_default: bool = False
    """Whether it states what every fact of its kind has that doesn't say otherwise."""

    @property
    def adds_fields(self) -> bool:
        """Whether it only adds fields to the enclosing fact."""
        return self.kind in ("", "device")

    @cached_property
    def links(self) -> tuple[str, ...]:
        """The fields by which it names the fact that it belongs to, such as ``pool.name``."""
        if self.is_piece:
            return ()  # it is its owner that they place
        if self.is_default:
            return (f"{kind_of(self)}.{EACH}",)
        rows = [self, *self.pieces]
        return tuple(link for row in rows for link in row.pattern.links)

    @cached_property
    def link_depth(self) -> int:
        """How many facts it belongs to that it, and in turn their rows, only name."""
        above = self.owner.link_depth if self.owner is not None else 0
        return above + bool(self.links)

    @cached_property
    def required(self) -> frozenset[str]:
        """The fields without which it can't be written."""
        sure = (piece.required for piece in self.pieces if not piece.repeat)
        return self.pattern.required_fields.union(*sure)

    @cached_property
    def needs(self) -> frozenset[str]:
        """The fields without which it and the lines that must be in it can't be written."""
        inside = (r.needs for r in self.children if not (r.kind or r.repeat or r.links))
        return self.required.union(*inside)

    @cached_property
    def is_frame(self) -> bool:
        """Whether it only holds other rows, and is there if any of them is."""
        states = bool(self.required or self.conditions)
        return self.adds_fields and bool(self.children) and not states

    @cached_property
    def is_apart(self) -> bool:
        """Whether its place is the top, wherever it is in the sheet.

        It is referred to by a label, is a default, or frames rows that name what they belong to.
        """
        if any(link.partition(".")[2][:1] in (LABEL, EACH) for link in self.links):
            return True
        if not self.is_frame or self.owner is None or kind_of(self) == "device":
            return False
        return all(row.links or row.is_apart for row in self.children)

    @cached_property
    def is_implied(self) -> bool:
        """Whether its fact opens without a line: with the first of the lines inside."""
        return not self.pattern.elements

    @property
    def is_item(self) -> bool:
        """Whether it is a line for each item of a list."""
        return self.repeat == "*" and self.adds_fields

    @cached_property
    def opens_fact(self) -> bool:
        """Whether it states a fact of its own, or what another fact has that it only names."""
        return not self.adds_fields or bool(self.links)

    @cached_property
    def is_in_implied(self) -> bool:
        """Whether its fact is in one that opens without a line of its own."""
        return self.owner is not None and self.owner.is_implied

    @cached_property
    def needed_inside(self) -> frozenset[str]:
        """The fields that the lines which must be in it state."""
        return _needed(self.children)

    @cached_property
    def needed_pieces(self) -> frozenset[str]:
        """The fields that the pieces which must be on its line state."""
        return _needed(self.pieces)

    @cached_property
    def mentioned(self) -> frozenset[str]:
        """The fields that its own line states."""
        slots = (slot.field for slot in self.pattern.slots)
        parts = (part for made in self.made_of.values() for part in made.parts)
        return frozenset({*slots, *self.conditions, *self.same_as, *self.made_of, *parts})

    @cached_property
    def scope(self) -> Scope:
        """The rows that may be inside, found by how their lines begin."""
        return Scope(self.children, self.left)

    @cached_property
    def holds_lines(self) -> bool:
        """Whether lines of their own may be inside it."""
        return any(not row.is_on_line for row in self.scope.rows)

    @cached_property
    def groups(self) -> list[tuple[str, list[Row]]]:
        """The rows inside that are written, those of one kind together: ways to say one fact."""
        return grouped(row for row in self.children if not row.is_only_read)

    def applies(self, fields: Mapping[str, Any]) -> bool:
        """Whether a fact with these fields can be said by this row. No field is None."""
        for name in self.needs:
            if name not in fields or fields[name] == NOTHING:
                return False
        for name, value in self.conditions.items():
            if fields.get(name) != value:
                return False
        for name, made in self.made_of.items():
            if fields.get(name) != made.of(fields):
                return False
        if not self.same_as:
            return True
        return all(fields.get(name) == fields.get(other) for name, other in self.same_as.items())


def _needed(rows: Iterable[Row]) -> frozenset[str]:
    sure = [row for row in rows if not (row.kind or row.repeat or row.links)]
    fields = (_needed(row.children) if row.is_frame else row.required for row in sure)
    return frozenset().union(*fields)


def grouped(rows: Iterable[Row]) -> list[tuple[str, list[Row]]]:
    """Neighbouring rows of one kind, together with that kind."""
    return [(kind, list(group)) for kind, group in groupby(rows, key=lambda row: row.kind)]


def every_row(rows: Iterable[Row]) -> Iterator[Row]:
    """The rows and those inside them, however deep."""
    for row in rows:
        yield row
        yield from every_row(row.children)


def written_rows(rows: Iterable[Row]) -> Iterator[Row]:
    """The same, without those that are only read."""
    for row in rows:
        if not row.is_only_read:
            yield row
            yield from written_rows(row.children)


class Scope:
    """Rows among which a node's text is looked up by its first word.

    Besides the rows that are inside a block, those under a fact without a line of its own,
    and those that name the fact that they belong to and so are beside it.
    """

    def __init__(
        self,
        rows: Iterable[Row],
        left: Sequence[re.Pattern[str]] = (),
        apart: Sequence[Row] = (),
    ) -> None:
        """Sort the rows by head.

        Args:
            rows: Those that are inside in the sheet.
            left: Lines that are left alone.
            apart: Rows from deeper in the sheet that have their place here.
        """
        self._left = left
        self.rows = [*_standing_here(rows), *apart]
        self.openings = sorted({row.pattern.opening for row in self.rows} - {""}, key=len)[::-1]
        self.by_head: dict[str, list[Row]] = {}
        self.headless = []
        for row in self.rows:
            head = row.pattern.head
            if head is None:
                self.headless.append(row)
            else:
                self.by_head.setdefault(head, []).append(row)

    def leaves(self, text: str) -> bool:
        """Whether the sheet says that a line is left alone."""
        return any(pattern.fullmatch(text) for pattern in self._left)

    def head_of(self, text: str) -> str:
        """The word by which rows for a text are found."""
        for opening in self.openings:
            if text.startswith(opening):
                return head_of(text.removeprefix(opening))
        return head_of(text)

    def heads_of(self, texts: Sequence[str]) -> Sequence[str]:
        """The same for many texts."""
        heads = heads_of(texts, self.openings)
        return heads if len(heads) == len(texts) else [self.head_of(text) for text in texts]

    def tells_most(self, entry: tuple[str, object]) -> int:
        """A rank of words, the lower the sooner a text that begins so shows what it is in.

        Those of no row come first, then those of rows that open facts.
        """
        rows = self.rows_for(entry[0])
        return 1 + all(row.adds_fields for row in rows) if rows else 0

    def candidates(self, text: str) -> list[Row]:
        """The rows that a text may be, by its first word, in the sheet's order."""
        return self.rows_for(self.head_of(text))

    def rows_for(self, head: str) -> list[Row]:
        """The rows that a text that begins with a word may be, in the sheet's order."""
        found = self.by_head.get(head, [])
        return found + self.headless if self.headless else found


def top_scope(rows: Sequence[Row], left: Sequence[re.Pattern[str]] = ()) -> Scope:
    """The rows of the top level, with those that are apart from what they belong to."""
    apart = [row for row in every_row(rows) if row.is_apart]
    return Scope(rows, left, [row for row in apart if row.owner and not row.owner.is_apart])


def _standing_here(rows: Iterable[Row]) -> Iterator[Row]:
    for row in rows:
        if row.is_implied:
            yield from _standing_here(row.children)
        elif row.owner is not None and row.owner.is_apart:
            yield row
        elif not (row.links or row.is_apart):
            yield row
            yield from _standing_beside(row.children)


def _standing_beside(rows: Iterable[Row]) -> Iterator[Row]:
    """Of the rows inside a row, those that are beside it, and those beside these."""
    for row in rows:
        if row.links and not row.is_apart:
            yield row
            yield from _standing_beside(row.children)


@dataclass(frozen=True, eq=False)
class Sheet:
    """A dialect."""

    name: str
    file: str
    """Where the sheet was read."""
    about: str
    suffix: str
    """How its files' names end."""
    notation: Notation
    naming: Naming
    duration: DurationForm
    traits: Mapping[str, str]
    limits: Mapping[str, int]
    """Most of something, by ``pool.dns`` (items of a list) or ``device.exclusion`` (facts)."""
    assumed: Mapping[tuple[str, str], Any]
    """Values that a field of a kind has when nothing says otherwise."""
    rows: tuple[Row, ...]
    undo: Undo | None = None
    """How any line is undone that has no line of its own for that."""
    words: Mapping[tuple[str, str], Mapping[str, str]] = field(default_factory=dict)
    """The device's own words for the values of some fields, by kind and field."""
    left: tuple[re.Pattern[str], ...] = ()
    """Lines of the top level that are left alone."""
    is_journal: bool = False
    """Whether what stands later about an address counts, instead of what is above it."""
    leases: tuple[Sheet, ...] = ()
    """Its parts that say how the device prints a table of leases: a sheet each."""

    @cached_property
    def undo_words(self) -> frozenset[str]:
        """The first words of lines that take others back."""
        own = {row.undo.head for row in every_row(self.rows) if row.undo is not None}
        words = {word for word in own if word}
        if self.undo is not None:
            words.add(head_of(self.undo.before))
        return frozenset(words)

    @cached_property
    def is_plain(self) -> bool:
        """Whether each line says what it says of its own fact, by itself and in its place."""
        rows = list(every_row(self.rows))
        counted = (
            slot.field == RUNNING_NUMBER for r in rows if r.is_item for slot in r.pattern.slots
        )
        is_plain = all(row.pattern.is_plain and not row.made_of for row in rows)
        return is_plain and not any(counted)

    @cached_property
    def labels(self) -> frozenset[str]:
        """The links by labels that its rows have: ``pool.@``."""
        links = (link for row in every_row(self.rows) for link in row.links)
        return frozenset(link for link in links if link.partition(".")[2].startswith(LABEL))

    @cached_property
    def has_hosts(self) -> bool:
        """Whether addresses are counted from the first of their pool's subnet somewhere."""
        rows = every_row(self.rows)
        return any(slot.part == HOST for row in rows for slot in row.pattern.slots)

    @cached_property
    def scope(self) -> Scope:
        """The rows of the top level."""
        return top_scope(self.rows, self.left)

    @cached_property
    def groups(self) -> list[tuple[str, list[Row]]]:
        """The rows of the top level that are written, those of one kind together."""
        return grouped(row for row in self.rows if not row.is_only_read)

    @cached_property
    def mentioned(self) -> Mapping[str, frozenset[str]]:
        """For each kind of fact that a row opens, the fields that its rows mention."""
        found: dict[str, set[str]] = {"device": set()}
        for row in written_rows(self.rows):
            found.setdefault(kind_of(row), set()).update(row.mentioned)
            for slot in row.pattern.slots:
                if slot.is_inner:
                    kind, _, name = slot.field.partition(".")
                    found.setdefault(kind, set()).add(name)
        return {kind: frozenset(fields) for kind, fields in found.items()}

    @cached_property
    def homes(self) -> Mapping[str, tuple[str, ...]]:
        """For each kind of fact that a row opens, the kinds that it may be in."""
        found: dict[str, dict[str, None]] = {}
        for row in written_rows(self.rows):
            if row.kind and row.kind != "device":
                owner = kind_of(row.owner) if row.owner else "device"
                found.setdefault(row.kind, {})[owner] = None
            for kind in row.pattern.inner_kinds:
                found.setdefault(kind, {})[kind_of(row)] = None
        return {kind: tuple(owners) for kind, owners in found.items()}

    def stands_in(self, kind: str, owner: str) -> bool:
        """Whether a fact of this kind may be in one of that kind."""
        return owner in self.homes.get(kind, ())

    def says_nothing(self, kind: str, name: str) -> bool:
        """Whether some row says that there is none of something."""
        return any(
            row.conditions.get(name) == NOTHING and kind_of(row) == kind
            for row in written_rows(self.rows)
        )

    def mentions(self, kind: str, name: str) -> bool:
        """Whether some row states a field of a kind."""
        return name in self.mentioned.get(kind, ())

    def trait(self, name: str) -> str:
        """The value of a trait."""
        return self.traits[name]


def kind_of(row: Row) -> str:
    """The kind of fact that a row opens or adds fields to."""
    while not row.kind and row.owner is not None:
        row = row.owner
    return row.kind or "device"
