"""Addresses in the pool that static hosts or servers have."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from reservoir.core.checks.remedies import exclude, range_holding
from reservoir.core.checks.rule import Rule, Site
from reservoir.core.checks.statics.placed import NAMELESS
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.in_use import addresses_in_use
from reservoir.core.pools import Pool
from reservoir.core.values.addresses import format_address


class StaticInPool(Rule):
    """A static host's address is in the pool.

    Why: Sooner or later a client gets it, and two machines have the same address.

    Remedy: Exclude the address, or start the range after the static addresses.
    """

    severity = Severity.ERROR
    rests_on = ("networks", "exclusion", "subnet")
    rests_here = ("range",)
    example = """
          networks:
            crew:
              subnet: 10.84.30.0/24
              ranges: [10.84.30.20-10.84.30.99]
        +     exclusions: [10.84.30.25]
              static: [{name: chart-plotter, address: 10.84.30.25}]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        pools, hosts = site.pools, site.pools.static
        if not len(hosts):
            return
        vrfs = pools.vrf_numbers[hosts.network]
        for pool, inside in pools.containing(vrfs, hosts.address):
            if pool.named == "all":
                continue  # `all` leaves static hosts out
            for row in inside.tolist():
                number = int(hosts.address[row])
                address = format_address(number)
                name = hosts.name[row] or NAMELESS
                if number == pool.network.gateway:
                    continue  # gateway-in-pool reports it
                yield self.finding(
                    f"{name} has the static address {address}, which is in the pool of {pool.name}",
                    hosts.path(row),
                    Witness(
                        "assigned", pool.name, number, also=f"static host {name}", because="taken"
                    ),
                    exclude(number, pool),
                    rests_at=range_holding(number, pool)[0],
                    concerns=tuple({pools.names[int(hosts.network[row])]} - {pool.name}),
                )


class InfrastructureInPool(Rule):
    """The address of a server or next hop that the plan uses is in the pool.

    Why: Requests to the DNS, time, boot or DHCP server at that address reach a client instead.

    Remedy: Exclude the address, or shorten the range; list the server as a static host.
    """

    severity = Severity.ERROR
    rests_on = ("exclusion", "subnet")
    rests_here = ("range",)
    example = """
          networks:
            crew:
              subnet: 10.84.30.0/24
              dns: [10.84.30.53]
        -     ranges: [10.84.30.20-10.84.30.99]
        +     ranges: [10.84.30.60-10.84.30.99]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        uses = reversed(list(addresses_in_use(site.pools)))
        used = {(use.vrf, use.address): use.role for use in uses}
        vrfs, addresses = np.array(sorted(used), dtype=np.int64).reshape(-1, 2).T
        for pool, inside in site.pools.containing(vrfs, addresses):
            for place in inside.tolist():
                address = int(addresses[place])
                if address == pool.network.gateway or self._reported_elsewhere(site, pool, address):
                    continue
                path, span = range_holding(address, pool)
                shown, role = format_address(address), used[int(vrfs[place]), address]
                yield self.finding(
                    f"{shown} is {role}, but it is in the pool of {pool.name}"
                    + (f" (range {span})" if span else ""),
                    path,
                    Witness("assigned", pool.name, address, also=role, because="taken"),
                    exclude(address, pool),
                )

    def _reported_elsewhere(self, site: Site, pool: Pool, address: int) -> bool:
        """Whether the rules about interfaces and static hosts report the address."""
        pools = site.pools
        if site.topology.answering(address, pool.network.vrf):
            return True
        vrf = pools.vrf_of[pool.network.vrf]
        return bool(len(pools.static) and pools.static_by_address.at(vrf, address))
