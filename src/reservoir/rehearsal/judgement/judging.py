"""Judges what the clients of a network got, and what they can do with it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from functools import reduce
from itertools import chain

from reservoir.core.plan.offered import OFFERED
from reservoir.core.pools import Pools
from reservoir.core.topology import Attachment
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import ADDRESS_BITS, Span, format_address, mask_of
from reservoir.core.values.options import MEANINGS, REGISTRY, decode, kind_of, routes_in
from reservoir.rehearsal.clients.client import Client
from reservoir.rehearsal.clients.kinds import assignable_to
from reservoir.rehearsal.judgement.own_values import without_class_values, without_own_values
from reservoir.rehearsal.judgement.result import ClassRehearsed, Failure, NetworkRehearsed
from reservoir.rehearsal.messages.message import Message, Option, option_name
from reservoir.rehearsal.wires.segment import Segment
from reservoir.rehearsal.wires.wires import Wires

_BROADCAST = REGISTRY["broadcast_address"].code


def judge(
    network: str,
    bound: Sequence[tuple[Client, int]],
    expected: Sequence[Client],
    filling: Sequence[Client],
    wires: Wires,
    pools: Pools,
    complete: bool,
) -> NetworkRehearsed:
    """Say what the clients of a network got.

    Args:
        network: Its name.
        bound: The clients with a binding, each with its address.
        expected: As many clients as the plan expects.
        filling: Those that came after them, until one more than there are addresses.
        wires: What they are connected to.
        pools: The plan.
        complete: Whether all devices that matter are in it.
    """
    return _Judge(network, wires, pools, complete).judged(bound, expected, filling)


def not_renewed(client: Client, wires: Wires) -> Failure:
    """The failure of a client that could not keep its address."""
    shown = format_address(client.acknowledged.your_address if client.acknowledged else 0)
    return Failure(
        "answer-lost",
        f"the lease of {shown} can't be renewed: {_why(client, wires)}",
        client.mac,
        at_message=wires.last_frame.get(client.mac),
    )


def _why(client: Client, wires: Wires) -> str:
    """Why a client's messages were not answered, the last reasons."""
    reasons = dict.fromkeys([*wires.lost.get(client.mac, ()), *client.refusals])
    return "; ".join(list(reasons)[-3:]) or "no device answers"


