"""Lease lists in CSV: who has which address until when."""

from __future__ import annotations

import csv
import datetime
import io
import math
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple, TypeVar

import numpy as np
from numpy.typing import NDArray

from reservoir.core.leases.table import NO_MAC, LeaseTable
from reservoir.core.plan.hosts import FIRST_IDENTIFIER
from reservoir.core.problems import InputError, Place, Problem
from reservoir.core.values.addresses import MalformedValueError, format_address, parse_address
from reservoir.core.values.clients import Mac, parse_identifier, parse_mac
from reservoir.core.values.columns import address_column, mac_column
from reservoir.core.values.text_column import TextColumn
from reservoir.core.wording import hint, listed
from reservoir.files.moments import NEVER, PLAIN, ListNotation, read_moments
from reservoir.files.plain_table import joined_columns, plain_cells
from reservoir.files.tables import LARGEST_TABLE, csv_rows
from reservoir.files.texts import read_utf8

COLUMNS = ("mac", "client_id", "address", "name", "network", "server", "starts", "expires")
"""The columns that a lease list may have."""

WRITTEN = ("mac", "client_id", "address", "network", "server", "expires")
"""Those that it is written with."""

Value = TypeVar("Value")

_SEPARATORS = (",", ";", "\t")

_FORMULA = ("=", "+", "-", "@", "\t", "\r")
"""What a spreadsheet takes for the beginning of a formula."""


@dataclass(frozen=True)
class LeaseRow:
    """A lease."""

    mac: Mac
    identifier: bytes | None
    """The client's identifier, if it is another than the one made of its MAC address."""
    address: int
    network: str
    server: str
    expires: float | None
    """Seconds since 1970, infinite for a lease without end; None if that isn't known."""


