"""What each client that has a lease under the old side notices of the new one, and when."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping
from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from reservoir.core.bindings import NOBODY
from reservoir.core.compare.by_class import sure_to_stay
from reservoir.core.compare.comparing import knows_leases, unaware
from reservoir.core.compare.differences import offered_differently
from reservoir.core.compare.notice import Notice
from reservoir.core.compare.sides import NetworkSide, Side, paired, unheard
from reservoir.core.leases.ends import Ends
from reservoir.core.leases.table import NO_MAC, ByNetwork, LeaseTable
from reservoir.core.offers import Offer
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import format_address
from reservoir.core.values.clients import Client, Mac, format_client
from reservoir.core.wording import listed

EXPIRED = "its lease has expired"


class ClientNotices(NamedTuple):
    """What one client notices."""

    row: int
    """Its place in the lease list."""
    network: str
    """Its network's name on the old side; empty if the old side serves none there."""
    notice: Notice | None
    """None where nothing can be said."""
    at: float | None
    """At the latest, in seconds since 1970; None if that isn't known, or at once. Of a lease that
    has expired, when it did."""
    because: str

    @property
    def has_expired(self) -> bool:
        """Whether its lease has ended: nobody may be there any more."""
        return self.because == EXPIRED


def notices(
    old: Side,
    new: Side,
    leases: LeaseTable,
    now: float,
    devices: Collection[str] | None = None,
    watch: Callable[[float], None] = lambda share: None,
) -> Iterator[ClientNotices]:
    """What each client of a lease list notices, network by network.

    Args:
        old: What clients have now.
        new: What they are to have.
        leases: Who has which address.
        now: The present time, in seconds since 1970.
        devices: The devices that are known on both sides; all if None. What others do is not told.
        watch: Called with the share of the networks that has been looked at, 0 to 1.
    """
    pairs = [(before, after) for before, after in paired(old, new) if before is not None]
    homes = ByNetwork(leases, [(b.name, b.network.subnet.span) for b, _ in pairs])
    for place, (before, after) in enumerate(pairs):
        watch((place + 1) / len(pairs))
        rows = homes.rows(place)
        if len(rows):
            yield from _Network(before, after, old, new, leases, rows, now, devices).notices()
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
    devices: Collection[str] | None
    unheard_before: Collection[str] = ()
    """The servers that didn't hear the clients on the old side."""

    def notices(self) -> Iterator[ClientNotices]:
        """What the network's clients notice, in the order of the list."""
        addresses = self.leases.address[self.rows]
        for device, chosen in self._by_server(addresses):
            rows = self.rows[chosen]
            if not len(rows):
                continue
            ends = Ends(self.leases, rows, self._lease_time(device), self.now)
            for told in self._of_server(device, rows, addresses[chosen], ends):
                yield self._as_far_as_known(device, told)

    def _as_far_as_known(self, device: str, told: ClientNotices) -> ClientNotices:
        """What a client notices; nothing is told of a server whose configuration isn't known."""
        is_known = self.devices is None or device in self.devices
        if is_known or told.notice is Notice.CUT_OFF:
            return told
        because = f"the configuration of {device or 'its server'} is not among the files"
        return told._replace(notice=None, at=None, because=because)

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
        self, device: str, rows: NDArray[np.int64], addresses: NDArray[np.int64], ends: Ends
    ) -> Iterator[ClientNotices]:
        """What the clients of one server notice."""
        if not self.before.pools and (self.after is None or not self.after.pools):
            because = f"nothing serves {self.before.name} before or after"
            for place, row in enumerate(rows.tolist()):
                yield self._told(row, place, Notice.NONE, ends.end, because)
            return
        lost = self._why_cut_off()
        if self.after is None or lost is not None:
            because = lost or f"nothing serves {self.before.name} any more"
            for place, row in enumerate(rows.tolist()):
                yield self._told(row, place, Notice.CUT_OFF, ends.end, because)
            return
        fates = _Fates.of(self.before, self.after, device, self.leases, rows, addresses)
        earlier = self.before.without(self.unheard_before)
        was = _Fates.of(earlier, earlier, device, self.leases, rows, addresses)
        learns = self._learns(device, self.after)
        own = self._own_lessons(device, self.after)
        renewal = self._renewal(device, ends)
        for place, row in enumerate(rows.tolist()):
            if fates.in_doubt[place]:
                because = "whether it keeps its address depends on the class that it is of"
                yield ClientNotices(row, self.before.name, None, None, because)
                continue
            if fates.keeps[place]:
                its = next((own[who] for who in self._names(row) if who in own), learns)
                yield self._told(row, place, its[0], renewal, its[1])
                continue
            notice, because = fates.refused(place)
            if not was.keeps[place] and was.refused(place) == (notice, because):
                notice = Notice.NONE  # it is so on both sides
            # its server refuses to renew anything but what it is bound to
            at = renewal if fates.is_bound[place] else ends.end
            yield self._told(row, place, notice, at, because)

    def _told(
        self,
        row: int,
        place: int,
        notice: Notice,
        at: NDArray[np.float64],
        because: str,
    ) -> ClientNotices:
        if self.leases.expires[row] <= self.now:
            ended = float(self.leases.expires[row])
            return ClientNotices(row, self.before.name, Notice.NONE, ended, EXPIRED)
        is_dated = notice not in (Notice.NONE, Notice.CONFLICT)  # a conflict may come at once
        time = float(at[place]) if is_dated else None
        known = time if time is not None and np.isfinite(time) else None
        if time == np.inf:
            because = f"{because}; its lease has no end, so it doesn't ask again by itself"
        return ClientNotices(row, self.before.name, notice, known, because)

    def _why_cut_off(self) -> str | None:
        """Why no server hears the clients any more; None if one does."""
        if self.after is None or not self.after.pools:
            return f"nothing serves {self.before.name} any more"
        was, is_now = unheard(self.before, self.after, self.old, self.new)
        if len(is_now) == len(self.after.pools):
            if len(was) < len(self.before.pools):
                return next(iter(is_now.values()))
            return None  # nobody was heard before either: that is no change
        self.unheard_before = was
        self.after = self.after.without(is_now)
        return None

    def _renewal(self, device: str, ends: Ends) -> NDArray[np.float64]:
        """When clients hear of a server next: it, or else another, may not be where it was."""
        if self.after is None or device not in self.after.pools:
            return ends.rebinding
        reach = self.old.topology.reach(device, self.before.network)
        known = self.old.topology.addresses_of(device)
        if reach is not None:
            through = self.old.topology.interface(reach.through).relay_to
            known = known & ({reach.own.address} if reach.own is not None else set(through))
        now = self.new.topology.addresses_of(device)
        return ends.renewal if known <= now else ends.rebinding

    def _learns(self, device: str, after: NetworkSide) -> tuple[Notice, str]:
        """What clients who keep their address learn when they renew it."""
        earlier = self.before.pools.get(device)
        later = after.pools.get(device) or next(iter(after.pools.values()))
        return self._lesson(earlier.offer, later.offer, after) if earlier else (Notice.NONE, "")

    def _own_lessons(self, device: str, after: NetworkSide) -> Mapping[Client, tuple[Notice, str]]:
        """The same of the clients that are offered values of their own before or after."""
        if device not in self.before.pools:
            return {}
        server = device if device in after.pools else next(iter(after.pools))
        was, is_now = self.before.own_offers(device), after.own_offers(server)
        usual = self.before.pools[device].offer, after.pools[server].offer
        return {
            client: self._lesson(was.get(client, usual[0]), is_now.get(client, usual[1]), after)
            for client in {**was, **is_now}
        }

    def _names(self, row: int) -> Iterator[Client]:
        """The names by which the client of a lease may be bound."""
        yield self.leases.client_at(row)
        if self.leases.mac[row] != NO_MAC:
            yield Mac(self.leases.mac[row])

    def _lesson(self, was: Offer, is_now: Offer, after: NetworkSide) -> tuple[Notice, str]:
        """What a client notices that was offered one thing and is offered another."""
        what = [name for name, *_ in offered_differently(was, is_now)]
        if self.before.network.subnet.bits != after.network.subnet.bits:
            what = ["mask", *what]
        if not what:
            return Notice.NONE, ""
        return Notice.AT_RENEWAL, f"it gets the new {listed(what)}"


