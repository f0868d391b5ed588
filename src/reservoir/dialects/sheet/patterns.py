"""A row's line: literal text, typed slots, parts that may be missing. One thing for both ways.

The reader matches it against a line, the writer fills it in; neither has a second description.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import Any, NamedTuple

from reservoir.core.values.addresses import MalformedValueError
from reservoir.dialects.forms.form import Form
from reservoir.dialects.forms.plain import HOST, joined_prefix, part_of, with_other
from reservoir.dialects.forms.texts import ListOf, Quoted, Text


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
    """Which part of the value it holds, for values written in parts; see ``form_of_part``."""
    is_inner: bool = False
    """Whether it is a field of a fact inside, which has no line of its own: ``range.first``."""


@dataclass(frozen=True)
class Optional:
    """A part of the line that is there only if its values are."""

    elements: tuple[Literal | Slot, ...]


Element = Literal | Slot | Optional


def head_of(text: str) -> str:
    """The word that a text begins with; an opening sign before it belongs to it."""
    found = _HEAD.match(text)
    return found[0] if found else ""


def heads_of(texts: Sequence[str], openings: Sequence[str]) -> list[str]:
    """The same for each of many texts, after what opens a block; a text of two lines has two."""
    opening = "|".join(map(re.escape, openings))
    line = f"(?:{opening})?({_HEAD.pattern[:-2]}\\n]*)[^\\n]*\\n"
    return re.findall(line, "\n".join([*texts, ""]))


_HEAD = re.compile(r"\[?[^ \t=:>\[\]]*")


class BadValueError(Exception):
    """A line has the shape of a row, and a value in it that can't be read."""

    def __init__(self, message: str, column: int) -> None:
        """Keep the message, and the column from 0 in the line."""
        super().__init__(message)
        self.message, self.column = message, column


