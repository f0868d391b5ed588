"""Makes the rows of a draft: of statements that look alike and say the same in the same place."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from reservoir.dialects.facts.kinds import ITEMS, KINDS
from reservoir.dialects.learning.entered import Known
from reservoir.dialects.learning.explaining import NUMBER, Explainer, Field, Statement
from reservoir.dialects.learning.likeness import (
    settle_frames,
    settle_numbers,
    with_optional_parts,
    without_covered,
)
from reservoir.dialects.learning.meanings import Word
from reservoir.dialects.learning.rows import DraftRow, Element
from reservoir.dialects.learning.states import with_switches
from reservoir.dialects.notations.nodes import Node

_MOST = 0.6
"""The share of like statements that have to say a field for the others to be wrong."""


class _Place(NamedTuple):
    """A node with the fact that it is in, and the one that its whole line is in."""

    node: Node
    owner: Known
    outer: Known
    around: Node | None


@dataclass
class RowMaker:
    """Makes the rows of a sample's nodes."""

    explainer: Explainer
    words_seen: list[tuple[Field, Word]] = field(default_factory=list)
    """The words that say each field, for the forms that the header has to name."""
    bool_words: tuple[str, ...] = ()
    """The words for yes and no, where there are such."""

    def rows(self, nodes: Sequence[Node]) -> list[DraftRow]:
        """The rows of a whole sample."""
        device = self.explainer.device
        return self._rows([_Place(node, device, device, None) for node in nodes], [device], [None])

    def _rows(
        self,
        places: Sequence[_Place],
        owners: Sequence[Known],
        around: Sequence[Node | None],
        *,
        pieces: bool = False,
    ) -> list[DraftRow]:
        """The rows of one place, from all places like it.

        Args:
            places: What stands there.
            owners: The facts that have the place.
            around: The nodes that have it.
            pieces: Whether they are pieces of a line.
        """
        found = [self.explainer.statement(*place) for place in places]
        settle_numbers(found)
        settle_frames(found)
        groups: dict[tuple[Any, ...], list[Statement]] = {}
        for statement in found:
            kind = statement.fact.kind if statement.fact is not statement.owner else ""
            variant = statement.variant(self.explainer.below(statement.node))
            groups.setdefault((kind, variant, statement.skeleton), []).append(statement)
        made: list[DraftRow] = []
        said = set[Field]()
        for (kind, variant, _), statements in groups.items():
            row = self._row(kind, statements, said, is_piece=pieces)
            said |= {*row.slots} if not kind else set()
            if variant == "address":
                row.margin = "* last={first}"
            made.append(row)
        made = with_optional_parts(without_covered(made))
        _doubt_what_is_said_twice(made)
        for row in made:
            self._fill(row, around)
            if row.is_frame and row.rows and all(inner.is_left for inner in row.rows):
                row.is_left, row.rows = True, []
        self.bool_words, made = with_switches(made, owners, self.bool_words)
        return made

    def _row(
        self, kind: str, statements: list[Statement], said: set[Field], *, is_piece: bool
    ) -> DraftRow:
        elements, doubts = self._elements(kind, statements, said)
        row = DraftRow(kind, elements, statements, doubts=doubts, is_piece=is_piece)
        others = frozenset[str]().union(*(s.others for s in statements))
        if kind and others:
            row.doubts.append(f"{kind} or {' or '.join(sorted(others))}")
        # A line that says values of several things at once is none that a row can say.
        row.is_left = not kind and any(doubt.endswith("something else") for doubt in doubts)
        return row

    def _elements(
        self, kind: str, statements: Sequence[Statement], said: set[Field]
    ) -> tuple[list[Element], list[str]]:
        elements: list[Element] = []
        doubts: list[str] = []
        used: set[Field] = set()
        for at, first in enumerate(statements[0].words):
            words = [s.words[at] for s in statements]
            if statements[0].skeleton[at] != "\0":
                elements.append(first.text)
                continue
            is_known = any(word.is_sure for word in words)
            common, not_in = _said_by_most(statements, at)
            doubts += [f"line {line} says another" for line in not_in]
            chosen = _in_order(common, used, kind or statements[0].fact.kind, said)
            if chosen[:2] == ["first", "last"] and not {"first", "last"} & used:
                chosen = chosen[:1]
            if chosen:
                used.add(chosen[0])
                self.words_seen += [(chosen[0], word) for word in words]
                is_doubtful = len(chosen) > 1 and _are_alike(
                    chosen, kind or statements[0].fact.kind
                )
                elements.append(tuple(chosen if is_doubtful else chosen[:1]))
            elif len({w.text for w in words}) == 1 and (len(words) > 1 or not (kind or is_known)):
                elements.append(first.text)
            elif all(word.is_number for word in words):
                elements.append((Field(NUMBER),))
            else:
                elements.append(first.text)
                what = "is a value of something else" if is_known else "may be another elsewhere"
                doubts.append(f"{first.text} {what}")
        return elements, doubts

    def _fill(self, row: DraftRow, around: Sequence[Node | None]) -> None:
        """Give a row its margin, and the rows inside it."""
        inside: list[_Place] = []
        pieces: list[_Place] = []
        for statement in row.statements:
            on_line = set(self.explainer.on_line(statement.node))
            for child in statement.node.children:
                if child in on_line:
                    place = _Place(child, statement.fact, statement.owner, statement.node)
                    pieces.append(place)
                else:
                    inside.append(_Place(child, statement.fact, statement.fact, statement.node))
        facts = [statement.fact for statement in row.statements]
        nodes = [statement.node for statement in row.statements]
        row.rows = [
            *self._rows(pieces, facts, nodes, pieces=True),
            *self._rows(inside, facts, nodes),
        ]
        row.margin = row.margin or _margin(row, around)


