"""Leases that become bindings: whose, with which address, and which are left out and why."""

from __future__ import annotations

import math
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from fnmatch import fnmatchcase
from functools import cached_property
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from reservoir.core.behaviour import DeviceBehaviour
from reservoir.core.bindings import Bindings
from reservoir.core.leases.ends import Ends
from reservoir.core.leases.table import NO_MAC, ByNetwork, LeaseTable
from reservoir.core.plan.hosts import FIRST_IDENTIFIER
from reservoir.core.pools import Pools
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import format_address
from reservoir.core.values.clients import Client, format_client
from reservoir.core.values.domains import why_no_domain

_GROUP, _LOCAL = 1 << 40, 2 << 40
"""The bits of a MAC address that is no single machine's, or not given by its maker (IEEE 802)."""


class Adopted(NamedTuple):
    """A lease that becomes a binding."""

    row: int
    """Its place in the lease list."""
    network: str
    name: str
    client: Client
    address: int
    """The address that the client is bound to."""
    present: int
    """The address that it has now."""
    changes_at: float | None
    """When it gets the other address, at the latest, in seconds since 1970; None if not known."""
    hostname: str = ""
    """The name that it is offered as its own; empty for none."""


class LeftOut(NamedTuple):
    """A lease that doesn't."""

    row: int
    reason: str


@dataclass(frozen=True)
class Adoption:
    """What becomes of the leases that were asked for."""

    bindings: Sequence[Adopted]
    left_out: Sequence[LeftOut]
    chosen: int
    """Leases that were asked for."""


@dataclass(frozen=True)
class Wanted:
    """Which leases are to become bindings, and with which addresses."""

    clients: Sequence[str] = ()
    """Patterns of MAC addresses, client identifiers or names; all if empty."""
    networks: Sequence[str] = ()
    """All if empty."""
    addresses: AddressSet | None = None
    """Where new addresses are taken from; each keeps its own if None."""


def adopt(
    pools: Pools,
    leases: LeaseTable,
    wanted: Wanted,
    now: float,
    behaviours: Mapping[str, DeviceBehaviour],
) -> Adoption:
    """Choose the leases that become bindings.

    Args:
        pools: The plan that they are to be bindings of.
        leases: Who has which address.
        wanted: Whose leases, and with which addresses.
        now: The present time in seconds since 1970.
        behaviours: How the plan's devices behave, as far as their dialects are known.
    """
    homes = ByNetwork(
        leases, [(n, net.subnet.span) for n, net in zip(pools.names, pools.networks, strict=True)]
    )
    found: list[Adopted | LeftOut] = []
    for place, name in enumerate(pools.names):
        rows = [r for r in homes.rows(place).tolist() if _is_wanted(leases, r, wanted.clients)]
        if rows and (not wanted.networks or name in wanted.networks):
            present = _in_force(leases, homes.rows(place), now)
            known = (behaviours.get(device) for device in pools.topology.serving(name))
            offers_names = all(its is None or its.offers_host_names for its in known)
            found += _Adopting(pools, place, leases, wanted, now, present, offers_names).of(rows)
    if not wanted.networks:
        elsewhere = (r for r in homes.rows(-1).tolist() if _is_wanted(leases, r, wanted.clients))
        found += [LeftOut(row, "its address is in no network of the plan") for row in elsewhere]
    return Adoption(
        [each for each in found if isinstance(each, Adopted)],
        sorted(each for each in found if isinstance(each, LeftOut)),
        len(found),
    )


def _is_wanted(leases: LeaseTable, row: int, patterns: Sequence[str]) -> bool:
    if not patterns:
        return True
    names = [leases.name[row].lower(), leases.client_text(row).lower()]
    return any(fnmatchcase(name, pattern.lower()) for name in names for pattern in patterns)


def _in_force(leases: LeaseTable, rows: NDArray[np.int64], now: float) -> NDArray[np.int64]:
    """The leases that have not ended, the last one where a client has an address several times."""
    rows = rows[~leases.expired(now)[rows]]
    order = np.lexsort((leases.expires[rows], leases.address[rows], leases.machine[rows]))
    rows = rows[order]
    is_last = np.ones(len(rows), dtype=np.bool_)
    alike = leases.machine[rows][1:] == leases.machine[rows][:-1]
    is_last[:-1] = ~(alike & (leases.address[rows][1:] == leases.address[rows][:-1]))
    return np.sort(rows[is_last])


