"""A table of networks, as people keep it in a spreadsheet: a row a network."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from fractions import Fraction
from typing import NamedTuple

from reservoir.core.drafting.answers import BY_NAME, NONE, QUESTIONS, Answers
from reservoir.core.plan.scalars import READERS
from reservoir.core.problems import InputError, Place, Problem
from reservoir.core.values.addresses import MalformedValueError, Prefix, Span, address_or_none
from reservoir.core.values.durations import UNIT_SECONDS, UNIT_WORDS
from reservoir.core.wording import hint
from reservoir.files.tables import TablePlaces, csv_rows
from reservoir.files.texts import read_utf8

BESIDE: Mapping[str, tuple[str, ...]] = {
    "subnet": ("mask",),
    "range": ("first", "last"),
    "keep": ("excluded",),
}
"""The columns in which tables have a part of an answer, or one more, by the question."""

COLUMNS = (*BY_NAME, *(name for names in BESIDE.values() for name in names))
"""The columns that a table of networks may have."""

LARGEST_TABLE = 64 * 1024 * 1024
"""Bytes."""

_SEPARATORS = (",", ";", "\t")

_NOTHING = ("", "-", "–", "n/a")
"""Cells that say nothing."""


class NetworkRow(NamedTuple):
    """A row of the table."""

    answers: Answers
    place: Place


class NetworksRead(NamedTuple):
    """A table that was read."""

    rows: Sequence[NetworkRow]
    problems: Sequence[Problem]
    """What is wrong with the rows that can't be used; they are not among ``rows``."""
    ignored: Sequence[str]
    """Columns that nothing was made of."""


def read_networks(
    file: str, renamed: Mapping[str, str] | None = None, *, empty_is_none: bool = False
) -> NetworksRead:
    """Read a table of networks, whose first line names its columns, in any order.

    Args:
        file: Its path, or ``-`` for standard input. Its cells are apart by ``,``, ``;`` or tabs.
        renamed: What the file calls some of the columns, by their names in ``COLUMNS``.
        empty_is_none: Whether an empty cell says that there is nothing of the kind, where a
            network may have nothing of it; else it says nothing.

    Raises:
        InputError: the file can't be read, or its columns can't be told.
    """
    data = read_utf8(file, LARGEST_TABLE).replace(b"\r\n", b"\n")
    text = data.decode()
    separator = max(_SEPARATORS, key=text.partition("\n")[0].count)
    rows, lines = csv_rows(file, text, separator)
    header = [cell.strip() for cell in rows[0]] if rows else []
    at = _positions(file, header, renamed or {})
    unit = _named(header[at["lease"]])[1] if "lease" in at else ""
    reader = _RowReader(unit, empty_is_none)
    places = TablePlaces(file, data, lines[1:], at)
    found: list[NetworkRow] = []
    problems: list[Problem] = []
    for number, row in enumerate(rows[1:]):
        line = Place(file, lines[number + 1])
        if any(map(str.strip, row[len(header) :])):
            message = f"the row has {len(row)} cells, but the first line has {len(header)} columns"
            problems.append(Problem(line, message))
            continue
        cells = {name: row[place].strip() if place < len(row) else "" for name, place in at.items()}
        answers, wrong = reader.answers(cells)
        if wrong:
            where = places.place(number, wrong[0][0]) if separator == "," else line
            said = "; ".join(f"{column}: {message}" for column, message in wrong)
            problems.append(Problem(where, said))
        else:
            found.append(NetworkRow(answers, line))
    if not rows[1:]:
        problems.append(Problem(Place(file, 1), "the table names its columns, and no network"))
    return NetworksRead(
        found, problems, [name for i, name in enumerate(header) if i not in at.values()]
    )


def _positions(file: str, header: Sequence[str], renamed: Mapping[str, str]) -> dict[str, int]:
    """Where each column is that the table has; its names are taken in capitals or not.

    Raises:
        InputError: one is missing or there twice.
    """
    lowered = [name.lower() for name in header]
    lowered = ["lease" if _named(name)[0] == "lease" else name for name in lowered]
    found: dict[str, int] = {}
    problems: list[str] = []
    for column in COLUMNS:
        name = renamed.get(column, column)
        names = header if column in renamed else lowered
        if list(names).count(name) > 1:
            problems.append(f"the column {name} is there twice")
        elif name in names:
            found[column] = list(names).index(name)
        elif column in renamed:
            problems.append(f"there is no column {name!r}{hint(name, header)}")
    if not problems and "subnet" not in found:
        there = ", ".join(header) or "none"
        problems.append(
            f"the column subnet is missing; the table has: {there}. --columns tells what it is "
            "called there: --columns subnet=Net,vlan=Tag"
        )
    if problems:
        raise InputError([Problem(Place(file, 1), message) for message in problems])
    return found


