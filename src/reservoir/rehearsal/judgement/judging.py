"""Judges what the clients of a network got, and what they can do with it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from functools import partial
from itertools import chain

from reservoir.core.plan.offered import OFFERED
from reservoir.core.pools import Pools
from reservoir.core.topology import Attachment
from reservoir.core.values.addresses import ADDRESS_BITS, format_address, mask_of
from reservoir.rehearsal.clients.client import Client
from reservoir.rehearsal.judgement.received import (
    Bound,
    Received,
    by_kind,
    first_of_each_offer,
    gateway_used,
)
from reservoir.rehearsal.judgement.result import Failure, NetworkRehearsed
from reservoir.rehearsal.messages.message import Message, Option
from reservoir.rehearsal.wires.segment import Segment
from reservoir.rehearsal.wires.wires import Wires


def judge(
    network: str,
    bound: Sequence[tuple[Client, int]],
    expected: Sequence[Client],
    filling: Sequence[Client],
    wires: Wires,
    pools: Pools,
    complete: bool,
    got: str = "was given",
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
        got: How it is told that a client got something.
    """
    return _Judge(network, wires, pools, complete, got).judged(bound, expected, filling)


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
    def __init__(self, network: str, wires: Wires, pools: Pools, complete: bool, got: str) -> None:
        self.name = network
        self.wires = wires
        self.pools = pools
        self.complete = complete
        self.segment: Segment = wires.segment(network)
        self.index = pools.place_of(network)
        self.network = pools.networks[self.index]
        self.received = Received(network, pools, self.segment.networks, got)
        lan = tuple(pools.topology.segment_of(network))
        self.result = NetworkRehearsed(network, (), self._relay(), lan)

    def judged(
        self, bound: Bound, expected: Sequence[Client], filling: Sequence[Client]
    ) -> NetworkRehearsed:
        result, tried = self.result, [*(client for client, _ in bound), *expected]
        others = [*expected, *filling]
        every = self.received.count(result, bound, expected, filling)
        result.filled = len(every) if filling else None
        servers = {s for c in every for s in [self._server(c)] if s is not None}
        planned = [server.device for server in self.pools.topology.servers(self.name)]
        result.servers = tuple(sorted(servers)) or tuple(dict.fromkeys(planned))
        rests_on = map(self.segment.assumed, sorted(servers))
        result.assumed = tuple(dict.fromkeys(chain.from_iterable(rests_on)))
        result.failures += self.received.wrong(bound, others, self.segment.held.__contains__)
        owners = [client for client, _ in bound]
        for client, given in first_of_each_offer(owners, *by_kind(others)):
            self._use(client, given)
        if filling:
            result.failures += self._unused()
        if tried:
            result.failures += self._deaf_servers(planned, tried[0])
            result.failures += self._held_twice(tried[0])
        unserved = list(
            self.received.unserved(
                tried,
                lambda client: client.mac in self.wires.refused,
                partial(_why, wires=self.wires),
            )
        )
        result.failures = [f for f in unserved if f.event == "unanswered"] + result.failures
        result.failures += [f for f in unserved if f.event != "unanswered"]
        result.failures = [self._placed(failure) for failure in result.failures]
        return result

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

    def _use(self, client: Client, given: Message) -> None:
        """Ask the gateway and the DNS servers, as people do by hand."""
        result, own = self.result, self._offers_own_resolvers(client)
        mask = given.address(Option.MASK) or mask_of(self.network.subnet.bits)
        result.failures += self.received.offered(result, client, given, mask, has_own_resolvers=own)
        device, gateway = None, gateway_used(given)
        if gateway is not None:
            device = self._ask_gateway(client, gateway, mask)
        if result.dns:
            self._ask_dns(client, device, mask)

    def _offers_own_resolvers(self, client: Client) -> bool:
        """Whether a client's server offers the DNS servers that it uses itself."""
        device = self.wires.devices.get(self._server(client) or "")
        serving = device.serving if device is not None else None
        return serving is not None and serving.behaviour.offers_own_resolvers

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
