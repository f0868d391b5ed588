"""Subnets that the network's own addresses speak against."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

from reservoir.core.addressing import Prefix, Span
from reservoir.core.checks.ranges.within import written_ranges
from reservoir.core.checks.rule import Rule, Site, replaced
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.plan import Network


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
        return " and ".join([", ".join(words[:-1]), words[-1]] if words[1:] else words)


class SubnetDiffers(Rule):
    """Everything that a network names lies in one other subnet.

    Why: The subnet has a digit wrong, or the network was copied and only its subnet changed; no
    client gets an address that works.

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
        ranges = _ranges_of(site)
        for index, (name, network) in enumerate(site.plan.networks.items()):
            if network.gateway is not None and network.subnet.span.holds(network.gateway):
                continue  # most networks; nothing else need be looked at
            named = Named(
                network.gateway,
                ranges.get(name, []),
                [exclusion.range for exclusion in network.exclusions if exclusion.range.size],
                site.lending.bound_rows(index).tolist(),
            )
            subnets = {Prefix(end, network.subnet.bits).subnet for end in _ends(site, named)}
            if named.things < 2 or len(subnets) > 1 or network.subnet.subnet in subnets:
                continue
            (other,) = subnets
            yield self.finding(
                f"{named} of {name} are not in {network.subnet}, all are in {other}"
                + self._whose(site, network, other),
                ("networks", name, "subnet"),
                self._witness(site, name, named),
                replaced(("networks", name, "subnet"), network.subnet, other),
            )

    def _whose(self, site: Site, network: Network, other: Prefix) -> str:
        owners = list(site.topology.networks_at(other.network, network.vrf))
        return f", which {owners[0]} has" if owners else ""

    def _witness(self, site: Site, name: str, named: Named) -> Witness:
        if named.gateway is not None:
            return Witness("misled", name, named.gateway, also="which is not on its network")
        if named.ranges:
            first = named.ranges[0].first
            return Witness("named", name, first, also="which is not in its subnet")
        if named.exclusions:
            return Witness("spared", name, named.exclusions[0].first)
        row, table = named.bound[0], site.lending.bindings
        return Witness("misplaced", name, int(table.address[row]), client=table.label(row))


def _ranges_of(site: Site) -> dict[str, list[Span]]:
    """The ranges of each network; one that is the whole subnet says no more than the subnet."""
    found: dict[str, list[Span]] = {}
    for pool, _, span in written_ranges(site):
        hosts = pool.network.subnet.hosts
        if span.size and not (span.first <= hosts.first and span.last >= hosts.last):
            found.setdefault(pool.name, []).append(span)
    return found


def _ends(site: Site, named: Named) -> set[int]:
    """The lowest and the highest address of each thing that a network names."""
    ends = {end for span in (*named.ranges, *named.exclusions) for end in span}
    ends |= set(site.lending.bindings.address[named.bound].tolist())
    return ends if named.gateway is None else ends | {named.gateway}
