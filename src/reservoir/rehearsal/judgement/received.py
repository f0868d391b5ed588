"""Holds what the clients of a network got, or were offered, to the plan.

Nothing here knows whether they asked simulated devices or real ones.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from functools import reduce

from reservoir.core.plan.offered import OFFERED
from reservoir.core.pools import Pools
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import Span, format_address
from reservoir.core.values.options import MEANINGS, REGISTRY, decode, kind_of, routes_in
from reservoir.rehearsal.clients.client import Client
from reservoir.rehearsal.clients.kinds import assignable_to
from reservoir.rehearsal.judgement.own_values import without_class_values, without_own_values
from reservoir.rehearsal.judgement.result import ClassRehearsed, Failure, NetworkRehearsed
from reservoir.rehearsal.messages.message import Message, Option, option_name

_BROADCAST = REGISTRY["broadcast_address"].code

Bound = Sequence[tuple[Client, int]]
"""The clients with a binding, each with its address."""


class Received:
    """Holds what clients of a network got to the plan."""

    def __init__(
        self, network: str, pools: Pools, lan: Sequence[str], got: str = "was given"
    ) -> None:
        """Take the plan.

        Args:
            network: The network's name.
            pools: The plan.
            lan: The networks in the broadcast domain, itself among them: clients may be served as
                those of any.
            got: How it is told that a client got something.
        """
        self.index = pools.place_of(network)
        self.network = pools.networks[self.index]
        self._pools = pools
        self._lan = lan
        self._got = got

    def count(
        self,
        result: NetworkRehearsed,
        bound: Bound,
        expected: Sequence[Client],
        filling: Sequence[Client] = (),
    ) -> list[Client]:
        """Count who asked and who was served, each class by itself; return who was served."""
        tried = [*(client for client, _ in bound), *expected]
        served = [client for client in tried if client.is_served]
        result.clients = len(tried)
        result.served = sum(self._is_of_this_lan(client.address) for client in served)
        result.refused = len(tried) - len(served)
        result.bindings = len(bound)
        result.bindings_right = sum(c.is_served and c.address == own for c, own in bound)
        every = [*served, *(client for client in filling if client.is_served)]
        addresses = [client.address for client in every]
        result.span = Span(min(addresses), max(addresses)) if addresses else None
        result.classes = [
            ClassRehearsed.of(some[0].kind, [c for c in expected if c.kind == some[0].kind], some)
            for some in by_kind([*expected, *filling])
            if some[0].kind
        ]
        return every

    def _is_of_this_lan(self, address: int) -> bool:
        """Whether an address is in a subnet of the LAN: what is in none serves nobody there."""
        networks = (self._pools.plan.networks[name] for name in self._lan)
        return any(network.subnet.span.holds(address) for network in networks)

    # Who got nothing, and who got what isn't right.

    def unserved(
        self,
        tried: Sequence[Client],
        is_full: Callable[[Client], bool],
        why: Callable[[Client], str],
    ) -> Iterator[Failure]:
        """The first client without an address, for each reason.

        Args:
            tried: The clients.
            is_full: Whether a server had no free address for one.
            why: Why one got nothing.
        """
        first: dict[str, Failure] = {}
        for number, client in enumerate(tried, start=1):
            event = "refused" if is_full(client) else "unanswered"
            if client.is_served or client.declined or event in first:
                continue  # who declined an address is told as a conflict
            if event == "refused":
                who = f"client {number:,} of {len(tried):,}"
                reason = f"{who} gets no address: {why(client)}"
            else:
                reason = f"no answer: {why(client)}"
            first[event] = Failure(event, reason, client.mac)
        yield from first.values()

    def wrong(
        self, bound: Bound, others: Sequence[Client], is_held: Callable[[int], bool]
    ) -> Iterator[Failure]:
        """Addresses and values that clients are not to have.

        Args:
            bound: The clients with a binding.
            others: All others.
            is_held: Whether a device or a static host is known to answer at an address.
        """
        everybody = [*(client for client, _ in bound), *others]
        yield from self._wrong_addresses(bound, everybody, is_held)
        owners = [client for client, _ in bound]
        yield from without_own_values(owners, self._pools, self.index)
        yield from without_class_values(others, self._pools, self.index)

    def _wrong_addresses(
        self, bound: Bound, everybody: Sequence[Client], is_held: Callable[[int], bool]
    ) -> Iterator[Failure]:
        for client in everybody:
            for address, holder in client.declined:
                yield Failure(
                    "assigned" if is_held(address) else "in-both",
                    f"a client {self._got} {format_address(address)}, which {holder} holds: "
                    "two machines, one address",
                    client.mac,
                    address,
                )
                return
        for client, own in bound:
            if client.is_served and client.address != own:
                yield Failure(
                    "binding-ignored",
                    f"{client.label} {self._got} {format_address(client.address)}, but is bound to "
                    f"{format_address(own)}",
                    client.mac,
                    own,
                )
                break
        subnet = self.network.subnet
        for client, own in bound:
            if client.is_served and client.address == own and not subnet.hosts.holds(own):
                is_edge = subnet.span.holds(own)
                what = f"the {subnet.edge_word(own)} address" if is_edge else "not of its network"
                reason = f"{client.label} {self._got} {format_address(own)}, {what}"
                yield Failure("bound", reason, client.mac, own)
                break
        yield from self._misplaced(bound, everybody)

    def _misplaced(self, bound: Bound, everybody: Sequence[Client]) -> Iterator[Failure]:
        """The first client with an address that the plan doesn't have for it."""
        there = [self._pools.place_of(name) for name in self._lan]
        names = {client.mac for client, _ in bound}
        others = [c for c in everybody if c.is_served and c.mac not in names]
        first = {client.kind: client for client in reversed(others)}
        assignable = {
            kind: reduce(
                AddressSet.__or__, (assignable_to(self._pools, at, client.said) for at in there)
            )
            for kind, client in first.items()
        }
        for client in others:
            if client.address in assignable[client.kind]:
                continue
            shown = format_address(client.address)
            subnets = [self._pools.networks[index].subnet for index in there]
            inside = any(subnet.span.holds(client.address) for subnet in subnets)
            where = "which the plan doesn't assign" if inside else "which is not in its network"
            event = "assigned" if inside else "answered-for"
            reason = f"a client {self._got} {shown}, {where}"
            yield Failure(event, reason, client.mac, client.address)
            return

    # What clients are offered, and can't use.

    def offered(
        self,
        result: NetworkRehearsed,
        client: Client,
        given: Message,
        mask: int,
        *,
        has_own_resolvers: bool,
    ) -> Iterator[Failure]:
        """Note what a client is offered; what it can't use, and what it lacks.

        Args:
            result: Where lease, gateway and DNS servers are noted.
            client: The client.
            given: What it was given.
            mask: The mask that it has.
            has_own_resolvers: Whether its server offers the DNS servers that it uses itself.
        """
        result.lease = given.number(Option.LEASE_TIME)
        result.gateway = given.address(Option.ROUTER)
        result.dns = resolvers_in(given)
        yield from _unusable(client, given, mask)
        yield from self._not_offered(result, client, has_own_resolvers=has_own_resolvers)

    def _not_offered(
        self, result: NetworkRehearsed, client: Client, *, has_own_resolvers: bool
    ) -> Iterator[Failure]:
        """What clients need and are not offered, unless the plan says that there is none."""
        defaults = self._pools.plan.defaults
        if result.gateway is None and not self.network.has_no_gateway:
            reason = "clients are offered no gateway, so they reach nothing beyond their network"
            yield Failure("offered-none", reason, client.mac, option=OFFERED["gateway"].title)
        if result.dns or self.network.dns is not None or defaults.dns is not None:
            return
        if has_own_resolvers:
            result.dns_unknown = "that the device uses itself, which isn't known"
        else:
            reason = "clients are offered no DNS server, so they resolve no names"
            yield Failure("offered-none", reason, client.mac, option=OFFERED["dns"].title)


