"""The rows of a draft: statements that look alike and say the same, in the place where they are."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field
from itertools import groupby
from typing import Any, NamedTuple

from reservoir.core.wording import counted, listed
from reservoir.dialects.facts.kinds import KINDS
from reservoir.dialects.learning.entered import Known
from reservoir.dialects.learning.explaining import NUMBER, Explainer, Field, Statement
from reservoir.dialects.learning.meanings import Word
from reservoir.dialects.notations.nodes import Node

Element = str | tuple[Field, ...]
"""A literal, or a slot: the fields that it may be for, the likeliest first."""


@dataclass(eq=False)
class DraftRow:
    """A row of the draft, with the statements that it was made of."""

    kind: str
    elements: list[Element]
    statements: list[Statement]
    margin: str = ""
    """``*``, ``?``, or nothing, with conditions behind it."""
    rows: list[DraftRow] = field(default_factory=list)
    optional: list[list[Element]] = field(default_factory=list)
    """Elements at the end that may be missing, each part by itself."""
    doubts: list[str] = field(default_factory=list)
    """Why it is a guess."""
    is_piece: bool = False
    """Whether it stands on the line of the row around it."""
    is_left: bool = False

    @property
    def lines(self) -> list[int]:
        """Where it is in the sample."""
        return [statement.node.line for statement in self.statements]

    @property
    def slots(self) -> list[Field]:
        """The fields that its own text says."""
        every = [*self.elements, *(element for part in self.optional for element in part)]
        return [element[0] for element in every if isinstance(element, tuple)]

    @property
    def is_frame(self) -> bool:
        """Whether it says nothing itself and only holds others."""
        return not (self.kind or self.slots or self.is_left or "=" in self.margin)

    @property
    def expression(self) -> re.Pattern[str]:
        """What it reads, whatever its values."""
        return re.compile("".join(
            re.escape(element) if isinstance(element, str) else ".+?" for element in self.elements
        ))  # fmt: skip

    def walk(self) -> Iterator[DraftRow]:
        """The row and those inside it."""
        yield self
        for row in self.rows:
            yield from row.walk()


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
    on_line: Callable[[Node], Sequence[Node]]
    """Of what is inside a node, what stands on its own line."""
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
        _settle_numbers(found)
        self._settle_frames(found)
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
        made = _with_optional_parts(_without_covered(made))
        for row in made:
            self._fill(row, around)
            if row.is_frame and row.rows and all(inner.is_left for inner in row.rows):
                row.is_left, row.rows = True, []
        return [*self._switches(list(self._with_states(made, owners)))]

    def _settle_frames(self, found: Sequence[Statement]) -> None:
        """Say of statements without a value whether they open the fact inside, or only hold it."""
        plain: dict[tuple[str, ...], list[Statement]] = {}
        for statement in found:
            if "\0" not in statement.skeleton:
                plain.setdefault(statement.skeleton, []).append(statement)
        for alike in plain.values():
            opening = [s for s in alike if s.fact is not s.owner]
            if not opening:
                continue
            holds_many = len(opening) < sum(1 for s in alike if s.node.children)
            beside = Counter(s.around for s in alike)
            is_one_thing = all(len(s.node.children) == 1 for s in opening)
            if holds_many or (is_one_thing and max(beside.values()) == 1):
                for statement in opening:
                    statement.fact = statement.owner

    def _row(
        self, kind: str, statements: list[Statement], said: set[Field], *, is_piece: bool
    ) -> DraftRow:
        elements, doubts = self._elements(kind, statements, said)
        row = DraftRow(kind, elements, statements, doubts=doubts, is_piece=is_piece)
        others = frozenset[str]().union(*(s.others for s in statements))
        if kind and others:
            row.doubts.append(f"{kind} or {' or '.join(sorted(others))}")
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
            common = frozenset.intersection(*(s.fields[at] for s in statements))
            chosen = _in_order(common, used, kind or statements[0].fact.kind, said)
            if chosen[:2] == ["first", "last"] and not {"first", "last"} & used:
                chosen = chosen[:1]
            if chosen:
                used.add(chosen[0])
                self.words_seen += [(chosen[0], word) for word in words]
                is_doubtful = len(chosen) > 1 and _are_alike(chosen, kind or statements[0].fact.kind)
                elements.append(tuple(chosen if is_doubtful else chosen[:1]))
            elif len({word.text for word in words}) == 1 and (len(words) > 1 or not kind):
                elements.append(first.text)
            elif all(word.is_number for word in words):
                elements.append((Field(NUMBER),))
            else:
                elements.append(first.text)
                doubts.append(f"{first.text} may stand for something else elsewhere")
        return elements, doubts

    def _fill(self, row: DraftRow, around: Sequence[Node | None]) -> None:
        """Give a row its margin, and the rows inside it."""
        inside: list[_Place] = []
        pieces: list[_Place] = []
        for statement in row.statements:
            on_line = set(self.on_line(statement.node))
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

    def _with_states(
        self, rows: Iterable[DraftRow], owners: Sequence[Known]
    ) -> Iterator[DraftRow]:
        """The rows, those without a value with the state of the fact that they stand for."""
        for row in rows:
            is_state = not (row.slots or row.kind or row.rows)
            if is_state and not row.margin.endswith("="):
                self._as_state(row, owners)
            yield row

    def _as_state(self, row: DraftRow, owners: Sequence[Known]) -> None:
        """Find the state in which a statement without a value stands; else leave it alone."""
        having = {id(statement.owner) for statement in row.statements}
        if row.statements[0].owner.kind == "device":
            row.is_left = True
            return
        if not owners or owners[0].kind == "device" or len({id(owner) for owner in owners}) < 2:
            row.is_left = True
            return
        if having == {id(owner) for owner in owners}:
            row.margin = ""
            return
        for name, its in KINDS[owners[0].kind].fields.items():
            if its.type != "bool":
                continue
            for value in (False, True):
                if having == {id(o) for o in owners if o.fields.get(name) is value}:
                    row.margin = f"? {name}={'yes' if value else 'no'}"
                    row.doubts.append(f"it stands only where {name} is {'on' if value else 'off'}")
                    return
        row.is_left = True


    def _switches(self, rows: list[DraftRow]) -> Iterator[DraftRow]:
        """The rows, two for the states of one switch as one with a slot for it."""
        left = list(rows)
        for row in rows:
            if row not in left:
                continue
            other = next((r for r in left if _is_opposite(r, row)), None)
            words = (_last(row), _last(other)) if other is not None else ("", "")
            if other is None or self.bool_words not in ((), words):
                yield row
                continue
            self.bool_words = words
            left.remove(other)
            name = row.margin.removeprefix("? ").partition("=")[0]
            text = "".join(e for e in row.elements if isinstance(e, str))
            row.elements = [text[: len(text) - len(words[0])], (Field(name),)]
            row.margin, row.doubts = "?", [f"{words[0]} or {words[1]} is {name}, yes or no"]
            row.statements += other.statements
            yield row


def _last(row: DraftRow) -> str:
    """The last word of a statement without a value."""
    return re.split(r"[ =:|,\"]", row.statements[0].node.text.strip('\"'))[-1]


def _is_opposite(row: DraftRow, other: DraftRow) -> bool:
    """Whether two rows say the two states of a switch, with another word at their end."""
    if not (row.margin.endswith("=no") and other.margin == f"{row.margin[:-2]}yes"):
        return False
    texts = [each.statements[0].node.text for each in (row, other)]
    begins = [text.removesuffix(_last(each)) for text, each in zip(texts, (row, other), strict=True)]
    return begins[0] == begins[1] and bool(begins[0].strip())


def _in_order(
    names: Iterable[Field], used: set[Field], kind: str, said: set[Field]
) -> list[Field]:
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
    return not any(
        name in fields and fields[name].restates in names for name in names[:2]
    )


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
    if lists and (max(many.values()) > 1 or any(":" in name for name in lists)):
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


def _is_list(row: DraftRow, name: Field) -> bool:
    kind = row.statements[0].fact.kind
    its = KINDS[kind].fields.get(name.partition(":")[0])
    return its is not None and its.type in ("ips", "texts", "prefixes")


def _settle_numbers(found: Sequence[Statement]) -> None:
    """Say of lines with a number that differ in nothing else whether it only counts their facts."""
    alike: dict[str, list[Statement]] = {}
    for statement in found:
        has_number = any(word.is_number for word in statement.words)
        if has_number and "\0" not in statement.skeleton and statement.fact.kind != "device":
            alike.setdefault(re.sub("[0-9]+", "0", statement.node.text), []).append(statement)
    for statements in alike.values():
        texts = {statement.node.text for statement in statements}
        owners = {id(statement.owner) for statement in statements}
        if len(texts) == len(statements) == len(owners) > 1:
            for statement in statements:
                statement.counts = True
                del statement.skeleton


def _without_covered(rows: Sequence[DraftRow]) -> list[DraftRow]:
    """The rows, less those whose statements another row reads that says more of them."""
    left = list(rows)
    for row in rows:
        texts = [statement.node.text for statement in row.statements]
        for other in left:
            more = set(other.slots) > {slot for slot in row.slots if slot != NUMBER}
            if other is row or other.kind != row.kind or not more:
                continue
            if all(map(other.expression.fullmatch, texts)):
                other.statements += row.statements
                left.remove(row)
                break
    return left


def _with_optional_parts(rows: Sequence[DraftRow]) -> list[DraftRow]:
    """The rows, those of one kind of which one only says more than the other as one."""
    made: list[DraftRow] = []
    for row in sorted(rows, key=lambda row: len(row.elements)):
        shorter = next((r for r in made if _is_longer(row, r)), None)
        if shorter is None:
            made.append(row)
            continue
        shorter.optional.append(row.elements[len(shorter.elements) :])
        shorter.statements += row.statements
        shorter.doubts += row.doubts
    order = {id(row): at for at, row in enumerate(rows)}
    places: dict[str, int] = {}
    for row in rows:
        if row.kind:
            places.setdefault(row.kind, order[id(row)])
    # The ways to say one kind stand together, the most special first.
    return sorted(made, key=lambda row: (places.get(row.kind, order[id(row)]), not row.margin, order[id(row)]))


def _is_longer(longer: DraftRow, shorter: DraftRow) -> bool:
    size = len(shorter.elements)
    if longer.kind != shorter.kind or not longer.kind or shorter.optional or not shorter.slots:
        return False
    if shorter.margin != longer.margin:
        return False
    begins = longer.elements[:size]
    if [e if isinstance(e, str) else e[0] for e in begins] != [
        e if isinstance(e, str) else e[0] for e in shorter.elements
    ]:
        return False
    more = longer.elements[size:]
    return any(isinstance(element, tuple) for element in more)
