"""Ranges and subnets: what is named must lie where it belongs, and belong to one network."""

from __future__ import annotations

from collections.abc import Iterator
from functools import lru_cache

from reservoir.core.checks.rule import SUBNET_WRONG, Obstructed, Rule, Site, replaced
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.plan.model import PlanPath
from reservoir.core.pools import Pool
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import Prefix, Span, format_address
from reservoir.core.values.typos import likely_range


@lru_cache(maxsize=1)
def written_ranges(site: Site) -> list[tuple[Pool, PlanPath, Span]]:
    """Each range as it is written, once, with its pool and its path."""
    seen: set[PlanPath] = set()
    found: list[tuple[Pool, PlanPath, Span]] = []
    for pool in site.lending.pools:
        if pool.ranges_path in seen or pool.named == "all":
            continue
        seen.add(pool.ranges_path)
        for position, span in enumerate(pool.named):
            found.append((pool, (*pool.ranges_path, position), span))
    return found


class RangeReversed(Obstructed):
    """The first address of a range or an exclusion is above its last.

    Why: Devices refuse such a range or lend nothing from it, and clients get no address; such an
    exclusion keeps nothing out.

    Remedy: Write the lower address first.
    """

    severity = Severity.ERROR
    failing = """
        networks:
          crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.200-10.84.30.120]}
    """
    passing = """
        networks:
          crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.120-10.84.30.200]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        yield from super().check(site)
        for pool, path, span in written_ranges(site):
            if span.first > span.last:
                meant = _forwards(span, pool.network.subnet)
                yield self.finding(
                    f"the range {span} runs backwards, so nothing is lent from it",
                    path,
                    Witness("idle-range", pool.name, also=str(span)),
                    replaced(path, span, meant),
                )
        yield from self._exclusions(site)

    def _exclusions(self, site: Site) -> Iterator[Finding]:
        for index, (name, network) in enumerate(site.plan.networks.items()):
            for position, exclusion in enumerate(network.exclusions):
                span = exclusion.range
                if span.first <= span.last:
                    continue
                meant = _forwards(span, network.subnet) or Span(span.last, span.first)
                lent = site.lending.lendable_in(index) & AddressSet([meant])
                path = ("networks", name, "exclusions", position, "range")
                yield self.finding(
                    f"the exclusion {span} runs backwards, so nothing is kept out by it",
                    path,
                    Witness("lent", name, lent.first, also="meant to be kept out")
                    if lent
                    else Witness("spared", name, meant.first),
                    replaced(path, span, _forwards(span, network.subnet)),
                )


def _forwards(span: Span, subnet: Prefix) -> Span | None:
    """What was meant by a range that runs backwards: its ends swapped, or an end with a slip.

    None where a digit may be missing at the end: 100-19 can be 19-100 as well as 100-199.
    """
    if not (subnet.span.holds(span.first) and subnet.span.holds(span.last)):
        return likely_range(span, subnet)
    shorter = len(format_address(span.last)) < len(format_address(span.first))
    return None if shorter else Span(span.last, span.first)


class RangeOutsideSubnet(Rule):
    """A range has addresses that are not in the network's subnet.

    Why: A client that is lent such an address can reach nobody, and most devices refuse the range.

    Remedy: Correct the address, often a digit or an octet typed wrong, or the subnet.
    """

    severity = Severity.ERROR
    follows = ("subnet-differs",)
    rests_on = ("subnet",)
    failing = """
        networks:
          crew: {subnet: 10.84.30.0/24, ranges: [10.84.31.20-10.84.31.200]}
    """
    passing = """
        networks:
          crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20-10.84.30.200]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for pool, path, span in written_ranges(site):
            subnet = pool.network.subnet
            if subnet.span.holds(span.first) and subnet.span.holds(span.last):
                continue
            outside = AddressSet([span]) - AddressSet([subnet.span])
            if not outside:
                continue
            meant = likely_range(span, subnet)
            also = f"; {meant} would be inside" if meant else ""
            relation = (
                f"is not in {subnet.subnet}"
                if len(outside) == span.size
                else f"reaches out of {subnet.subnet} with {len(outside):,} of its addresses"
            )
            yield self.finding(
                f"the range {span} {relation}{also}",
                path,
                Witness("named", pool.name, outside.first, also="which is not in its subnet"),
                replaced(path, span, meant),
            )


class RangeTakesEdgeAddress(Rule):
    """A range includes the subnet's network or broadcast address.

    Why: Neither can be a client's address; some devices lend them nevertheless, others refuse.

    Remedy: Begin the range after the network address and end it before the broadcast address.
    """

    severity = Severity.ERROR
    follows_here = ("range-outside-subnet",)
    failing = """
        networks:
          crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20-10.84.30.255]}
    """
    passing = """
        networks:
          crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20-10.84.30.254]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for pool, path, span in written_ranges(site):
            subnet = pool.network.subnet
            if subnet.hosts.holds(span.first) and subnet.hosts.holds(span.last):
                continue
            for edge, kind in ((subnet.network, "network"), (subnet.broadcast, "broadcast")):
                if subnet.is_edge(edge) and span.holds(edge):
                    inside = Span(
                        max(span.first, subnet.hosts.first), min(span.last, subnet.hosts.last)
                    )
                    fits = AddressSet([span]) <= AddressSet([subnet.span]) and inside.size
                    yield self.finding(
                        f"the range {span} includes {format_address(edge)}, "
                        f"the {kind} address of {subnet.subnet}",
                        path,
                        Witness("named", pool.name, edge, also=f"its {kind} address"),
                        replaced(path, span, inside if fits else None),
                    )


class PoolEmpty(Rule):
    """Nothing is left to lend to a network.

    Why: The server has a pool, and every client that is not bound is refused.

    Remedy: Give the network ranges, or fewer exclusions.
    """

    severity = Severity.ERROR
    follows = ("range-outside-subnet", "range-reversed", *SUBNET_WRONG, "exclusion-outside-subnet")
    rests_on = ("range",)
    failing = """
        devices: {pier: {interfaces: {deck: {address: 10.84.30.1/24}}}}
        networks:
          crew:
            subnet: 10.84.30.0/24
            served_by: pier
            ranges: [10.84.30.20-10.84.30.99]
            exclusions: [10.84.30.0/25]
    """
    passing = """
        devices: {pier: {interfaces: {deck: {address: 10.84.30.1/24}}}}
        networks:
          crew:
            subnet: 10.84.30.0/24
            served_by: pier
            ranges: [10.84.30.20-10.84.30.99]
            exclusions: [10.84.30.0/27]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for pool in site.lending.pools:
            meant = bool(pool.named) or (pool.server and not len(pool.bindings))
            if pool.lendable or not meant:
                continue
            by = f" by {pool.server}" if pool.server else ""
            reason = (
                "every address of its ranges is excluded, bound or outside the subnet"
                if pool.named
                else "it has no ranges and no bindings"
            )
            yield self.finding(
                f"nothing can be lent to {pool.name}{by}: {reason}",
                pool.ranges_path if pool.named else pool.path,
                Witness("refused", pool.name, count=1),
            )
