"""Bindings: one client, one address, in its own network."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from reservoir.core.addressing import format_address
from reservoir.core.checks.ranges import replaced
from reservoir.core.checks.rule import Rule, Site
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.hosts import repeated
from reservoir.core.typos import likely_meant


class BindingOutsideSubnet(Rule):
    """A binding's address is not in its network's subnet.

    Why: The client asks from its network, the server finds no binding there, and the client gets
    another address or none.

    Remedy: Correct the address, or move the binding to the network that it belongs to.
    """

    severity = Severity.ERROR
    follows = ("subnet-has-host-bits",)
    failing = """
        networks:
          crew:
            subnet: 10.84.30.0/24
            bindings: [{name: printer, mac: 00:00:5e:00:53:01, address: 10.84.31.9}]
    """
    passing = """
        networks:
          crew:
            subnet: 10.84.30.0/24
            bindings: [{name: printer, mac: 00:00:5e:00:53:01, address: 10.84.30.9}]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        lending, table = site.lending, site.lending.bindings
        if not len(table):
            return
        subnets = [network.subnet for network in lending.networks]
        masks = np.array([subnet.mask for subnet in subnets], dtype=np.int64)
        bases = np.array([subnet.network for subnet in subnets], dtype=np.int64)
        outside = (table.address & masks[table.network]) != bases[table.network]
        for row in np.flatnonzero(outside).tolist():
            address = int(table.address[row])
            subnet, name = subnets[table.network[row]], lending.names[table.network[row]]
            meant = likely_meant(address, subnet)
            if meant is not None and (table.address == meant).any():
                meant = None  # somebody else has it already
            shown = None if meant is None else format_address(meant)
            yield self.finding(
                f"{table.label(row)} is bound to {format_address(address)}, "
                f"which is not in {subnet.subnet}" + (f"; {shown} would be" if shown else ""),
                (*table.path(row), "address"),
                Witness("misplaced", name, address, client=table.label(row)),
                replaced((*table.path(row), "address"), format_address(address), shown),
            )


class BindingAddressTwice(Rule):
    """One address is bound to two clients.

    Why: The device refuses the second, or both get the same address and disturb each other.

    Remedy: Give one of them another address.
    """

    severity = Severity.ERROR
    failing = """
        networks:
          crew:
            subnet: 10.84.30.0/24
            bindings:
              - {name: printer, mac: 00:00:5e:00:53:01, address: 10.84.30.9}
              - {name: scanner, mac: 00:00:5e:00:53:02, address: 10.84.30.9}
    """
    passing = """
        networks:
          crew:
            subnet: 10.84.30.0/24
            bindings:
              - {name: printer, mac: 00:00:5e:00:53:01, address: 10.84.30.9}
              - {name: scanner, mac: 00:00:5e:00:53:02, address: 10.84.30.10}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        lending, table = site.lending, site.lending.bindings
        if len(table) < 2:
            return
        for group in repeated(lending.vrf_numbers[table.network], table.address):
            first = int(group[0])
            address = format_address(int(table.address[first]))
            for row in group[1:].tolist():
                one, other = table.label(first), table.label(row)
                same = table.client[first] == table.client[row]
                yield self.finding(
                    f"{address} is bound twice to {other}"
                    if same
                    else f"{address} is bound to {one} and to {other}",
                    (*table.path(row), "address"),
                    Witness(
                        "bound-twice",
                        lending.names[table.network[row]],
                        int(table.address[row]),
                        client=one,
                        also=other,
                    ),
                )
