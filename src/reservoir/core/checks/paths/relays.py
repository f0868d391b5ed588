"""Relays: from a client network, to a server that has a pool for it, and back."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import lru_cache
from typing import NamedTuple

from reservoir.core.addressing import format_address
from reservoir.core.checks.rule import Rule, Site, replaced
from reservoir.core.findings import Finding, Severity, Suggestion, Witness
from reservoir.core.plan import PlanPath
from reservoir.core.topology import Attachment
from reservoir.core.typos import is_slip


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
        """Where the server's address stands."""
        return (*self.attachment.path, "relay_to", self.position)


@lru_cache(maxsize=1)
def relays(site: Site) -> list[Relay]:
    """Every server that an addressed interface relays to."""
    found = []
    for attachment in site.topology.addressed:
        interface = site.topology.interface(attachment)
        if not interface.relay_to:
            continue
        network = next(site.topology.networks_at(attachment.address, interface.vrf), None)
        for position, target in enumerate(interface.relay_to):
            holders = dict.fromkeys(holder.device for holder in site.topology.holders(target))
            found.append(Relay(attachment, position, target, network, list(holders)))
    return found


class RelayMisplaced(Rule):
    """An interface relays, and no network of clients is there.

    Why: Relayed requests come from the wrong subnet or none; the network that was meant gets no
    answer.

    Remedy: Move the relay to the interface in the client network, or correct the address.
    """

    severity = Severity.ERROR
    failing = """
        devices:
          pier: {interfaces: {deck: {address: 10.84.40.1/24, relay_to: [10.84.0.10]}}}
          depot: {interfaces: {lan: {address: 10.84.0.10/24}}}
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: depot, ranges: [10.84.30.20]}
    """
    passing = """
        devices:
          pier: {interfaces: {deck: {address: 10.84.30.1/24, relay_to: [10.84.0.10]}}}
          depot: {interfaces: {lan: {address: 10.84.0.10/24}}}
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: depot, ranges: [10.84.30.20]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for relay in relays(site):
            servers = relay.servers
            if not servers or relay.position or relay.network is not None:
                continue  # where neither end is in the plan, it is none of the plan's business
            meant = _unreached(site, servers)
            names = f"; {', '.join(meant[:3])} waits for a relay" if meant else ""
            yield self.finding(
                f"{relay.attachment} relays from {format_address(relay.attachment.address)}, "
                f"which is in no network of the plan{names}",
                relay.path[:-1],
                Witness("unanswered", meant[0])
                if meant
                else Witness("lost-request", None, relay.target, also="for nobody"),
                concerns=tuple(meant),
            )


def _unreached(site: Site, servers: Sequence[str]) -> list[str]:
    """The networks that these servers should lend to and don't hear."""
    pools = [pool for server in servers for pool in site.lending.pools_served_by(server)]
    return [p.name for p in pools if site.topology.reach(str(p.server), p.network) is None]


