"""Static hosts: a hand-set address is nobody else's."""

from __future__ import annotations

from collections.abc import Iterator

from reservoir.core.addressing import format_address
from reservoir.core.checks.rule import Rule, Site
from reservoir.core.findings import Finding, Severity, Suggestion, Witness


class StaticLendable(Rule):
    """The address of a machine that is set by hand may be lent to a client.

    Why: Sooner or later a client gets it, and two machines have one address.

    Remedy: Exclude the address, or begin the range after the hand-set addresses.
    """

    severity = Severity.ERROR
    follows = ("networks-overlap", "subnet-has-host-bits")
    failing = """
        networks:
          crew:
            subnet: 10.84.30.0/24
            ranges: [10.84.30.20-10.84.30.99]
            static: [{name: chart-plotter, address: 10.84.30.25}]
    """
    passing = """
        networks:
          crew:
            subnet: 10.84.30.0/24
            ranges: [10.84.30.20-10.84.30.99]
            exclusions: [10.84.30.25]
            static: [{name: chart-plotter, address: 10.84.30.25}]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        lending, hosts = site.lending, site.lending.static
        if not len(hosts):
            return
        vrfs = lending.vrf_numbers[hosts.network]
        place = {name: number for number, name in enumerate(lending.names)}
        order = hosts.address.argsort(kind="stable")
        ordered = hosts.address[order]
        for pool in lending.pools:
            if not pool.lendable:
                continue
            begin = ordered.searchsorted(pool.lendable.first)
            end = ordered.searchsorted(pool.lendable.last, side="right")
            lent = pool.lendable.contains(ordered[begin:end])
            for row in sorted(order[begin:end][lent].tolist()):
                if vrfs[row] != lending.vrf_numbers[place[pool.name]]:
                    continue
                address = format_address(int(hosts.address[row]))
                name = hosts.name[row] or address
                exclusion = (*pool.path, "exclusions", len(pool.network.exclusions))
                yield self.finding(
                    f"{name} has {address} set by hand, and {pool.name} may lend that address",
                    hosts.path(row),
                    Witness("lent", pool.name, int(hosts.address[row]), also=f"{name}'s"),
                    (Suggestion(exclusion, None, address),),
                )
