"""Subnets that contradict the network's own addresses."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import dataclass, replace
from functools import lru_cache
from itertools import chain

import numpy as np

from reservoir.core.checks.ranges.within import written_ranges
from reservoir.core.checks.rule import Obstructed, Site, replaced
from reservoir.core.checks.statics.placed import NAMELESS
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.plan.model import Network
from reservoir.core.topology import Attachment
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import ADDRESS_BITS, Prefix, Span
from reservoir.core.wording import be, counted, listed


@dataclass(frozen=True)
class Named:
    """The addresses that a network mentions besides its subnet."""

    gateway: int | None
    ranges: list[Span]
    exclusions: list[Span]
    bound: list[int]
    """The rows of its bindings."""
    static: list[int]
    """The rows of its static hosts."""

    @property
    def things(self) -> int:
        """How many there are."""
        return sum((self.gateway is not None, *self._counts.values()))

    @property
    def _counts(self) -> dict[str, int]:
        ranges, exclusions = len(self.ranges), len(self.exclusions)
        machines = {"binding": len(self.bound), "static host": len(self.static)}
        return {"range": ranges, "exclusion": exclusions, **machines}

    def __str__(self) -> str:
        """In words: ``the gateway, 2 ranges and 1 binding``."""
        words = ["the gateway"] * (self.gateway is not None)
        words += [counted(n, noun) for noun, n in self._counts.items() if n]
        return listed(words)


class SubnetDiffers(Obstructed):
    """A network's gateway, ranges and bindings are in another subnet than the network's.

    Why: A digit of the subnet or of its length is wrong, or the network was copied and only its
    subnet changed; clients get no address, or none that works.

    Remedy: Correct the subnet, or else the gateway, the ranges and the bindings.
    """

    severity = Severity.ERROR
    is_certain = True
    blames = ("subnet",)
    example = """
          networks:
            crew:
        -     subnet: 10.84.3.0/24
        +     subnet: 10.84.30.0/24
              gateway: 10.84.30.1
              ranges: [10.84.30.20-10.84.30.200]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        yield from super().check(site)
        ranges, pools = _ranges_of(site), site.pools
        for index in _suspects(site, ranges):
            name, network = pools.names[index], pools.networks[index]
            whole = Named(
                network.gateway,
                ranges.get(name, []),
                _excluded(network),
                pools.bound_rows(index).tolist(),
                pools.static_rows(index).tolist(),
            )
            other, named = None, whole
            for named in (whole, replace(whole, static=[])):  # these may be wrong themselves
                ends = _ends(site, named)
                other = _other_subnet(site, network, named, ends)
                other = other or _subnet_of_interfaces(site, network, named, ends)
                if other is not None:
                    break
            if other is None:
                continue
            yield self.finding(
                _message(site, name, named, ends, other),
                ("networks", name, "subnet"),
                self._witness(site, name, named, other),
                replaced(("networks", name, "subnet"), network.subnet, other),
            )

    def _witness(self, site: Site, name: str, named: Named, other: Prefix) -> Witness:
        """The first address that is outside the subnet."""
        span, table = site.plan.networks[name].subnet.span, site.pools.bindings
        if named.gateway is not None and not span.holds(named.gateway):
            return Witness.of_gateway(name, named.gateway, "outside-subnet")
        outside = AddressSet(named.ranges) - AddressSet([span])
        if outside:
            return Witness("in-range", name, outside.first, because="outside-subnet")
        for row in named.bound:
            if not span.holds(address := int(table.address[row])):
                return Witness("bound", name, address, **table.who(row), because="outside-subnet")
        hosts = site.pools.static
        for row in named.static:
            if not span.holds(address := int(hosts.address[row])):
                return Witness(
                    "has",
                    name,
                    address,
                    name=hosts.name[row] or NAMELESS,
                    because="outside-network",
                )
        excluded = AddressSet(named.exclusions) - AddressSet([span])
        if excluded:
            return Witness("excluded-anyway", name, excluded.first)
        return Witness(
            "masks-differ",
            name,
            also="the router",
            value=f"/{site.plan.networks[name].subnet.bits}",
            expected=f"/{other.bits}",
        )


def _message(site: Site, name: str, named: Named, ends: Collection[int], other: Prefix) -> str:
    network, one = site.plan.networks[name], named.things == 1
    if all(map(network.subnet.span.holds, ends)):
        there = _interfaces_there(site, network)
        return f"{name} is {network.subnet}, but {listed(there)} {be(len(there))} in {other}"
    return (
        f"{named} of {name} {'is not' if one else 'are not all'} in {network.subnet}; "
        f"{'it is' if one else 'all are'} in {other}" + _whose(site, network, other)
    )


def _whose(site: Site, network: Network, other: Prefix) -> str:
    for attachment in _interfaces_there(site, network):
        if other.span.holds(attachment.address):
            return f", as {attachment} is"
    owners = list(site.topology.networks_at(other.network, network.vrf))
    owners = [name for name in owners if site.plan.networks[name] is not network]
    return f", the subnet of {owners[0]}" if owners else ""