@dataclass(frozen=True)
class LinePattern:
    """The elements of a row's line; none if the row has no line of its own."""

    elements: tuple[Element, ...]
    opening: str = ""
    """What it begins with if that only opens a block, and tells none from another."""

    @cached_property
    def slots(self) -> tuple[Slot, ...]:
        """Every slot, those in optional parts too, in order."""
        return tuple(_slots(self.elements))

    def avoiding(self, sign: str) -> LinePattern:
        """The same with no bare text in it that has a sign."""

        def avoids(element: Any) -> Any:
            if isinstance(element, Optional):
                return Optional(tuple(map(avoids, element.elements)))
            if isinstance(element, Slot) and isinstance(element.form, Text):
                avoid = "|".join(filter(None, (element.form.avoid, re.escape(sign))))
                return replace(element, form=replace(element.form, avoid=avoid))
            return element

        return replace(self, elements=tuple(map(avoids, self.elements)))

    @cached_property
    def inner_kinds(self) -> frozenset[str]:
        """The kinds of facts inside that it states."""
        return frozenset(slot.field.partition(".")[0] for slot in self.slots if slot.is_inner)

    @cached_property
    def is_plain(self) -> bool:
        """Whether its slots are the fact's own fields, each by itself."""
        return not self.inner_kinds and all(slot.part != HOST for slot in self.slots)

    @cached_property
    def has_parts(self) -> bool:
        """Whether some slot holds only a part of its field's value."""
        return any(slot.part for slot in self.slots)

    @cached_property
    def links(self) -> tuple[str, ...]:
        """Slots for fields of the fact that the line's fact belongs to: ``pool.name``."""
        return tuple(s.field for s in self.slots if "." in s.field and not s.is_inner)

    @cached_property
    def required_fields(self) -> frozenset[str]:
        """The fields without whose values the line can't be written."""
        return frozenset(e.field for e in self.elements if isinstance(e, Slot))

    @cached_property
    def head(self) -> str | None:
        """The word that every such line begins with, or has next; None if it begins otherwise."""
        first = self.elements[0] if self.elements else None
        if not isinstance(first, Literal):
            return None
        text = first.text.removeprefix(self.opening)
        word = head_of(text)
        whole = len(word) == len(text)
        return word if word and (not whole or len(self.elements) == 1) else None

    @cached_property
    def words(self) -> frozenset[str]:
        """The words of its literal text."""
        literals = (e.text for e in _flat(self.elements) if isinstance(e, Literal))
        return frozenset(word for text in literals for word in text.split())

    @cached_property
    def begins(self) -> str:
        """The literal text that it begins with."""
        first = self.elements[0] if self.elements else None
        return first.text if isinstance(first, Literal) else ""

    def before(self, following: str) -> str:
        """A regular expression for it where one of some characters follows."""
        return "".join(_expressions(self.elements, following))

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

        Of a value whose other part is in another line, the part: ``{"address:ip": …}``.

        Raises:
            BadValueError: the shape is right, and a value is not.
        """
        found = self.match(line)
        if found is None:
            return None
        values: dict[str, Any] = {}
        parts: dict[str, dict[str, int]] = {}
        group = 0
        try:
            for name, part, read in self._readers:
                group += 1
                text = found[group]
                if text is None:
                    continue
                value = read(text)
                if part:
                    parts.setdefault(name, {})[part] = value
                else:
                    values[name] = value
            values |= joined_parts(parts, values)
        except MalformedValueError as error:
            message = f"{error}, in: {self.lead}"
            raise BadValueError(message, found.start(group)) from None
        return values

    @cached_property
    def _readers(self) -> tuple[tuple[str, str, Callable[[str], Any]], ...]:
        """For each group of the expression: the field, the part, and how to read it."""
        return tuple((slot.field, slot.part, slot.form.read) for slot in self.slots)

    def sample(self, values: Mapping[str, Any]) -> dict[str, Any]:
        """What reading a line with these values of the fields gives back."""
        parts: dict[str, dict[str, int]] = {}
        whole = dict(values)
        for slot in self.slots:
            if slot.part:
                part = part_of(slot.part, values[slot.field], values.get("subnet"))
                parts.setdefault(slot.field, {})[slot.part] = part
                whole.pop(slot.field, None)
        return whole | joined_parts(parts, whole)

    def progress(self, line: str) -> int:
        """How many of the line's characters its literal beginnings account for."""
        reached = 0
        for count in range(1, len(self.elements) + 1):
            begun = re.match("".join(_expressions(self.elements[:count], "")), line)
            if begun is None:
                break
            reached = begun.end()
        return reached

    def write(self, fields: Mapping[str, Any], said: set[str]) -> str:
        """The line for a fact's fields; the names of those that it says are added to ``said``.

        Raises:
            MalformedValueError: a value can't be written in its slot's form.
        """
        pieces = [piece(fields, said) for piece in self._writers]
        said |= self.required_fields
        return self._template % tuple(pieces)

    def laid_out(self, names: Collection[str]) -> tuple[str, tuple[ValueWriter, ...]]:
        """For facts with fields of these names: a template, and what fills each ``%s`` of it."""
        template, values = "", list[ValueWriter]()
        for element in self.elements:
            inner = element.elements if isinstance(element, Optional) else (element,)
            if all(isinstance(e, Literal) or e.field in names for e in inner):
                for part in inner:
                    if isinstance(part, Literal):
                        template += part.text.replace("%", "%%")
                    else:
                        template += "%s"
                        values.append(ValueWriter(part.field, *_part_writers(part)))
        return template, tuple(values)

    @cached_property
    def _template(self) -> str:
        """The literal text with a ``%s`` for each slot and optional part."""
        return "".join(
            element.text.replace("%", "%%") if isinstance(element, Literal) else "%s"
            for element in self.elements
        )

    @cached_property
    def _writers(self) -> tuple[Writer, ...]:
        """What fills each ``%s`` of the template."""
        return tuple(
            _slot_writer(element) if isinstance(element, Slot) else _optional_writer(element)
            for element in self.elements
            if not isinstance(element, Literal)
        )


class ValueWriter(NamedTuple):
    """How the value of a field is written in a line."""

    field: str
    one: Callable[[Any], str]
    many: Callable[[Sequence[Any]], list[str]]


Writer = Callable[[Mapping[str, Any], set[str]], str]
"""Makes a piece of a line from a fact's fields; may add the names that it says."""


