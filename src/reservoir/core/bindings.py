"""A network's bindings by columns: who is bound to what, and what differs between two sides."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import cached_property
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from reservoir.core.plan.hosts import FIRST_IDENTIFIER, HostTable, as_machines
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import ADDRESS_BITS
from reservoir.core.values.clients import Client, Mac

NOBODY = -1

Column = NDArray[np.int64]


class Rebound(NamedTuple):
    """A client whose bindings differ between two sides."""

    client: Client
    old: tuple[int, ...]
    """The addresses that it was bound to, ascending."""
    new: tuple[int, ...]


class Bindings:
    """The bindings of a network, whichever of its servers has them."""

    def __init__(self, parts: Sequence[tuple[HostTable, Column]]) -> None:
        """Take some rows of tables: each server's."""
        self._identifiers: list[bytes] = []
        clients, addresses = [], []
        for table, rows in parts:
            clients.append(_numbered(table.client[rows], table.identifiers, self._identifiers))
            addresses.append(table.address[rows])
        none = np.empty(0, dtype=np.int64)
        self.client, self.address = _distinct(
            np.concatenate([none, *clients]), np.concatenate([none, *addresses])
        )

    @cached_property
    def addresses(self) -> AddressSet:
        """All addresses that are bound."""
        return AddressSet.of_addresses(self.address)

    def client_at(self, place: int) -> Client:
        """The client of a binding."""
        return _client(int(self.client[place]), self._identifiers)

    def places_at(self, addresses: Column) -> Column:
        """A binding to each of many addresses, -1 for none: shape (n,)."""
        return _found(self.address[self._by_address], self._by_address, addresses)

    @cached_property
    def _by_address(self) -> Column:
        return np.argsort(self.address, kind="stable")

    def bound_to(self, address: int) -> Client | None:
        """A client that is bound to an address."""
        place = self._first_at.get(address)
        return self.client_at(place) if place is not None else None

    @cached_property
    def _first_at(self) -> dict[int, int]:
        """The first binding to each address; for single questions."""
        return dict(zip(self.address[::-1].tolist(), range(len(self.address))[::-1], strict=True))

    def addresses_of(
        self, macs: Column, clients: Column, identifiers: Sequence[bytes], held: Column
    ) -> Column:
        """The address that each of many clients is bound to, -1 for none: shape (n,).

        Args:
            macs: Their MAC addresses; -1 for a client without.
            clients: Their MAC addresses, or places in ``identifiers`` from ``FIRST_IDENTIFIER`` on.
            identifiers: Client identifiers.
            held: The addresses that they have; of several that one is bound to, this counts.
        """
        machines, order = self._by_machine
        places = _found(machines, order, macs)
        wanted = as_machines(clients, identifiers)
        named = np.flatnonzero(clients >= FIRST_IDENTIFIER)
        numbers = {identifier: n for n, identifier in enumerate(self._identifiers)}
        own = [numbers.get(each, NOBODY - FIRST_IDENTIFIER) for each in identifiers]
        is_own = named[wanted[named] >= FIRST_IDENTIFIER]
        wanted[is_own] = np.array(own, dtype=np.int64)[wanted[is_own] - FIRST_IDENTIFIER]
        wanted[is_own] += FIRST_IDENTIFIER
        by_name = _found(machines, order, wanted[named])
        places[named] = np.where(by_name >= 0, by_name, places[named])
        found = np.full(len(macs), NOBODY, dtype=np.int64)
        bound = places >= 0
        found[bound] = self.address[places[bound]]
        is_next = np.diff(machines, prepend=machines[:1]) != 0
        group = np.empty(len(machines), dtype=np.int64)
        group[order] = np.cumsum(is_next) << ADDRESS_BITS  # the machines, each with its addresses
        pairs = np.sort(group | self.address)
        at = group[places[bound]] | held[bound]
        is_held = _found(pairs, np.arange(len(pairs)), at) >= 0
        found[bound] = np.where(is_held, held[bound], found[bound])
        return found

    @cached_property
    def _by_machine(self) -> tuple[Column, Column]:
        """Who is bound, as :func:`as_machines` numbers them, ascending; and the places of each."""
        machines = as_machines(self.client, self._identifiers)
        order = np.lexsort((self.address, machines))
        return machines[order], order

    def apart(self, new: Bindings) -> Iterator[Rebound]:
        """The clients whose bindings differ, by their number; n log n in all bindings."""
        identifiers = list(self._identifiers)
        theirs = _numbered(new.client, new._identifiers, identifiers)
        client = np.concatenate([self.client, theirs])
        address = np.concatenate([self.address, new.address])
        is_new = np.arange(len(client)) >= len(self.client)
        order = np.lexsort((is_new, address, client))
        client, address, is_new = client[order], address[order], is_new[order]
        twice = (client[1:] == client[:-1]) & (address[1:] == address[:-1])
        alone = np.ones(len(client), dtype=np.bool_)
        alone[1:] &= ~twice
        alone[:-1] &= ~twice
        for number in np.unique(client[alone]).tolist():
            begin, end = np.searchsorted(client, (number, number + 1))
            there = slice(int(begin), int(end))
            old, later = address[there][~is_new[there]], address[there][is_new[there]]
            yield Rebound(_client(number, identifiers), tuple(old.tolist()), tuple(later.tolist()))


def _client(number: int, identifiers: Sequence[bytes]) -> Client:
    return Mac(number) if number < FIRST_IDENTIFIER else identifiers[number - FIRST_IDENTIFIER]


def _numbered(clients: Column, identifiers: Sequence[bytes], known: list[bytes]) -> Column:
    """Client numbers whose identifiers are places in ``known``, which grows by what it lacks."""
    named = clients >= FIRST_IDENTIFIER
    if not named.any():
        return clients
    numbers = {identifier: number for number, identifier in enumerate(known)}
    own = [numbers.setdefault(identifier, len(numbers)) for identifier in identifiers]
    known[:] = numbers
    found = clients.copy()
    found[named] = np.array(own, dtype=np.int64)[clients[named] - FIRST_IDENTIFIER]
    found[named] += FIRST_IDENTIFIER
    return found


def _distinct(clients: Column, addresses: Column) -> tuple[Column, Column]:
    """The pairs, each once, sorted by client and address."""
    order = np.lexsort((addresses, clients))
    clients, addresses = clients[order], addresses[order]
    is_first = np.ones(len(clients), dtype=np.bool_)
    is_first[1:] = (clients[1:] != clients[:-1]) | (addresses[1:] != addresses[:-1])
    return clients[is_first], addresses[is_first]


def _found(ordered: Column, places: Column, wanted: Column) -> Column:
    """The place of each value in an ordered column; -1 where it isn't there."""
    found = np.full(len(wanted), NOBODY, dtype=np.int64)
    if len(ordered):
        at = np.minimum(np.searchsorted(ordered, wanted), len(ordered) - 1)
        there = ordered[at] == wanted
        found[there] = places[at[there]]
    return found
