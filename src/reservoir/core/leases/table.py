"""Lease lists: who has which address until when, as columns."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from reservoir.core.plan.hosts import FIRST_IDENTIFIER, Groups, as_machines
from reservoir.core.values.clients import Client, Mac, format_client
from reservoir.core.values.text_column import TextColumn

NO_MAC = -1


@dataclass(frozen=True)
class LeaseTable:
    """Leases in columns of one length n, in the order of their list."""

    mac: NDArray[np.int64]
    """MAC addresses as numbers; -1 where the list has none."""
    client: NDArray[np.int64]
    """MAC addresses, or places in ``identifiers`` from ``FIRST_IDENTIFIER`` on."""
    identifiers: Sequence[bytes]
    address: NDArray[np.int64]
    starts: NDArray[np.float64]
    """Seconds since 1970; NaN where the list doesn't tell."""
    expires: NDArray[np.float64]
    """Seconds since 1970; infinite for a lease without end, NaN where the list doesn't tell."""
    name: TextColumn
    network: TextColumn
    server: TextColumn
    line: NDArray[np.int64]
    """The line of the list that each is in."""

    def __len__(self) -> int:
        return len(self.address)

    def client_at(self, row: int) -> Client:
        """The client of a row: its identifier if the list has one, else its MAC address."""
        number = int(self.client[row])
        if number < FIRST_IDENTIFIER:
            return Mac(number)
        return self.identifiers[number - FIRST_IDENTIFIER]

    def client_text(self, row: int) -> str:
        """The client of a row as a plan writes it."""
        return format_client(self.client_at(row))

    def label(self, row: int) -> str:
        """What people call the client: its name, or else itself."""
        return self.name[row] or self.client_text(row)

    @cached_property
    def machine(self) -> NDArray[np.int64]:
        """The client of each row as a number, the same for a MAC and an identifier made of it."""
        return as_machines(self.client, self.identifiers)

    @cached_property
    def networks(self) -> Words:
        """The network of each row as the list names it."""
        return Words.of(self.network)

    @cached_property
    def servers(self) -> Words:
        """The server of each row as the list names it."""
        return Words.of(self.server)

    def expired(self, now: float) -> NDArray[np.bool_]:
        """Whether each lease had ended by a time, seconds since 1970: shape (n,)."""
        ended: NDArray[np.bool_] = self.expires <= now
        return ended


@dataclass(frozen=True)
class Words:
    """A column of words of which there are few: the number of each row's word."""

    known: dict[str, int]
    numbers: NDArray[np.int64]

    @classmethod
    def of(cls, texts: TextColumn) -> Words:
        """Number the words in the order in which they come."""
        known: dict[str, int] = {}
        numbers = [known.setdefault(text, len(known)) for text in texts]
        return cls(known, np.array(numbers, dtype=np.int64))

    def are(self, word: str) -> NDArray[np.bool_]:
        """Whether each row's word is this one, shape (n,)."""
        same: NDArray[np.bool_] = self.numbers == self.known.get(word, -1)
        return same


class ByNetwork:
    """The leases of each of many networks, found by address, or by name where several have it."""

    def __init__(self, leases: LeaseTable, networks: Sequence[tuple[str, tuple[int, int]]]) -> None:
        """Give each lease to a network.

        Args:
            leases: The leases.
            networks: The name of each network, and the first and last address of its subnet.
        """
        order = np.argsort(leases.address, kind="stable")
        by_address = leases.address[order]
        home = np.full(len(leases), -1, dtype=np.int64)
        for place, (name, (first, last)) in enumerate(networks):
            begin, end = np.searchsorted(by_address, (first, last + 1))
            if begin == end:
                continue
            rows = order[begin:end]
            named = leases.networks.known.get(name, -1) == leases.networks.numbers[rows]
            home[rows[named | (home[rows] < 0)]] = place
        self.home = home
        """The place of each lease's network; -1 for none: shape (n,)."""
        self._groups = Groups(home + 1, len(networks) + 1)

    def rows(self, place: int) -> NDArray[np.int64]:
        """The rows of the network at this place, in ascending order; -1 for those of none."""
        return self._groups.rows(place + 1)
