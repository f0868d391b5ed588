"""Static hosts: each with a host address of its own network."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from reservoir.core.checks.agreement import is_lone_typo
from reservoir.core.checks.remedies import corrected, free_address
from reservoir.core.checks.rule import Rule, Site
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.values.addresses import format_address
from reservoir.core.values.typos import likely_meant

NAMELESS = "an unnamed static host"
"""What people call a static host that has no name."""


class StaticOutsideSubnet(Rule):
    """A static host's address is not in its network's subnet.

    Why: If the address is mistyped, the host's real address isn't excluded, and sooner or later a
    client gets it too. If it is correct, the host can't communicate in that network.

    Remedy: Correct the address, or list the host in the network that it is in.
    """

    severity = Severity.WARNING
    is_certain = True
    rests_on = ("subnet",)
    example = """
          networks:
            crew:
              subnet: 10.84.30.0/24
        -     static: [{name: chart-plotter, address: 10.84.3.25}]
        +     static: [{name: chart-plotter, address: 10.84.30.25}]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        pools, table = site.pools, site.pools.static
        if not len(table):
            return
        for row in np.flatnonzero(pools.outside_subnet(table)).tolist():
            address, network = int(table.address[row]), pools.networks[table.network[row]]
            shown, name = format_address(address), pools.names[table.network[row]]
            who, path = table.name[row] or NAMELESS, (*table.path(row), "address")
            meant = likely_meant(address, network.subnet)
            free = free_address(meant, pools, pools.static_by_address, network.vrf)
            right = corrected(path, shown, free)
            yield self.finding(
                f"{who} has the static address {shown}, "
                f"which is not in {network.subnet.subnet}{right.hint}",
                path,
                Witness("has", name, address, name=who, because="outside-network"),
                right.edits,
                is_certain=is_lone_typo(site, name, address, table),
            )


class StaticEdgeAddress(Rule):
    """A static host's address is its subnet's network or broadcast address.

    Why: No host can use it, so the host has another address, which may be in the pool.

    Remedy: Write the address that the host really has.
    """

    severity = Severity.WARNING
    example = """
          networks:
            crew:
              subnet: 10.84.30.0/24
        -     static: [{name: chart-plotter, address: 10.84.30.255}]
        +     static: [{name: chart-plotter, address: 10.84.30.254}]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        pools, table = site.pools, site.pools.static
        if not len(table):
            return
        for row in np.flatnonzero(pools.on_edge(table)).tolist():
            name = pools.names[table.network[row]]
            subnet = pools.networks[table.network[row]].subnet
            address = int(table.address[row])
            shown, kind = format_address(address), subnet.edge_word(address)
            who = table.name[row] or NAMELESS
            yield self.finding(
                f"{who} has the static address {shown}, the {kind} address of {subnet.subnet}",
                (*table.path(row), "address"),
                Witness("has", name, address, name=who, because=f"{kind}-address"),
            )
