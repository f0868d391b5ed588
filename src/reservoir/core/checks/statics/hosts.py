"""Addresses that somebody else has: hand-set ones, and those of servers."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

import numpy as np

from reservoir.core.checks.remedies import keep_out, range_holding
from reservoir.core.checks.rule import EXCLUSION_WRONG, SUBNET_WRONG, Rule, Site
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.pools import Pool
from reservoir.core.values.addresses import format_address


class StaticLendable(Rule):
    """The address of a machine that is set by hand may be lent to a client.

    Why: Sooner or later a client gets it, and two machines have one address.

    Remedy: Exclude the address, or begin the range after the hand-set addresses.
    """

    severity = Severity.ERROR
    follows = (
        "networks-overlap",
        *SUBNET_WRONG,
        "range-reversed",
        "exclusion-outside-subnet",
        "range-outside-subnet",
    )
    rests_on = ("exclusion",)
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
        for pool, lent in lending.lent_among(vrfs, hosts.address):
            if pool.named == "all":
                continue  # all never means a static host
            for row in lent.tolist():
                number = int(hosts.address[row])
                address = format_address(number)
                name = hosts.name[row] or address
                if number == pool.network.gateway:
                    continue  # the rule about gateways says so
                yield self.finding(
                    f"{name} has {address} set by hand, and {pool.name} may lend that address",
                    hosts.path(row),
                    Witness("lent", pool.name, number, also=f"{name}'s"),
                    keep_out(number, pool),
                    concerns=tuple({lending.names[int(hosts.network[row])]} - {pool.name}),
                )


class InfrastructureLendable(Rule):
    """The address of a server that clients or devices are told of may be lent to a client.

    Why: Whoever asks the DNS, time, boot or DHCP server at that address asks a client instead.

    Remedy: Exclude the address, or shorten the range; list the server among the static hosts.
    """

    severity = Severity.ERROR
    follows = (*SUBNET_WRONG, *EXCLUSION_WRONG)
    follows_here = ("range-outside-subnet",)
    rests_on = ("exclusion",)
    failing = """
        networks:
          crew:
            subnet: 10.84.30.0/24
            dns: [10.84.30.53]
            ranges: [10.84.30.20-10.84.30.99]
    """
    passing = """
        networks:
          crew:
            subnet: 10.84.30.0/24
            dns: [10.84.30.53]
            ranges: [10.84.30.60-10.84.30.99]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        named = {(vrf, address): role for vrf, address, role in reversed(list(_named(site)))}
        vrfs, addresses = np.array(sorted(named), dtype=np.int64).reshape(-1, 2).T
        for pool, lent in site.lending.lent_among(vrfs, addresses):
            for place in lent.tolist():
                address = int(addresses[place])
                if address == pool.network.gateway or self._said_elsewhere(site, pool, address):
                    continue
                path, span = range_holding(address, pool)
                shown, role = format_address(address), named[int(vrfs[place]), address]
                yield self.finding(
                    f"{shown} is {role}, and {pool.name} may lend that address"
                    + (f": it is inside {span}" if span else ""),
                    path,
                    Witness("lent", pool.name, address, also=role),
                    keep_out(address, pool),
                )

    def _said_elsewhere(self, site: Site, pool: Pool, address: int) -> bool:
        """Whether the rules about interfaces and static hosts know the address."""
        lending = site.lending
        if any(a.address == address for a in site.topology.attachments(pool.network)):
            return True
        vrf = lending.vrf_of[pool.network.vrf]
        return bool(len(lending.static) and lending.static_by_address.at(vrf, address))


def _named(site: Site) -> Iterator[tuple[int, int, str]]:
    """Addresses that clients or devices are told of: the VRF's number, the address, what it is."""
    lending = site.lending
    for name, vrf, told in zip(
        lending.names, lending.vrf_numbers.tolist(), lending.told, strict=True
    ):
        for address in told.dns:
            yield vrf, address, f"the DNS server of {name}"
        for code, data in told.options.items():
            if code in _SERVERS and len(data) % 4 == 0:
                for at in range(0, len(data), 4):
                    address = int.from_bytes(data[at : at + 4], "big")
                    yield vrf, address, f"the {_SERVERS[code]} of {name}"
    vrf_of = lending.vrf_of  # what is named where the plan has no network can't be lent
    for device_name, device in site.plan.devices.items():
        for interface_name, interface in device.interfaces.items():
            if interface.vrf in vrf_of:
                what = f"the server that {device_name} {interface_name} relays to"
                for address in interface.relay_to:
                    yield vrf_of[interface.vrf], address, what
        for route in device.routes:
            if "" in vrf_of:
                yield vrf_of[""], route.via, f"the next hop of {device_name} to {route.to}"


_SERVERS: Mapping[int, str] = {
    4: "time server",
    7: "log server",
    9: "print server",
    41: "directory server",
    42: "time server",
    44: "name server for file shares",
    69: "mail server",
    70: "mail server",
    72: "web server",
    138: "wireless controller",
    150: "boot server",
}
"""Options that are lists of servers' addresses (RFC 2132, 5417, 5859)."""
