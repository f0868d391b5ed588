"""Tables of bindings and static hosts in CSV, by the million: columns in, places kept.

A plain table without a mistake is read by the column. Only where cells are quoted or something is
wrong are the rows looked at one by one, to list every wrong cell with its place.
"""

from __future__ import annotations

import csv
import io
import re
from array import array
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from reservoir.core.plan.hosts import HostTable
from reservoir.core.plan.model import PlanPath
from reservoir.core.plan.own_values import OwnValues, own_values_of
from reservoir.core.plan.scalars import READERS
from reservoir.core.problems import InputError, Place, Problem
from reservoir.core.values.addresses import MalformedValueError, parse_address
from reservoir.core.values.clients import parse_mac
from reservoir.core.values.columns import address_column, mac_column
from reservoir.core.values.text_column import TextColumn
from reservoir.core.wording import hint
from reservoir.files.kept import Kept
from reservoir.files.plain_table import (
    KnownWords,
    joined_columns,
    plain_cells,
)
from reservoir.files.texts import read_utf8

BINDING_COLUMNS = ("network", "name", "mac", "address")
OWN_COLUMNS = ("hostname", "boot_file", "next_server", "lease")
"""Columns that a table of bindings may have besides: what the client is offered otherwise."""

LARGEST_TABLE = 4 * 1024 * 1024 * 1024
"""Bytes of the largest table that is read."""

STATIC_COLUMNS = ("network", "name", "address")


@dataclass(frozen=True)
class TablePlaces:
    """Where the rows and cells of a table are in its file."""

    file: str
    data: bytes
    lines: Sequence[int]
    columns: Mapping[str, int]

    def place(self, row: int, column: str = "network") -> Place:
        """The place of a cell, or of the row."""
        line, cell = self.lines[row], self.columns[column]
        begin, end = self._line_starts[line - 1], self._line_starts[line]
        if not self._is_plain:
            written = self.data[begin : end - 1].decode()
            return Place(self.file, line, _cell_start(written, cell))
        at = begin
        for _ in range(cell):
            at = self.data.find(b",", at, end) + 1
            if not at:  # the cell is missing
                return Place(self.file, line)
        return Place(self.file, line, at - begin + 1)

    @cached_property
    def _is_plain(self) -> bool:
        """Whether each byte is a character, and each comma between two cells."""
        return self.data.isascii() and b'"' not in self.data

    @cached_property
    def _line_starts(self) -> Sequence[int]:
        """The offset of each line, and of one after the last; a line may end with CR alone."""
        signs = np.frombuffer(self.data, dtype=np.uint8)
        is_end = signs == ord("\n")
        alone = (signs[:-1] == ord("\r")) & ~is_end[1:]
        is_end[:-1] |= alone
        is_end[-1:] |= signs[-1:] == ord("\r")
        ends = np.flatnonzero(is_end)
        return array("q", [0, *(ends + 1).tolist(), len(self.data) + 1])


def _cell_start(written: str, cell: int) -> int:
    """The column, from 1, at which a cell of a line begins; 1 if it is in a later line."""
    if '"' in written:
        written = re.sub('"[^"]*(?:"|$)', lambda found: "x" * len(found[0]), written)
    before = written.split(",", cell)
    return len(written) - len(before[-1]) + 1 if len(before) > cell else 1


def read_table(
    file: str,
    columns: tuple[str, ...],
    networks: Mapping[str, int],
    origin: PlanPath,
    watch: Callable[[float], None] = lambda share: None,
    instead: str | None = None,
    kept: Kept | None = None,
) -> tuple[HostTable, TablePlaces]:
    """Read a CSV table whose first line names its columns, in any order.

    Args:
        file: Its path.
        columns: The columns that it must have, :data:`BINDING_COLUMNS` or :data:`STATIC_COLUMNS`.
        networks: The networks' names and their places in the plan's order.
        origin: The plan path of the table; row paths are made from it.
        watch: Called with the share that has been read, 0 to 1.
        instead: A text that counts instead of what the file has.
        kept: Has the table if it was read before and is the same.

    Raises:
        InputError: the file can't be read, or every wrong row in it.
    """
    data = read_utf8(file, LARGEST_TABLE) if instead is None else instead.encode()
    if b"\r" in data:
        data = data.replace(b"\r\n", b"\n")

    def read() -> tuple[HostTable, TablePlaces]:
        return _in_bulk(file, data, columns, networks, origin, watch) or _row_by_row(
            file, data, columns, networks, origin
        )

    return (kept or Kept()).of((file, origin), (data, list(networks)), read)


