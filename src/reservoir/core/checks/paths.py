"""Paths: a client's request must arrive at a server."""

from __future__ import annotations

from collections.abc import Iterator

from reservoir.core.addressing import format_address
from reservoir.core.checks.rule import Rule, Site
from reservoir.core.findings import Finding, Severity, Suggestion, Witness
from reservoir.core.plan import Network, PlanPath


class NetworkUnserved(Rule):
    """A network has addresses to lend, and no server.

    Why: Its clients ask, and nobody answers.

    Remedy: Name the device that lends to it in ``served_by``.
    """

    severity = Severity.ERROR
    failing = """
        networks:
          crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20-10.84.30.99]}
    """
    passing = """
        devices: {pier: {interfaces: {deck: {address: 10.84.30.1/24}}}}
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: pier, ranges: [10.84.30.20-10.84.30.99]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for pool in site.lending.pools:
            network = pool.network
            wanted = network.ranges or network.demand or len(pool.bindings)
            if pool.server is None and wanted:
                attached = site.lending.topology.attachments(network)
                servers = {attachment.device for attachment in attached}
                path = (*pool.path, "served_by")
                yield self.finding(
                    f"no device lends to {pool.name}: it has no served_by",
                    pool.path,
                    Witness("unanswered", pool.name),
                    (Suggestion(path, None, servers.pop()),) if len(servers) == 1 else (),
                )


class ServerNotReached(Rule):
    """A network's server neither stands in the network nor is relayed to from there.

    Why: The clients' broadcasts never arrive at it, and they get no address.

    Remedy: Give the server an interface in the subnet, or relay to one of its addresses from an
    interface in the subnet.
    """

    severity = Severity.ERROR
    follows = ("subnet-has-host-bits",)
    failing = """
        devices: {pier: {interfaces: {deck: {address: 10.84.31.1/24}}}}
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: pier, ranges: [10.84.30.20-10.84.30.99]}
    """
    passing = """
        devices:
          pier: {interfaces: {deck: {address: 10.84.30.1/24, relay_to: [10.84.0.10]}}}
          depot: {interfaces: {lan: {address: 10.84.0.10/24}}}
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: depot, ranges: [10.84.30.20-10.84.30.99]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for pool in site.lending.pools:
            if pool.server and site.lending.topology.reach(pool.server, pool.network) is None:
                path: PlanPath = (*pool.path, "served_by", pool.service, "device")
                yield self.finding(
                    f"{pool.server} is named to serve {pool.name} and has no interface in "
                    f"{pool.network.subnet.subnet}; {_relays(site, pool.network)}",
                    path,
                    Witness("unanswered", pool.name),
                )


def _relays(site: Site, network: Network) -> str:
    """What the interfaces in the network relay to instead."""
    attached = site.lending.topology.attachments(network)
    if not attached:
        return "no other device stands there to relay to it"
    interfaces = [
        (a, site.plan.devices[a.device].interfaces[a.interface].relay_to) for a in attached
    ]
    relaying = [
        f"{a} relays to {', '.join(map(format_address, targets))}"
        for a, targets in interfaces
        if targets
    ]
    return "; ".join(relaying) or f"{attached[0]} stands there and relays to nobody"
