"""What a line that undoes another may mean."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import suppress
from typing import Any, NamedTuple

from reservoir.dialects.facts.kinds import RUNNING_NUMBER
from reservoir.dialects.notations.nodes import Node
from reservoir.dialects.sheet.model import Row, Scope, Sheet
from reservoir.dialects.sheet.patterns import BadValueError


class TakenBack(NamedTuple):
    """One way to understand what a line undoes."""

    row: Row
    values: dict[str, Any]
    """What the line says of it."""
    node: Node
    """The line that it undoes, with what is inside."""


def taken_back(node: Node, scope: Scope, sheet: Sheet, *, inside: bool) -> Iterator[TakenBack]:
    """The ways to understand what a node undoes, by the lines of their own first.

    Args:
        node: The line.
        scope: The rows that may be there.
        sheet: The dialect.
        inside: It is in a path whose first step says already that it undoes.
    """
    for row in scope.rows:
        if row.undo is not None and (values := row.undo.read(node.text)) is not None:
            yield TakenBack(row, values, node)
    undone = node.text if inside else sheet.undo and sheet.undo.undone(node.text)
    if not undone:
        return
    inner = node.saying(undone)
    for text in sheet.notation.as_openings(undone):
        for row in scope.candidates(text):
            with suppress(BadValueError):
                if (values := row.pattern.read(text)) is not None:
                    values.pop(RUNNING_NUMBER, None)
                    yield TakenBack(row, {**values, **row.conditions}, inner)
