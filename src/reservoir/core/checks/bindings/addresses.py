"""Bindings: one client, one address, in the client's own network."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from reservoir.core.checks.agreement import is_lone_typo
from reservoir.core.checks.remedies import corrected, free_address
from reservoir.core.checks.rule import Obstructed, Rule, Site
from reservoir.core.checks.statics.placed import NAMELESS
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.values.addresses import format_address
from reservoir.core.values.typos import likely_meant


class BindingOutsideSubnet(Obstructed):
    """A binding's address is not in its network's subnet.

    Why: The server finds no binding in the client's network, so the client gets another address or
    none.

    Remedy: Correct the address, or move the binding to the right network.
    """

    severity = Severity.ERROR
    is_certain = True
    rests_on = ("subnet", "pool", "address", "interface")
    example = """
          networks:
            crew:
              subnet: 10.84.30.0/24
        -     bindings: [{name: printer, mac: 00:00:5e:00:53:01, address: 10.84.31.9}]
        +     bindings: [{name: printer, mac: 00:00:5e:00:53:01, address: 10.84.30.9}]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        yield from super().check(site)
        pools, table = site.pools, site.pools.bindings
        if not len(table):
            return
        for row in np.flatnonzero(pools.outside_subnet(table)).tolist():
            address, network = int(table.address[row]), pools.networks[table.network[row]]
            shown, path = format_address(address), (*table.path(row), "address")
            meant = likely_meant(address, network.subnet)
            free = free_address(meant, pools, pools.bindings_by_address, network.vrf)
            right, name = corrected(path, shown, free), pools.names[table.network[row]]
            yield self.finding(
                f"{table.label(row)} is bound to {shown}, "
                f"which is not in {network.subnet.subnet}{right.hint}",
                path,
                Witness("bound", name, address, **table.who(row), because="outside-subnet"),
                right.edits,
                is_certain=is_lone_typo(site, name, address, table),
            )


class BindingEdgeAddress(Rule):
    """A binding's address is the subnet's network or broadcast address.

    Why: No host can use such an address, and most devices refuse the binding.

    Remedy: Give the client a host address.
    """

    severity = Severity.ERROR
    example = """
          networks:
            crew:
              subnet: 10.84.30.0/24
        -     bindings: [{name: printer, mac: 00:00:5e:00:53:01, address: 10.84.30.255}]
        +     bindings: [{name: printer, mac: 00:00:5e:00:53:01, address: 10.84.30.254}]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        pools, table = site.pools, site.pools.bindings
        if not len(table):
            return
        for row in np.flatnonzero(pools.on_edge(table)).tolist():
            subnet = pools.networks[table.network[row]].subnet
            address = int(table.address[row])
            kind = subnet.edge_word(address)
            shown = format_address(address)
            yield self.finding(
                f"{table.label(row)} is bound to {shown}, the {kind} address of {subnet.subnet}",
                (*table.path(row), "address"),
                Witness(
                    "bound",
                    pools.names[table.network[row]],
                    address,
                    **table.who(row),
                    because=f"{kind}-address",
                ),
            )


class BindingOnStatic(Rule):
    """A client is bound to a static host's address.

    Why: Two machines get the same address and conflict. If both have the same name, it is one
    machine listed twice, which is only advice.

    Remedy: Bind the client to another address, or remove the machine from one of the lists.
    """

    severity = Severity.ERROR
    example = """
          networks:
            crew:
              subnet: 10.84.30.0/24
              bindings: [{name: printer, mac: 00:00:5e:00:53:01, address: 10.84.30.9}]
        -     static: [{name: chart-plotter, address: 10.84.30.9}]
        +     static: [{name: chart-plotter, address: 10.84.30.10}]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        pools, table, static = site.pools, site.pools.bindings, site.pools.static
        if not len(table) or not len(static):
            return
        found = pools.bindings_by_address.first_at(
            pools.vrf_numbers[static.network], static.address
        )
        for host in np.flatnonzero(found >= 0).tolist():
            row = int(found[host])
            address = int(table.address[row])
            if pools.owner(host) == table.name[row] != static.name[host]:
                continue  # another name of the client, as the plan says
            bound, name = table.label(row), static.name[host] or NAMELESS
            same = table.name[row] == static.name[host] != ""
            binding = f"{bound} is bound to {format_address(address)}"
            yield self.finding(
                f"{binding} and listed there as a static host too; one of the two is enough"
                if same
                else f"{binding}, the address of {name}",
                (*table.path(row), "address"),
                Witness(
                    "bound",
                    pools.names[table.network[row]],
                    address,
                    **table.who(row),
                    also=f"static host {name}",
                    because="taken",
                ),
                severity=Severity.ADVICE if same else None,
            )


class BindingAddressTwice(Rule):
    """One address is bound to two clients.

    Why: The device refuses the second binding, or both clients get the same address and conflict.

    Remedy: Bind one of them to another address.
    """

    severity = Severity.ERROR
    example = """
          networks:
            crew:
              subnet: 10.84.30.0/24
              bindings:
                - {name: printer, mac: 00:00:5e:00:53:01, address: 10.84.30.9}
        -       - {name: scanner, mac: 00:00:5e:00:53:02, address: 10.84.30.9}
        +       - {name: scanner, mac: 00:00:5e:00:53:02, address: 10.84.30.10}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        pools, table = site.pools, site.pools.bindings
        if len(table) < 2:
            return
        for group in pools.bindings_by_address.repeated():
            first = int(group[0])
            address = format_address(int(table.address[first]))
            for row in group[1:].tolist():
                same = table.client[first] == table.client[row]
                label = table.label(row)
                one, other = (label, label) if same else table.labels(first, row)
                yield self.finding(
                    f"{address} is bound to {label} twice"
                    if same
                    else f"{address} is bound to {one} and to {other}",
                    (*table.path(row), "address"),
                    Witness(
                        "bound",
                        pools.names[table.network[row]],
                        int(table.address[row]),
                        client=table.client_at(row),
                        name=other,
                        also=one,
                        because="bound-too",
                    ),
                )
