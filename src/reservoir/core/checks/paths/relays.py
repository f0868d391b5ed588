"""Relays: from a client network to a server that has a pool for it."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import lru_cache
from typing import NamedTuple

from reservoir.core.checks.agreement import is_astray
from reservoir.core.checks.paths.meant import network_of_relay, networks_by_tag
from reservoir.core.checks.rule import Rule, Site, replaced
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.plan.model import PlanPath
from reservoir.core.routing import Way
from reservoir.core.topology import Attachment
from reservoir.core.values.addresses import format_address
from reservoir.core.wording import be, listed


class Relay(NamedTuple):
    """One server that an interface relays to."""

    attachment: Attachment
    position: int
    target: int
    network: str | None
    """The network whose clients' requests are relayed, if the plan has it."""
    servers: Sequence[str]
    """The devices that hold the address that is relayed to."""

    @property
    def path(self) -> PlanPath:
        """Where the server's address is."""
        return (*self.attachment.path, "relay_to", self.position)


@lru_cache(maxsize=1)
def relays(site: Site) -> list[Relay]:
    """Every server that an addressed interface relays to."""
    found = []
    for attachment in site.topology.addressed:
        interface = site.topology.interface(attachment)
        if not interface.relay_to:
            continue
        network = site.topology.home_of(attachment)
        for position, target in enumerate(interface.relay_to):
            if target in site.plan.listeners:
                continue  # it gets a copy of each request, and answers none
            holders = dict.fromkeys(holder.device for holder in site.topology.holders(target))
            found.append(Relay(attachment, position, target, network, list(holders)))
    return found


class RelayedWay(NamedTuple):
    """The ways of a network's relayed requests to its server, and of the answers back."""

    network: str
    relay: Relay
    server: str
    there: Way
    back: Way


@lru_cache(maxsize=1)
def relayed_ways(site: Site) -> list[RelayedWay]:
    """For each relay to a server of its network, the ways there and back."""
    found = []
    for relay in relays(site):
        serving = site.topology.serving(relay.network) if relay.network else set()
        for server in sorted(serving.intersection(relay.servers) - {relay.attachment.device}):
            there = site.routing.way(relay.attachment.device, relay.target)
            back = site.routing.way(server, relay.attachment.address)
            found.append(RelayedWay(str(relay.network), relay, server, there, back))
    return found


def networks_lost_by(site: Site, device: str, hop: int) -> list[str]:
    """The networks whose relayed requests or answers end at a next hop that nobody holds."""
    return [
        way.network
        for way in relayed_ways(site)
        if any((w.at, w.hop) == (device, hop) and w.is_lost for w in (way.there, way.back))
    ]


class RelayMisplaced(Rule):
    """An interface relays, but isn't in the client network that was meant.

    Why: The relayed requests come from the wrong subnet, or from none in the plan; the clients that
    were meant get no answer.

    Remedy: Move the relay to the interface in the client network, or correct its address.
    """

    severity = Severity.ERROR
    is_certain = True
    blames = ("relay_to", "placement")
    rests_on = ("subnet",)
    example = """
          devices:
        -   pier: {interfaces: {deck: {address: 10.84.40.1/24, relay_to: [10.84.0.10]}}}
        +   pier: {interfaces: {deck: {address: 10.84.30.1/24, relay_to: [10.84.0.10]}}}
            depot: {interfaces: {lan: {address: 10.84.0.10/24}}}
          networks:
            crew: {subnet: 10.84.30.0/24, served_by: depot, ranges: [10.84.30.20]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for relay in relays(site):
            servers = relay.servers
            if not servers or relay.position or not self._is_misplaced(site, relay):
                continue  # neither end is in the plan, so it is not the plan's concern
            meant = _unreached(site, servers)
            names = (
                f"; {listed(meant[:3])} {be(len(meant[:3]))} not reached by any relay"
                if meant
                else ""
            )
            attachment, path = relay.attachment, relay.attachment.address_path
            shown, typo = format_address(attachment.address), network_of_relay(site, attachment)
            elsewhere = _in_other_vrf(site, attachment)
            hint = f"; {format_address(typo[1].address)} would be in {typo[0]}" if typo else names
            networks = [*meant, *([typo[0]] if typo else ()), *filter(None, [relay.network])]
            yield self.finding(
                f"{attachment} relays from {shown}, which is in "
                + (relay.network or "no network of the plan")
                + (elsewhere or hint),
                relay.path[:-1],
                self._witness(relay, networks[0] if networks else None, bool(meant)),
                replaced(path, attachment.prefix, typo and typo[1]),
                is_certain=typo is not None
                and typo[1].address == site.plan.networks[typo[0]].gateway
                and is_astray(site, attachment),
                concerns=tuple(networks[1:]),
            )

    def _witness(self, relay: Relay, network: str | None, unheard: bool) -> Witness:
        """The network's clients get no answer, or one that is meant for another network."""
        if unheard:
            return Witness("unanswered", network, relay.attachment.address)
        if relay.network is not None:
            return Witness("answered-for", network, relay.attachment.address, also=relay.network)
        return Witness("request-lost", network, relay.target, because="no-network")

    def _is_misplaced(self, site: Site, relay: Relay) -> bool:
        """Whether the relay is in no network; or in one, and has the VLAN of another.

        Then that other was meant, unless the device is there too: the VLAN may be wrong instead.
        """
        if relay.network is None:
            return True
        interface = site.topology.interface(relay.attachment)
        alike = networks_by_tag(site).get((interface.vrf, interface.vlan), [])
        if interface.vlan is None or len(alike) != 1 or alike[0][0] == relay.network:
            return False
        there = site.topology.attachments(site.plan.networks[alike[0][0]])
        return all(attachment.device != relay.attachment.device for attachment in there)


