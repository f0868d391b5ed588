"""A row of a draft, with the statements that it was made of."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field

from reservoir.dialects.learning.explaining import Field, Statement

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
