"""Ranges: inside their network's subnet, and with something left to assign."""

from __future__ import annotations

from collections.abc import Iterator
from functools import lru_cache

from reservoir.core.checks.remedies import corrected
from reservoir.core.checks.rule import Obstructed, Rule, Site, replaced
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.plan.model import PlanPath
from reservoir.core.pools import Pool
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import Prefix, Span, format_address
from reservoir.core.values.typos import likely_range
from reservoir.core.wording import counted


@lru_cache(maxsize=1)
def written_ranges(site: Site) -> list[tuple[Pool, PlanPath, Span]]:
    """Each range as it is written, once, with its pool and its path."""
    seen: set[PlanPath] = set()
    found: list[tuple[Pool, PlanPath, Span]] = []
    for pool in site.pools:
        if pool.ranges_path in seen or pool.named == "all":
            continue
        seen.add(pool.ranges_path)
        for position, span in enumerate(pool.named):
            found.append((pool, (*pool.ranges_path, position), span))
    for pools in site.pools.by_network:
        for name, answers in pools[0].network.by_class.items():
            path = (*pools[0].path, "by_class", name, "ranges")
            found += [(pools[0], (*path, at), span) for at, span in enumerate(answers.ranges)]
    return found


class RangeReversed(Obstructed):
    """The first address of a range or an exclusion is above its last.

    Why: Devices refuse such a range or assign nothing from it, and clients get no address; such an
    exclusion excludes nothing.

    Remedy: Write the lower address first.
    """

    severity = Severity.ERROR
    is_certain = True
    blames = ("range", "exclusion")
    example = """
          networks:
        -   crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.200-10.84.30.120]}
        +   crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.120-10.84.30.200]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        yield from super().check(site)
        for pool, path, span in written_ranges(site):
            if span.first > span.last:
                meant = _forwards(span, pool.network.subnet)
                yield self.finding(
                    f"the range {span} is reversed, so nothing is assigned from it",
                    path,
                    Witness("empty-range", pool.name, value=str(span)),
                    replaced(path, span, meant),
                    is_certain=not _is_inside(span, pool.network.subnet),
                )
        yield from self._exclusions(site)

    def _exclusions(self, site: Site) -> Iterator[Finding]:
        for index, (name, network) in enumerate(site.plan.networks.items()):
            for position, exclusion in enumerate(network.exclusions):
                span = exclusion.range
                if span.first <= span.last:
                    continue
                meant = _forwards(span, network.subnet) or Span(span.last, span.first)
                inside = site.pools.assignable_in(index) & AddressSet([meant])
                path = ("networks", name, "exclusions", position, "range")
                yield self.finding(
                    f"the exclusion {span} is reversed, so it excludes nothing",
                    path,
                    Witness("assigned", name, inside.first, because="meant-excluded")
                    if inside
                    else Witness("excluded-anyway", name, meant.first),
                    replaced(path, span, _forwards(span, network.subnet)),
                    is_certain=not _is_inside(span, network.subnet),
                )


def _forwards(span: Span, subnet: Prefix) -> Span | None:
    """What was meant by a reversed range: its ends swapped, or an end with a typo.

    None where a digit may be missing at the end: 100-19 can be 19-100 as well as 100-199.
    """
    if not _is_inside(span, subnet):
        return likely_range(span, subnet)
    shorter = len(format_address(span.last)) < len(format_address(span.first))
    return None if shorter else Span(span.last, span.first)


def _is_inside(span: Span, subnet: Prefix) -> bool:
    """Whether both ends are in the subnet: they may be swapped, or either may be mistyped."""
    return subnet.span.holds(span.first) and subnet.span.holds(span.last)


class RangeOutsideSubnet(Rule):
    """A range has addresses that are not in the network's subnet.

    Why: A client that gets such an address can't communicate, and most devices refuse the range.

    Remedy: Correct the address, of which often a digit or an octet is wrong, or the subnet.
    """

    severity = Severity.ERROR
    is_certain = True
    blames = ("range",)
    rests_on = ("subnet",)
    example = """
          networks:
        -   crew: {subnet: 10.84.30.0/24, ranges: [10.84.31.20-10.84.31.200]}
        +   crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20-10.84.30.200]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for pool, path, span in written_ranges(site):
            subnet = pool.network.subnet
            if subnet.span.holds(span.first) and subnet.span.holds(span.last):
                continue
            outside = AddressSet([span]) - AddressSet([subnet.span])
            if not outside:
                continue
            right = corrected(path, span, likely_range(span, subnet))
            relation = (
                f"is not in {subnet.subnet}"
                if len(outside) == span.size
                else f"has {counted(len(outside), 'address')} outside {subnet.subnet}"
            )
            yield self.finding(
                f"the range {span} {relation}{right.hint}",
                path,
                Witness("in-range", pool.name, outside.first, because="outside-subnet"),
                right.edits,
            )


class RangeTakesEdgeAddress(Rule):
    """A range includes the subnet's network or broadcast address.

    Why: No client can use either; some devices assign them anyway, others refuse the range.

    Remedy: Start the range after the network address and end it before the broadcast address.
    """

    severity = Severity.ERROR
    rests_here = ("range",)
    example = """
          networks:
        -   crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20-10.84.30.255]}
        +   crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20-10.84.30.254]}
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
                        Witness("in-range", pool.name, edge, because=f"{kind}-address"),
                        replaced(path, span, inside if fits else None),
                    )


class PoolEmpty(Rule):
    """A pool has no assignable address.

    Why: The server has a pool, but every client without a binding is refused.

    Remedy: Give the network ranges, or fewer exclusions.
    """

    severity = Severity.ERROR
    rests_on = ("range", "exclusion", "subnet")
    follows = ("exclusion-swallows-range",)
    example = """
          devices: {pier: {interfaces: {deck: {address: 10.84.30.1/24}}}}
          networks:
            crew:
              subnet: 10.84.30.0/24
              served_by: pier
              ranges: [10.84.30.20-10.84.30.99]
        -     exclusions: [10.84.30.0/25]
        +     exclusions: [10.84.30.0/27]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for pool in site.pools:
            meant = bool(pool.named) or (pool.server and not len(pool.bindings))
            if pool.assignable or not meant:
                continue
            by = f" on {pool.server}" if pool.server else ""
            reason = (
                "every address of its ranges is excluded, bound or outside the subnet"
                if pool.named
                else "it has no ranges and no bindings"
            )
            yield self.finding(
                f"the pool of {pool.name}{by} is empty: {reason}",
                pool.ranges_path if pool.named else pool.path,
                Witness("refused", pool.name, count=1),
            )