def _named(header: str) -> tuple[str, str]:
    """A column's name, and the letter of the unit behind it: ``Lease (days)``."""
    found = re.fullmatch(rf"(?i)(.+?)(?:[ _]+in)?[ _]*[ _([]({UNIT_WORDS})[)\]]?", header)
    return (found[1], found[2][0].lower()) if found is not None else (header, "")


class _RowReader(NamedTuple):
    """Makes answers of a row's cells."""

    lease_unit: str
    """The letter of the unit that numbers in the column lease have, or nothing."""
    empty_is_none: bool

    def answers(self, cells: Mapping[str, str]) -> tuple[Answers, list[tuple[str, str]]]:
        """The answers in a row, and what is wrong: columns with messages."""
        answers: Answers = {}
        wrong: list[tuple[str, str]] = []
        for question in QUESTIONS:
            columns = [c for c in (question.name, *BESIDE.get(question.name, ())) if c in cells]
            texts = {c: cells[c] for c in columns if cells[c].lower() not in _NOTHING}
            if texts:
                try:
                    answers[question.name] = question.read(self._plain(question.name, texts))
                except MalformedValueError as error:
                    wrong.append((next(iter(texts)), str(error)))
            elif question.name == "subnet":
                wrong.append(("subnet", "the subnet is missing"))
            elif columns and self.empty_is_none and question.may_be_none:
                answers[question.name] = question.read(NONE)
        return answers, wrong

    def _plain(self, question: str, texts: Mapping[str, str]) -> str:
        """The cells of an answer as it would be typed.

        Raises:
            MalformedValueError: they contradict each other, or one is missing.
        """
        if question == "subnet":
            return _subnet(_dashed(texts.get("subnet", "")), texts.get("mask", ""))
        if question == "range":
            return _range(texts)
        if question == "keep":
            return ", ".join(_listed(text) for text in texts.values())
        text = texts[question]
        if question == "network":
            return "-".join(text.split())
        if question == "lease":
            return _lease(text, self.lease_unit)
        return _listed(text) if question == "dns" else NONE if text.lower() == NONE else text


def _listed(text: str) -> str:
    """A cell with several values, which spreadsheets have in lines, too."""
    return NONE if text.lower() == NONE else _dashed(", ".join(text.split("\n")))


def _dashed(text: str) -> str:
    """From where to where, as people write it, with a plain ``-``."""
    return re.sub(r"(?<=[0-9]) *(?:[-–—]|\.{2,}| to ) *(?=[0-9])", "-", text)


def _subnet(text: str, mask: str) -> str:
    if not text:
        raise MalformedValueError("the subnet is missing")
    subnet = None
    if "-" in text:
        subnet = _whole_subnet(READERS["range"](text))
    elif "/" in text or " " in text or not mask:
        subnet = READERS["subnet"](text)
    if subnet is None:
        return f"{text}/{mask.removeprefix('/')}"
    if mask and READERS["subnet"](f"0.0.0.0/{mask.removeprefix('/')}").bits != subnet.bits:
        raise MalformedValueError(f"{text} has another length than the mask, {mask}")
    return str(subnet)


def _whole_subnet(span: Span) -> Prefix:
    """The subnet with just these addresses.

    Raises:
        MalformedValueError: there is none, so it isn't known which is meant.
    """
    bits = 32 - (span.first ^ span.last).bit_length()
    around = Prefix(span.first, bits).subnet
    if around.span != span:
        raise MalformedValueError(f"{span} is no whole subnet: {around} is {around.span}")
    return around


def _range(texts: Mapping[str, str]) -> str:
    first, last = texts.get("first"), texts.get("last")
    if first is None and last is None:
        return _listed(texts["range"])
    if "range" in texts:
        raise MalformedValueError("the row has a range, and first and last, too")
    if first is None or last is None:
        raise MalformedValueError(f"{'first' if first is None else 'last'} is missing")
    for address in (first, last):
        if address_or_none(address) is None:
            raise MalformedValueError(f"{address!r} is not an address")
    return f"{first}-{last}"


def _lease(text: str, unit: str) -> str:
    """A lease time, whose unit may be in the header or a word."""
    number = re.fullmatch(rf"(?i)([0-9]{{1,9}}(?:[.,][0-9]{{1,2}})?) ?({UNIT_WORDS})?", text)
    if number is None:
        return text
    letter = (number[2] or unit)[:1].lower()
    if not letter:
        raise MalformedValueError(
            f"{text!r} has no unit: name it in the header, as in lease (days), or here, as in 8d"
        )
    seconds = Fraction(number[1].replace(",", ".")) * UNIT_SECONDS[letter]
    if seconds.denominator != 1:
        raise MalformedValueError(f"{text!r} is no whole number of seconds")
    return f"{seconds.numerator}s"
