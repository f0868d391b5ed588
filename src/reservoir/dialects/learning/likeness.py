"""Which statements are alike: what opens and what frames, what counts, what only says more."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence

from reservoir.dialects.learning.explaining import NUMBER, Statement
from reservoir.dialects.learning.rows import DraftRow


def settle_frames(found: Sequence[Statement]) -> None:
    """Say of statements without a value whether they open the fact inside, or only hold it."""
    plain: dict[tuple[str, ...], list[Statement]] = {}
    for statement in found:
        if "\0" not in statement.skeleton:
            plain.setdefault(statement.skeleton, []).append(statement)
    for alike in plain.values():
        opening = [s for s in alike if s.fact is not s.owner]
        if not opening:
            continue
        for statement in alike:
            _take_nearest(statement, opening, alike)
        opening = [s for s in alike if s.fact is not s.owner]
        holds_many = len(opening) < sum(1 for s in alike if s.node.children)
        beside = Counter(s.around for s in alike)
        is_one_thing = all(len(s.node.children) == 1 for s in opening)
        if holds_many or (is_one_thing and max(beside.values()) == 1):
            for statement in opening:
                statement.fact = statement.owner


def _take_nearest(
    statement: Statement, opening: Sequence[Statement], alike: Sequence[Statement]
) -> None:
    """Take a statement to be about what most like it are about, but for one wrong word."""
    near = statement.nearest
    if near is None or statement.fact is not statement.owner or 2 * len(opening) <= len(alike):
        return
    if all(other.fact.kind == near.kind for other in opening):
        statement.fact = near


def settle_numbers(found: Sequence[Statement]) -> None:
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


def without_covered(rows: Sequence[DraftRow]) -> list[DraftRow]:
    """The rows, less those whose statements another row reads that says more of them."""
    covering = [row for row in rows if row.slots and _has_words(row)]
    gone = set[int]()
    for row in rows:
        said = {slot for slot in row.slots if slot != NUMBER}
        texts = [statement.node.text for statement in row.statements]
        for other in covering:
            says_more = set(other.slots) > said and other.kind == row.kind and id(other) not in gone
            if other is row or not says_more:
                continue
            if all(map(other.expression.fullmatch, texts)):
                other.statements += row.statements
                gone.add(id(row))
                break
    return [row for row in rows if id(row) not in gone]


def _has_words(row: DraftRow) -> bool:
    return any(isinstance(element, str) and re.search(r"\w", element) for element in row.elements)


def with_optional_parts(rows: Sequence[DraftRow]) -> list[DraftRow]:
    """The rows, those of one kind of which one only says more than the other as one."""
    opening = [row for row in rows if row.kind]
    made: list[DraftRow] = []
    for row in sorted(opening, key=lambda row: len(row.elements)):
        shorter = next((r for r in made if _is_longer(row, r)), None)
        if shorter is None:
            made.append(row)
            continue
        shorter.optional.append(row.elements[len(shorter.elements) :])
        shorter.statements += row.statements
        shorter.doubts += row.doubts
    made += [row for row in rows if not row.kind]
    _share_optional_parts(made)
    order = {id(row): at for at, row in enumerate(rows)}
    places: dict[str, int] = {}
    for row in rows:
        if row.kind:
            places.setdefault(row.kind, order[id(row)])
    # The ways to say one kind stand together, the most special first.
    return sorted(
        made, key=lambda row: (places.get(row.kind, order[id(row)]), not row.margin, order[id(row)])
    )


def _share_optional_parts(rows: Sequence[DraftRow]) -> None:
    """What may be missing in one way to say a kind may be missing in the others."""
    known = [(row.kind, part) for row in rows for part in row.optional]
    for kind, part in known:
        for row in rows:
            at = len(row.elements) - len(part)
            if row.kind == kind and at > 1 and row.elements[at:] == part:
                row.elements, row.optional = row.elements[:at], [part, *row.optional]


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