def lease_list(rows: Iterable[LeaseRow]) -> str:
    """The text of a lease list."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    writer.writerow(WRITTEN)
    for row in rows:
        identifier = f"hex:{row.identifier.hex()}" if row.identifier is not None else ""
        names = (_harmless(row.network), _harmless(row.server))
        address = format_address(row.address)
        writer.writerow([str(row.mac), identifier, address, *names, _written(row.expires)])
    return out.getvalue()


def _harmless(name: str) -> str:
    return f"'{name}" if is_formula(name) else name


def is_formula(text: str) -> bool:
    """Whether a spreadsheet takes a cell for a formula."""
    return text.startswith(_FORMULA)


def _as_it_was(name: str) -> str:
    """A name without what :func:`_harmless` has put before it."""
    return name[1:] if name.startswith("'") and is_formula(name[1:]) else name


def _written(expires: float | None) -> str:
    if expires is None:
        return ""
    if math.isinf(expires):
        return NEVER
    return datetime.datetime.fromtimestamp(expires, datetime.UTC).isoformat(timespec="seconds")


class LeasesRead(NamedTuple):
    """A lease list that was read."""

    leases: LeaseTable
    notes: Sequence[str]
    """How it was read, what nothing was made of, and what was left out."""


def read_leases(
    file: str,
    notation: ListNotation = PLAIN,
    watch: Callable[[float], None] = lambda share: None,
    *,
    also: Mapping[str, str] | None = None,
    data: bytes | None = None,
) -> LeasesRead:
    """Read a lease list, whose first line names its columns, in any order.

    Args:
        file: Its path, or ``-`` for standard input. Its cells are apart by ``,``, ``;`` or tabs.
        notation: How it writes what it has; its columns by their names in ``COLUMNS``.
        watch: Called with the share that has been read, 0 to 1.
        also: Other names of some columns, for files that don't have the usual ones.
        data: Its text in UTF-8, if it was read already.

    Raises:
        InputError: the file can't be read, or with every wrong cell.
    """
    data = read_utf8(file, LARGEST_TABLE) if data is None else data
    data = data.replace(b"\r\n", b"\n")
    begin, separator, header = _header(data)
    at = _positions(
        file, header, _renamed(header, notation, also), is_known=notation.client is not None
    )
    cells = _plain(data, begin, len(header), at, watch) if separator == "," else None
    cells = cells or _quoted(file, data.decode(), header, at, separator)
    ignored = [name for place, name in enumerate(header) if place not in at.values()]
    which = "column" if len(ignored) == 1 else "columns"
    notes = [f"ignored {which}: {listed(ignored)}"] if ignored else []
    return LeasesRead(_Reader(file, cells, notation).table(), notes)


def is_lease_list(
    data: bytes, notation: ListNotation = PLAIN, also: Mapping[str, str] | None = None
) -> bool:
    """Whether the first line of a text names a column of a lease list."""
    _, _, header = _header(data)
    renamed = _renamed(header, notation, also)
    return bool({renamed.get(column, column) for column in COLUMNS} & {*header})


def leases_of_cells(
    file: str,
    columns: Mapping[str, Sequence[str]],
    lines: Sequence[int],
    notation: ListNotation = PLAIN,
) -> LeaseTable:
    """The leases of cells that stand elsewhere than in a list.

    Args:
        file: Where they are, for messages.
        columns: The cells by the names of a list's columns, one of each for every lease.
        lines: The line that each lease stands in.
        notation: How times are written.

    Raises:
        InputError: with every wrong cell.
    """
    texts = {name: TextColumn.of(cells) for name, cells in columns.items()}
    return _Reader(file, _Cells(texts, np.array(lines, dtype=np.int64)), notation).table()


def _header(data: bytes) -> tuple[int, str, list[str]]:
    """Where the line after the first begins, what its cells are apart by, and its cells."""
    begin = data.find(b"\n") + 1 or len(data)
    first = data[:begin].decode().rstrip("\r\n")
    separator = max(_SEPARATORS, key=first.count)
    return begin, separator, [_unquoted(cell) for cell in first.split(separator)]


def _renamed(
    header: Sequence[str], notation: ListNotation, also: Mapping[str, str] | None
) -> dict[str, str]:
    """What a list calls columns that it has by other names."""
    other = {name: word for name, word in (also or {}).items() if word in header}
    return {**other, **(notation.columns or {})}


def _unquoted(cell: str) -> str:
    return cell.strip().removeprefix('"').removesuffix('"').strip()


def _positions(
    file: str, header: Sequence[str], renamed: Mapping[str, str], *, is_known: bool
) -> dict[str, int]:
    """Where each column is that the list has; the client's needs be none if that is known.

    Raises:
        InputError: one is missing or there twice.
    """
    problems: list[Problem] = []
    found: dict[str, int] = {}
    for column in COLUMNS:
        name = renamed.get(column, column)
        if header.count(name) > 1:
            problems.append(Problem(Place(file, 1), f"the column {name} is there twice"))
        elif name in header:
            found[column] = header.index(name)
        elif column in renamed:
            message = f"there is no column {name!r}{hint(name, header)}"
            problems.append(Problem(Place(file, 1), message))
    what = None
    if "address" not in found:
        what = "the column address is missing"
    elif not (is_known or "mac" in found or "client_id" in found):
        what = "the columns mac and client_id are missing; a lease list has one of them"
    if what is not None and not problems:
        more = "; --columns tells what the list calls a column: --columns address=IP"
        problems.append(Problem(Place(file, 1), what + more))
    if problems:
        raise InputError(problems)
    return found


class _Cells(NamedTuple):
    """The cells of a list by column, and the line that each row is in."""

    columns: Mapping[str, TextColumn]
    lines: NDArray[np.int64]


def _plain(
    data: bytes, begin: int, width: int, at: Mapping[str, int], watch: Callable[[float], None]
) -> _Cells | None:
    """The cells of a list without quotes and blank lines; None of any other."""
    if not data.endswith(b"\n"):
        data += b"\n"
    starts: list[NDArray[np.int64]] = []
    stops: list[NDArray[np.int64]] = []
    for some in plain_cells(data, begin, width, watch):
        if some is None:
            return None
        starts.append(some.starts)
        stops.append(some.stops)
    if not starts:
        return None
    octets = np.frombuffer(data, dtype=np.uint8)
    columns = {
        name: TextColumn(
            octets,
            joined_columns([some[:, place] for some in starts]),
            joined_columns([some[:, place] for some in stops]),
        )
        for name, place in at.items()
    }
    return _Cells(columns, np.arange(2, len(columns["address"]) + 2))


def _quoted(
    file: str, text: str, header: Sequence[str], at: Mapping[str, int], separator: str
) -> _Cells:
    rows, lines = csv_rows(file, text, separator)
    body = rows[1:]
    uneven = [
        Problem(
            Place(file, lines[number]),
            f"the row has {len(row)} cells, but the first line has {len(header)} columns",
        )
        for number, row in enumerate(body, start=1)
        if len(row) != len(header)
    ]
    if uneven:
        raise InputError(uneven)
    columns = {
        name: TextColumn.of(row[place].strip() for row in body) for name, place in at.items()
    }
    return _Cells(columns, np.array(lines[1:], dtype=np.int64))


@dataclass
class _Reader:
    """Makes values of the cells, by the column where that works and else cell by cell."""

    file: str
    cells: _Cells
    notation: ListNotation
    problems: list[Problem] = field(default_factory=list)

    def table(self) -> LeaseTable:
        """The leases.

        Raises:
            InputError: with every wrong cell.
        """
        count = len(self.cells.lines)
        macs = self._numbers("mac", mac_column, parse_mac, NO_MAC)
        found = self._each("client_id", parse_identifier)
        is_nobodys = self._are_empty("mac") & self._are_empty("client_id")
        self._give(np.flatnonzero(is_nobodys), macs, found)
        clients, identifiers = macs.copy(), dict[bytes, int]()
        for row, identifier in found.items():
            if macs[row] != NO_MAC and identifier == Mac(macs[row]).identifier:
                continue
            number = identifiers.setdefault(identifier, len(identifiers))
            clients[row] = FIRST_IDENTIFIER + number
        addresses = self._numbers("address", address_column, parse_address, -1)
        starts, expires = self._times("starts"), self._times("expires")
        for row in np.flatnonzero(self._are_empty("address")).tolist():
            self._complain(row, "address", "the address is missing")
        name, network, server = (
            self._texts(column, count) for column in ("name", "network", "server")
        )
        if self.problems:
            raise InputError(sorted(self.problems, key=lambda problem: problem.place.line or 0))
        return LeaseTable(
            mac=macs,
            client=clients,
            identifiers=list(identifiers),
            address=addresses,
            starts=starts,
            expires=expires,
            name=name,
            network=network,
            server=server,
            line=self.cells.lines,
        )

    def _give(
        self, rows: NDArray[np.int64], macs: NDArray[np.int64], identifiers: dict[int, bytes]
    ) -> None:
        """Give leases of which the list doesn't say whose they are to the client that is named."""
        client = self.notation.client
        if client is None:
            for row in rows.tolist():
                says = "--leased-to CLIENT says whose lease it is"
                self._complain(row, "mac", f"the client has neither mac nor client_id; {says}")
        elif isinstance(client, bytes):
            identifiers.update(dict.fromkeys(rows.tolist(), client))
        else:
            macs[rows] = client

    def _numbers(
        self,
        column: str,
        at_once: Callable[[TextColumn], NDArray[np.int64] | None],
        one: Callable[[str], int],
        nothing: int,
    ) -> NDArray[np.int64]:
        """The values of a column, shape (n,); empty cells have none."""
        found = np.full(len(self.cells.lines), nothing, dtype=np.int64)
        texts = self.cells.columns.get(column)
        if texts is None:
            return found
        filled = np.flatnonzero(texts.lengths > 0)
        values = at_once(texts.rows(filled))
        if values is not None:
            found[filled] = values
            return found
        for row, value in self._each(column, one).items():
            found[row] = value
        return found

    def _are_empty(self, column: str) -> NDArray[np.bool_]:
        texts = self.cells.columns.get(column)
        if texts is None:
            return np.ones(len(self.cells.lines), dtype=np.bool_)
        empty: NDArray[np.bool_] = texts.lengths == 0
        return empty

    def _each(self, column: str, read: Callable[[str], Value]) -> dict[int, Value]:
        """The values of the cells that aren't empty, by row; wrong ones are noted."""
        texts, found = self.cells.columns.get(column, ()), dict[int, Value]()
        for row, text in enumerate(texts):
            if not text:
                continue
            try:
                found[row] = read(text)
            except MalformedValueError as error:
                self._complain(row, column, str(error))
        return found

    def _times(self, column: str) -> NDArray[np.float64]:
        found = np.full(len(self.cells.lines), np.nan)
        texts = {row: text for row, text in enumerate(self.cells.columns.get(column, ())) if text}
        for row, moment in read_moments(
            texts, self.notation, lambda row, message: self._complain(row, column, message)
        ).items():
            found[row] = moment
        return found

    def _texts(self, column: str, count: int) -> TextColumn:
        texts = self.cells.columns.get(column)
        if texts is None:
            return TextColumn.of([""] * count)
        for row, text in enumerate(texts):
            if not text.isprintable():
                self._complain(row, column, f"{text!r} has invisible characters")
        return TextColumn.of(map(_as_it_was, texts))

    def _complain(self, row: int, column: str, message: str) -> None:
        place = Place(self.file, int(self.cells.lines[row]))
        self.problems.append(Problem(place, f"{column}: {message}"))


def lease_rows(leases: LeaseTable) -> Iterator[LeaseRow]:
    """Each lease of a list that has a MAC address, by itself."""
    for row in np.flatnonzero(leases.mac != NO_MAC).tolist():
        client, expires = leases.client_at(row), float(leases.expires[row])
        yield LeaseRow(
            Mac(leases.mac[row]),
            client if isinstance(client, bytes) else None,
            int(leases.address[row]),
            leases.network[row],
            leases.server[row],
            None if math.isnan(expires) else expires,
        )