def _in_other_vrf(site: Site, attachment: Attachment) -> str:
    """The network that has the address in another VRF, in words; nothing if there is none."""
    own, *others = (
        f"VRF {vrf}" if vrf else "no VRF"
        for vrf in (site.topology.interface(attachment).vrf, *site.pools.vrf_of)
    )
    here = site.topology.interface(attachment).vrf
    for words, vrf in zip(others, site.pools.vrf_of, strict=True):
        if vrf == here:
            continue
        for name in site.topology.networks_at(attachment.address, vrf):
            return f"; {name} contains it, but in {words}, and the interface is in {own}"
    return ""


def _unreached(site: Site, servers: Sequence[str]) -> list[str]:
    """The networks that these servers should serve but don't reach."""
    return [name for server in servers for name in _unheard(site, server)]


@lru_cache(maxsize=64)
def _unheard(site: Site, server: str) -> list[str]:
    pools = site.pools.served_by(server)
    return [pool.name for pool in pools if site.topology.reach(server, pool.network) is None]


class RelayWithoutPool(Rule):
    """A server that a network is relayed to has no pool for it.

    Why: It finds no pool for the relay's address and doesn't answer; the clients get no address.

    Remedy: Let the server serve the network, relay to the one that does, or correct the subnet of
    the pool that was meant.
    """

    severity = Severity.ERROR
    blames = ("relay_to",)
    rests_on = ("subnet", "server", "holder", "pool")
    example = """
          devices:
            pier: {interfaces: {deck: {address: 10.84.30.1/24, relay_to: [10.84.0.10]}}}
            depot:
              interfaces: {lan: {address: 10.84.0.10/24}, hall: {address: 10.84.31.1/24}}
          networks:
        -   crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20]}
        +   crew: {subnet: 10.84.30.0/24, served_by: depot, ranges: [10.84.30.20]}
            hall: {subnet: 10.84.31.0/24, served_by: depot, ranges: [10.84.31.20]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        poolless: dict[tuple[str, str], list[Relay]] = {}
        for relay in relays(site):
            network = relay.network
            if network is None or relay.attachment.device in relay.servers:
                continue
            serving = site.topology.serving(network)
            for server in relay.servers:
                if server not in serving and site.pools.served_by(server):
                    poolless.setdefault((server, network), []).append(relay)
        for (server, network), together in poolless.items():
            meant = _unreached(site, [server])[:1]
            looks = [f"; {name}, which it serves but doesn't reach, may be meant" for name in meant]
            attachments = listed(relay.attachment for relay in together)
            yield self.finding(
                f"{attachments} relay{'s' * (len(together) == 1)} to {server}, "
                f"which has no pool for {network}" + "".join(looks),
                together[0].path,
                Witness(
                    "request-lost", network, together[0].target, also=server, because="no-pool"
                ),
                concerns=tuple(meant),
            )


class RelayAndServer(Rule):
    """An interface relays the requests of a network that its own device serves.

    Why: Each request gets two answers, and which one wins varies from client to client.

    Remedy: Serve the network here or relay it, not both.
    """

    severity = Severity.WARNING
    rests_on = ("relay_to", "address", "interface")
    example = """
          devices:
        -   pier: {interfaces: {deck: {address: 10.84.30.1/24, relay_to: [10.84.0.10]}}}
        +   pier: {interfaces: {deck: {address: 10.84.30.1/24}}}
            depot:
              interfaces: {lan: {address: 10.84.0.10/24}}
          networks:
            crew: {subnet: 10.84.30.0/24, served_by: pier, ranges: [10.84.30.20]}
            depot: {subnet: 10.84.0.0/24, served_by: depot, ranges: [10.84.0.20]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for relay in relays(site):
            network = relay.network
            if network is None or relay.position:
                continue
            serving = site.topology.serving(network)
            splits = serving.intersection(relay.servers)
            if relay.attachment.device in serving and not splits:
                yield self.finding(
                    f"{relay.attachment} relays {network} to {format_address(relay.target)}, but "
                    f"{relay.attachment.device} serves it too",
                    relay.path[:-1],
                    Witness(
                        "answered-twice",
                        network,
                        servers=(relay.attachment.device, format_address(relay.target)),
                    ),
                )


class RelayToItself(Rule):
    """An interface relays to an address of its own device.

    Why: Devices refuse it, or send requests in a loop; a device that serves needs no relay.

    Remedy: Relay to the server's address, or remove the relay if the device itself serves.
    """

    severity = Severity.ERROR
    blames = ("relay_to",)
    rests_at = ("holder",)
    example = """
          devices:
        -   pier: {interfaces: {deck: {address: 10.84.30.1/24, relay_to: [10.84.30.1]}}}
        +   pier: {interfaces: {deck: {address: 10.84.30.1/24}}}
          networks:
            crew: {subnet: 10.84.30.0/24, served_by: pier, ranges: [10.84.30.20]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for relay in relays(site):
            if relay.attachment.device in relay.servers:
                network = relay.network
                yield self.finding(
                    f"{relay.attachment} relays to {format_address(relay.target)}, an address of "
                    "its own device",
                    relay.path,
                    Witness("request-lost", network, relay.target, because="own-device"),
                )
