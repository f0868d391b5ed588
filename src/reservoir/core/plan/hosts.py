"""Machines by the thousand: bindings and static hosts as columns.

A plan may hold a handful of bindings or a million. Both end up in one table of NumPy columns, in
which every rule looks, so that no rule loops over bindings.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import TypedDict

import numpy as np
from numpy.typing import NDArray

from reservoir.core.plan.own_values import OwnValues
from reservoir.core.values.addresses import Span
from reservoir.core.values.clients import ETHERNET, Client, Mac, format_client
from reservoir.core.values.text_column import TextColumn

FIRST_IDENTIFIER = 1 << 48
"""Client numbers below this are MAC addresses; from here on they count client identifiers."""


def as_machines(clients: NDArray[np.int64], identifiers: Sequence[bytes]) -> NDArray[np.int64]:
    """Client numbers, with its MAC address for each identifier that is made of one, shape (n,).

    That is a 1, the number of Ethernet's hardware type, and the address (RFC 2132 section 9.14).
    """
    beyond = np.flatnonzero(clients >= FIRST_IDENTIFIER)
    if not len(beyond):
        return clients
    numbers = [
        int.from_bytes(identifier[1:], "big")
        if len(identifier) == 7 and identifier[0] == ETHERNET
        else FIRST_IDENTIFIER + number
        for number, identifier in enumerate(identifiers)
    ]
    found = clients.copy()
    found[beyond] = np.array(numbers, dtype=np.int64)[clients[beyond] - FIRST_IDENTIFIER]
    return found


class Who(TypedDict):
    """A client, and what people call it."""

    client: Client
    name: str


@dataclass(frozen=True)
class HostTable:
    """Machines in columns of one length n, in the order of the plan.

    ``network`` holds positions in the plan's order of networks, ``client`` MAC addresses as
    numbers (or places in ``identifiers`` from ``FIRST_IDENTIFIER`` on; 0 for static hosts).
    ``origin`` names the list that each row came from, ``row`` its position there from 0.
    """

    network: NDArray[np.int64] = field(default_factory=lambda: np.empty(0, dtype=np.int64))
    address: NDArray[np.int64] = field(default_factory=lambda: np.empty(0, dtype=np.int64))
    client: NDArray[np.int64] = field(default_factory=lambda: np.empty(0, dtype=np.int64))
    name: TextColumn = field(default_factory=lambda: TextColumn.of(()))
    origin: NDArray[np.int64] = field(default_factory=lambda: np.empty(0, dtype=np.int64))
    row: NDArray[np.int64] = field(default_factory=lambda: np.empty(0, dtype=np.int64))
    origins: Sequence[tuple[str | int, ...]] = ()
    identifiers: Sequence[bytes] = ()
    own: Mapping[int, OwnValues] = field(default_factory=dict)
    """What clients are offered otherwise than their network's others, by their rows."""

    def __len__(self) -> int:
        return len(self.address)

    def path(self, index: int) -> tuple[str | int, ...]:
        """Where the row is in the plan."""
        return (*self.origins[int(self.origin[index])], int(self.row[index]))

    def client_at(self, index: int) -> Client:
        """The client of the row."""
        number = int(self.client[index])
        if number < FIRST_IDENTIFIER:
            return Mac(number)
        return self.identifiers[number - FIRST_IDENTIFIER]

    def who(self, index: int) -> Who:
        """The row's client and name, as a witness has them."""
        return {"client": self.client_at(index), "name": self.name[index]}

    def client_text(self, index: int) -> str:
        """The client of the row as the plan writes it."""
        return format_client(self.client_at(index))

    def label(self, index: int) -> str:
        """What people call the row: its name, or else its client."""
        return self.name[index] or self.client_text(index)

    def labels(self, one: int, other: int) -> tuple[str, str]:
        """What people call two rows: with their clients too if both have the same name."""
        if self.label(one) != self.label(other):
            return self.label(one), self.label(other)
        first, second = (f"{self.label(row)} ({self.client_text(row)})" for row in (one, other))
        return first, second

    def of_networks(self, places: Sequence[int]) -> HostTable:
        """The rows of some networks, which become the only ones, in this order."""
        new = np.full(max(int(self.network.max(initial=0)), *places, 0) + 1, -1, dtype=np.int64)
        new[list(places)] = np.arange(len(places))
        rows = np.flatnonzero(new[self.network] >= 0)
        own = {place: self.own[row] for place, row in enumerate(rows.tolist()) if row in self.own}
        return replace(
            self,
            network=new[self.network[rows]],
            address=self.address[rows],
            client=self.client[rows],
            name=self.name.rows(rows),
            origin=self.origin[rows],
            row=self.row[rows],
            own=own,
        )


NO_HOSTS = HostTable()
"""A table without rows."""


def joined(tables: Sequence[HostTable]) -> HostTable:
    """One table of all rows, in the order given."""
    tables = [table for table in tables if len(table)]
    if len(tables) <= 1:
        return tables[0] if tables else NO_HOSTS
    origins: list[tuple[str | int, ...]] = []
    identifiers: list[bytes] = []
    own: dict[int, OwnValues] = {}
    clients, places, before = [], [], 0
    for table in tables:
        shifted = table.client.copy()
        shifted[shifted >= FIRST_IDENTIFIER] += len(identifiers)
        clients.append(shifted)
        places.append(table.origin + len(origins))
        origins.extend(table.origins)
        identifiers.extend(table.identifiers)
        own |= {before + row: values for row, values in table.own.items()}
        before += len(table)
    return HostTable(
        network=np.concatenate([table.network for table in tables]),
        address=np.concatenate([table.address for table in tables]),
        client=_interned(np.concatenate(clients), identifiers),
        name=TextColumn.joined([table.name for table in tables]),
        origin=np.concatenate(places),
        row=np.concatenate([table.row for table in tables]),
        origins=origins,
        identifiers=identifiers,
        own=own,
    )