def _in_bulk(
    file: str,
    data: bytes,
    columns: tuple[str, ...],
    networks: Mapping[str, int],
    origin: PlanPath,
    watch: Callable[[float], None],
) -> tuple[HostTable, TablePlaces] | None:
    """A plain table without a mistake, by the column; None if it isn't one."""
    begin = data.find(b"\n") + 1
    header = [cell.strip() for cell in data[:begin].decode().split(",")]
    besides = [name for name in header if name not in columns]
    is_known = sorted(header) == sorted({*columns, *besides})
    if not begin or not is_known or not _may_have(besides, columns) or not _is_printable(data):
        return None
    if not data.endswith(b"\n"):
        data += b"\n"
    at = {name: header.index(name) for name in header}
    known = KnownWords(networks)
    found: dict[str, list[NDArray[np.int64]]] = {"network": [], "address": [], "client": []}
    edges: dict[str, list[tuple[NDArray[np.int64], NDArray[np.int64]]]] = {
        name: [] for name in ("name", *besides)
    }
    for cells in plain_cells(data, begin, len(header), watch):
        if cells is None:
            return None
        read = {
            "network": known.numbers_of(cells.column(at["network"])),
            "address": address_column(cells.column(at["address"])),
            "client": mac_column(cells.column(at["mac"]))
            if "mac" in at
            else np.zeros(len(cells.starts), np.int64),
        }
        for name, column in read.items():
            if column is None:
                return None
            found[name].append(column)
        for name, there in edges.items():
            cell = at[name]
            there.append((cells.starts[:, cell].copy(), cells.stops[:, cell].copy()))
    octets = np.frombuffer(data, dtype=np.uint8)
    texts = {
        name: TextColumn(
            octets, *(joined_columns([pair[side] for pair in there]) for side in (0, 1))
        )
        for name, there in edges.items()
    }
    names = texts.pop("name")
    own = _own_values(texts)
    if own is None:
        return None
    table = HostTable(
        network=joined_columns(found["network"]),
        address=joined_columns(found["address"]),
        client=joined_columns(found["client"]),
        name=names,
        origin=np.zeros(len(names), dtype=np.int64),
        row=np.arange(len(names), dtype=np.int64),
        origins=[origin],
        own=own,
    )
    return table, TablePlaces(file, data, range(2, len(names) + 2), at)


def _may_have(besides: Sequence[str], columns: Sequence[str]) -> bool:
    """Whether a table may have columns besides those that it must have."""
    return not besides or ("mac" in columns and set(besides) <= set(OWN_COLUMNS))


def _own_values(columns: Mapping[str, TextColumn]) -> dict[int, OwnValues] | None:
    """What clients are offered otherwise, by their rows; None if a cell is wrong.

    An empty cell says nothing.
    """
    said: dict[int, dict[str, object]] = {}
    try:
        for name, texts in columns.items():
            for row in np.flatnonzero(texts.lengths).tolist():
                said.setdefault(row, {})[name] = READERS[name](texts[row])
    except MalformedValueError:
        return None
    return {row: own_values_of(values) for row, values in said.items()}


def _is_printable(data: bytes) -> bool:
    """Whether nothing in the table is invisible; control characters are looked for elsewhere."""
    return data.isascii() or data.decode().replace("\n", "").isprintable()


def _row_by_row(
    file: str,
    data: bytes,
    columns: tuple[str, ...],
    networks: Mapping[str, int],
    origin: PlanPath,
) -> tuple[HostTable, TablePlaces]:
    """Any table: with quoted cells, with blank lines, with mistakes."""
    rows, lines = csv_rows(file, data.decode())
    if not rows:
        message = f"the table is empty; its first line should be: {','.join(columns)}"
        raise InputError([Problem(Place(file), message)])
    header = [cell.strip() for cell in rows[0]]
    at = _positions(file, header, columns)
    places = TablePlaces(file, data, lines[1:], at)
    body = rows[1:]
    if any(len(row) != len(header) for row in body):
        raise InputError(_uneven(body, len(header), places))
    transposed = list(zip(*body, strict=True)) if body else [()] * len(header)
    cells = {column: list(transposed[at[column]]) for column in at}
    table = _bulk(cells, networks, origin)
    if table is None:
        raise InputError(_wrong_cells(cells, networks, places))
    return table, places


