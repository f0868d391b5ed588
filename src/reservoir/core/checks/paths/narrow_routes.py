"""Routes that lead to a part of a network only."""

from __future__ import annotations

from collections.abc import Iterator

from reservoir.core.checks.agreement import networks_holding
from reservoir.core.checks.rule import Rule, Site, replaced
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.plan.model import PlanPath, Route
from reservoir.core.values.addresses import format_address


class RouteTooNarrow(Rule):
    """A route leads to a part of a network only, and the device has no other for the rest.

    Why: What is sent to the clients in the rest of the network is dropped: answers of servers, and
    those of a DHCP server when they renew.

    Remedy: Give the route the network's prefix length.
    """

    severity = Severity.WARNING
    rests_on = ("subnet", "networks")
    example = """
          devices:
            depot:
              interfaces: {lan: {address: 10.84.0.10/24}}
        -     routes: [{to: 10.84.30.0/25, via: 10.84.0.1}]
        +     routes: [{to: 10.84.30.0/24, via: 10.84.0.1}]
            pier:
              interfaces:
                uplink: {address: 10.84.0.1/24}
                deck: {address: 10.84.30.1/24, relay_to: [10.84.0.10]}
          networks:
            crew:
              subnet: 10.84.30.0/24
              gateway: 10.84.30.1
              served_by: depot
              ranges: [10.84.30.20-10.84.30.250]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for device, described in site.plan.devices.items():
            if not described.states_routes:
                continue
            told: set[str] = set()
            for position, route in enumerate(described.routes):
                for name in networks_holding(site, route.to):
                    if name not in told:
                        found = list(self._rest(site, device, position, route, name))
                        told |= {name} if found else set()
                        yield from found

    def _rest(
        self, site: Site, device: str, position: int, route: Route, name: str
    ) -> Iterator[Finding]:
        """The clients of a network to whom nothing leads, though a route leads to others."""
        network = site.plan.networks[name]
        there = any(a.device == device for a in site.topology.attachments(network))
        if there or route.to.bits <= network.subnet.bits:
            return
        clients = site.pools.assignable_in(site.pools.place_of(name))
        rest = clients - site.topology.known_ways(device)
        if rest:
            last = list(rest.spans())[-1].last
            path: PlanPath = ("devices", device, "routes", position, "to")
            yield self.finding(
                f"{device} has a route to {route.to}, but none to {format_address(last)} and "
                f"others of {name}, which is {network.subnet.subnet}",
                path,
                Witness("dropped", name, last, also=device),
                replaced(path, route.to, network.subnet.subnet),
            )