def _interned(clients: NDArray[np.int64], identifiers: list[bytes]) -> NDArray[np.int64]:
    """Give equal identifiers one number, so that columns can be compared."""
    first: dict[bytes, int] = {}
    numbers = np.array(
        [first.setdefault(value, index) for index, value in enumerate(identifiers)], dtype=np.int64
    )
    beyond = clients >= FIRST_IDENTIFIER
    if beyond.any():
        clients[beyond] = numbers[clients[beyond] - FIRST_IDENTIFIER] + FIRST_IDENTIFIER
    return clients


def client_numbers(clients: Sequence[Client]) -> tuple[NDArray[np.int64], list[bytes]]:
    """The client column of a table, shape (n,), and its list of identifiers."""
    identifiers: dict[bytes, int] = {}
    numbers = [
        int(client)
        if isinstance(client, Mac)
        else FIRST_IDENTIFIER + identifiers.setdefault(client, len(identifiers))
        for client in clients
    ]
    return np.array(numbers, dtype=np.int64), list(identifiers)


def ordered(keys: NDArray[np.int64]) -> NDArray[np.int64]:
    """The places of a column's values in ascending order, equal ones as they are: shape (n,)."""
    if (keys[1:] >= keys[:-1]).all():  # tables are often sorted already
        return np.arange(len(keys))
    return np.argsort(keys, kind="stable")


class Groups:
    """Rows of a column grouped by value: which rows have the value k, for k from 0 to n - 1."""

    def __init__(self, column: NDArray[np.int64], count: int) -> None:
        """Sort once; ``count`` is the number of values."""
        self._order = ordered(column)
        self._bounds = np.searchsorted(column[self._order], np.arange(count + 1))

    def rows(self, value: int) -> NDArray[np.int64]:
        """The rows that have the value, in ascending order."""
        return self._order[self._bounds[value] : self._bounds[value + 1]]


class ByAddress:
    """Rows of a table in the order of their VRF and address. Sorts once."""

    def __init__(self, vrfs: NDArray[np.int64], addresses: NDArray[np.int64]) -> None:
        """Take the number of the VRF and the address of each row, shape (n,) each."""
        keys = vrfs << 32 | addresses
        self._order = ordered(keys)
        self._keys = keys[self._order]

    def within(self, vrf: int, span: Span) -> NDArray[np.int64]:
        """The rows in a VRF whose address is in a span, by address."""
        begin, end = (vrf << 32) + np.array([span.first, span.last + 1])
        return self._order[np.searchsorted(self._keys, begin) : np.searchsorted(self._keys, end)]

    def at(self, vrf: int, address: int) -> list[int]:
        """The rows in a VRF that have an address, in ascending order."""
        return [int(row) for row in self.within(vrf, Span(address, address))]

    def first_at(self, vrfs: NDArray[np.int64], addresses: NDArray[np.int64]) -> NDArray[np.int64]:
        """For each of many addresses the first row that has it, or -1: shape (n,)."""
        keys = vrfs << 32 | addresses
        places = np.searchsorted(self._keys, keys)
        there = places < len(self._keys)
        there[there] = self._keys[places[there]] == keys[there]
        found = np.full(len(keys), -1, dtype=np.int64)
        found[there] = self._order[places[there]]
        return found

    def repeated(self) -> Iterator[NDArray[np.int64]]:
        """Groups of two or more rows with one address, each in ascending order."""
        return _groups(self._order, self._keys[1:] == self._keys[:-1])


def repeated(*columns: NDArray[np.int64]) -> Iterator[NDArray[np.int64]]:
    """Groups of two or more rows that agree in every column, each in ascending order.

    Rows that agree have the same mixture of their values; only rows whose mixture is there twice
    are sorted by the columns themselves. n log n in the number of rows.
    """
    mixed = np.zeros(len(columns[0]), dtype=np.uint64)
    for column in columns:
        mixed = (mixed + column.view(np.uint64)) * np.uint64(0x9E3779B97F4A7C15)
        mixed ^= mixed >> np.uint64(29)
    in_order = np.sort(mixed)
    twice = in_order[1:][in_order[1:] == in_order[:-1]]
    if not len(twice):
        return
    rows = np.flatnonzero(np.isin(mixed, twice))
    order = np.lexsort([column[rows] for column in columns[::-1]])
    same = np.ones(max(len(order) - 1, 0), dtype=np.bool_)
    for column in columns:
        values = column[rows][order]
        same &= values[1:] == values[:-1]
    yield from _groups(rows[order], same)


def _groups(order: NDArray[np.int64], same: NDArray[np.bool_]) -> Iterator[NDArray[np.int64]]:
    """The stretches of an order in which each row is the same as the one before."""
    edges = np.flatnonzero(np.diff(np.concatenate([[False], same, [False]]).astype(np.int8)))
    for begin, end in zip(edges[::2], edges[1::2], strict=True):
        yield np.sort(order[begin : end + 1])
