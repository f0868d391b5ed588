"""How a device answers a client's message (RFC 2131 section 4.3), by what it serves."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import NamedTuple

from reservoir.core.offers import Offer
from reservoir.core.values.addresses import format_address, mask_of
from reservoir.core.values.durations import INFINITE, format_duration
from reservoir.core.values.message_room import room_in
from reservoir.dialects.behaviour.serving import Serving
from reservoir.dialects.behaviour.serving_pool import ServingPool
from reservoir.rehearsal.devices.claims import Arrival, Claim, Claims
from reservoir.rehearsal.devices.leases import NEVER, PoolLeases
from reservoir.rehearsal.devices.pairs import Partner
from reservoir.rehearsal.messages.agent import SERVER_OVERRIDE, address_in
from reservoir.rehearsal.messages.fitting import Fitting, fitted
from reservoir.rehearsal.messages.message import BROADCAST_FLAG, Kind, Message, Option

_SENT_BACK = (Option.CLIENT_IDENTIFIER, Option.RELAY_AGENT)
_OF_SUBNET = (Option.SUBNET_SELECTION,)
"""The same of a server that heeds it."""

OFFER_HELD = 60.0
"""Seconds for which an offered address is kept for its client."""


class Decision(NamedTuple):
    """What a device did with a message, and why."""

    why: str
    reply: Message | None = None
    is_full: bool = False
    """Whether there is a pool for the client, but no address in it."""


class StandInServer:
    """The DHCP server of one device."""

    def __init__(
        self,
        serving: Serving,
        leases: Mapping[ServingPool, PoolLeases],
        is_used: Callable[[str, int, int], bool],
        partners: Mapping[ServingPool, Partner] | None = None,
    ) -> None:
        """Take what the device serves.

        Args:
            serving: Its pools and their ways.
            leases: What is remembered of each pool.
            is_used: Whether somebody answers at an address, on the segment of an interface or of a
                relay address; asked by devices that probe.
            partners: The other one of the pair, of pools that have one.
        """
        self._partners = partners or {}
        self.serving = serving
        self.leases = leases
        self._claims = Claims(serving, leases, is_used, self._partners)
        self._options: dict[tuple[int, int], dict[int, bytes]] = {}
        self._heeds_subnet_named = serving.behaviour.heeds_subnet_named  # asked for each message
        self._sent_back = (*_SENT_BACK, *(_OF_SUBNET if self._heeds_subnet_named else ()))
        self._fitting: dict[tuple[object, ...], Fitting] = {}

    def answer(self, arrival: Arrival) -> Decision:
        """Decide what to do with a client's message."""
        message = arrival.message
        pools = self.serving.pools_for(arrival.interface, self._claims.link_of(message))
        for pool in pools:
            self.leases[pool].expire(arrival.now)
        left_to = self._partner_who_answers(arrival, pools)
        if left_to:
            return Decision(left_to)
        if message.kind is Kind.DISCOVER:
            return self._offer(arrival, pools)
        if message.kind is Kind.REQUEST:
            return self._request(arrival, pools)
        if message.kind is Kind.DECLINE:
            return self._decline(message, pools, arrival.now)
        if message.kind is Kind.RELEASE:
            return self._release(message)
        is_asking = message.kind is Kind.INFORM
        ignored = Decision(f"ignores a {message.kind.name}")
        return self._inform(arrival, pools) if is_asking else ignored

    def _partner_who_answers(self, arrival: Arrival, pools: Sequence[ServingPool]) -> str:
        """That the partner answers a client which asks everybody; empty if it doesn't."""
        message = arrival.message
        asks_all = not arrival.is_unicast and message.address(Option.SERVER) is None
        if not pools or not asks_all or any(pool not in self._partners for pool in pools):
            return ""
        identifier = message.identifier
        whys = [self._partners[pool].why_left_to_it(identifier) for pool in pools]
        return whys[0] if all(whys) else ""

    # A client without an address.

    def _offer(self, arrival: Arrival, pools: Sequence[ServingPool]) -> Decision:
        if not pools:
            return Decision(self._why_no_pool(arrival))
        claim = self._claims.claim(arrival, pools)
        if claim is None:
            labels = ", ".join(pool.label for pool in pools)
            if not self.serving.open_pools_for(
                arrival.interface, self._claims.link_of(arrival.message)
            ):
                why = f"serves only bound clients from {labels}, at a secondary address"
                return Decision(f"{why} of {arrival.interface}")
            whose = self._claims.served_pools(arrival, pools)
            if not whose and any(pool.classes for pool in pools):
                return Decision(self._claims.why_not_of_class(pools, arrival.message))
            size = sum(len(pool.assignable) for pool, _ in whose)
            labels = ", ".join(pool.label for pool, _ in whose) or labels
            if not size:
                return Decision(f"has no address to assign in {labels}", is_full=True)
            return Decision(f"has no free address in {labels} ({size:,} assignable)", is_full=True)
        leases, identifier = self.leases[claim.pool], arrival.message.identifier
        if claim.lease is None and self.serving.behaviour.keeps_offers:
            until = arrival.now + OFFER_HELD
            leases.hold(identifier, arrival.message.mac, claim.address, until)
        shown = format_address(claim.address)
        its = self._claims.class_of(claim.pool, arrival.message)
        to = f" to one of {its.name}" if its is not None and claim.pool.own_class is None else ""
        said = f"offers {shown} from {claim.pool.label}{to}: {claim.why}"
        return self._reply(Kind.OFFER, arrival, claim, said)

    def _request(self, arrival: Arrival, pools: Sequence[ServingPool]) -> Decision:
        message = arrival.message
        chosen = message.address(Option.SERVER)
        wished = message.address(Option.REQUESTED_ADDRESS)
        address = wished if wished is not None else message.own_address
        if chosen is not None and chosen != self._known_as(arrival):
            if chosen in self.serving.own_addresses:  # two of its ports are on one LAN
                return Decision(f"leaves it to its port with {format_address(chosen)}")
            self._withdraw(message, [p for p in pools if not self._is_partner(p, chosen)])
            return Decision(f"steps back: the client chose server {format_address(chosen)}")
        if arrival.is_unicast and message.own_address:  # a renewal, from whatever network
            pools = self.serving.pools_holding(address)
        if not pools:
            return Decision(self._why_no_pool(arrival))
        claim = self._claims.held(message, pools, address)
        if claim is None and not self.serving.behaviour.keeps_offers:
            claim = self._claims.open_to_all(arrival, pools, address)
        if claim is not None:
            return self._acknowledge(arrival, claim)
        return self._deny(arrival, pools, address)

    def _deny(self, arrival: Arrival, pools: Sequence[ServingPool], address: int) -> Decision:
        """A client can't have what it asks for: it is told so, or hears nothing."""
        message, shown = arrival.message, format_address(address)
        has_chosen = message.address(Option.SERVER) is not None
        returns = not has_chosen and not message.own_address
        if self.serving.behaviour.refuses_returning_only and not returns:
            return Decision(f"leaves a request for {shown} unanswered: it is not this client's")
        if not any(self._may_be_here(pool, address) for pool in pools):
            return self._refuse(arrival, f"{shown} is not in this network")
        if not has_chosen and not self._claims.knows(message, pools):
            return Decision("has no record of this client")  # RFC 2131 section 4.3.2
        return self._refuse(arrival, f"{shown} is not this client's")

    def _may_be_here(self, pool: ServingPool, address: int) -> bool:
        """Whether an address belongs to a pool's network, as far as the device looks."""
        if self.serving.behaviour.keeps_offers:
            return pool.subnet.span.holds(address)
        return address in pool.assignable

    def _acknowledge(self, arrival: Arrival, claim: Claim) -> Decision:
        leases, message = self.leases[claim.pool], arrival.message
        lease = claim.lease or leases.hold(
            message.identifier, message.mac, claim.address, arrival.now
        )
        seconds = self._lease_time(claim, message)
        lease.agent = message.options.get(Option.RELAY_AGENT, lease.agent)
        leases.confirm(lease, NEVER if seconds >= INFINITE else arrival.now + seconds)
        shown = format_address(claim.address)
        said = f"acknowledges {shown} for {format_duration(seconds)}: {claim.why}"
        return self._reply(Kind.ACK, arrival, claim, said)

    def _refuse(self, arrival: Arrival, why: str) -> Decision:
        message = arrival.message
        reply = Message(
            Kind.NAK,
            message.transaction,
            message.mac,
            {Option.SERVER: self._known_as(arrival).to_bytes(4, "big"), **self._echoed(message)},
            relay=message.relay,
            flags=message.flags | BROADCAST_FLAG,  # RFC 2131 section 4.3.2
        )
        return Decision(f"refuses: {why}", reply)

    # What needs no address.

    def _decline(self, message: Message, pools: Sequence[ServingPool], now: float) -> Decision:
        address = message.address(Option.REQUESTED_ADDRESS)
        for pool in pools:
            lease = self.leases[pool].by_address.get(address or 0)
            if lease is not None and lease.identifier == message.identifier:
                if not self.serving.behaviour.abandons_declined:
                    return Decision(f"keeps {format_address(lease.address)} for this client")
                self.leases[pool].abandon(lease.address, now + self.serving.behaviour.declined_for)
                return Decision(f"gives {format_address(lease.address)} up: somebody else has it")
        return Decision("ignores it: the declined address is not this client's")

    def _release(self, message: Message) -> Decision:
        for pool in self.serving.pools_holding(message.own_address):
            lease = self.leases[pool].by_address.get(message.own_address)
            if lease is not None and lease.identifier == message.identifier:
                self.leases[pool].end(lease)
                return Decision(f"takes {format_address(lease.address)} back")
        return Decision("ignores it: the released address is not this client's")

    def _inform(self, arrival: Arrival, pools: Sequence[ServingPool]) -> Decision:
        if not pools:
            return Decision(self._why_no_pool(arrival))
        if not self.serving.behaviour.answers_inform:
            return Decision("ignores an INFORM")
        offers = ((pool, self._claims.offer_of(pool, arrival.message)) for pool in pools)
        known = [(pool, offer) for pool, offer in offers if offer is not None]
        pool, offer = known[0] if known else (pools[0], pools[0].offer)
        claim = Claim(pool, 0, offer, "it asks only for options")
        made = self._reply(Kind.ACK, arrival, claim, f"tells the options of {pool.label}")
        if made.reply is not None:
            made.reply.own_address = arrival.message.own_address
            made.reply.options.pop(Option.LEASE_TIME, None)
        return made

    def _is_partner(self, pool: ServingPool, address: int) -> bool:
        partner = self._partners.get(pool)
        return partner is not None and partner.is_there and address in partner.addresses

    def _withdraw(self, message: Message, pools: Sequence[ServingPool]) -> None:
        """Free what was offered to a client that chose another server."""
        for leases in dict.fromkeys(self.leases[pool] for pool in pools):
            lease = leases.by_client.get(message.identifier)
            if lease is not None and lease.is_offer:
                leases.end(lease)

    def _reply(self, kind: Kind, arrival: Arrival, claim: Claim, said: str) -> Decision:
        """Answer with an address and what goes with it, as far as the client has room for it."""
        message = arrival.message
        options: dict[int, bytes] = {Option.SERVER: self._known_as(arrival).to_bytes(4, "big")}
        options |= self._offered(claim)
        if kind is Kind.OFFER and self.serving.behaviour.offers_without_dns:
            options.pop(Option.DNS, None)
        options[Option.LEASE_TIME] = self._lease_time(claim, message).to_bytes(4, "big")
        options |= self._echoed(message)
        counted = options
        if Option.RELAY_AGENT in options:  # a relay takes it off again: the client needs no room
            counted = {code: data for code, data in options.items() if code != Option.RELAY_AGENT}
        fitting = self._fitted(counted, message.options.get(Option.LARGEST_MESSAGE, b""))
        if fitting.why_not:
            return Decision(fitting.why_not)
        reply = Message(
            kind,
            message.transaction,
            message.mac,
            {code: data for code, data in options.items() if code not in fitting.moved}
            if fitting.moved
            else options,
            own_address=message.own_address if kind is Kind.ACK else 0,
            your_address=claim.address,
            next_server=claim.offer.values.get("next_server") or 0,
            relay=message.relay,
            flags=message.flags,
            fields=fitting.fields,
        )
        if fitting.overload:
            reply.options[Option.OVERLOAD] = bytes((fitting.overload,))
        return Decision(said + fitting.said, reply)

    def _fitted(self, options: dict[int, bytes], largest: bytes) -> Fitting:
        """How the options of an answer fit into what the client takes; worked out once."""
        key = (largest, tuple(map(len, options.values())), *options)
        if key not in self._fitting:
            behaviour = self.serving.behaviour
            room = room_in(int.from_bytes(largest, "big"), behaviour.headers_counted)
            self._fitting[key] = fitted(options, room, behaviour.long_answer)
        return self._fitting[key]

    def _lease_time(self, claim: Claim, message: Message) -> int:
        """The lease time in seconds: the pool's, or what the client asks for up to the longest."""
        seconds = claim.offer.lease or self.serving.behaviour.default_lease
        wished = message.number(Option.LEASE_TIME)
        if not wished or not self.serving.behaviour.grants_requested_lease:
            return seconds
        longest = claim.pool.fact.get("longest") or self.serving.behaviour.longest_lease
        return min(wished, longest)

    def _offered(self, claim: Claim) -> dict[int, bytes]:
        """The options of a pool or of a binding, made once."""
        key = id(claim.offer), claim.pool.subnet.bits
        if key not in self._options:
            self._options[key] = option_bytes(claim.offer, claim.pool.subnet.bits)
        return self._options[key]

    def _known_as(self, arrival: Arrival) -> int:
        """The address by which the client is to know the server: perhaps its relay's (RFC 5107)."""
        if not self._heeds_subnet_named:
            return arrival.own_address
        told = arrival.message.options.get(Option.RELAY_AGENT, b"")
        return address_in(told, SERVER_OVERRIDE) or arrival.own_address

    def _echoed(self, message: Message) -> dict[int, bytes]:
        """What is sent back as it came (RFC 3046 section 2.2, RFC 6842 section 3, RFC 3011)."""
        options = message.options
        return {code: options[code] for code in self._sent_back if code in options}

    def _why_no_pool(self, arrival: Arrival) -> str:
        relay = self._claims.link_of(arrival.message)
        if relay and not self.serving.behaviour.answers_relays:
            return "doesn't answer relays"
        where = f"the relay address {format_address(relay)}" if relay else arrival.interface
        return f"has no pool for {where}"


def option_bytes(offer: Offer, bits: int) -> dict[int, bytes]:
    """What clients in a subnet with a mask of so many bits are offered, as options by code."""
    return {Option.MASK: mask_of(bits).to_bytes(4, "big"), **offer.encoded()}
