"""DNS servers: present, plausible, and reachable."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Sequence
from functools import cache, partial
from typing import NamedTuple

from reservoir.core.checks.options.written import Whose, values_as_written
from reservoir.core.checks.ranges.space import SPECIAL_USE
from reservoir.core.checks.rule import Obstructed, Rule, Site, replaced
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.plan.model import Network, PlanPath
from reservoir.core.pools import Pool
from reservoir.core.routing import End, Way
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import Prefix, format_address
from reservoir.core.values.options import REGISTRY
from reservoir.core.values.typos import transpositions

CLASSLESS_ROUTES = REGISTRY["classless_routes"]
"""Routes that clients are offered themselves (RFC 3442)."""


class DnsMissing(Obstructed):
    """A network has no DNS server.

    Why: Clients get an address but can't resolve names. Some devices refuse such a pool; where the
    device offers its own DNS servers instead, the finding is only advice.

    Remedy: Set DNS servers in the network or in the defaults, or `dns: []` if there are meant to be
    none.
    """

    severity = Severity.ERROR
    rests_on = ("dns", "resolvers")
    follows_itself = "place"
    example = """
        + defaults: {dns: [10.84.0.53]}
          devices: {pier: {dialect: larkspur, interfaces: {deck: {address: 10.84.30.1/24}}}}
          networks:
            crew:
              subnet: 10.84.30.0/24
              gateway: 10.84.30.1
              served_by: pier
              ranges: [10.84.30.20-10.84.30.99]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        refused = {str(finding.network): finding for finding in super().check(site)}
        unsaid = site.plan.defaults.dns is None
        lacking = [
            pools[0].name
            for pools in site.pools.by_network
            if unsaid
            and not pools[0].offer.dns
            and pools[0].network.dns is None
            and _has_clients(pools)
        ]
        nobody_names = not any(offer.dns for offer in site.pools.offers)
        together = nobody_names and len(lacking) >= MANY
        for name in dict.fromkeys([*refused, *lacking]):
            found = refused.get(name) or self._lacking(site, name)
            if together and found.severity > Severity.ADVICE:
                message = f"{found.message}; no network has one"
                found = found._replace(at=("defaults", "dns"), message=message)
            yield found

    def _lacking(self, site: Site, name: str) -> Finding:
        servers = sorted(site.topology.serving(name))
        behaviours = {server: site.behaviour(server) for server in servers}
        own = [s for s, its in behaviours.items() if its is not None and its.offers_own_resolvers]
        if own:
            return self.finding(
                f"{own[0]} offers clients of {name} the DNS servers that it uses itself, since it "
                "is given none",
                ("networks", name),
                Witness("offered", name, option="DNS server", value="it uses itself"),
                severity=Severity.ADVICE,
            )
        return self.finding(
            f"clients of {name} are offered no DNS server",
            ("networks", name),
            Witness("offered-none", name, option="DNS server", because="resolves-nothing"),
            severity=None if site.complete else Severity.WARNING,  # it may be meant so
        )


MANY = 3
"""If this many networks lack a DNS server, it was forgotten in one place."""


def _has_clients(pools: Sequence[Pool]) -> bool:
    return any(pool.assignable for pool in pools) or len(pools[0].bindings) > 0


class WrittenServer(NamedTuple):
    """A DNS server where it is written."""

    path: PlanPath
    address: int
    network: str
    """A network whose clients are offered it."""
    whose: Whose

    def witness(self, because: str) -> Witness:
        """The case of such a client, and why it goes wrong."""
        return self.whose.witness(Witness.of_dns(self.network, self.address, because))


def dns_servers(site: Site) -> Iterator[WrittenServer]:
    """Each DNS server once where it is written, with a network whose clients are offered it."""
    for written in values_as_written(site, "dns"):
        for position, address in enumerate(written.value):
            path = (*written.path, position)
            yield WrittenServer(path, address, written.network, written.whose)


