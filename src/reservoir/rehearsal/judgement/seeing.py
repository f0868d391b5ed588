"""Holds what real servers answered to the plan, with what the rehearsal predicted beside it."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping, Sequence, Set
from dataclasses import dataclass

from reservoir.core.leases.holders import Holders
from reservoir.core.plan.offered import OFFERED
from reservoir.core.pools import Pools
from reservoir.core.values.addresses import format_address, mask_of
from reservoir.core.values.clients import Mac
from reservoir.core.wording import be, counted, listed_briefly
from reservoir.rehearsal.asking import Ask, planned_options
from reservoir.rehearsal.clients.client import Client
from reservoir.rehearsal.judgement.received import (
    Received,
    by_kind,
    first_of_each_offer,
    gateway_used,
)
from reservoir.rehearsal.judgement.result import Failure, NetworkRehearsed
from reservoir.rehearsal.judgement.silence import why_silent
from reservoir.rehearsal.judgement.verified import ServerSeen
from reservoir.rehearsal.messages.message import Message, Option, option_name, option_text
from reservoir.rehearsal.wires.live import Answer

_OF_THE_PROTOCOL = frozenset(
    (Option.SERVER, Option.RENEWAL_TIME, Option.REBINDING_TIME, Option.MESSAGE, Option.OVERLOAD,
     Option.CLIENT_IDENTIFIER, Option.RELAY_AGENT, Option.SUBNET_SELECTION, Option.MESSAGE_KIND)
)  # fmt: skip
"""Options that servers send by themselves, of which a plan says nothing."""
_BROADCAST_ADDRESS = 28
"""It is held to the client's subnet, whoever thought of it."""


LONGEST_VALUE = 80
"""Characters of a value that are shown."""

MOST_NAMED = 3
"""Servers that aren't planned, of which each is named."""


@dataclass(frozen=True)
class PlannedServers:
    """The addresses by which clients of a LAN know the servers that are planned there."""

    addresses: Set[int]
    are_all: bool
    """Whether the plan says the address of each."""

    def is_planned(self, address: int) -> bool | None:
        """Whether a server is planned; None if the plan doesn't say."""
        return True if address in self.addresses else False if self.are_all else None


def planned_servers(
    pools: Pools, lan: Sequence[str], rehearsed: Iterable[Client | None]
) -> PlannedServers:
    """The planned servers of a LAN, by the plan and by what its clients hear in the rehearsal."""
    topology = pools.topology
    serving = {device for name in lan for device in topology.serving(name)}
    known = {address for device in serving for address in topology.addresses_of(device)}
    offers = (offer for client in rehearsed if client is not None for offer in client.offers)
    known |= {offer.address(Option.SERVER) or 0 for offer in offers}
    return PlannedServers(known, all(topology.addresses_of(device) for device in serving))


@dataclass
class Used:
    """What a client found that took the address it was offered."""

    client: Client
    """The client, as it was while it had the address."""
    gateway: Mac | None = None
    """Who has the gateway's address."""
    resolvers: Mapping[int, bool] | None = None
    """Whether each DNS server answered; None if none was asked."""
    renewed: bool = False


@dataclass(frozen=True)
class Asked:
    """A client that asked a network, on the wire and in the rehearsal."""

    ask: Ask
    client: Client
    rehearsed: Client | None
    """The same client in the rehearsal, if the network was rehearsed."""
    answers: Sequence[Answer]
    unreadable: str = ""
    """Why an answer to it can't be read."""
    used: Used | None = None


