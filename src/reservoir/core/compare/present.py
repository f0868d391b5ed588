"""What each client that has a lease under the old side notices of the new one, and when."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from reservoir.core.compare.bindings import NOBODY
from reservoir.core.compare.comparing import knows_leases, unaware
from reservoir.core.compare.differences import offered_differently
from reservoir.core.compare.notice import Notice
from reservoir.core.compare.sides import NetworkSide, Side, paired
from reservoir.core.leases import ByNetwork, LeaseTable
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import format_address
from reservoir.core.values.clients import format_client
from reservoir.core.wording import listed


class ClientNotices(NamedTuple):
    """What one client notices."""

    row: int
    """Its place in the lease list."""
    network: str
    """Its network's name on the old side; empty if the old side serves none there."""
    notice: Notice | None
    """None where nothing can be said."""
    at: float | None
    """At the latest, in seconds since 1970; None if that isn't known, or at once."""
    because: str


def notices(old: Side, new: Side, leases: LeaseTable, now: float) -> Iterator[ClientNotices]:
    """What each client of a lease list notices, network by network.

    Args:
        old: What clients have now.
        new: What they are to have.
        leases: Who has which address.
        now: The present time, in seconds since 1970.
    """
    pairs = [(before, after) for before, after in paired(old, new) if before is not None]
    homes = ByNetwork(leases, [(b.name, b.network.subnet.span) for b, _ in pairs])
    for place, (before, after) in enumerate(pairs):
        rows = homes.rows(place)
        if len(rows):
            yield from _Network(before, after, old, new, leases, rows, now).notices()
    for row in homes.rows(-1).tolist():
        shown = format_address(int(leases.address[row]))
        yield ClientNotices(row, "", None, None, f"no network of the old side has {shown}")