def _said_by_most(
    statements: Sequence[Statement], at: int
) -> tuple[frozenset[Field], Sequence[int]]:
    """The fields that a word is for in all statements, or in most, and the lines of the others."""
    common = frozenset.intersection(*(statement.fields[at] for statement in statements))
    if common:
        return common, ()
    said = Counter(name for statement in statements for name in statement.fields[at])
    most = frozenset(name for name, count in said.items() if count > len(statements) * _MOST)
    others = [s.node.line for s in statements if not s.fields[at] & most]
    return most, others if most else ()


def _in_order(names: Iterable[Field], used: set[Field], kind: str, said: set[Field]) -> list[Field]:
    """The fields that a word may be for, the likeliest first: its own, what tells it apart.

    Args:
        names: All that it may be for.
        used: Those that other words of its statement are for.
        kind: What the statement is about.
        said: Those that statements beside it are for.
    """
    own = KINDS[kind].fields if kind else {}
    order = list(own)

    def rank(name: Field) -> tuple[Any, ...]:
        plain, _, part = name.partition(":")
        is_own = plain in own
        place = order.index(plain) if is_own else len(order)
        tells = is_own and own[plain].is_identity
        return name in said and not tells, part == "host", not is_own, not tells, place

    return sorted((name for name in names if name not in used), key=rank)


def _are_alike(names: Sequence[Field], kind: str) -> bool:
    """Whether the first two fields are as likely: both the fact's own, whole, and no same thing."""
    if any(":" in name or "." in name for name in names[:2]):
        return False
    fields = KINDS[kind].fields
    return not any(name in fields and fields[name].is_derived for name in names[:2])


REQUIRED = frozenset(
    {"name", "subnet", "first", "last", "count", "offset", "address", "mac", "client_id",
     "code", "type", "value", "to", "via"}
)  # fmt: skip
"""Fields without which no fact of a sound plan is, so that a row may have to be there."""


def _margin(row: DraftRow, around: Sequence[Node | None]) -> str:
    many = Counter(statement.around for statement in row.statements)
    if row.kind:
        return "*"
    if row.is_frame:
        return ""
    lists = [name for name in row.slots if _is_list(row, name)]
    is_apart = any(":" in name or name == "secondary" for name in lists) and not row.is_piece
    if lists and (max(many.values()) > 1 or is_apart):
        return "*"
    everywhere = set(around) <= set(many)
    plain = {name.partition(":")[0] for name in row.slots}
    kind = row.statements[0].fact.kind
    if row.is_piece and any("." in name for name in row.slots):
        return "" if everywhere else "?"
    may_lack_name = kind == "binding" or (kind == "device" and not row.is_piece)
    needed = plain & REQUIRED and not (may_lack_name and plain == {"name"})
    needed = needed and not (kind == "interface" and "address" in plain)
    return "" if everywhere and needed else "?"


def _doubt_what_is_said_twice(rows: Sequence[DraftRow]) -> None:
    """Remark at rows of one place that say the same field, where that has one value."""
    own = [(row, name) for row in rows if not row.kind for name in row.slots]
    said = Counter(name for _, name in own)
    for row, name in own:
        if said[name] > 1 and name != NUMBER and not _is_list(row, name):
            row.doubts.append(f"another row says the {name}, too")


def _is_list(row: DraftRow, name: Field) -> bool:
    kind = row.statements[0].fact.kind
    its = KINDS[kind].fields.get(name.partition(":")[0])
    return its is not None and its.type in ITEMS