@dataclass
class _Adopting:
    """The leases of one network."""

    pools: Pools
    place: int
    leases: LeaseTable
    wanted: Wanted
    now: float
    present: NDArray[np.int64]
    """The leases in force there, wanted or not: each client's once."""
    offers_names: bool
    """Whether its servers can offer bound clients their host names."""
    clients: set[int] = field(default_factory=set)
    """Those that have been bound."""

    def of(self, rows: Sequence[int]) -> Iterator[Adopted | LeftOut]:
        """What becomes of each; of a renewed lease, listed twice, only the last is one."""
        kept = set(self.present.tolist())
        ended = self.leases.expired(self.now)
        rows = [row for row in rows if row in kept or ended[row]]
        bindings = Bindings([(self.pools.bindings, self.pools.bound_rows(self.place))])
        leases, chosen = self.leases, np.array(rows)
        own = bindings.addresses_of(
            leases.mac[chosen], leases.client[chosen], leases.identifiers, leases.address[chosen]
        ).tolist()
        free = self._free(bindings)
        for row, bound in zip(rows, own, strict=True):
            address: int | None = int(leases.address[row])
            reason = self._why_not_client(row, bound)
            if reason is None and self.wanted.addresses is not None:
                address = next(free, None)
            elif reason is None and address is not None:
                reason = self._why_not_address(address, bindings)
            if reason is not None or address is None:
                yield LeftOut(row, reason or "no address is left where new ones are taken from")
                continue
            self.clients.add(int(leases.machine[row]))
            client, name = leases.client_at(row), leases.name[row]
            present, network = int(leases.address[row]), self.pools.names[self.place]
            at = self._changes_at(row) if address != present else None
            hostname = name if self.offers_names and name and not why_no_domain(name) else ""
            yield Adopted(row, network, name, client, address, present, at, hostname)

    def _changes_at(self, row: int) -> float | None:
        """When a client is refused the address that it has: when it renews its lease."""
        lease_time = self.pools.offers[self.place].lease
        at = float(Ends(self.leases, np.array([row]), lease_time, self.now).renewal[0])
        return at if math.isfinite(at) else None

    def _free(self, bindings: Bindings) -> Iterator[int]:
        """The addresses that new bindings may have, ascending."""
        network = self.pools.networks[self.place]
        inside = AddressSet([network.subnet.hosts]) & (self.wanted.addresses or AddressSet())
        leased = AddressSet.of_addresses(self.leases.address[self.present])
        left = inside - bindings.addresses - leased - self.pools.taken(self.place)
        for span in left.spans():
            yield from range(span.first, span.last + 1)

    def _why_not_client(self, row: int, bound: int) -> str | None:
        leases, mac = self.leases, int(self.leases.mac[row])
        if leases.expires[row] <= self.now:
            return "the lease has expired"
        if bound >= 0:
            return f"the client is bound to {format_address(bound)} already"
        if int(leases.machine[row]) in self.clients:
            return "the client has another lease here, which was taken"
        if int(leases.client[row]) < FIRST_IDENTIFIER and mac != NO_MAC:
            if mac & _GROUP:
                return "its MAC address is a group's, not a machine's"
            if mac & _LOCAL and leases.client_text(row) not in self.wanted.clients:
                return "its MAC address is randomised, or set by hand: it may change"
        return None

    @cached_property
    def _twice(self) -> set[int]:
        """The addresses of which several clients have a lease in force."""
        addresses, counts = np.unique(self.leases.address[self.present], return_counts=True)
        return set(addresses[counts > 1].tolist())

    def _why_not_address(self, address: int, bindings: Bindings) -> str | None:
        pools, network = self.pools, self.pools.networks[self.place]
        if address in self._twice:
            return "another client in the list has its address too"
        other = bindings.bound_to(address)
        if other is not None:
            return f"{format_client(other)} is bound to its address"
        if address in pools.taken(self.place):
            return "a static host or a device has its address"
        if not network.subnet.hosts.holds(address):
            return "its address is the network's own, or for broadcasts"
        excluded = network.why_excluded(address)
        return f"its address is {excluded}" if excluded is not None else None
