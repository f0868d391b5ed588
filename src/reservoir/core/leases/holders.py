"""Who has an address at present, by a lease list."""

from __future__ import annotations

import numpy as np

from reservoir.core.leases.table import LeaseTable
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.clients import Client, Mac


class Holders:
    """The leases of a list that haven't ended, by address."""

    def __init__(self, leases: LeaseTable, now: float) -> None:
        """Take the list, and the present time in seconds since 1970."""
        self._leases = leases
        rows = np.flatnonzero(~leases.expired(now))
        self._rows = dict(zip(leases.address[rows].tolist(), rows.tolist(), strict=True))
        self._taken = AddressSet.of_addresses(leases.address[rows])

    def other(self, address: int, client: Client) -> str | None:
        """What to call who has an address, if that is another client; None if nobody has it."""
        row = self._rows.get(address)
        if row is None or _same(self._leases.client_at(row), client):
            return None
        return self._leases.label(row)

    def have_all(self, addresses: AddressSet) -> bool:
        """Whether each of some addresses is leased; not so if there are none."""
        return bool(addresses) and addresses <= self._taken


def _same(one: Client, other: Client) -> bool:
    """Whether clients are the same: a MAC address is also the identifier made of it."""
    return _identifier(one) == _identifier(other)


def _identifier(client: Client) -> bytes:
    return client.identifier if isinstance(client, Mac) else client