def by_kind(clients: Sequence[Client]) -> list[list[Client]]:
    """The clients of each class together; those of no class last."""
    kinds = sorted(dict.fromkeys(client.kind for client in clients), reverse=True)
    return [[client for client in clients if client.kind == kind] for kind in kinds]


def first_of_each_offer(*kinds: Sequence[Client]) -> Iterator[tuple[Client, Message]]:
    """The first client of each kind that is served, if it is offered what none before it was."""
    used: list[dict[int, bytes]] = []
    for clients in kinds:
        client = next((c for c in clients if c.is_served), None)
        given = client.acknowledged if client is not None else None
        if client is None or given is None:
            continue
        offered = {**given.options, Option.CLIENT_IDENTIFIER: b""}
        if offered not in used:
            used.append(offered)
            yield client, given


def resolvers_in(given: Message) -> tuple[int, ...]:
    """The DNS servers that a client is offered."""
    dns = given.options.get(Option.DNS, b"")
    whole = len(dns) // 4 * 4
    return tuple(int.from_bytes(dns[at : at + 4], "big") for at in range(0, whole, 4))


def gateway_used(given: Message) -> int | None:
    """The gateway that a client takes; from classless routes, if it has any (RFC 3442)."""
    routes = routes_in(given.options.get(Option.CLASSLESS_ROUTES, b""))
    defaults = [hop for to, hop in routes if to.bits == 0]
    return defaults[0] if defaults else None if routes else given.address(Option.ROUTER)


def _unusable(client: Client, given: Message, mask: int) -> Iterator[Failure]:
    """What a client is offered and can't use."""
    options, address = given.options, client.address
    routes = routes_in(options.get(Option.CLASSLESS_ROUTES, b""))
    if routes and all(to.bits for to, _ in routes):
        reason = "the classless routes have no default, so clients ignore the gateway"
        yield Failure("offered", reason, client.mac)
    for to, hop in routes:
        if hop and hop & mask != address & mask:  # 0 is the network itself
            reason = f"the offered next hop {format_address(hop)} to {to} is not on the network"
            yield Failure("offered", reason, client.mac, hop)
    for code, data in options.items():
        kind = kind_of(code)
        if kind is not None and kind != "hex" and decode(code, data)[0] != kind:
            what = f"{option_name(code)} (option {code}) is not {MEANINGS[kind]}: {data.hex()}"
            yield Failure("offered", f"the value offered as {what}", client.mac)
    broadcast = options.get(_BROADCAST, b"")
    if len(broadcast) == 4 and int.from_bytes(broadcast, "big") != address | ~mask & 0xFFFFFFFF:
        shown = format_address(int.from_bytes(broadcast, "big"))
        reason = f"the broadcast address {shown} is not that of the client's subnet"
        yield Failure("offered", reason, client.mac)