class _Judge:
    def __init__(self, network: str, wires: Wires, pools: Pools, complete: bool) -> None:
        self.name = network
        self.wires = wires
        self.pools = pools
        self.complete = complete
        self.segment: Segment = wires.segment(network)
        self.index = pools.place_of(network)
        self.network = pools.networks[self.index]
        lan = tuple(pools.topology.segment_of(network))
        self.result = NetworkRehearsed(network, (), self._relay(), lan)

    def judged(
        self,
        bound: Sequence[tuple[Client, int]],
        expected: Sequence[Client],
        filling: Sequence[Client],
    ) -> NetworkRehearsed:
        result, tried = self.result, [*(client for client, _ in bound), *expected]
        online = [client for client in tried if client.is_online]
        result.clients = len(tried)
        result.served = sum(self._is_of_this_lan(client.address) for client in online)
        result.refused = len(tried) - len(online)
        result.bindings = len(bound)
        result.bindings_right = sum(c.is_online and c.address == own for c, own in bound)
        every = [*online, *(client for client in filling if client.is_online)]
        addresses = [client.address for client in every]
        result.span = Span(min(addresses), max(addresses)) if addresses else None
        result.filled = len(addresses) if filling else None
        servers = {s for c in every for s in [self._server(c)] if s is not None}
        planned = [server.device for server in self.pools.topology.servers(self.name)]
        result.servers = tuple(sorted(servers)) or tuple(dict.fromkeys(planned))
        rests_on = map(self.segment.assumed, sorted(servers))
        result.assumed = tuple(dict.fromkeys(chain.from_iterable(rests_on)))
        result.failures += self._wrong_addresses(bound, [*tried, *filling])
        result.failures += without_own_values([c for c, _ in bound], self.pools, self.index)
        others = [*expected, *filling]
        result.failures += without_class_values(others, self.pools, self.index)
        kinds = dict.fromkeys(client.kind for client in others)
        by_kind = [[c for c in others if c.kind == kind] for kind in sorted(kinds, reverse=True)]
        result.classes = [
            ClassRehearsed.of(some[0].kind, [c for c in expected if c.kind == some[0].kind], some)
            for some in by_kind
            if some[0].kind
        ]
        self._use_each([client for client, _ in bound], *by_kind)
        if filling:
            result.failures += self._unused()
        if tried:
            result.failures += self._deaf_servers(planned, tried[0])
            result.failures += self._held_twice(tried[0])
        unserved = list(self._unserved(tried))
        result.failures = [f for f in unserved if f.event == "unanswered"] + result.failures
        result.failures += [f for f in unserved if f.event != "unanswered"]
        result.failures = [self._placed(failure) for failure in result.failures]
        return result

    def _is_of_this_lan(self, address: int) -> bool:
        """Whether an address is in a subnet of the LAN: what is in none serves nobody there."""
        networks = (self.pools.plan.networks[name] for name in self.segment.networks)
        return any(network.subnet.span.holds(address) for network in networks)

    def _placed(self, failure: Failure) -> Failure:
        return replace(failure, at_message=self.wires.last_frame.get(failure.client))

    def _relay(self) -> str | None:
        """The interface that relays for the network, if no server is in it."""
        serving = self.pools.topology.serving(self.name)
        for server in sorted(serving):
            reach = self.pools.topology.reach(server, self.network)
            if reach is not None and reach.relay is not None:
                return str(reach.relay)
        return None

    def _server(self, client: Client) -> str | None:
        """The device whose address a client knows its server by."""
        devices = self.wires.devices
        holders = [
            a.device
            for a in self.pools.topology.holders(client.server)
            if a.device in devices and devices[a.device].serving is not None
        ]
        here = {port.device for port in self.segment.ports}
        return min(holders, key=lambda device: device not in here, default=None)

    # Who got nothing, and who got what isn't right.

    def _unserved(self, tried: Sequence[Client]) -> Iterator[Failure]:
        """The first client without an address, for each reason."""
        first: dict[str, Failure] = {}
        for number, client in enumerate(tried, start=1):
            is_full = client.mac in self.wires.refused
            event = "refused" if is_full else "unanswered"
            if client.is_online or client.declined or event in first:
                continue  # who declined an address is told as a conflict
            why = _why(client, self.wires)
            if is_full:
                reason = f"client {number:,} of {len(tried):,} gets no address: {why}"
            else:
                reason = f"no answer: {why}"
            first[event] = Failure(event, reason, client.mac)
        yield from first.values()

    def _wrong_addresses(
        self, bound: Sequence[tuple[Client, int]], everybody: Sequence[Client]
    ) -> Iterator[Failure]:
        for client in everybody:
            for address, holder in client.declined:
                yield Failure(
                    "assigned" if address in self.segment.held else "in-both",
                    f"a client was given {format_address(address)}, which {holder} holds: "
                    "two machines, one address",
                    client.mac,
                    address,
                )
                return
        for client, own in bound:
            if client.is_online and client.address != own:
                yield Failure(
                    "binding-ignored",
                    f"{client.label} was given {format_address(client.address)}, but is bound to "
                    f"{format_address(own)}",
                    client.mac,
                    own,
                )
                break
        for client, own in bound:
            if client.is_online and not self.network.subnet.hosts.holds(client.address):
                kind = self.network.subnet.edge_word(client.address)
                reason = f"{client.label} was given {format_address(own)}, the {kind} address"
                yield Failure("bound", reason, client.mac, own)
                break
        yield from self._misplaced(bound, everybody)

    def _misplaced(
        self, bound: Sequence[tuple[Client, int]], everybody: Sequence[Client]
    ) -> Iterator[Failure]:
        """The first client with an address that the plan doesn't have for it."""
        there = [self.pools.place_of(name) for name in self.segment.networks]
        names = {client.mac for client, _ in bound}
        others = [c for c in everybody if c.is_online and c.mac not in names]
        first = {client.kind: client for client in reversed(others)}
        assignable = {
            kind: reduce(
                AddressSet.__or__, (assignable_to(self.pools, at, client.said) for at in there)
            )
            for kind, client in first.items()
        }
        for client in others:
            if client.address in assignable[client.kind]:
                continue
            shown = format_address(client.address)
            subnets = [self.pools.networks[index].subnet for index in there]
            inside = any(subnet.span.holds(client.address) for subnet in subnets)
            where = "which the plan doesn't assign" if inside else "which is not in its network"
            event = "assigned" if inside else "answered-for"
            reason = f"a client was given {shown}, {where}"
            yield Failure(event, reason, client.mac, client.address)
            return

    def _deaf_servers(self, planned: Sequence[str], client: Client) -> Iterator[Failure]:
        """The first server that should serve the network and hears no client, or answers none."""
        heard = self.segment.heard_by
        for server in planned:
            if server in self.segment.lost and server not in self.result.servers:
                reason = f"the answers of {server} are lost: {self.segment.lost[server]}"
                yield Failure("answer-lost", reason, client.mac)
                return
        for server in planned if heard else ():
            if server in self.wires.devices and server not in heard:
                reason = f"{server} hears none of the clients, though it should serve them"
                yield Failure("unanswered", reason, client.mac)
                return

    def _held_twice(self, client: Client) -> Iterator[Failure]:
        for address, one, other in self.segment.twice:
            if self.network.subnet.span.holds(address):
                reason = f"both {one} and {other} answer at {format_address(address)}"
                yield Failure("held-twice", reason, client.mac, address)

    def _unused(self) -> Iterator[Failure]:
        """That nobody on a LAN of several networks got an address of this one."""
        mine = self.pools.assignable_in(self.index)
        online = self.segment.online
        if len(self.segment.networks) < 2 or not online or mine.contains(list(online)).any():
            return
        mac = next(iter(online.values())).mac
        reason = f"nobody on this LAN is given an address of {self.name}, not even when all ask"
        yield Failure("never-assigned", reason, mac)

    # What a client can do with what it got.

    def _use_each(self, *kinds: Sequence[Client]) -> None:
        """Let the first client of each kind use what it got, if that differs."""
        used: list[dict[int, bytes]] = []
        for clients in kinds:
            client = next((c for c in clients if c.is_online), None)
            given = client.acknowledged if client is not None else None
            if client is None or given is None:
                continue
            offered = {**given.options, Option.CLIENT_IDENTIFIER: b""}
            if offered not in used:
                used.append(offered)
                self._use(client, given)

    def _use(self, client: Client, given: Message) -> None:
        """Ask the gateway and the DNS servers, as people do by hand."""
        result = self.result
        result.lease = given.number(Option.LEASE_TIME)
        result.gateway = given.address(Option.ROUTER)
        dns = given.options.get(Option.DNS, b"")
        result.dns = tuple(
            int.from_bytes(dns[at : at + 4], "big") for at in range(0, len(dns) // 4 * 4, 4)
        )
        mask = given.address(Option.MASK) or mask_of(self.network.subnet.bits)
        result.failures += self._unusable(client, given, mask)
        result.failures += self._not_offered(client)
        device, gateway = None, self._gateway_used(given)
        if gateway is not None:
            device = self._ask_gateway(client, gateway, mask)
        if result.dns:
            self._ask_dns(client, device, mask)

    def _not_offered(self, client: Client) -> Iterator[Failure]:
        """What clients need and are not offered, unless the plan says that there is none."""
        defaults = self.pools.plan.defaults
        if self.result.gateway is None and not self.network.has_no_gateway:
            reason = "clients are offered no gateway, so they reach nothing beyond their network"
            yield Failure("offered-none", reason, client.mac, option=OFFERED["gateway"].title)
        if self.result.dns or self.network.dns is not None or defaults.dns is not None:
            return
        if self._offers_own_resolvers(client):
            self.result.dns_unknown = "that the device uses itself, which isn't known"
        else:
            reason = "clients are offered no DNS server, so they resolve no names"
            yield Failure("offered-none", reason, client.mac, option=OFFERED["dns"].title)

    def _offers_own_resolvers(self, client: Client) -> bool:
        """Whether a client's server offers the DNS servers that it uses itself."""
        device = self.wires.devices.get(self._server(client) or "")
        serving = device.serving if device is not None else None
        return serving is not None and serving.behaviour.offers_own_resolvers

    def _gateway_used(self, given: Message) -> int | None:
        """The gateway that a client takes; from classless routes, if it has any (RFC 3442)."""
        routes = routes_in(given.options.get(Option.CLASSLESS_ROUTES, b""))
        defaults = [hop for to, hop in routes if to.bits == 0]
        return defaults[0] if defaults else None if routes else self.result.gateway

    def _unusable(self, client: Client, given: Message, mask: int) -> Iterator[Failure]:
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

    def _ask_gateway(self, client: Client, gateway: int, mask: int) -> str | None:
        """Whether somebody answers at the gateway's address; the device that does."""
        shown, result = format_address(gateway), self.result
        is_near = gateway & mask == client.address & mask
        holder = self.segment.held.get(gateway)
        if is_near and holder is None and not self.complete:
            return None  # another device's, perhaps
        result.gateway_answers = is_near and holder is not None
        if not is_near:
            reason = f"the gateway {shown} is not in the subnet of {format_address(client.address)}"
            result.failures.append(Failure("offered", reason, client.mac, gateway))
        elif holder is None:
            reason = f"nobody answers at the gateway's address, {shown}"
            result.failures.append(Failure("offered", reason, client.mac, gateway))
        else:
            here = {(port.device, port.interface) for port in self.segment.ports}
            for attachment in self.pools.topology.holders(gateway):
                if (attachment.device, attachment.interface) in here:
                    result.failures += self._off_link(client, attachment)
                    return attachment.device
        return None

    def _off_link(self, client: Client, gateway: Attachment) -> Iterator[Failure]:
        """The first address that was given and that the gateway's masks leave out."""
        if gateway.bits == ADDRESS_BITS:  # a shared address has the masks of the interface
            return
        if not self.network.subnet.span.holds(client.address):
            return  # on a LAN with several, it is the gateway of the other network
        own = self.pools.topology.interface(gateway).addresses
        for address in sorted(self.segment.online):
            is_ours = self.network.subnet.span.holds(address)
            if is_ours and not any(prefix.span.holds(address) for prefix in own):
                shown = format_address(address)
                reason = f"{gateway} has {gateway.prefix}, so it can't answer {shown}"
                yield Failure("masks-differ", reason, client.mac, gateway.address)
                return

    def _ask_dns(self, client: Client, gateway: str | None, mask: int) -> None:
        """Whether a query gets to a DNS server and its answer back, for each of them."""
        answers: list[bool | None] = []
        lost: list[Failure] = []
        for server in self.result.dns:
            failure, shown = Failure("offered", "", client.mac, server), format_address(server)
            if server & mask == client.address & mask:
                why, answer = self._on_network(server)
            elif gateway is not None:
                why, answer = self._way_to(gateway, server, client.address)
            else:
                why, answer = self._by_unknown_gateway()
                if not self.network.has_no_gateway:
                    title = OFFERED["gateway"].title
                    failure = Failure("offered-none", "", client.mac, option=title)
            answers.append(answer)
            if answer is False:
                reason = f"the DNS server {shown} doesn't answer: {why}"
                lost.append(replace(failure, reason=reason))
            elif answer is None and not self.result.dns_unknown:
                self.result.dns_unknown = f"{shown} ({why})"
        known = [answer for answer in answers if answer is not None]
        self.result.dns_answers = any(known) if known else None
        if self.result.gateway_answers is not False:
            self.result.failures += lost

    def _on_network(self, server: int) -> tuple[str, bool | None]:
        """What stops a query to a server on the client's own network, and if any is known."""
        why = self._why_not_here(server)
        if why and not self.complete and server not in self.segment.online:
            return "no device of these files holds it", None
        return why, not why

    def _by_unknown_gateway(self) -> tuple[str, bool | None]:
        """The same by a router that the plan only lists, or doesn't know."""
        if self.result.gateway_answers is not False and self.result.gateway:
            gateway = format_address(self.result.gateway)
            return f"what lies behind the gateway {gateway} isn't known", None
        return "clients are offered no gateway that answers", False

    def _why_not_here(self, server: int) -> str:
        """What stops a query to a server on the client's own network; empty if nothing does."""
        client = self.segment.online.get(server)
        if server in self.segment.held:
            for attachment in self.pools.topology.holders(server):
                if not self._admits_dns(attachment.device, attachment.interface):
                    return f"the zone of {attachment} doesn't admit DNS"
            return ""
        if client is None:
            return "nobody on this network holds it"
        bound = self.pools.bindings.address[self.pools.bound_rows(self.index)]
        return "" if server in bound.tolist() else f"{client.label} was given its address"

    def _admits_dns(self, device: str, interface: str) -> bool:
        serving = self.wires.devices[device].serving
        return serving is None or serving.admits(interface, "dns")

    def _way_to(self, gateway: str, server: int, client: int) -> tuple[str, bool | None]:
        """What stops a query to a server beyond the gateway or its answer, and if any is known.

        Where that isn't known, the reason is what would have to be.
        """
        there = self.wires.way(gateway, server)
        if there.is_lost:
            return there.why(server), False
        if there.is_open:
            return there.why(server), None
        if not there.is_held:  # the plan names it, on a link of the last router
            return "", True
        entered = there.entered[-1] if there.entered else None
        if entered is not None and not self._admits_dns(entered.device, entered.interface):
            return f"the zone of {entered} doesn't admit DNS", False
        back = self.wires.way(there.at, client)
        if back.is_lost:
            return f"{back.why(client)} (the way back)", False
        return back.why(client), None if back.is_open else True
