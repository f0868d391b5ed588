"""Reads many lines of one row at once, values by the column."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from itertools import compress
from typing import Any, NamedTuple

from reservoir.core.values.addresses import MalformedValueError
from reservoir.dialects.forms.plain import joined_prefixes
from reservoir.dialects.sheet.patterns import BadValueError, LinePattern, joined_parts


class Columns(NamedTuple):
    """What lines state that are a row's, by the column."""

    matching: list[bool]
    """Which of the lines are."""
    fields: dict[str, list[Any]]
    """The values of each field in these; None where a line has none."""


def read_columns(pattern: LinePattern, lines: Sequence[str]) -> Columns:
    """What :meth:`LinePattern.read` makes of each line.

    A line with a value that can't be read counts as none of the row's.
    """
    if 2 * len(set(lines)) < len(lines):
        distinct = list(set(lines))
        return _repeated(lines, distinct, read_columns(pattern, distinct))
    found = list(map(pattern.match, lines))
    groups = [match.groups() for match in found if match]
    try:
        fields = _by_field(pattern, list(zip(*groups, strict=True)))
    except MalformedValueError:
        return _in_columns([_read_or_none(pattern, line) for line in lines])
    return Columns([match is not None for match in found], fields)


def _repeated(lines: Sequence[str], distinct: Sequence[str], few: Columns) -> Columns:
    """The same for lines of which few are distinct."""
    numbers = {line: n for n, line in enumerate(compress(distinct, few.matching))}
    places = [numbers[line] for line in lines if line in numbers]
    columns = {name: [values[n] for n in places] for name, values in few.fields.items()}
    return Columns([line in numbers for line in lines], columns)


def _by_field(pattern: LinePattern, texts: Sequence[Sequence[str | None]]) -> dict[str, list[Any]]:
    """The values of each field, by the texts of each slot; None where there is no text.

    Raises:
        MalformedValueError: a value somewhere can't be read.
    """
    slots = pattern.slots if texts else ()
    columns = [slot.form.read_all(column) for slot, column in zip(slots, texts, strict=True)]
    if not pattern.has_parts:
        return {slot.field: column for slot, column in zip(slots, columns, strict=True)}
    by_part: dict[str, dict[str, list[Any]]] = {}
    for slot, column in zip(slots, columns, strict=True):
        by_part.setdefault(slot.field, {})[slot.part] = column
    if any(None in column for column in columns) or any(map(_is_partial, by_part.values())):
        return _in_columns([_joined(pattern, v) for v in zip(*columns, strict=True)]).fields
    return {name: _whole(parts) for name, parts in by_part.items()}


def _is_partial(parts: Mapping[str, object]) -> bool:
    """Whether a field's slots hold parts of its value that don't make it up."""
    return "" not in parts and ("ip" not in parts or len(parts) < 2)


def _whole(parts: Mapping[str, list[Any]]) -> list[Any]:
    """The values of a field by its parts, of which there are enough."""
    if "" in parts:
        return parts[""]
    (lengths,) = (column for part, column in parts.items() if part != "ip")
    return joined_prefixes(parts["ip"], lengths)


def _joined(pattern: LinePattern, values: Iterable[Any]) -> dict[str, Any]:
    """What one line states, by the values of its slots."""
    fields: dict[str, Any] = {}
    parts: dict[str, dict[str, int]] = {}
    for slot, value in zip(pattern.slots, values, strict=True):
        if value is not None and slot.part:
            parts.setdefault(slot.field, {})[slot.part] = value
        elif value is not None:
            fields[slot.field] = value
    return fields | joined_parts(parts, fields)


def _read_or_none(pattern: LinePattern, line: str) -> dict[str, Any] | None:
    try:
        return pattern.read(line)
    except BadValueError:
        return None


def _in_columns(lines: Sequence[Mapping[str, Any] | None]) -> Columns:
    """What lines state, None for one that is none of the row's, by the column."""
    its = [values for values in lines if values is not None]
    names = dict.fromkeys(name for values in its for name in values)
    fields = {name: [values.get(name) for values in its] for name in names}
    return Columns([values is not None for values in lines], fields)
