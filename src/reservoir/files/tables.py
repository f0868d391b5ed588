"""Tables of bindings and static hosts in CSV, by the million: columns in, places kept.

A well-formed table is read in bulk. Only where something is wrong are the rows looked at one by
one, to list every wrong cell with its place.
"""

from __future__ import annotations

import csv
import io
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from reservoir.core.addressing import MalformedValueError, parse_address
from reservoir.core.clients import parse_mac
from reservoir.core.columns import address_column, mac_column
from reservoir.core.hosts import HostTable
from reservoir.core.plan import PlanPath
from reservoir.core.problems import InputError, Place, Problem
from reservoir.core.schema_types import hint
from reservoir.core.text_column import TextColumn
from reservoir.files.texts import read_text

BINDING_COLUMNS = ("network", "name", "mac", "address")
STATIC_COLUMNS = ("network", "name", "address")


@dataclass(frozen=True)
class TablePlaces:
    """Where the rows and cells of a table stand in its file."""

    file: str
    text: str
    lines: Sequence[int]
    columns: Mapping[str, int]

    def place(self, row: int, column: str = "network") -> Place:
        """The place of a cell, or of the row."""
        line = self.lines[row]
        return Place(self.file, line, _cell_starts(self._written[line - 1])[self.columns[column]])

    @cached_property
    def _written(self) -> list[str]:
        return self.text.split("\n")


def _cell_starts(written: str) -> list[int]:
    """Columns, from 1, at which the cells of a line begin."""
    starts, quoted = [1], False
    for position, character in enumerate(written):
        if character == '"':
            quoted = not quoted
        elif character == "," and not quoted:
            starts.append(position + 2)
    return starts + [1] * 64  # a row that goes on in the next line has fewer commas here


def read_table(
    file: str, columns: tuple[str, ...], networks: Mapping[str, int], origin: PlanPath
) -> tuple[HostTable, TablePlaces]:
    """Read a CSV table whose first line names its columns, in any order.

    Args:
        file: Its path.
        columns: The columns that it must have, :data:`BINDING_COLUMNS` or :data:`STATIC_COLUMNS`.
        networks: The networks' names and their places in the plan's order.
        origin: The plan path of the table; row paths are made from it.

    Raises:
        InputError: the file can't be read, or every wrong row in it.
    """
    text = read_text(file)
    rows, lines = _rows(file, text)
    if not rows:
        message = f"the table is empty; its first line should be: {','.join(columns)}"
        raise InputError([Problem(Place(file), message)])
    header = [cell.strip() for cell in rows[0]]
    at = _positions(file, header, columns)
    places = TablePlaces(file, text, lines[1:], at)
    body = rows[1:]
    if any(len(row) != len(header) for row in body):
        raise InputError(_uneven(body, len(header), places))
    transposed = list(zip(*body, strict=True)) if body else [()] * len(header)
    cells = {column: list(transposed[at[column]]) for column in columns}
    table = _bulk(cells, networks, origin)
    if table is None:
        raise InputError(_wrong_cells(cells, networks, places))
    return table, places


def _rows(file: str, text: str) -> tuple[list[list[str]], Sequence[int]]:
    """The rows that aren't blank, and the line that each begins in."""
    reader = csv.reader(io.StringIO(text, newline=""), strict=True)
    try:
        rows = list(reader)
    except csv.Error as error:
        message = f"the table can't be read as CSV: {error}"
        raise InputError([Problem(Place(file, max(reader.line_num, 1)), message)]) from None
    if reader.line_num == len(rows) and all(rows):
        return rows, range(1, len(rows) + 1)
    rows, lines, before = [], [], 0
    reader = csv.reader(io.StringIO(text, newline=""))
    for row in reader:
        if any(cell.strip() for cell in row):
            rows.append(row)
            lines.append(before + 1)
        before = reader.line_num
    return rows, lines


def _positions(file: str, header: list[str], columns: tuple[str, ...]) -> Mapping[str, int]:
    wanted = f"its first line should be: {','.join(columns)}"
    problems = [
        Problem(
            Place(file, 1), f"{name!r} is not a column of this table{hint(name, columns)}; {wanted}"
        )
        for name in header
        if name not in columns
    ] + [
        Problem(Place(file, 1), f"the column {name} is {fault}; {wanted}")
        for name in columns
        if (fault := {0: "missing", 1: ""}.get(header.count(name), "there twice"))
    ]
    if problems:
        raise InputError(problems)
    return {name: header.index(name) for name in columns}


def _uneven(body: list[list[str]], width: int, places: TablePlaces) -> list[Problem]:
    return [
        Problem(
            Place(places.file, places.lines[number]),
            f"the row has {len(row)} cells, the first line names {width} columns",
        )
        for number, row in enumerate(body)
        if len(row) != width
    ]


def _bulk(
    cells: Mapping[str, list[str]], networks: Mapping[str, int], origin: PlanPath
) -> HostTable | None:
    """All columns at once; None if any cell is wrong."""
    names, count = cells["name"], len(cells["address"])
    addresses = address_column(cells["address"])
    clients = mac_column(cells["mac"]) if "mac" in cells else np.zeros(count, dtype=np.int64)
    try:
        network = np.fromiter(map(networks.__getitem__, cells["network"]), np.int64, count)
    except KeyError:
        return None
    if addresses is None or clients is None or not "".join(names).isprintable():
        return None
    return HostTable(
        network=network,
        address=addresses,
        client=clients,
        name=TextColumn.of(names),
        origin=np.zeros(count, dtype=np.int64),
        row=np.arange(count, dtype=np.int64),
        origins=[origin],
    )


def _wrong_cells(
    cells: Mapping[str, list[str]], networks: Mapping[str, int], places: TablePlaces
) -> list[Problem]:
    def network(text: str) -> None:
        if text not in networks:
            raise MalformedValueError(f"the plan has no network {text!r}{hint(text, networks)}")

    def name(text: str) -> None:
        if not text.isprintable():
            raise MalformedValueError(f"{text!r} has characters that nobody can see")

    readers: Mapping[str, Callable[[str], object]] = {
        "network": network,
        "name": name,
        "mac": parse_mac,
        "address": parse_address,
    }
    problems = []
    for column, texts in cells.items():
        for row, text in enumerate(texts):
            try:
                readers[column](text)
            except MalformedValueError as error:
                problems.append(Problem(places.place(row, column), str(error)))
    return problems