def _suspects(site: Site, ranges: Mapping[str, list[Span]]) -> Iterator[int]:
    """The networks with anything outside their subnet, or with interfaces that differ."""
    pools = site.pools
    outside = np.zeros(len(site.plan.networks), dtype=np.bool_)
    for table in (pools.bindings, pools.static):
        outside[table.network[pools.outside_subnet(table)]] = True
    for index, (name, network) in enumerate(site.plan.networks.items()):
        span = network.subnet.span
        spans = [*ranges.get(name, ()), *_excluded(network)]
        gateway = span.first if network.gateway is None else network.gateway
        if (
            outside[index]
            or not all(map(span.holds, [gateway, *chain(*spans)]))
            or _is_doubted(site, network)
        ):
            yield index


def _is_doubted(site: Site, network: Network) -> bool:
    """Whether it has host bits, or interfaces with its network address and another mask."""
    begin = network.vrf, network.subnet.address
    return network.subnet != network.subnet.subnet or any(
        attachment.bits != network.subnet.bits
        for attachment in _interfaces_by_begin(site).get(begin, ())
    )


def _other_subnet(
    site: Site, network: Network, named: Named, ends: Collection[int]
) -> Prefix | None:
    """The one subnet of the same size that holds everything, if it is another.

    A single address may be wrong itself, unless the server is in that subnet and not in this one.
    """
    subnets = {Prefix(end, network.subnet.bits).subnet for end in ends}
    if len(subnets) != 1 or network.subnet.subnet in subnets:
        return None
    (other,) = subnets
    servers = {server.device for server in network.servers}
    is_there = not site.topology.attachments(network) and any(
        attachment.bits == other.bits
        and site.topology.interface(attachment).vrf == network.vrf
        and other.span.holds(attachment.address)
        for server in servers
        for attachment in site.topology.attachments_of(server)
    )
    return other if named.things > 1 or is_there else None


def _subnet_of_interfaces(
    site: Site, network: Network, named: Named, ends: Collection[int]
) -> Prefix | None:
    """The subnet of the interfaces there, if it is another and holds everything.

    A single interface may be wrong itself, unless the subnet is doubtful: it has host bits, or
    addresses of the network are outside it.
    """
    there = _interfaces_there(site, network)
    subnets = {attachment.prefix.subnet for attachment in there}
    if len(subnets) != 1:
        return None
    (other,) = subnets
    fits = other.span.holds(network.subnet.address) and all(map(other.span.holds, ends))
    devices, askew = {a.device for a in there}, network.subnet != network.subnet.subnet
    agreed = named.things and (len(devices) > 1 or askew)
    larger = other.bits < network.subnet.bits and not all(map(network.subnet.span.holds, ends))
    return other if fits and other.bits != network.subnet.bits and (agreed or larger) else None


def _interfaces_there(site: Site, network: Network) -> list[Attachment]:
    """The interfaces with the subnet's network address, and those with its gateway address."""
    begin = network.vrf, network.subnet.address
    gateway = network.gateway
    at_gateway = site.topology.answering(gateway, network.vrf) if gateway is not None else []
    own = [a for a in at_gateway if a.prefix in site.topology.interface(a).addresses]
    return list(dict.fromkeys([*_interfaces_by_begin(site).get(begin, ()), *own]))


@lru_cache(maxsize=1)
def _interfaces_by_begin(site: Site) -> Mapping[tuple[str, int], list[Attachment]]:
    """The interfaces by VRF and the first address of their subnet; no single addresses."""
    found: dict[tuple[str, int], list[Attachment]] = {}
    for attachment in site.topology.addressed:
        if attachment.bits < ADDRESS_BITS:
            begin = site.topology.interface(attachment).vrf, attachment.prefix.network
            found.setdefault(begin, []).append(attachment)
    return found


def _ranges_of(site: Site) -> dict[str, list[Span]]:
    """The ranges of each network, but for those that are just the whole subnet."""
    found: dict[str, list[Span]] = {}
    for pool, _, span in written_ranges(site):
        subnet, hosts = pool.network.subnet.span, pool.network.subnet.hosts
        whole = subnet.first <= span.first <= hosts.first and hosts.last <= span.last <= subnet.last
        if span.size and not whole:
            found.setdefault(pool.name, []).append(span)
    return found


def _excluded(network: Network) -> list[Span]:
    """What the network excludes; a reversed exclusion holds nothing."""
    return [exclusion.range for exclusion in network.exclusions if exclusion.range.size]


def _ends(site: Site, named: Named) -> set[int]:
    """The lowest and the highest address of everything that a network mentions."""
    ends = {end for span in (*named.ranges, *named.exclusions) for end in span}
    ends |= set(site.pools.bindings.address[named.bound].tolist())
    ends |= set(site.pools.static.address[named.static].tolist())
    return ends if named.gateway is None else ends | {named.gateway}