class RelayToNobody(Rule):
    """An interface relays to an address where no server is.

    Why: The clients' requests are sent into the void, and they get no address.

    Remedy: Name an address of the device that serves the network.
    """

    severity = Severity.ERROR
    follows = ("network-unserved",)
    failing = """
        devices:
          pier: {interfaces: {deck: {address: 10.84.30.1/24, relay_to: [10.48.0.10]}}}
          depot: {interfaces: {lan: {address: 10.84.0.10/24}}}
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: depot, ranges: [10.84.30.20]}
    """
    passing = """
        devices:
          pier: {interfaces: {deck: {address: 10.84.30.1/24, relay_to: [10.84.0.10]}}}
          depot: {interfaces: {lan: {address: 10.84.0.10/24}}}
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: depot, ranges: [10.84.30.20]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for relay in relays(site):
            holders, network = relay.servers, relay.network
            serves = any(site.lending.pools_served_by(server) for server in holders)
            if network is None or serves or relay.attachment.device in holders:
                continue
            if not site.complete and not holders:
                continue  # the server may be one that isn't known
            shown = format_address(relay.target)
            fault = "nobody in the plan has" if not holders else f"is {holders[0]}'s, which serves"
            message = f"{relay.attachment} relays to {shown}, which {fault}"
            message += " nothing" if holders else ""
            meant = self._meant(site, relay, network)
            also = "where nobody is" if not holders else f"and {holders[0]} serves nothing"
            yield self.finding(
                message + (f"; {meant[1]} has {meant[0]}" if meant else ""),
                relay.path,
                Witness("lost-request", network, relay.target, also=also),
                replaced(relay.path, shown, meant[0] if meant else None),
            )

    def _meant(self, site: Site, relay: Relay, network: str) -> tuple[str, str] | None:
        """The address of the network's server that was meant, and the server."""
        servers = [service.device for service in site.plan.networks[network].served_by]
        others = site.topology.interface(relay.attachment).relay_to
        found = [
            (address, server)
            for server in servers
            for address in sorted(site.topology.device_addresses(server))
            if address not in others
        ]
        near = [pair for pair in found if is_slip(relay.target, pair[0])]
        chosen = near if len(near) == 1 else found if len(found) == 1 else []
        return (format_address(chosen[0][0]), chosen[0][1]) if chosen else None


class RelayWithoutPool(Rule):
    """A server that a network is relayed to has no pool for it.

    Why: It finds no pool for the relay's address and keeps silent; the clients get no address.

    Remedy: Let the server serve the network, relay to the one that does, or correct the subnet of
    the pool that was meant.
    """

    severity = Severity.ERROR
    follows = ("network-unserved",)
    failing = """
        devices:
          pier: {interfaces: {deck: {address: 10.84.30.1/24, relay_to: [10.84.0.10]}}}
          depot:
            interfaces: {lan: {address: 10.84.0.10/24}, hall: {address: 10.84.31.1/24}}
        networks:
          crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20]}
          hall: {subnet: 10.84.31.0/24, served_by: depot, ranges: [10.84.31.20]}
    """
    passing = """
        devices:
          pier: {interfaces: {deck: {address: 10.84.30.1/24, relay_to: [10.84.0.10]}}}
          depot:
            interfaces: {lan: {address: 10.84.0.10/24}, hall: {address: 10.84.31.1/24}}
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: depot, ranges: [10.84.30.20]}
          hall: {subnet: 10.84.31.0/24, served_by: depot, ranges: [10.84.31.20]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for relay in relays(site):
            network = relay.network
            if network is None or relay.attachment.device in relay.servers:
                continue
            serving = {service.device for service in site.plan.networks[network].served_by}
            for server in relay.servers:
                pools = site.lending.pools_served_by(server)
                if server in serving or not pools:
                    continue
                meant = _unreached(site, [server])
                looks = [
                    f"; {name}, which it serves and never hears, looks meant" for name in meant
                ]
                yield self.finding(
                    f"{relay.attachment} relays to {server}, which has no pool for {network}"
                    + "".join(looks[:1]),
                    relay.path,
                    Witness(
                        "lost-request", network, relay.target, also=f"and {server} has no pool"
                    ),
                    concerns=tuple(meant[:1]),
                )


class RelayNoWayBack(Rule):
    """A server has no route to the relay that asks it.

    Why: The answer goes to the relay's address in the client network; without a route it is lost,
    and the clients get no address.

    Remedy: Give the server a route to the client network. Where it learns its routes, none need
    stand in the plan: this is an error only where some do.
    """

    severity = Severity.ERROR
    failing = """
        devices:
          pier:
            interfaces:
              uplink: {address: 10.84.0.2/24}
              deck: {address: 10.84.30.1/24, relay_to: [10.84.0.10]}
          depot:
            interfaces: {lan: {address: 10.84.0.10/24}}
            routes: [{to: 10.84.31.0/24, via: 10.84.0.2}]
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: depot, ranges: [10.84.30.20]}
    """
    passing = """
        devices:
          pier:
            interfaces:
              uplink: {address: 10.84.0.2/24}
              deck: {address: 10.84.30.1/24, relay_to: [10.84.0.10]}
          depot:
            interfaces: {lan: {address: 10.84.0.10/24}}
            routes: [{to: 10.84.30.0/24, via: 10.84.0.2}]
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: depot, ranges: [10.84.30.20]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for relay in relays(site):
            network = relay.network
            if network is None:
                continue
            serving = {service.device for service in site.plan.networks[network].served_by}
            for server in relay.servers:
                giaddr = relay.attachment.address
                if server not in serving or site.topology.knows_way(server, giaddr):
                    continue
                routes = site.plan.devices[server].routes
                if not routes:
                    continue  # it learns them, or the plan leaves them out altogether
                path: PlanPath = ("devices", server, "routes")
                yield self.finding(
                    f"{server} has no route to {format_address(giaddr)}, from where "
                    f"{relay.attachment} relays {network} to it",
                    path,
                    Witness("lost-answer", network, giaddr, also=f"and {server} has no route"),
                    self._route(site, relay, server, network, len(routes)),
                )

    def _route(
        self, site: Site, relay: Relay, server: str, network: str, position: int
    ) -> tuple[Suggestion, ...]:
        """The route by way of the relaying device, where the server stands next to it."""
        near = [
            attachment
            for attachment in site.topology.addressed
            if attachment.device == relay.attachment.device
            and any(
                interface.address is not None and interface.address.span.holds(attachment.address)
                for interface in site.plan.devices[server].interfaces.values()
            )
        ]
        if len(near) != 1:
            return ()
        to, via = site.plan.networks[network].subnet.subnet, format_address(near[0].address)
        path: PlanPath = ("devices", server, "routes", position)
        return (Suggestion(path, None, f"{{to: {to}, via: {via}}}"),)


