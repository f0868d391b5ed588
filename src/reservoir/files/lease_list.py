"""Lease lists in CSV: who has which address until when."""

from __future__ import annotations

import csv
import datetime
import io
from collections.abc import Callable, Iterable, Iterator
from dataclasses import dataclass
from pathlib import Path

from reservoir.core.problems import InputError, Place, Problem
from reservoir.core.values.addresses import MalformedValueError, format_address, parse_address
from reservoir.core.values.clients import Mac, parse_identifier, parse_mac
from reservoir.files.texts import read_text

COLUMNS = ("mac", "client_id", "address", "network", "server", "expires")
NEVER = "never"
"""The end of a lease that has none."""

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
    writer.writerow(COLUMNS)
    for row in rows:
        identifier = f"hex:{row.identifier.hex()}" if row.identifier is not None else ""
        names = (_harmless(row.network), _harmless(row.server))
        address = format_address(row.address)
        writer.writerow([str(row.mac), identifier, address, *names, _written(row.expires)])
    return out.getvalue()


def _harmless(name: str) -> str:
    return f"'{name}" if name.startswith(_FORMULA) else name


def _written(expires: float | None) -> str:
    if expires is None:
        return ""
    if expires == float("inf"):
        return NEVER
    return datetime.datetime.fromtimestamp(expires, datetime.UTC).isoformat(timespec="seconds")


def read_lease_list(file: Path) -> list[LeaseRow]:
    """The leases in a list that :func:`lease_list` has made.

    Raises:
        InputError: the file can't be read, or with every wrong cell.
    """
    problems: list[Problem] = []
    rows = list(_rows(str(file), read_text(str(file)), problems))
    if problems:
        raise InputError(problems)
    return rows


def _rows(file: str, text: str, problems: list[Problem]) -> Iterator[LeaseRow]:
    reader = csv.reader(io.StringIO(text, newline=""))
    header = next(reader, [])
    if tuple(header) != COLUMNS:
        wanted = ",".join(COLUMNS)
        problems.append(Problem(Place(file), f"the first line of a lease list is {wanted}"))
        return
    for cells in reader:
        row, found = dict(zip(COLUMNS, cells, strict=False)), dict[str, object]()
        readers: dict[str, Callable[[str], object]] = {
            "mac": parse_mac,
            "client_id": lambda cell: parse_identifier(cell) if cell else None,
            "address": parse_address,
            "expires": _read_end,
        }
        for column, read in readers.items():
            try:
                found[column] = read(row.get(column, ""))
            except MalformedValueError as error:
                problems.append(Problem(Place(file, reader.line_num), f"{column}: {error}"))
        if len(found) == len(readers):
            yield LeaseRow(
                found["mac"],  # type: ignore[arg-type]
                found["client_id"],  # type: ignore[arg-type]
                found["address"],  # type: ignore[arg-type]
                row.get("network", ""),
                row.get("server", ""),
                found["expires"],  # type: ignore[arg-type]
            )


def _read_end(cell: str) -> float | None:
    """When a lease ends, if the list says so.

    Raises:
        MalformedValueError: it is no time with an offset, and not ``never``.
    """
    if not cell:
        return None
    if cell == NEVER:
        return float("inf")
    try:
        moment = datetime.datetime.fromisoformat(cell)
    except ValueError:
        moment = None
    if moment is None or moment.tzinfo is None:
        message = f"{cell!r} is not a time: write it like 2027-03-31T12:00:00+00:00"
        raise MalformedValueError(message)
    return moment.timestamp()
