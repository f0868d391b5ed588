"""Static hosts: each with a host address of its own network."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from reservoir.core.checks.rule import SUBNET_WRONG, Rule, Site, replaced
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.values.addresses import format_address
from reservoir.core.values.typos import likely_meant

NAMELESS = "a static host without name"


class StaticOutsideSubnet(Rule):
    """The address of a machine that is set by hand is not in the subnet of its network.

    Why: The machine's real address is not known, so it is not kept out of what is lent: sooner or
    later a client has it too. If the address is right, the machine reaches nobody there.

    Remedy: Correct the address, or list the machine in the network that it stands in.
    """

    severity = Severity.WARNING
    follows = SUBNET_WRONG
    failing = """
        networks:
          crew:
            subnet: 10.84.30.0/24
            static: [{name: chart-plotter, address: 10.84.3.25}]
    """
    passing = """
        networks:
          crew:
            subnet: 10.84.30.0/24
            static: [{name: chart-plotter, address: 10.84.30.25}]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        lending, table = site.lending, site.lending.static
        if not len(table):
            return
        for row in np.flatnonzero(lending.outside_subnet(table)).tolist():
            address, network = int(table.address[row]), lending.networks[table.network[row]]
            shown, name = format_address(address), lending.names[table.network[row]]
            meant = likely_meant(address, network.subnet)
            if meant is not None and lending.static_by_address.at(
                lending.vrf_of[network.vrf], meant
            ):
                meant = None  # somebody else has it already
            right = None if meant is None else format_address(meant)
            who, path = table.name[row] or NAMELESS, (*table.path(row), "address")
            yield self.finding(
                f"{who} has {shown} set by hand, which is not in {network.subnet.subnet}"
                + (f"; {right} would be" if right else ""),
                path,
                Witness("has", name, address, client=who, also=f"which is not in {name}"),
                replaced(path, shown, right),
            )


class StaticEdgeAddress(Rule):
    """A machine has its subnet's network or broadcast address set by hand.

    Why: No machine works with it; so the machine has another address, which may be lent.

    Remedy: Write the address that the machine has.
    """

    severity = Severity.WARNING
    failing = """
        networks:
          crew:
            subnet: 10.84.30.0/24
            static: [{name: chart-plotter, address: 10.84.30.255}]
    """
    passing = """
        networks:
          crew:
            subnet: 10.84.30.0/24
            static: [{name: chart-plotter, address: 10.84.30.254}]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        lending, table = site.lending, site.lending.static
        if not len(table):
            return
        for row in np.flatnonzero(lending.on_edge(table)).tolist():
            name = lending.names[table.network[row]]
            subnet = lending.networks[table.network[row]].subnet
            address = int(table.address[row])
            shown, kind = format_address(address), subnet.edge_word(address)
            who = table.name[row] or NAMELESS
            yield self.finding(
                f"{who} has {shown} set by hand, the {kind} address of {subnet.subnet}",
                (*table.path(row), "address"),
                Witness("has", name, address, client=who, also=f"the {kind} address of {name}"),
            )
