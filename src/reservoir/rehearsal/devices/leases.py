"""What a server remembers of a pool: leases, offers that it holds, addresses that it gave up."""

from __future__ import annotations

import heapq
from bisect import bisect_left, bisect_right, insort
from collections.abc import Iterator
from dataclasses import dataclass
from itertools import accumulate

from reservoir.core.pairing import halves_of
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.clients import Mac

NEVER = float("inf")


@dataclass(slots=True, eq=False)
class Lease:
    """An address that a client has, or is offered."""

    identifier: bytes
    mac: Mac
    address: int
    expires: float
    """When, in seconds of virtual time."""
    is_offer: bool
    """Whether the client hasn't asked for it yet."""
    agent: bytes = b""
    """What its relay told of it: a client that renews by itself doesn't."""


class Free:
    """The assignable addresses that nobody has.

    Only what is taken is remembered, sorted, so that a /8 costs no more than a /24: n log n in
    what is taken.
    """

    def __init__(self, assignable: AddressSet) -> None:
        """All of them are free."""
        spans = list(assignable.spans())
        self._firsts = [span.first for span in spans]
        self._before = list(accumulate((span.size for span in spans), initial=0))
        """How many addresses there are before each span, and in all."""
        self._assignable = assignable
        self._taken: list[int] = []
        """The places of taken addresses among the assignable ones, ascending."""
        self._used: list[int] = []
        """The places of those that were ever taken."""
        self._returned: dict[int, None] = {}
        """Addresses that were given back, the one that was first foremost."""

    def __len__(self) -> int:
        return self._before[-1] - len(self._taken)

    def __contains__(self, address: int) -> bool:
        place = self._place(address)
        if place is None:
            return False
        at = bisect_left(self._taken, place)
        return at == len(self._taken) or self._taken[at] != place

    def nth(self, place: int) -> int:
        """The free address at this place in ascending order."""
        return self._address(_free_place(self._taken, place))

    def at_or_above(self, place: int) -> int:
        """The one at this place among all assignable addresses, free or not; else the next above.

        Both counted round: after the highest address comes the lowest.
        """
        place %= self._before[-1]
        free_below = place - bisect_left(self._taken, place)
        return self.nth(free_below if free_below < len(self) else 0)

    def longest_unused(self) -> int:
        """One that nobody ever had, the lowest; else the one that was given back longest ago."""
        if len(self._used) < self._before[-1]:
            return self._address(_free_place(self._used, 0))
        return next(iter(self._returned))

    def take(self, address: int) -> None:
        """Note that somebody has an address."""
        place = self._place(address)
        if place is not None and address in self:
            insort(self._taken, place)
            self._returned.pop(address, None)
            at = bisect_left(self._used, place)
            if at == len(self._used) or self._used[at] != place:
                self._used.insert(at, place)

    def give_back(self, address: int) -> None:
        """Note that nobody has it any more."""
        place = self._place(address)
        if place is not None and address not in self:
            self._taken.pop(bisect_left(self._taken, place))
            self._returned[address] = None

    def _place(self, address: int) -> int | None:
        """Where an address is among the assignable ones; None if it isn't one."""
        at = bisect_right(self._firsts, address) - 1
        if at < 0:
            return None
        place = self._before[at] + address - self._firsts[at]
        return place if place < self._before[at + 1] else None

    def _address(self, place: int) -> int:
        at = bisect_right(self._before, place) - 1
        return self._firsts[at] + place - self._before[at]


def _free_place(taken: list[int], number: int) -> int:
    """The place of the free one of this number, where ``taken`` has the places that aren't."""
    before = bisect_right(range(len(taken)), number, key=lambda at: taken[at] - at)
    return number + before


class PoolLeases:
    """The leases of one pool."""

    def __init__(self, assignable: AddressSet, *, by_halves: bool = False) -> None:
        """Nobody has a lease yet.

        Args:
            assignable: The addresses.
            by_halves: Whether a pair of servers shares them, each of which assigns half.
        """
        self.free = Free(assignable)
        self.halves = tuple(map(Free, halves_of(assignable))) if by_halves else ()
        """The same, lower and upper half; empty if nobody assigns halves."""
        self._parts = (self.free, *self.halves)
        self.by_client: dict[bytes, Lease] = {}
        self.by_address: dict[int, Lease] = {}
        self.former: dict[bytes, int] = {}
        """The addresses that clients had whose leases have ended, and that nobody had since."""
        self._had: dict[int, bytes] = {}
        """The same by address."""
        self._ends: list[tuple[float, int, Lease]] = []
        self._count = 0

    def __iter__(self) -> Iterator[Lease]:
        return (lease for lease in self.by_address.values() if lease.identifier)

    def expire(self, now: float) -> None:
        """Forget what has expired."""
        while self._ends and self._ends[0][0] <= now:
            _, _, lease = heapq.heappop(self._ends)
            if lease.expires <= now and self.by_address.get(lease.address) is lease:
                self.end(lease)

    def hold(self, identifier: bytes, mac: Mac, address: int, until: float) -> Lease:
        """Keep an address for a client that was offered it."""
        lease = Lease(identifier, mac, address, until, is_offer=True)
        self.by_client[identifier] = self.by_address[address] = lease
        self._take(address)
        self._remember(lease)
        return lease

    def confirm(self, lease: Lease, until: float) -> None:
        """Give a client the address that it was offered, or has already, for longer."""
        lease.is_offer, lease.expires = False, until
        self._forget(self._had.get(lease.address), lease.address)
        self._forget(lease.identifier, self.former.get(lease.identifier))
        self._remember(lease)

    def end(self, lease: Lease) -> None:
        """Take an address back."""
        self.by_client.pop(lease.identifier, None)
        self.by_address.pop(lease.address, None)
        for part in self._parts:
            part.give_back(lease.address)
        if not lease.is_offer and lease.identifier:
            self.former[lease.identifier] = lease.address
            self._had[lease.address] = lease.identifier

    def _forget(self, identifier: bytes | None, address: int | None) -> None:
        """Forget who had an address once."""
        if identifier is not None and address is not None:
            self.former.pop(identifier, None)
            self._had.pop(address, None)

    def abandon(self, address: int, until: float = NEVER) -> None:
        """Assign an address to nobody for a while: somebody else has it."""
        lease = self.by_address.pop(address, None)
        if lease is not None:
            self.by_client.pop(lease.identifier, None)
        self._forget(self._had.get(address), address)
        self._take(address)
        if until < NEVER:
            given_up = self.by_address[address] = Lease(b"", Mac(0), address, until, is_offer=False)
            self._remember(given_up)

    def learn(self, other: PoolLeases) -> None:
        """Take over what another memory has that contradicts nothing here."""
        for address, lease in other.by_address.items():
            if address not in self.by_address and lease.identifier not in self.by_client:
                self.by_address[address] = lease
                if lease.identifier:
                    self.by_client[lease.identifier] = lease
                self._take(address)
                self._remember(lease)

    def _take(self, address: int) -> None:
        for part in self._parts:
            part.take(address)

    def _remember(self, lease: Lease) -> None:
        if lease.expires < NEVER:
            self._count += 1
            heapq.heappush(self._ends, (lease.expires, self._count, lease))
