"""Subnets that the network's own addresses speak against."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass
from itertools import chain

import numpy as np

from reservoir.core.address_set import AddressSet
from reservoir.core.addressing import Prefix, Span
from reservoir.core.checks.ranges.within import written_ranges
from reservoir.core.checks.rule import Obstructed, Site, replaced
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.plan import Network
from reservoir.core.topology import Attachment
from reservoir.core.wording import listed


@dataclass(frozen=True)
class Named:
    """What a network names besides its subnet."""

    gateway: int | None
    ranges: list[Span]
    exclusions: list[Span]
    bound: list[int]
    """The rows of its bindings."""

    @property
    def things(self) -> int:
        """How many things these are."""
        return sum((self.gateway is not None, *self._counts.values()))

    @property
    def _counts(self) -> dict[str, int]:
        ranges, exclusions = len(self.ranges), len(self.exclusions)
        return {"range": ranges, "exclusion": exclusions, "binding": len(self.bound)}

    def __str__(self) -> str:
        """In words: ``the gateway, 2 ranges and 1 binding``."""
        words = ["the gateway"] * (self.gateway is not None)
        words += [f"{n:,} {noun}{'s' * (n > 1)}" for noun, n in self._counts.items() if n]
        return listed(words)


class SubnetDiffers(Obstructed):
    """A network's gateway, ranges and bindings lie in another subnet than its own.

    Why: The subnet or its length has a digit wrong, or the network was copied and only its subnet
    changed; clients get no address, or none that works.

    Remedy: Correct the subnet, or else the gateway, the ranges and the bindings.
    """

    severity = Severity.ERROR
    follows = ("subnet-has-host-bits",)
    failing = """
        networks:
          crew:
            subnet: 10.84.3.0/24
            gateway: 10.84.30.1
            ranges: [10.84.30.20-10.84.30.200]
    """
    passing = """
        networks:
          crew:
            subnet: 10.84.30.0/24
            gateway: 10.84.30.1
            ranges: [10.84.30.20-10.84.30.200]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        yield from super().check(site)
        ranges, lending = _ranges_of(site), site.lending
        for index in self._astray(site, ranges):
            name, network = lending.names[index], lending.networks[index]
            named = Named(
                network.gateway,
                ranges.get(name, []),
                _excluded(network),
                lending.bound_rows(index).tolist(),
            )
            ends = _ends(site, named)
            other = _other_subnet(site, network, named, ends)
            other = other or _larger_subnet(site, network, ends)
            if other is None:
                continue
            yield self.finding(
                f"{named} of {name} {'is' if named.things == 1 else 'are'} not all in "
                f"{network.subnet}; {'it is' if named.things == 1 else 'all are'} in {other}"
                + self._whose(site, network, other),
                ("networks", name, "subnet"),
                self._witness(site, name, named),
                replaced(("networks", name, "subnet"), network.subnet, other),
            )

    def _astray(self, site: Site, ranges: Mapping[str, list[Span]]) -> Iterator[int]:
        """The networks that name anything outside their subnet."""
        lending, table = site.lending, site.lending.bindings
        first, last = lending.subnet_spans.T
        outside = (table.address < first[table.network]) | (table.address > last[table.network])
        bound = set(np.unique(table.network[outside]).tolist())
        for index, (name, network) in enumerate(site.plan.networks.items()):
            span = network.subnet.span
            spans = [*ranges.get(name, ()), *_excluded(network)]
            gateway = span.first if network.gateway is None else network.gateway
            if index in bound or not all(map(span.holds, [gateway, *chain(*spans)])):
                yield index

    def _whose(self, site: Site, network: Network, other: Prefix) -> str:
        for attachment in (*site.topology.attachments(network), *_at_gateway(site, network)):
            if other.span.holds(attachment.address):
                return f", as {attachment} is"
        owners = list(site.topology.networks_at(other.network, network.vrf))
        owners = [name for name in owners if site.plan.networks[name] is not network]
        return f", which {owners[0]} has" if owners else ""

    def _witness(self, site: Site, name: str, named: Named) -> Witness:
        """The first thing that is outside."""
        span, table = site.plan.networks[name].subnet.span, site.lending.bindings
        if named.gateway is not None and not span.holds(named.gateway):
            return Witness("misled", name, named.gateway, also="which is not on its network")
        outside = AddressSet(named.ranges) - AddressSet([span])
        if outside:
            return Witness("named", name, outside.first, also="which is not in its subnet")
        for row in named.bound:
            if not span.holds(address := int(table.address[row])):
                return Witness("misplaced", name, address, client=table.label(row))
        kept = AddressSet(named.exclusions) - AddressSet([span])
        return Witness("spared", name, kept.first)


def _other_subnet(
    site: Site, network: Network, named: Named, ends: Collection[int]
) -> Prefix | None:
    """The one subnet of the same size in which all lies, if it is another.

    A single thing may be wrong itself; unless its server stands there, and nowhere in the subnet.
    """
    subnets = {Prefix(end, network.subnet.bits).subnet for end in ends}
    if len(subnets) != 1 or network.subnet.subnet in subnets:
        return None
    (other,) = subnets
    servers = {service.device for service in network.served_by}
    stands_there = not site.topology.attachments(network) and any(
        interface.address == Prefix(attachment.address, other.bits)
        and interface.vrf == network.vrf
        and other.span.holds(attachment.address)
        for server in servers
        for attachment in site.topology.attachments_of(server)
        for interface in [site.topology.interface(attachment)]
    )
    return other if named.things > 1 or stands_there else None


def _larger_subnet(site: Site, network: Network, ends: Collection[int]) -> Prefix | None:
    """The subnet of the interfaces there, if it is larger and all lies in it.

    An interface is there by its own address, or if it is the gateway.
    """
    attached = {*site.topology.attachments(network), *_at_gateway(site, network)}
    subnets = {
        interface.address.subnet
        for interface in map(site.topology.interface, attached)
        if interface.address is not None
    }
    if len(subnets) != 1:
        return None
    (other,) = subnets
    larger = other.bits < network.subnet.bits and other.span.holds(network.subnet.network)
    return other if larger and all(map(other.span.holds, ends)) else None


def _at_gateway(site: Site, network: Network) -> list[Attachment]:
    """The interfaces that hold the network's gateway, wherever that is."""
    if network.gateway is None:
        return []
    holders = site.topology.holders(network.gateway)
    return [a for a in holders if site.topology.interface(a).vrf == network.vrf]


def _ranges_of(site: Site) -> dict[str, list[Span]]:
    """The ranges of each network; one that is the whole subnet says no more than the subnet."""
    found: dict[str, list[Span]] = {}
    for pool, _, span in written_ranges(site):
        subnet, hosts = pool.network.subnet.span, pool.network.subnet.hosts
        whole = subnet.first <= span.first <= hosts.first and hosts.last <= span.last <= subnet.last
        if span.size and not whole:
            found.setdefault(pool.name, []).append(span)
    return found


def _excluded(network: Network) -> list[Span]:
    """What the network excludes; an exclusion that runs backwards holds nothing."""
    return [exclusion.range for exclusion in network.exclusions if exclusion.range.size]


def _ends(site: Site, named: Named) -> set[int]:
    """The lowest and the highest address of each thing that a network names."""
    ends = {end for span in (*named.ranges, *named.exclusions) for end in span}
    ends |= set(site.lending.bindings.address[named.bound].tolist())
    return ends if named.gateway is None else ends | {named.gateway}