def csv_rows(file: str, text: str, separator: str = ",") -> tuple[list[list[str]], Sequence[int]]:
    """The rows of a table that aren't blank, and the line that each begins in.

    Raises:
        InputError: the text isn't CSV.
    """
    reader = csv.reader(io.StringIO(text, newline=""), delimiter=separator, strict=True)
    rows, lines, begin = [], [], 1
    try:
        for row in reader:
            if any(map(str.strip, row)):
                rows.append(row)
                lines.append(begin)
            begin = reader.line_num + 1
    except csv.Error as error:
        message = f"the table can't be read as CSV: {error}"
        raise InputError([Problem(Place(file, max(reader.line_num, 1)), message)]) from None
    return rows, lines


def _positions(file: str, header: list[str], columns: tuple[str, ...]) -> Mapping[str, int]:
    wanted = f"its first line should be: {','.join(columns)}"
    besides = OWN_COLUMNS if "mac" in columns else ()
    problems = [
        Problem(
            Place(file, 1),
            f"{name!r} is not a column of this table{hint(name, (*columns, *besides))}; {wanted}",
        )
        for name in header
        if name not in columns and name not in besides
    ] + [
        Problem(Place(file, 1), f"the column {name} is {fault}; {wanted}")
        for name in (*columns, *(name for name in besides if name in header))
        if (fault := {0: "missing", 1: ""}.get(header.count(name), "duplicated"))
    ]
    if problems:
        raise InputError(problems)
    return {name: header.index(name) for name in header}


def _uneven(body: list[list[str]], width: int, places: TablePlaces) -> list[Problem]:
    return [
        Problem(
            Place(places.file, places.lines[number]),
            f"the row has {len(row)} cells, but the first line has {width} columns",
        )
        for number, row in enumerate(body)
        if len(row) != width
    ]


def _bulk(
    cells: Mapping[str, list[str]], networks: Mapping[str, int], origin: PlanPath
) -> HostTable | None:
    """All columns at once; None if any cell is wrong."""
    names, count = cells["name"], len(cells["address"])
    addresses = address_column(TextColumn.of(cells["address"]))
    clients = (
        mac_column(TextColumn.of(cells["mac"]))
        if "mac" in cells
        else np.zeros(count, dtype=np.int64)
    )
    try:
        network = np.fromiter(map(networks.__getitem__, cells["network"]), np.int64, count)
    except KeyError:
        return None
    own = _own_values({name: TextColumn.of(cells[name]) for name in OWN_COLUMNS if name in cells})
    if addresses is None or clients is None or own is None or not "".join(names).isprintable():
        return None
    return HostTable(
        network=network,
        address=addresses,
        client=clients,
        name=TextColumn.of(names),
        origin=np.zeros(count, dtype=np.int64),
        row=np.arange(count, dtype=np.int64),
        origins=[origin],
        own=own,
    )


def _wrong_cells(
    cells: Mapping[str, list[str]], networks: Mapping[str, int], places: TablePlaces
) -> list[Problem]:
    def network(text: str) -> None:
        if text not in networks:
            raise MalformedValueError(f"the plan has no network {text!r}{hint(text, networks)}")

    def name(text: str) -> None:
        if not text.isprintable():
            raise MalformedValueError(f"{text!r} has invisible characters")

    readers: Mapping[str, Callable[[str], object]] = {
        "network": network,
        "name": name,
        "mac": parse_mac,
        "address": parse_address,
        **{column: READERS[column] for column in OWN_COLUMNS},
    }
    problems = []
    for column, texts in cells.items():
        for row, text in enumerate(texts):
            if column in OWN_COLUMNS and not text:
                continue
            try:
                readers[column](text)
            except MalformedValueError as error:
                problems.append(Problem(places.place(row, column), str(error)))
    return problems