def why_no_host(site: Site, address: int, vrf: str) -> str | None:
    """Why no server can have an address, if that is so: ``is the network address of crew``."""
    for other in site.topology.networks_at(address, vrf):
        subnet = site.plan.networks[other].subnet
        if subnet.is_edge(address):
            return f"is the {subnet.edge_word(address)} address of {other}"
    for block, use in SPECIAL_USE.items():
        if block.holds(address):
            return f"is reserved for {use}"
    return None


class DnsInvalid(Rule):
    """A DNS server's address can't belong to a server.

    Why: Clients wait for an answer that never comes before they try the next server, if there is
    one.

    Remedy: Correct the address.
    """

    severity = Severity.ERROR
    example = """
          networks:
        -   crew: {subnet: 10.84.30.0/24, dns: [10.84.30.255]}
        +   crew: {subnet: 10.84.30.0/24, dns: [10.84.30.53]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        why = cache(partial(why_no_host, site))  # many networks name the same servers
        for server in dns_servers(site):
            reason = why(server.address, site.plan.networks[server.network].vrf)
            if reason:
                yield self.finding(
                    f"the DNS server {format_address(server.address)} {reason}",
                    server.path,
                    server.witness("not-a-host"),
                )


class DnsDigitsSwapped(Rule):
    """A DNS server's address seems to have two digits swapped.

    Why: It is probably mistyped, and the clients can't resolve names. With the digits swapped back
    it is a server that other networks use; or it would be in a known subnet, which it isn't now
    (only advice).

    Remedy: Correct the address, or accept the finding if the server exists.
    """

    severity = Severity.WARNING
    blames = ("dns",)
    example = """
          networks:
            crew: {subnet: 10.84.30.0/24, gateway: 10.84.30.1, dns: [10.84.0.53]}
            shop: {subnet: 10.84.51.0/24, gateway: 10.84.51.1, dns: [10.84.0.53]}
        -   staff: {subnet: 10.84.50.0/24, gateway: 10.84.50.1, dns: [10.48.0.53]}
        +   staff: {subnet: 10.84.50.0/24, gateway: 10.84.50.1, dns: [10.84.0.53]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        offered = Counter(address for offer in site.pools.offers for address in set(offer.dns))
        near = _known_subnets(site)
        for server in dns_servers(site):
            path, address, name, _ = server
            alone = offered[address] <= 1 and path[0] != "defaults"
            if (not alone and address in near) or site.topology.holders(address):
                continue
            if (site.pools.static.address == address).any():  # last: there may be a million
                continue
            swapped = transpositions(address).difference(site.pools.offer_in(name).dns)
            meant = [other for other in swapped if offered[other] > 1]
            if alone and len(meant) == 1:
                yield self._of_others(server, meant[0], offered[meant[0]])
            elif address not in near:
                hosts = [other for other in swapped if other in near]
                if len(hosts) == 1:
                    yield self._in_no_subnet(server, hosts[0])

    def _of_others(self, server: WrittenServer, meant: int, networks: int) -> Finding:
        shown, others = format_address(server.address), format_address(meant)
        return self.finding(
            f"only {server.network} uses the DNS server {shown}; {networks} networks use {others}",
            server.path,
            server.witness("only-here"),
            replaced(server.path, shown, others),
        )

    def _in_no_subnet(self, server: WrittenServer, meant: int) -> Finding:
        shown = format_address(server.address)
        return self.finding(
            f"the DNS server {shown} is in no known subnet; {format_address(meant)} would be",
            server.path,
            server.witness("unknown-subnet"),
            severity=Severity.ADVICE,
        )


NEAR = 24
"""An address with this many bits in common with a router or server counts as next to it."""


def _known_subnets(site: Site) -> AddressSet:
    """The subnets of networks and interfaces in any VRF, and the surroundings of next hops."""
    interfaces = [site.topology.interface(attachment) for attachment in site.topology.addressed]
    prefixes = [network.subnet for network in site.plan.networks.values()]
    prefixes += [attachment.prefix for attachment in site.topology.addressed]
    hops = {route.via for device in site.plan.devices.values() for route in device.routes}
    hops |= {target for interface in interfaces for target in interface.relay_to}
    return AddressSet([prefix.span for prefix in (*prefixes, *(Prefix(h, NEAR) for h in hops))])


class DnsUnrouted(Rule):
    """The network's router has no way to a DNS server that clients are offered.

    Why: The router drops the clients' queries, unless it learns a route; or an interface on the way
    is disabled. It is more than advice where the plan has the server itself.

    Remedy: Give the router a route, or correct the server's address.
    """

    severity = Severity.ADVICE
    rests_on = ("dns", "route")
    example = """
          devices:
            pier:
              interfaces: {deck: {address: 10.84.30.1/24}, uplink: {address: 10.84.0.2/24}}
              routes: [{to: 10.85.0.0/16, via: 10.84.0.1}]
          networks:
            crew:
              subnet: 10.84.30.0/24
              gateway: 10.84.30.1
        -     dns: [10.48.0.53]
        +     dns: [10.84.0.53]
              served_by: pier
              ranges: [10.84.30.20]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        asking: dict[tuple[str, int], list[str]] = {}
        for pools in site.pools.by_network:
            pool = pools[0]
            for address in pool.offer.dns if site.topology.serving(pool.name) else ():
                for router in self._routers(site, pool.network):
                    if not pool.network.subnet.span.holds(address):
                        asking.setdefault((router, address), []).append(pool.name)
        for (router, address), names in asking.items():
            way = site.routing.way(router, address)
            is_down = way.end is End.DOWN
            if is_down or not site.topology.knows_way(router, address):
                yield self._lost(site, router, address, names, way if is_down else None)

    def _lost(
        self, site: Site, router: str, address: int, names: Sequence[str], down: Way | None
    ) -> Finding:
        """The queries of some networks that their router drops, at the first of them."""
        name, shown = names[0], format_address(address)
        said = f"{router}, the gateway of {name}, has no route to the DNS server {shown}"
        if down is not None:
            said = f"queries of {name} don't reach {shown}: {down.why(address)}"
        there = site.topology.holders(address)
        if down is None and there:
            said += f", which {there[0].device} has"
        vrf = site.pools.vrf_of[site.plan.networks[name].vrf]
        is_known = bool(there) or bool(site.pools.static_by_address.at(vrf, address))
        is_set_here = site.plan.networks[name].dns is not None
        return self.finding(
            said,
            ("networks", name, "dns") if is_set_here else ("defaults", "dns"),
            Witness.of_dns(name, address, "no-route" if down is None else "not-on-link", router),
            # A route may be learned; to what the plan itself has, it would be planned.
            severity=Severity.WARNING if down is not None or is_known else None,
            concerns=tuple(names[1:]),
        )

    def _routers(self, site: Site, network: Network) -> list[str]:
        """The devices that are the network's gateway and list routes; others may learn theirs."""
        return [
            attachment.device
            for attachment in site.topology.answering(network.gateway or 0, network.vrf)
            if site.plan.devices[attachment.device].states_routes
        ]


class DnsUnreachable(Rule):
    """A network without a gateway offers a DNS server outside its subnet.

    Why: Its clients have no way to the server, so they resolve no names.

    Remedy: Offer a DNS server in the subnet, a gateway, or a classless route to the server.
    """

    severity = Severity.WARNING
    rests_on = ("subnet", "dns")
    example = """
          networks:
            crew:
              subnet: 10.84.30.0/24
        -     gateway: none
        +     gateway: 10.84.30.1
              dns: [10.84.0.53]
              ranges: [10.84.30.20-10.84.30.99]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        networks = site.plan.networks.items()
        for (name, network), offer in zip(networks, site.pools.offers, strict=True):
            if not network.has_no_gateway or CLASSLESS_ROUTES.code in offer.options:
                continue
            for address in offer.dns:
                if not network.subnet.span.holds(address):
                    path: PlanPath = ("networks", name, "dns")
                    yield self.finding(
                        f"{name} has no gateway, so its clients can't reach the DNS server "
                        f"{format_address(address)} outside {network.subnet.subnet}",
                        path if network.dns is not None else ("defaults", "dns"),
                        Witness.of_dns(name, address, "not-on-link"),
                    )
