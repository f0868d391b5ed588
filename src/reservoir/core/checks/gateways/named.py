"""Gateways as clients are offered them: in the subnet, a host address, not in the pool."""

from __future__ import annotations

from collections.abc import Iterator

from reservoir.core.checks.agreement import is_backed
from reservoir.core.checks.remedies import corrected, exclude, range_holding
from reservoir.core.checks.rule import (
    Obstructed,
    Rule,
    Site,
    replaced,
)
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.plan.edits import Edit
from reservoir.core.plan.model import Network, PlanPath
from reservoir.core.values.addresses import format_address
from reservoir.core.values.typos import likely_meant


class GatewayMissing(Obstructed):
    """A network has no gateway.

    Why: Clients get an address but reach nothing beyond their own network. Where the device offers
    its own address instead, the finding is only advice.

    Remedy: Set the router's address in this subnet as the gateway, or `gateway: none` if there is
    meant to be none.
    """

    severity = Severity.ERROR
    rests_on = ("gateway",)
    example = """
          devices: {pier: {dialect: larkspur, interfaces: {deck: {address: 10.84.30.1/24}}}}
          networks:
        -   crew: {subnet: 10.84.30.0/24, served_by: pier, ranges: [10.84.30.20-10.84.30.99]}
        +   crew:
        +     subnet: 10.84.30.0/24
        +     gateway: 10.84.30.1
        +     served_by: pier
        +     ranges: [10.84.30.20-10.84.30.99]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        yield from super().check(site)
        filled_in = {obstacle.network for obstacle in site.obstacles if obstacle.rule == self.name}
        for pools in site.pools.by_network:
            name, network = pools[0].name, pools[0].network
            clients = any(pool.assignable for pool in pools) or len(pools[0].bindings)
            if network.gateway is not None or network.has_no_gateway:
                continue
            if not clients or name in filled_in:
                continue
            router = _only_router(site, network)
            path = ("networks", name, "gateway")
            fits = router is not None and not any(router in pool.assignable for pool in pools)
            yield self.finding(
                f"clients of {name} are offered no gateway",
                path[:2],
                Witness("offered-none", name, option="gateway", because="reaches-nothing"),
                (Edit(path, None, format_address(router)),) if fits and router else (),
                severity=None if site.complete else Severity.WARNING,  # it may be meant so
            )


class GatewayOutsideSubnet(Rule):
    """The gateway is not in the network's subnet.

    Why: Clients get a lease but reach nothing beyond their own network.

    Remedy: Use the router's address in this subnet; often a digit or an octet is wrong.
    """

    severity = Severity.ERROR
    is_certain = True
    rests_on = ("subnet", "gateway")
    example = """
          networks:
        -   crew: {subnet: 10.84.30.0/24, gateway: 10.84.3.1, ranges: [10.84.30.20-10.84.30.99]}
        +   crew: {subnet: 10.84.30.0/24, gateway: 10.84.30.1, ranges: [10.84.30.20-10.84.30.99]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for name, network in site.plan.networks.items():
            gateway, subnet = network.gateway, network.subnet
            if gateway is None or subnet.span.holds(gateway):
                continue
            path: PlanPath = ("networks", name, "gateway")
            meant, shown = _meant_gateway(site, network), format_address(gateway)
            right = corrected(path, shown, None if meant is None else format_address(meant))
            yield self.finding(
                f"the gateway {shown} is not in {subnet.subnet}{right.hint}",
                path,
                Witness.of_gateway(name, gateway, "outside-subnet"),
                right.edits,
                is_certain=meant is not None
                and _may_route(site, network, meant)
                and is_backed(site, name),
            )


def _may_route(site: Site, network: Network, address: int) -> bool:
    """Whether nothing is known to hold an address but a router: it is in two networks or more."""
    held = [a for a in site.pools.topology.attachments(network) if a.address == address]
    return all(
        any(other.interface != a.interface for other in site.topology.attachments_of(a.device))
        for a in held
    )


def _meant_gateway(site: Site, network: Network) -> int | None:
    """The gateway that was meant: one typo away, or else the only interface in the network."""
    assert network.gateway is not None
    return likely_meant(network.gateway, network.subnet) or _only_router(site, network)


def _only_router(site: Site, network: Network) -> int | None:
    """The address of the only interface in the network, if there is just one."""
    attached = site.pools.topology.attachments(network)
    if len(attached) != 1 or not network.subnet.hosts.holds(attached[0].address):
        return None
    return attached[0].address


class GatewayEdgeAddress(Rule):
    """The gateway is the subnet's network or broadcast address.

    Why: No router can have that address; clients get a lease but reach nothing beyond their
    network.

    Remedy: Use the router's address, usually the first or the last host address.
    """

    severity = Severity.ERROR
    is_certain = True
    example = """
          networks:
        -   crew: {subnet: 10.84.30.0/24, gateway: 10.84.30.255, ranges: [10.84.30.20-10.84.30.99]}
        +   crew: {subnet: 10.84.30.0/24, gateway: 10.84.30.254, ranges: [10.84.30.20-10.84.30.99]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for name, network in site.plan.networks.items():
            gateway, subnet = network.gateway, network.subnet
            if gateway is None or not subnet.is_edge(gateway):
                continue
            kind = subnet.edge_word(gateway)
            path: PlanPath = ("networks", name, "gateway")
            router = _only_router(site, network)
            meant = None if router is None else format_address(router)
            yield self.finding(
                f"the gateway {format_address(gateway)} is the {kind} address of {subnet.subnet}",
                path,
                Witness.of_gateway(name, gateway, f"{kind}-address"),
                replaced(path, format_address(gateway), meant),
            )


class GatewayInPool(Rule):
    """The gateway's address is in the pool.

    Why: The client that gets it answers in place of the router, and the whole network is cut off
    until somebody finds it. Where the server has the address itself and never assigns its own, it
    is advice.

    Remedy: Start the range after the gateway, or exclude the gateway.
    """

    severity = Severity.ERROR
    rests_on = ("exclusion",)
    rests_here = ("range",)
    follows = ("gateway-unattended",)
    example = """
          networks:
        -   crew: {subnet: 10.84.30.0/24, gateway: 10.84.30.1, ranges: [10.84.30.1-10.84.30.99]}
        +   crew: {subnet: 10.84.30.0/24, gateway: 10.84.30.1, ranges: [10.84.30.2-10.84.30.99]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for pool in site.pools:
            gateway = pool.network.gateway
            if pool.named == "all" or gateway is None or gateway not in pool.assignable:
                continue  # `all` leaves the gateway out
            path, span = range_holding(gateway, pool)
            if gateway in site.never_assigned(pool):
                yield self.finding(
                    f"the gateway {format_address(gateway)} is in the range {span}; {pool.server} "
                    "leaves it out, since it is its own address, but another device wouldn't",
                    path,
                    severity=Severity.ADVICE,
                )
                continue
            yield self.finding(
                f"the gateway {format_address(gateway)} is in the pool (range {span})",
                path,
                Witness("assigned", pool.name, gateway, also="gateway", because="gateway"),
                exclude(gateway, pool),
            )
