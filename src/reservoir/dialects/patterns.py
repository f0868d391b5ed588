"""A row's line: literal text, typed slots, parts that may be missing. One thing for both ways.

The reader matches it against a line, the writer fills it in; neither has a second description.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any

from reservoir.core.addressing import MalformedValueError
from reservoir.dialects.forms import PREFIX_PARTS, Form, joined_prefix


@dataclass(frozen=True)
class Literal:
    """Text that stands as it is; a run of blanks matches any run of blanks."""

    text: str


@dataclass(frozen=True)
class Slot:
    """A place for a field's value."""

    field: str
    form: Form
    part: str = ""
    """Which part of the value it holds, for values written in parts; see ``PREFIX_PARTS``."""


@dataclass(frozen=True)
class Optional:
    """A part of the line that is there only if its values are."""

    elements: tuple[Literal | Slot, ...]


Element = Literal | Slot | Optional


class BadValueError(Exception):
    """A line has the shape of a row, and a value in it that can't be read."""

    def __init__(self, message: str, column: int) -> None:
        """Keep the message, and the column from 0 in the line."""
        super().__init__(message)
        self.message, self.column = message, column


@dataclass(frozen=True)
class LinePattern:
    """The elements of a row's line."""

    elements: tuple[Element, ...]

    @cached_property
    def slots(self) -> tuple[Slot, ...]:
        """Every slot, those in optional parts too, in order."""
        return tuple(_slots(self.elements))

    @cached_property
    def required_fields(self) -> frozenset[str]:
        """The fields without whose values the line can't be written."""
        return frozenset(e.field for e in self.elements if isinstance(e, Slot))

    @cached_property
    def head(self) -> str | None:
        """The word that every such line begins with; None if it begins otherwise."""
        first = self.elements[0]
        if not isinstance(first, Literal):
            return None
        word, blank, _ = first.text.partition(" ")
        return word if blank or len(self.elements) == 1 else None

    @cached_property
    def words(self) -> frozenset[str]:
        """The words of its literal text."""
        literals = (e.text for e in _flat(self.elements) if isinstance(e, Literal))
        return frozenset(word for text in literals for word in text.split())

    @property
    def lead(self) -> str:
        """Its literal beginning, for messages: ``withhold …``."""
        first = self.elements[0]
        return f"{first.text.rstrip()} …" if isinstance(first, Literal) else "…"

    @property
    def shape(self) -> str:
        """The line as people read it: ``withhold {first} to {last}``."""
        return _shape(self.elements)

    @cached_property
    def _expression(self) -> re.Pattern[str]:
        return re.compile("".join(_expressions(self.elements)) + "[ \\t]*")

    @cached_property
    def match(self) -> Any:
        """Matches a whole line; the groups are the slots' texts in order."""
        return self._expression.fullmatch

    def read(self, line: str) -> dict[str, Any] | None:
        """The values of a line's slots by field; None if the line has another shape.

        Raises:
            BadValueError: the shape is right, and a value is not.
        """
        found = self.match(line)
        if found is None:
            return None
        values: dict[str, Any] = {}
        parts: dict[str, dict[str, int]] = {}
        for group, (slot, text) in enumerate(zip(self.slots, found.groups(), strict=True), start=1):
            if text is None:
                continue
            try:
                value = slot.form.read(text)
                if slot.part:
                    parts.setdefault(slot.field, {})[slot.part] = value
                    value = joined_prefix(parts[slot.field]) if "ip" in parts[slot.field] else None
            except MalformedValueError as error:
                message = f"{error}, in: {self.lead}"
                raise BadValueError(message, found.start(group)) from None
            values[slot.field] = value
        return values

    def progress(self, line: str) -> int:
        """How many of the line's characters its literal beginnings account for."""
        reached = 0
        for count in range(1, len(self.elements) + 1):
            begun = re.match("".join(_expressions(self.elements[:count])), line)
            if begun is None:
                break
            reached = begun.end()
        return reached

    def write(self, fields: Mapping[str, Any], said: set[str]) -> str:
        """The line for a fact's fields; the names of those that it says are added to ``said``.

        Raises:
            MalformedValueError: a value can't be written in its slot's form.
        """
        text = ""
        for element in self.elements:
            if isinstance(element, Optional):
                text += _write_optional(element, fields, said)
            else:
                text += _write_element(element, fields)
        said |= self.required_fields
        return text


def _write_element(element: Literal | Slot, fields: Mapping[str, Any]) -> str:
    if isinstance(element, Literal):
        return element.text
    value = fields[element.field]
    return element.form.write(PREFIX_PARTS[element.part][1](value) if element.part else value)


def _write_optional(part: Optional, fields: Mapping[str, Any], said: set[str]) -> str:
    names = {element.field for element in part.elements if isinstance(element, Slot)}
    if any(fields.get(name) is None for name in names):
        return ""
    try:
        text = "".join(_write_element(element, fields) for element in part.elements)
    except MalformedValueError:
        return ""  # the field stays unsaid, and the writer reports it as lost
    said |= names
    return text


def _flat(elements: Sequence[Element]) -> Iterator[Literal | Slot]:
    for element in elements:
        if isinstance(element, Optional):
            yield from element.elements
        else:
            yield element


def _slots(elements: Sequence[Element]) -> Iterator[Slot]:
    return (element for element in _flat(elements) if isinstance(element, Slot))


def _shape(elements: Sequence[Element]) -> str:
    text = ""
    for element in elements:
        if isinstance(element, Optional):
            text += f"[{_shape(element.elements)}]"
        else:
            text += element.text if isinstance(element, Literal) else f"{{{element.field}}}"
    return text


def _expressions(elements: Sequence[Element]) -> Iterator[str]:
    for element in elements:
        if isinstance(element, Literal):
            yield "[ \\t]+".join(re.escape(word) for word in element.text.split(" "))
        elif isinstance(element, Slot):
            yield f"({element.form.pattern})"
        else:
            yield f"(?:{''.join(_expressions(element.elements))})?"
