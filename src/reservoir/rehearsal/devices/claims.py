"""Which address a client may have from a device, and with which offer (RFC 2131 section 4.3)."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from typing import NamedTuple

from reservoir.core.offers import Offer
from reservoir.core.values.clients import Client
from reservoir.dialects.behaviour.serving import Serving
from reservoir.dialects.behaviour.serving_pool import BoundClient, ServingClass, ServingPool
from reservoir.rehearsal.devices.leases import Free, Lease, PoolLeases
from reservoir.rehearsal.devices.pairs import Partner
from reservoir.rehearsal.messages.message import Message, Option
from reservoir.rehearsal.messages.saying import said_by


class Arrival(NamedTuple):
    """A message that has reached a server, and how."""

    message: Message
    interface: str
    """The interface at which it arrived."""
    own_address: int
    """The server's address there, by which clients know it."""
    now: float
    """Seconds of virtual time."""
    is_unicast: bool = False
    """Whether it was sent to the server alone: its interface says nothing of the client then."""


@dataclass(frozen=True)
class Claim:
    """An address that a client may have, and where from."""

    pool: ServingPool
    address: int
    offer: Offer
    why: str
    lease: Lease | None = None
    """What it has already."""


class Claims:
    """Knows who may have which address from a device."""

    def __init__(
        self,
        serving: Serving,
        leases: Mapping[ServingPool, PoolLeases],
        is_used: Callable[[str, int, int], bool],
        partners: Mapping[ServingPool, Partner],
    ) -> None:
        """Take what the device serves, as :class:`StandInServer` does."""
        self.serving = serving
        self.leases = leases
        self._is_used = is_used
        self._partners = partners
        self._heeds_subnet_named = serving.behaviour.heeds_subnet_named  # asked for each message

    def claim(self, arrival: Arrival, pools: Sequence[ServingPool]) -> Claim | None:
        """The address that a client should have: bound, its own of before, wished for, the next."""
        message = arrival.message
        bound = self._bound(message, pools)
        if bound is not None:
            return bound
        open_pools = self.served_pools(arrival, pools)
        for pool, offer in open_pools:
            lease = self.leases[pool].by_client.get(message.identifier)
            if lease is not None:
                return Claim(pool, lease.address, offer, "the client has it already", lease)
        for pool, offer in open_pools:  # RFC 2131 section 4.3.1: its previous one, if it is free
            former = self._former(message, pool)
            if former is not None and not self._in_use(arrival, pool, former):
                return Claim(pool, former, offer, "the client had it before, and it is free")
        wished = message.address(Option.REQUESTED_ADDRESS)
        if not self.serving.behaviour.offers_requested_address:
            wished = None
        for pool, offer in open_pools if wished is not None else ():
            assert wished is not None
            if wished in self._free(pool) and not self._in_use(arrival, pool, wished):
                return Claim(pool, wished, offer, "the client asks for it and it is free")
        for pool, offer in open_pools:
            address = self._next(arrival, pool)
            if address is not None:
                return Claim(pool, address, offer, "the next free address")
        return None

    def served_pools(
        self, arrival: Arrival, pools: Sequence[ServingPool]
    ) -> list[tuple[ServingPool, Offer]]:
        """The pools that serve a client without a binding, and what each offers it."""
        message = arrival.message
        is_open = self.serving.open_pools_for(arrival.interface, self.link_of(message))
        offers = ((pool, self.offer_of(pool, message)) for pool in pools if pool in is_open)
        return [(pool, offer) for pool, offer in offers if offer is not None]

    def class_of(self, pool: ServingPool, message: Message) -> ServingClass | None:
        """The class of a client in a pool's network; its relay may have told of it before."""
        if not pool.classes:
            return None
        lease = self.leases[pool].by_client.get(message.identifier)
        return pool.class_of(said_by(message, lease.agent if lease is not None else b""))

    def offer_of(self, pool: ServingPool, message: Message) -> Offer | None:
        """What a client without a binding is offered from a pool; None if it doesn't serve it."""
        return pool.offer_to(self.class_of(pool, message))

    def why_not_of_class(self, pools: Sequence[ServingPool], message: Message) -> str:
        """Why no pool serves a client, where they tell classes apart."""
        its = next((c for pool in pools if (c := self.class_of(pool, message)) is not None), None)
        whose = f"clients of class {its.name}" if its is not None else "clients of no class"
        return f"doesn't serve {whose} from {', '.join(pool.label for pool in pools)}"

    def _former(self, message: Message, pool: ServingPool) -> int | None:
        """The address that a client had before its lease ended, if it is free and remembered."""
        if not self.serving.behaviour.remembers_clients:
            return None
        former = self.leases[pool].former.get(message.identifier)
        return former if former is not None and former in self._free(pool) else None

    def _bound(self, message: Message, pools: Sequence[ServingPool]) -> Claim | None:
        """The address to which the client is bound, unless another has it."""
        for pool in pools:
            for key in _names(message):
                bound: BoundClient | None = pool.bound.get(key)
                if bound is None:
                    continue
                lease = self.leases[pool].by_address.get(bound.address)
                if lease is None or lease.identifier == message.identifier:
                    why = "the client is bound to it"
                    offer = pool.offer_to_bound(bound, self.class_of(pool, message))
                    return Claim(pool, bound.address, offer, why, lease)
        return None

    def _next(self, arrival: Arrival, pool: ServingPool) -> int | None:
        """The next free address of a pool; those found in use are given up on the way."""
        leases, behaviour = self.leases[pool], self.serving.behaviour
        while True:
            address = behaviour.next_address(self._free(pool), arrival.message.identifier)
            if address is None or not self._in_use(arrival, pool, address):
                return address
            leases.abandon(address, arrival.now + behaviour.declined_for)

    def _free(self, pool: ServingPool) -> Free:
        """The free addresses of a pool that are this server's to assign."""
        partner = self._partners.get(pool)
        half = partner.own_half if partner is not None else None
        return self.leases[pool].free if half is None else self.leases[pool].halves[half]

    def _in_use(self, arrival: Arrival, pool: ServingPool, address: int) -> bool:
        """Whether a probe finds an address in use; False where the device doesn't probe."""
        return pool.probes and self._is_used(arrival.interface, arrival.message.relay, address)

    # A client that asks for an address.

    def open_to_all(
        self, arrival: Arrival, pools: Sequence[ServingPool], address: int
    ) -> Claim | None:
        """What a new client asks for, where any free address is open to whoever asks first."""
        message = arrival.message
        if self.knows(message, pools):
            return None
        for pool in pools:
            is_open = self.serving.assigns_to_any(pool, arrival.interface, self.link_of(message))
            offer = self.offer_of(pool, message)
            if is_open and offer is not None and address in self._free(pool):
                return Claim(pool, address, offer, "it is free")
        return None

    def held(self, message: Message, pools: Sequence[ServingPool], address: int) -> Claim | None:
        """What a client asks for, if it is its own: not if it has been bound elsewhere since."""
        for pool in pools:
            for key in _names(message):
                bound = pool.bound.get(key)
                if bound is not None and bound.address == address:
                    lease = self.leases[pool].by_address.get(address)
                    offer = pool.offer_to_bound(bound, self.class_of(pool, message))
                    return Claim(pool, address, offer, "the client is bound to it", lease)
        if self._bound(message, pools) is not None:
            return None
        for pool in pools:
            given = self.offer_of(pool, message)
            if given is None:
                continue
            lease = self.leases[pool].by_address.get(address)
            if lease is not None and lease.identifier == message.identifier:
                return Claim(pool, address, given, "it is this client's", lease)
            if lease is None and self._former(message, pool) == address:
                return Claim(pool, address, given, "it was this client's, and it is free")
        return None

    def knows(self, message: Message, pools: Sequence[ServingPool]) -> bool:
        return any(message.identifier in self.leases[pool].by_client for pool in pools) or any(
            key in pool.bound for pool in pools for key in _names(message)
        )

    def link_of(self, message: Message) -> int:
        """An address of the subnet that a request comes from; 0 for the interface's own."""
        return (message.subnet_named if self._heeds_subnet_named else 0) or message.relay


def _names(message: Message) -> Sequence[Client]:
    """The names by which a client may be bound: its identifier, its hardware address."""
    identifier = message.options.get(Option.CLIENT_IDENTIFIER)
    return (message.mac,) if identifier is None else (identifier, message.mac)
