"""Bindings of addresses that devices and servers have."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from reservoir.core.checks.rule import Rule, Site
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.in_use import addresses_in_use
from reservoir.core.values.addresses import format_address


class InfrastructureBound(Rule):
    """A client is bound to the address of a device's interface, or of a server that the plan uses.

    Why: Client and device conflict; requests to the server reach the client instead. A DNS, time
    or boot server that gets its own address by a binding is only a warning.

    Remedy: Bind the client to another address. If the client is that server, list the server as a
    static host whose `owner` is the client.
    """

    severity = Severity.ERROR
    rests_on = ("networks", "address")
    follows_here = ("binding-outside-subnet", "binding-edge-address")
    example = """
          devices: {pier: {interfaces: {deck: {address: 10.84.30.2/24}}}}
          networks:
            crew:
              subnet: 10.84.30.0/24
              served_by: pier
        -     bindings: [{name: printer, mac: 00:00:5e:00:53:01, address: 10.84.30.2}]
        +     bindings: [{name: printer, mac: 00:00:5e:00:53:01, address: 10.84.30.9}]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        if not len(site.pools.bindings):
            return
        vrf_of = site.pools.vrf_of
        held = {
            (vrf_of[vrf], attachment.address): f"the address of {attachment}"
            for attachment in (*site.topology.addressed, *site.topology.virtual)
            if (vrf := site.topology.interface(attachment).vrf) in vrf_of
        }
        asked = {
            (use.vrf, use.address): use for use in reversed(list(addresses_in_use(site.pools)))
        }
        gateways = {
            (vrf_of[network.vrf], network.gateway) for network in site.plan.networks.values()
        }
        vrfs, addresses = np.array(sorted({*held, *asked} - gateways), np.int64).reshape(-1, 2).T
        rows = site.pools.bindings_by_address.first_at(vrfs, addresses)
        for place in np.flatnonzero(rows >= 0).tolist():
            key, row = (int(vrfs[place]), int(addresses[place])), int(rows[place])
            if site.pools.static_by_address.at(*key):
                continue  # binding-on-static reports it, or the plan says whose name it is
            use = asked.get(key)
            role = held.get(key) or (use.role if use else "")
            severe = key in held or (use is not None and use.is_certainly_another)
            yield self._bound(site, row, key[1], role, None if severe else Severity.WARNING)

    def _bound(
        self, site: Site, row: int, address: int, role: str, severity: Severity | None
    ) -> Finding:
        table = site.pools.bindings
        return self.finding(
            f"{table.label(row)} is bound to {format_address(address)}, {role}",
            (*table.path(row), "address"),
            Witness(
                "bound",
                site.pools.names[int(table.network[row])],
                address,
                **table.who(row),
                also=role,
                because="used",
            ),
            severity=severity,
        )