class RelayAndServer(Rule):
    """An interface relays a network's requests that its own device serves too.

    Why: Two answers come for each request; which one counts changes from client to client.

    Remedy: Serve the network here or relay it, not both.
    """

    severity = Severity.WARNING
    follows = ("relay-to-itself", "relay-to-nobody", "relay-without-pool")
    failing = """
        devices:
          pier: {interfaces: {deck: {address: 10.84.30.1/24, relay_to: [10.84.0.10]}}}
          depot:
            interfaces: {lan: {address: 10.84.0.10/24}}
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: pier, ranges: [10.84.30.20]}
          depot: {subnet: 10.84.0.0/24, served_by: depot, ranges: [10.84.0.20]}
    """
    passing = """
        devices:
          pier: {interfaces: {deck: {address: 10.84.30.1/24}}}
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
            serving = {service.device for service in site.plan.networks[network].served_by}
            splits = serving.intersection(relay.servers)
            if relay.attachment.device in serving and not splits:
                yield self.finding(
                    f"{relay.attachment} relays {network} to {format_address(relay.target)}, and "
                    f"{relay.attachment.device} serves it too",
                    relay.path[:-1],
                    Witness(
                        "answered-twice",
                        network,
                        also=f"{relay.attachment.device} and {format_address(relay.target)} may",
                    ),
                )


class RelayToItself(Rule):
    """An interface relays to an address of its own device.

    Why: Devices refuse that or send requests in a circle; a device that serves needs no relay.

    Remedy: Name the server's address, or take the relay away where the device itself serves.
    """

    severity = Severity.ERROR
    failing = """
        devices:
          pier: {interfaces: {deck: {address: 10.84.30.1/24, relay_to: [10.84.30.1]}}}
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: pier, ranges: [10.84.30.20]}
    """
    passing = """
        devices:
          pier: {interfaces: {deck: {address: 10.84.30.1/24}}}
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: pier, ranges: [10.84.30.20]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for relay in relays(site):
            if relay.attachment.device in relay.servers:
                network = relay.network
                yield self.finding(
                    f"{relay.attachment} relays to {format_address(relay.target)}, its own device",
                    relay.path,
                    Witness(
                        "lost-request",
                        network,
                        relay.target,
                        also="the relay itself",
                    ),
                )
