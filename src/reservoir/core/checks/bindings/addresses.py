"""Bindings: one client, one address, in its own network."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from reservoir.core.checks.rule import SUBNET_WRONG, Obstructed, Rule, Site, replaced
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.values.addresses import format_address
from reservoir.core.values.typos import likely_meant


class BindingOutsideSubnet(Obstructed):
    """A binding's address is not in its network's subnet.

    Why: The client asks from its network, the server finds no binding there, and the client gets
    another address or none.

    Remedy: Correct the address, or move the binding to the network that it belongs to.
    """

    severity = Severity.ERROR
    follows = SUBNET_WRONG
    rests_on = ("subnet", "pool", "address", "interface")
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
        yield from super().check(site)
        lending, table = site.lending, site.lending.bindings
        if not len(table):
            return
        for row in np.flatnonzero(lending.outside_subnet(table)).tolist():
            address = int(table.address[row])
            subnet = lending.networks[table.network[row]].subnet
            name = lending.names[table.network[row]]
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


class BindingEdgeAddress(Rule):
    """A client is bound to the subnet's network or broadcast address.

    Why: No machine can work with such an address, and most devices refuse the binding.

    Remedy: Give the client a host address.
    """

    severity = Severity.ERROR
    failing = """
        networks:
          crew:
            subnet: 10.84.30.0/24
            bindings: [{name: printer, mac: 00:00:5e:00:53:01, address: 10.84.30.255}]
    """
    passing = """
        networks:
          crew:
            subnet: 10.84.30.0/24
            bindings: [{name: printer, mac: 00:00:5e:00:53:01, address: 10.84.30.254}]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        lending, table = site.lending, site.lending.bindings
        if not len(table):
            return
        for row in np.flatnonzero(lending.on_edge(table)).tolist():
            subnet = lending.networks[table.network[row]].subnet
            address = int(table.address[row])
            kind = subnet.edge_word(address)
            shown = format_address(address)
            yield self.finding(
                f"{table.label(row)} is bound to {shown}, the {kind} address of {subnet.subnet}",
                (*table.path(row), "address"),
                Witness(
                    "bound",
                    lending.names[table.network[row]],
                    address,
                    client=table.label(row),
                    also=f"its network's {kind} address",
                ),
            )


class BindingOnStatic(Rule):
    """A client is bound to an address that another machine has set by hand.

    Why: Two machines have one address and disturb each other. Where both go by one name, it is
    one machine that stands in two lists: nothing more than advice.

    Remedy: Give the client another address, or take the machine out of one of the lists.
    """

    severity = Severity.ERROR
    failing = """
        networks:
          crew:
            subnet: 10.84.30.0/24
            bindings: [{name: printer, mac: 00:00:5e:00:53:01, address: 10.84.30.9}]
            static: [{name: chart-plotter, address: 10.84.30.9}]
    """
    passing = """
        networks:
          crew:
            subnet: 10.84.30.0/24
            bindings: [{name: printer, mac: 00:00:5e:00:53:01, address: 10.84.30.9}]
            static: [{name: chart-plotter, address: 10.84.30.10}]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        lending, table, static = site.lending, site.lending.bindings, site.lending.static
        if not len(table) or not len(static):
            return
        found = lending.bindings_by_address.first_at(
            lending.vrf_numbers[static.network], static.address
        )
        for host in np.flatnonzero(found >= 0).tolist():
            row = int(found[host])
            address = int(table.address[row])
            bound, name = table.label(row), static.name[host] or "a static host"
            same = table.name[row] == static.name[host] != ""
            told = f"{bound} is bound to {format_address(address)}"
            yield self.finding(
                f"{told}, which it also has set by hand: one of the two is enough"
                if same
                else f"{told}, which {name} has set by hand",
                (*table.path(row), "address"),
                Witness(
                    "bound-twice",
                    lending.names[table.network[row]],
                    address,
                    client=bound,
                    also=name,
                ),
                severity=Severity.ADVICE if same else None,
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
        for group in lending.bindings_by_address.repeated():
            first = int(group[0])
            address = format_address(int(table.address[first]))
            for row in group[1:].tolist():
                same = table.client[first] == table.client[row]
                label = table.label(row)
                one, other = (label, label) if same else table.labels(first, row)
                yield self.finding(
                    f"{address} is bound twice to {label}"
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