@dataclass(frozen=True)
class _Fates:
    """What becomes of the addresses that some clients have, by columns of shape (n,)."""

    after: NetworkSide
    server: str
    """From which they have them."""
    addresses: NDArray[np.int64]
    own: NDArray[np.int64]
    """The address that each client is bound to at its server; -1 for none."""
    elsewhere: NDArray[np.int64]
    """The address that each is bound to at any server; -1 for none."""
    others: NDArray[np.int64]
    """The binding to the address that each has; -1 for none."""
    held: NDArray[np.bool_]
    """Whether a static host or a device has it."""
    keeps: NDArray[np.bool_]
    """Whether the client may renew it, and nobody else gets it."""
    in_doubt: NDArray[np.bool_]
    """Whether that depends on the class that the client is of."""
    rivals: Mapping[str, NDArray[np.bool_]]
    """By server whether it may assign the address, without knowing of the lease."""

    @classmethod
    def of(
        cls,
        before: NetworkSide,
        after: NetworkSide,
        device: str,
        leases: LeaseTable,
        rows: NDArray[np.int64],
        addresses: NDArray[np.int64],
    ) -> _Fates:
        """Those of clients that have their leases from one server."""
        clients = leases.mac[rows], leases.client[rows], leases.identifiers, addresses
        bindings = after.bindings_at(device) if device in after.pools else after.bindings
        own = bindings.addresses_of(*clients)
        elsewhere = after.bindings.addresses_of(*clients)
        held = after.taken.contains(addresses)
        at_risk = unaware(before, after)
        rivals = {who: some.contains(addresses) for who, some in at_risk.items()}
        known, sure = AddressSet(), AddressSet()
        for other, pool in after.pools.items():
            if other == device or knows_leases(other, device, before, after):
                known |= pool.assignable
                sure |= sure_to_stay(before.pools.get(device, pool), pool)
        keeps = known.contains(addresses) & ~held & (own == NOBODY)
        for there in rivals.values():
            keeps &= ~there
        keeps |= own == addresses
        others = after.bindings.places_at(addresses)
        in_doubt = keeps & (own == NOBODY) & ~sure.contains(addresses)
        return cls(after, device, addresses, own, elsewhere, others, held, keeps, in_doubt, rivals)

    @property
    def is_bound(self) -> NDArray[np.bool_]:
        """Whether each client is bound to some address."""
        bound: NDArray[np.bool_] = self.own != NOBODY
        return bound

    def refused(self, place: int) -> tuple[Notice, str]:
        """What a client notices that can't keep its address."""
        return self.bound_elsewhere(place) if self.is_bound[place] else self.lost(place)

    def bound_elsewhere(self, place: int) -> tuple[Notice, str]:
        """What a client notices that is bound to another address."""
        if self.others[place] != NOBODY or self.held[place]:
            return self.lost(place)
        because = f"it is bound to {format_address(int(self.own[place]))}"
        return Notice.NEW_ADDRESS, because

    def lost(self, place: int) -> tuple[Notice, str]:
        """What a client notices that can't keep its address for itself."""
        if self.elsewhere[place] == self.addresses[place]:
            return Notice.NEW_ADDRESS, f"{self.server} has no binding for it any more"
        if self.others[place] != NOBODY:
            who = format_client(self.after.bindings.client_at(int(self.others[place])))
            return Notice.CONFLICT, f"{who} is bound to it"
        if self.held[place]:
            return Notice.CONFLICT, "a static host or a device has it"
        rival = next((who for who, there in self.rivals.items() if there[place]), None)
        if rival is not None:
            return Notice.CONFLICT, f"{rival} may assign it, without knowing of the lease"
        return Notice.NEW_ADDRESS, self._why_not(int(self.addresses[place]))

    def _why_not(self, address: int) -> str:
        """Why an address can't be renewed."""
        if address in self.after.assignable:
            return f"{self.server or 'its server'} doesn't assign it any more"
        return f"its address is {self.after.network.why_excluded(address) or 'not assignable'}"
