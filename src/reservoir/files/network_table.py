"""A table of networks, as people keep it in a spreadsheet: a row a network."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import NamedTuple

from reservoir.core.drafting.answers import BY_NAME, NONE, QUESTIONS, Answers
from reservoir.core.problems import InputError, Place, Problem
from reservoir.core.values.addresses import MalformedValueError
from reservoir.core.wording import hint
from reservoir.files.tables import TablePlaces, csv_rows
from reservoir.files.texts import read_utf8

COLUMNS = (*(question.name for question in QUESTIONS), "mask")
"""The columns that a table of networks may have: one for each question, and the mask if the subnet
is without."""

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


def read_networks(file: str, renamed: Mapping[str, str] | None = None) -> NetworksRead:
    """Read a table of networks, whose first line names its columns, in any order.

    Args:
        file: Its path, or ``-`` for standard input. Its cells are apart by ``,``, ``;`` or tabs.
        renamed: What the file calls some of the columns, by their names in ``COLUMNS``.

    Raises:
        InputError: the file can't be read, or its columns can't be told.
    """
    data = read_utf8(file, LARGEST_TABLE).replace(b"\r\n", b"\n")
    text = data.decode()
    separator = max(_SEPARATORS, key=text.partition("\n")[0].count)
    rows, lines = csv_rows(file, text, separator)
    header = [cell.strip() for cell in rows[0]] if rows else []
    at = _positions(file, header, renamed or {})
    places = TablePlaces(file, data, lines[1:], at)
    found: list[NetworkRow] = []
    problems: list[Problem] = []
    for number, row in enumerate(rows[1:]):
        cells = {name: row[place].strip() for name, place in at.items() if place < len(row)}
        answers, wrong = _answers(cells)
        if wrong:
            for column, message in wrong:
                where = places.place(number, column) if separator == "," else Place(
                    file, lines[number + 1]
                )  # fmt: skip
                problems.append(Problem(where, f"{column}: {message}"))
        else:
            found.append(NetworkRow(answers, Place(file, lines[number + 1])))
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


def _answers(cells: Mapping[str, str]) -> tuple[Answers, list[tuple[str, str]]]:
    """The answers in a row, and what is wrong: columns with messages."""
    answers: Answers = {}
    wrong: list[tuple[str, str]] = []
    if cells.get("subnet", "").lower() in _NOTHING:
        return answers, [("subnet", "the subnet is missing")]
    for column, text in cells.items():
        if column == "mask" or text.lower() in _NOTHING:
            continue
        try:
            answers[column] = BY_NAME[column].read(_plain(column, text, cells.get("mask", "")))
        except MalformedValueError as error:
            wrong.append((column, str(error)))
    return answers, wrong


def _plain(column: str, text: str, mask: str) -> str:
    """A cell as the question's answer would be typed."""
    if column == "subnet" and mask and "/" not in text and " " not in text:
        return f"{text}/{mask.removeprefix('/')}"
    if column == "network":
        return "-".join(text.split())
    return NONE if text.lower() == NONE else text