@dataclass
class _Network:
    """The leases of one network, and what becomes of them."""

    before: NetworkSide
    after: NetworkSide | None
    old: Side
    new: Side
    leases: LeaseTable
    rows: NDArray[np.int64]
    now: float

    def notices(self) -> Iterator[ClientNotices]:
        """What the network's clients notice, in the order of the list."""
        addresses = self.leases.address[self.rows]
        for device, chosen in self._by_server(addresses):
            rows = self.rows[chosen]
            if not len(rows):
                continue
            ends = _Ends(self.leases, rows, self._lease_time(device), self.now)
            yield from self._of_server(device, rows, addresses[chosen], ends)

    def _lease_time(self, device: str) -> int | None:
        return self.old.lease_time(self.before, device) if device in self.before.pools else None

    def _by_server(self, addresses: NDArray[np.int64]) -> Iterator[tuple[str, NDArray[np.bool_]]]:
        """The server that each lease is from, as the list says or as its address tells."""
        servers = self.leases.servers
        numbers = servers.numbers[self.rows]
        open_rows = np.ones(len(self.rows), dtype=np.bool_)
        for device in self.before.pools:
            mine = open_rows & (numbers == servers.known.get(device, -1))
            open_rows &= ~mine
            yield device, mine
        for device, pool in self.before.pools.items():
            mine = open_rows & pool.assignable.contains(addresses)
            mine |= open_rows & self.before.bindings.addresses.contains(addresses)
            open_rows &= ~mine
            yield device, mine
        yield next(iter(self.before.pools), ""), open_rows

    def _of_server(
        self, device: str, rows: NDArray[np.int64], addresses: NDArray[np.int64], ends: _Ends
    ) -> Iterator[ClientNotices]:
        name, lost = self.before.name, self._why_cut_off()
        after = self.after
        if after is None or lost is not None:
            because = lost or f"nothing serves {name} any more"
            for place, row in enumerate(rows.tolist()):
                yield self._told(row, place, Notice.CUT_OFF, ends.end, because)
            return
        bound, leases = after.bindings, self.leases
        own = bound.addresses_of(leases.mac[rows], leases.client[rows], leases.identifiers)
        others = bound.places_at(addresses)
        held = after.taken.contains(addresses)
        kept = self._kept(device, after).contains(addresses)
        risks = [
            (who, some.contains(addresses)) for who, some in unaware(self.before, after).items()
        ]
        stays = device in after.pools
        changed = self._learns(device, after)
        for place, row in enumerate(rows.tolist()):
            address, mine = int(addresses[place]), int(own[place])
            at = ends.renewal if stays else ends.end
            rival = next((who for who, there in risks if there[place]), None)
            if mine == address or (
                mine == NOBODY and kept[place] and not held[place] and rival is None
            ):
                yield self._told(row, place, changed[0], ends.renewal, changed[1])
            elif others[place] != NOBODY and mine != address:
                who = format_client(bound.client_at(int(others[place])))
                yield self._told(row, place, Notice.CONFLICT, None, f"{who} is bound to it")
            elif held[place]:
                because = "a static host or a device has it"
                yield self._told(row, place, Notice.CONFLICT, None, because)
            elif mine != NOBODY:
                because = f"it is bound to {format_address(mine)}"
                yield self._told(row, place, Notice.NEW_ADDRESS, at, because)
            elif rival is not None:
                because = f"{rival} may assign it, without knowing of the lease"
                yield self._told(row, place, Notice.CONFLICT, None, because)
            else:
                yield self._told(row, place, Notice.NEW_ADDRESS, at, self._why_not(address, after))

    def _told(
        self,
        row: int,
        place: int,
        notice: Notice,
        at: NDArray[np.float64] | None,
        because: str,
    ) -> ClientNotices:
        if self.leases.expires[row] <= self.now:
            return ClientNotices(row, self.before.name, Notice.NONE, None, "its lease has expired")
        time = float(at[place]) if at is not None and notice is not Notice.NONE else None
        known = time if time is not None and np.isfinite(time) else None
        if time == np.inf:
            because = f"{because}; its lease has no end, so it doesn't ask again by itself"
        return ClientNotices(row, self.before.name, notice, known, because)

    def _why_cut_off(self) -> str | None:
        """Why no server hears the clients any more; None if one does."""
        if self.after is None or not self.after.pools:
            return f"nothing serves {self.before.name} any more"
        unheard = self.new.unheard(self.after)
        if len(unheard) == len(self.after.pools):
            return next(iter(unheard.values()))
        self.after = self.after.without(unheard)
        return None

    def _kept(self, device: str, after: NetworkSide) -> AddressSet:
        """What may be renewed: assigned by the same server, or by one that knows its leases."""
        found = AddressSet()
        for other, pool in after.pools.items():
            if other == device or knows_leases(other, device, self.before, after):
                found |= pool.assignable
        return found

    def _learns(self, device: str, after: NetworkSide) -> tuple[Notice, str]:
        """What clients who keep their address learn when they renew it."""
        earlier = self.before.pools.get(device)
        later = after.pools.get(device) or next(iter(after.pools.values()))
        if earlier is None:
            return Notice.NONE, ""
        what = [name for name, *_ in offered_differently(earlier.offer, later.offer)]
        if self.before.network.subnet.bits != after.network.subnet.bits:
            what = ["mask", *what]
        if not what:
            return Notice.NONE, ""
        return Notice.AT_RENEWAL, f"it gets the new {listed(what)}"

    def _why_not(self, address: int, after: NetworkSide) -> str:
        """Why an address is not assigned any more."""
        for exclusion in after.network.exclusions:
            if exclusion.range.holds(address):
                what = f" for {exclusion.reason}" if exclusion.reason else ""
                return f"its address is excluded{what}"
        return "its address is not assignable"


class _Ends:
    """When each of some clients renews next, and when its lease ends, at the latest."""

    def __init__(
        self, leases: LeaseTable, rows: NDArray[np.int64], lease_time: int | None, now: float
    ) -> None:
        """Work out both; NaN where that isn't known (RFC 2131 section 4.4.5)."""
        expires, starts = leases.expires[rows], leases.starts[rows]
        length = np.where(np.isfinite(expires - starts), expires - starts, lease_time or np.nan)
        self.end = np.where(np.isnan(expires), now + length, expires)
        renewal = np.where(np.isnan(expires), now + length / 2, expires - length / 2)
        renewal = np.where(np.isinf(expires), np.inf, renewal)
        self.renewal = np.where((renewal > now) | np.isinf(renewal), renewal, self.end)
