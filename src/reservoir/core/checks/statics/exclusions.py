"""Exclusions: each excludes something from its own network's ranges."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from reservoir.core.checks.agreement import is_lone_typo
from reservoir.core.checks.remedies import corrected
from reservoir.core.checks.rule import Obstructed, Rule, Site
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.plan.edits import Edit
from reservoir.core.plan.model import Network, PlanPath
from reservoir.core.pools import Pool
from reservoir.core.values.address_set import EMPTY, AddressSet
from reservoir.core.values.addresses import Span, format_address
from reservoir.core.values.overlaps import overlaps
from reservoir.core.values.typos import likely_range
from reservoir.core.wording import in_more


def written_exclusions(site: Site) -> Iterator[tuple[str, Network, PlanPath, Span]]:
    """Each exclusion that isn't reversed, with its network and the path of its range."""
    for name, network in site.plan.networks.items():
        for position, exclusion in enumerate(network.exclusions):
            if exclusion.range.size:
                path = ("networks", name, "exclusions", position, "range")
                yield name, network, path, exclusion.range


class ExclusionOutsideSubnet(Rule):
    """An exclusion has addresses that are not in the network's subnet.

    Why: It excludes nothing there; the addresses that were meant may be assigned.

    Remedy: Correct the address, of which often a digit or an octet is wrong, or remove the
    exclusion.
    """

    severity = Severity.WARNING
    is_certain = True
    blames = ("exclusion",)
    rests_on = ("subnet",)
    follows = ("range-outside-subnet",)
    example = """
          networks:
            crew:
              subnet: 10.84.30.0/24
              ranges: [10.84.30.20-10.84.30.200]
        -     exclusions: [10.84.31.40-10.84.31.49]
        +     exclusions: [10.84.30.40-10.84.30.49]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for name, network, path, span in written_exclusions(site):
            subnet = network.subnet
            if subnet.span.holds(span.first) and subnet.span.holds(span.last):
                continue
            outside = AddressSet([span]) - AddressSet([subnet.span])
            relation = "is not in" if len(outside) == span.size else "extends beyond"
            right = corrected(path, span, likely_range(span, subnet))
            yield self.finding(
                f"the exclusion {span} {relation} {subnet.subnet}{right.hint}",
                path,
                Witness("excluded-anyway", name, outside.first),
                right.edits,
                is_certain=all(
                    subnet.span.holds(end) or is_lone_typo(site, name, end)
                    for end in (span.first, span.last)
                ),
            )


class ExclusionIdle(Obstructed):
    """An exclusion excludes nothing that could be assigned.

    Why: It is left over from a pool that is gone, or the addresses that were meant are elsewhere
    and may be assigned.

    Remedy: Correct the address, or remove the exclusion. One that says what it is `for` documents
    addresses, and may be outside the ranges.
    """

    severity = Severity.WARNING
    rests_on = ("range", "subnet", "pool")
    rests_here = ("exclusion",)
    follows = ("pool-undersized", "pool-tight")
    example = """
          networks:
            crew:
              subnet: 10.84.30.0/24
        -     ranges: [10.84.30.20-10.84.30.99]
        +     ranges: [10.84.30.20-10.84.30.199]
              exclusions: [10.84.30.140-10.84.30.149]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        yield from super().check(site)
        written = list(written_exclusions(site))
        excluding = {name for name, *_ in written}
        ranges = {
            pools[0].name: _ranges(pools)
            for pools in site.pools.by_network
            if pools[0].name in excluding
        }
        for name, network, path, span in written:
            is_documented = bool(network.exclusions[int(path[3])].reason)
            if not is_documented and not ranges[name].meets(span):
                yield self.finding(
                    f"the exclusion {span} has no effect: no range of {name} includes any of it",
                    path,
                    Witness("excluded-anyway", name, span.first),
                    (Edit(path[:-1], str(span), None),),
                )


def _ranges(pools: Sequence[Pool]) -> AddressSet:
    """What the ranges of a network's pools cover; `all` covers every host address."""
    hosts = pools[0].network.subnet.hosts
    named = EMPTY
    for pool in pools:
        named = named | (AddressSet([hosts]) if pool.named == "all" else pool.ranges.clipped(hosts))
    return named


class ExclusionsOverlap(Rule):
    """Two exclusions of one network have addresses in common.

    Why: It does no harm, but one of the two may be mistyped.

    Remedy: Merge them into one exclusion, or correct the one that is wrong.
    """

    severity = Severity.ADVICE
    example = """
          networks:
            crew:
              subnet: 10.84.30.0/24
              ranges: [10.84.30.20-10.84.30.99]
        -     exclusions: [10.84.30.40-10.84.30.49, 10.84.30.45]
        +     exclusions: [10.84.30.40-10.84.30.49, 10.84.30.55]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for name, network in site.plan.networks.items():
            if len(network.exclusions) < 2:
                continue
            spans = [exclusion.range for exclusion in network.exclusions]
            pairs = overlaps([s.first for s in spans], [s.last + 1 for s in spans])
            for earlier, later, first, unlisted in sorted(pairs):
                more = in_more(unlisted, "exclusion", ", which")
                yield self.finding(
                    f"the exclusions {spans[earlier]} and {spans[later]} overlap, "
                    f"starting at {format_address(first)}{more}",
                    ("networks", name, "exclusions", later, "range"),
                )


class ExclusionSwallowsBinding(Obstructed):
    """A device excludes an address that it also binds, and refuses or ignores the binding.

    Why: The client gets another address, or none.

    Remedy: Remove the bound address from the exclusion.
    """

    severity = Severity.ERROR
    rests_on = ("exclusion",)
    follows_itself = "network"
    dialect = "mortise"
    example = """
          joint name=yard sits=10.85.10.1/24 desk=open
          desk at=yard
          reserve at=yard from=10.85.10.1 until=10.85.10.19
        - keep at=yard address=10.85.10.9 mac=0000.5e00.5361 name=lathe
        + keep at=yard address=10.85.10.30 mac=0000.5e00.5361 name=lathe
    """