def with_lists_in_strings(elements: Iterable[Element]) -> tuple[Element, ...]:
    """The elements of a line; the items of a list that is one string have no signs of their own."""
    made: list[Element] = []
    for element in elements:
        before = made[-1] if made else None
        is_in_string = isinstance(before, Literal) and before.text.endswith('"')
        if is_in_string and isinstance(element, Slot) and isinstance(element.form, ListOf):
            form = element.form
            item = form.item.item if isinstance(form.item, Quoted) else form.item
            made.append(replace(element, form=replace(form, item=item)))
        else:
            made.append(element)
    return tuple(made)


def _slot_writer(slot: Slot) -> Writer:
    name, (write, _) = slot.field, _part_writers(slot)
    if slot.part != HOST:
        return lambda fields, said: write(fields[name])

    def counted(fields: Mapping[str, Any], said: set[str]) -> str:
        subnet = fields.get("subnet", fields.get(AROUND))
        return slot.form.write(part_of(HOST, fields[name], subnet))

    return counted


def _part_writers(
    slot: Slot,
) -> tuple[Callable[[Any], str], Callable[[Sequence[Any]], list[str]]]:
    """How the value of a slot's field is written in it, and how many are."""
    write, write_many = slot.form.write, slot.form.write_column
    if not slot.part:
        return write, write_many

    def take(value: Any) -> int:
        return part_of(slot.part, value, None)

    return lambda value: write(take(value)), lambda values: write_many(list(map(take, values)))


def _optional_writer(part: Optional) -> Writer:
    inside = LinePattern(part.elements)

    def write(fields: Mapping[str, Any], said: set[str]) -> str:
        if not inside.required_fields <= fields.keys():
            return ""
        try:
            return inside.write(fields, said)
        except MalformedValueError:
            return ""  # the field stays unsaid, and the writer reports it as lost

    return write


AROUND = "pool.subnet"
"""The subnet of the pool that a fact is in, among its fields when it is written."""


def joined_parts(
    parts: Mapping[str, Mapping[str, int]], known: Mapping[str, Any]
) -> dict[str, Any]:
    """Values whose parts are all there; the parts by ``field:part`` of those that lack some.

    Args:
        parts: By field and part.
        known: Fields, of which another one may have the rest.

    Raises:
        MalformedValueError: parts that make no value together.
    """
    values: dict[str, Any] = {}
    for name, found in parts.items():
        part, _, other = next(iter(found)).partition("@")
        if "ip" in found and len(found) > 1:
            values[name] = joined_prefix(found)
        elif other and other in known:
            whole = f"{part}@{other}"
            values[name] = with_other(whole, found[whole], known[other])
        else:
            values |= {f"{name}:{part}": value for part, value in found.items()}
    return values


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


def _expressions(elements: Sequence[Element], after: str = " ") -> Iterator[str]:
    """An expression for each element; ``after`` are the characters that may follow the last."""
    following = [_begins(elements[n:], after) for n in range(1, len(elements) + 1)]
    for element, behind in zip(elements, following, strict=True):
        if isinstance(element, Literal):
            yield "[ \\t]+".join(re.escape(word) for word in element.text.split(" "))
        elif isinstance(element, Slot):
            yield f"({_up_to(behind, element.form.pattern)})"
        else:
            yield f"(?:{''.join(_expressions(element.elements, behind))})?"


def _begins(elements: Sequence[Element], after: str) -> str:
    """The characters with which some elements may begin; none if that can't be said."""
    if not elements:
        return after
    element = elements[0]
    if isinstance(element, Literal):
        return element.text[:1]
    if isinstance(element, Optional):
        first, rest = _begins(element.elements, ""), _begins(elements[1:], after)
        return first + rest if first and rest else ""
    return ""


def _up_to(behind: str, pattern: str) -> str:
    """A value's pattern; as much as will do where what is behind it can't be part of it.

    That finds the same as ``pattern``, which asks for as little as will do, in half of the time.
    """
    found = _RELUCTANT.fullmatch(pattern)
    return pattern[:-1] if found and behind and set(behind) <= set(found[1]) else pattern


_RELUCTANT = re.compile(r"\[\^((?:[^\]\\]|\\t|\\n)*)\]\+\?")
"""As few as will do of all characters but some."""