class Seen:
    """Judges what was seen in one network."""

    def __init__(
        self,
        network: str,
        asked: Sequence[Asked],
        predicted: NetworkRehearsed | None,
        pools: Pools,
        lan: Sequence[str],
        *,
        have_own_resolvers: bool,
        holders: Holders | None = None,
    ) -> None:
        """Take what was seen.

        Args:
            network: The network.
            asked: Who asked there.
            predicted: What the same clients got in the rehearsal, if it was rehearsed.
            pools: The plan.
            lan: The networks in its broadcast domain.
            have_own_resolvers: Whether a planned server offers the DNS servers it uses itself.
            holders: Who has which address at present, if a lease list says so.
        """
        self._name, self._asked, self._predicted = network, asked, predicted
        self._pools, self._lan = pools, lan
        self._have_own_resolvers, self._holders = have_own_resolvers, holders
        self._network = pools.plan.networks[network]
        self._planned = planned_servers(pools, lan, [a.rehearsed for a in asked])
        self.servers = list(self._servers())

    def judged(self) -> NetworkRehearsed:
        """What the clients were offered, and what of it differs from the plan."""
        received = Received(self._name, self._pools, self._lan, got="was offered")
        named = dict.fromkeys(server.device or format_address(server.address) for server in
                              self.servers)  # fmt: skip
        planned = [server.device for server in self._pools.topology.servers(self._name)]
        relay = self._predicted.relay if self._predicted is not None else None
        lan = tuple(self._pools.topology.segment_of(self._name))
        result = NetworkRehearsed(self._name, tuple(named or dict.fromkeys(planned)), relay, lan)
        bound = [(a.client, a.ask.bound_to) for a in self._asked if a.ask.bound_to is not None]
        free = [a for a in self._asked if a.ask.bound_to is None]
        expected = [a.client for a in free if a.ask.is_expected or a.client.is_served]
        every = received.count(result, bound, expected)
        failures = result.failures
        whose = [*(a for a in self._asked if a.ask.bound_to is not None), *free]
        tried = [a.client for a in whose if a.ask.is_expected]
        failures += received.unserved(tried, self._is_full, self._why_silent)
        failures += self._unreadable()
        elsewhere = self._elsewhere()
        failures += elsewhere.values()
        topology = self._pools.topology
        at_home = {device for name in elsewhere for device in topology.serving(name)}
        failures += self._unplanned_servers(at_home)
        if every:
            failures += self._silent_servers(every[0])
        if not elsewhere:  # else all of it is another network's
            judged = [(client, own) for client, own in bound if self._is_by_planned(client)]
            others = [a.client for a in free if self._is_by_planned(a.client)]
            failures += received.wrong(judged, others, lambda address: False)
            failures += self._other_values()
        mask = mask_of(self._network.subnet.bits)
        owners = [client for client, _ in bound]
        for client, given in first_of_each_offer(owners, *by_kind(expected)):
            own = self._have_own_resolvers
            its_mask = given.address(Option.MASK) or mask
            found = list(received.offered(result, client, given, its_mask, has_own_resolvers=own))
            if self._is_by_planned(client) and not elsewhere:
                failures += found
        failures += self._leased_to_others()
        failures += self._unusable(result)
        result.failures = list({failure.reason: failure for failure in reversed(failures)}.values())
        result.failures.reverse()
        return result

    # Who answered.

    def _servers(self) -> Iterator[ServerSeen]:
        """The servers that made offers, the planned ones first."""
        came: dict[int, list[Answer]] = {}
        for answer in (answer for asked in self._asked for answer in asked.answers):
            came.setdefault(answer.server, []).append(answer)
        topology, found = self._pools.topology, []
        serving = {device for name in self._lan for device in topology.serving(name)}
        for address, answers in came.items():
            holders = [a.device for a in topology.holders(address)]
            macs = tuple(dict.fromkeys(a.mac for a in answers if a.mac is not None))
            planned = self._planned.is_planned(address)
            device = min(holders, key=lambda device: device not in serving, default=None)
            found.append(ServerSeen(address, macs, device, planned, len(answers)))
        yield from sorted(found, key=lambda server: (server.is_planned is False, server.address))

    def _is_by_planned(self, client: Client) -> bool:
        """Whether what a client chose isn't by a server that is told by itself."""
        return not client.is_served or self._planned.is_planned(client.server) is not False

    def _unplanned_servers(self, there: Set[str]) -> Iterator[Failure]:
        """The servers that answer and are not to: the first of them by name, with its offer.

        Those of a network that this seems to be are at home there.
        """
        strange = [s for s in self.servers if s.is_planned is False and s.device not in there]
        if not strange:
            return
        offers = [(a.client.mac, o) for a in self._asked for o in a.answers]
        planned = list(dict.fromkeys(s.device for s in self._pools.topology.servers(self._name)))
        named = [self._strange(server, offers) for server in strange[:MOST_NAMED]]
        if len(strange) > MOST_NAMED:
            named.append(f"{len(strange) - MOST_NAMED:,} more")
        who = "a server answers" if len(strange) == 1 else f"{len(strange):,} servers answer"
        isnt = "isn't" if len(strange) == 1 else "aren't"
        told = f"{who} that {isnt} planned here: {'; '.join(named)}"
        if not planned:
            told += "; the plan has no server here"
        elif len(strange) == len(self.servers):
            told += f"; {listed_briefly(planned)} doesn't answer"
        mac = next(mac for mac, offer in offers if offer.server == strange[0].address)
        yield Failure("answered-twice", told, mac, strange[0].address)

    def _strange(self, server: ServerSeen, offers: Sequence[tuple[Mac, Answer]]) -> str:
        """A server that isn't planned, and what it offers."""
        first = next(offer.message for _, offer in offers if offer.server == server.address)
        whose = f"{server.device}, " if server.device else ""
        at = f", {listed_briefly(server.macs)}" if server.macs else ""
        gives = f"it offers {format_address(first.your_address)}"
        if (gateway := first.address(Option.ROUTER)) is not None:
            gives += f", gateway {format_address(gateway)}"
        return f"{whose}{format_address(server.address)}{at} ({gives})"

    def _silent_servers(self, client: Client) -> Iterator[Failure]:
        """The servers that answer in the rehearsal, and did not, where others do."""
        topology = self._pools.topology
        seen = {server.address for server in self.servers}
        if not any(server.is_planned for server in self.servers):
            return
        predicted = {
            holder.device
            for a in self._asked
            for offer in (a.rehearsed.offers if a.rehearsed is not None else ())
            for holder in topology.holders(offer.address(Option.SERVER) or 0)
        } & {device for name in self._lan for device in topology.serving(name)}
        for device in sorted(predicted):
            if not seen & topology.addresses_of(device):
                reason = f"{device} doesn't answer, though it should serve them"
                yield Failure("unanswered", reason, client.mac)

    def _predicted_for(self, client: Client) -> Failure | None:
        """Why a client gets no answer in the rehearsal either; None if it gets one."""
        failures = self._predicted.failures if self._predicted is not None else ()
        silent = {a.client.mac for a in self._asked
                  if a.rehearsed is not None and not a.rehearsed.is_served}  # fmt: skip
        if client.mac not in silent:
            return None
        why = (f for f in failures if f.event in ("unanswered", "refused") and f.client in silent)
        return min(why, key=lambda failure: failure.client != client.mac, default=None)

    def _is_full(self, client: Client) -> bool:
        """Whether there is no free address for a client in the rehearsal, either."""
        predicted = self._predicted_for(client)
        return predicted is not None and predicted.event == "refused"

    def _why_silent(self, client: Client) -> str:
        others = [a.client for a in self._asked if a.client.is_served and a.client is not client]
        who = client.label
        unreadable = next((a.unreadable for a in self._asked if a.client is client), "")
        if unreadable:
            return f"what {who} hears can't be read: {unreadable}"
        predicted = self._predicted_for(client)
        if predicted is not None:
            return predicted.reason.partition(": ")[2]
        if self._holders is not None:
            place = list(self._pools.names).index(self._name)
            if self._holders.have_all(self._pools.assignable_in(place)):
                return "all assignable addresses are leased, by the lease list"
        if others:
            return f"{who} hears nothing, though {counted(len(others), 'other client')} did"
        return why_silent(self._name, self._pools)

    def _unreadable(self) -> Iterator[Failure]:
        for asked in self._asked:
            if asked.unreadable and asked.client.is_served:
                reason = f"an answer can't be read: {asked.unreadable}"
                yield Failure("offered", reason, asked.client.mac)
                return

    # What was offered.

    def _elsewhere(self) -> dict[str, Failure]:
        """That the clients are offered addresses of other networks, by their names."""
        topology, found = self._pools.topology, dict[str, Failure]()
        for asked in self._asked:
            for answer in asked.answers:
                address = answer.message.your_address
                names = list(topology.networks_at(address, self._network.vrf))
                if not names or any(name in self._lan for name in names) or names[0] in found:
                    continue
                own, other = self._network.vlan, self._pools.plan.networks[names[0]].vlan
                tags = f" (VLAN {other})" if other is not None else ""
                reason = f"this is {names[0]}{tags}, it seems: {format_address(address)} is offered"
                if own is not None and other is not None and own != other:
                    reason += f"; see which tag the port has, {self._name} has VLAN {own}"
                found[names[0]] = Failure("answered-for", reason, asked.client.mac, address)
        return found

    def _leased_to_others(self) -> Iterator[Failure]:
        """Offers of addresses that somebody else has a lease of."""
        if self._holders is None:
            return
        for asked in self._asked:
            for address in dict.fromkeys(a.message.your_address for a in asked.answers):
                client = asked.client.identifier or asked.client.mac
                holder = self._holders.other(address, client)
                if holder is not None:
                    shown = format_address(address)
                    reason = (
                        f"{asked.client.label} is offered {shown}, but {holder} has a lease of it"
                    )
                    yield Failure("offered", reason, asked.client.mac, address)

    def _other_values(self) -> Iterator[Failure]:
        """Options that are offered otherwise than planned, each kind of difference once."""
        found: dict[tuple[str, str, str], list[Asked]] = {}
        judged = [
            (asked, given)
            for asked in self._asked
            if (given := asked.client.acknowledged) is not None
            if asked.client.is_served and asked.ask.is_expected
            if self._is_by_planned(asked.client)
        ]
        for asked, given in judged:
            for difference in self._differences(asked, given):
                found.setdefault(difference, []).append(asked)
        for (title, offered, planned), some in found.items():
            is_every = len(some) == len(judged) > 1
            who = "every client" if is_every else _named(some)
            verb = be(1 if is_every else len(some))
            if not offered:
                told = f"{who} {verb} offered no {title}; planned: {planned}"
            elif not planned:
                told = f"{who} {verb} offered the {title} {offered}, which isn't planned"
            else:
                told = f"{who} {verb} offered the {title} {offered}; planned: {planned}"
            yield Failure("offered", told, some[0].client.mac, option=title)

    def _differences(self, asked: Asked, given: Message) -> Iterator[tuple[str, str, str]]:
        """Title, offered and planned value of each option that differs; empty for none."""
        planned = planned_options(asked.ask, self._pools)
        rehearsed = asked.rehearsed.acknowledged if asked.rehearsed is not None else None
        wanted = planned if rehearsed is None else rehearsed.options
        offered = dict(given.options)
        if given.fields[0] and Option.BOOT_FILE not in offered:  # RFC 2131 section 2
            offered[Option.BOOT_FILE] = given.fields[0]
        codes = sorted((wanted.keys() | offered.keys()) - _OF_THE_PROTOCOL)
        for code in codes:
            has, wants = offered.get(code), wanted.get(code)
            if has == wants or (code == _BROADCAST_ADDRESS and wants is None):
                continue
            if code == Option.DNS and wants is None and self._have_own_resolvers:
                continue  # which they are isn't known
            name = option_name(code)
            yield (
                f"option {code}" if name.isdigit() else name,
                _short(option_text(code, has)) if has is not None else "",
                _short(option_text(code, wants)) if wants is not None else "",
            )
        server = rehearsed.next_server if rehearsed is not None else 0
        if server and given.next_server != server:
            told = format_address(given.next_server) if given.next_server else ""
            yield OFFERED["next_server"].title, told, format_address(server)

    # What those found that took an address.

    def _unusable(self, result: NetworkRehearsed) -> Iterator[Failure]:
        for asked in self._asked:
            used, given = asked.used, asked.client.acknowledged
            if used is None or given is None:
                continue
            mac, gateway = asked.client.mac, gateway_used(given)
            if gateway is not None:
                is_there = used.gateway is not None
                result.gateway_answers = is_there and result.gateway_answers is not False
                if used.gateway is None:
                    shown = format_address(gateway)
                    reason = f"nobody answers at the gateway's address, {shown}"
                    yield Failure("offered", reason, mac, gateway)
            if used.resolvers:
                is_answered = any(used.resolvers.values())
                result.dns_answers = is_answered and result.dns_answers is not False
                for server, answers in used.resolvers.items():
                    if not answers:
                        reason = f"the DNS server {format_address(server)} doesn't answer"
                        yield Failure("offered", reason, mac, server)
            result.renewed = used.renewed and result.renewed is not False
            if not used.renewed:
                shown = format_address(given.your_address)
                reason = f"the lease of {shown} can't be renewed: no answer"
                yield Failure("answer-lost", reason, mac)


def _named(asked: Sequence[Asked]) -> str:
    return listed_briefly([each.client.label for each in asked], most=2)


def _short(text: str) -> str:
    """A value as far as a message has room for it."""
    return text if len(text) <= LONGEST_VALUE else f"{text[:LONGEST_VALUE]}…"
