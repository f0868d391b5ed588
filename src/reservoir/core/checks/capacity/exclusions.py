"""Exclusions that leave a network too few addresses."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from reservoir.core.checks.capacity.demand import expected, sized
from reservoir.core.checks.rule import Rule, Site
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.sizing.networks import Sized
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import Span
from reservoir.core.wording import counted

FEW = 4
"""Exclusions of a network that are looked at; the largest ones."""


class ExclusionSwallowsRange(Rule):
    """An exclusion takes so much of a network's ranges that its clients get too few addresses.

    Why: The ranges would be large enough; an end of the exclusion may be mistyped.

    Remedy: Correct the exclusion, or widen the ranges.
    """

    severity = Severity.ERROR
    rests_on = ("range", "subnet", "size", "lease")
    rests_here = ("exclusion",)
    example = """
          networks:
            crew:
              subnet: 10.84.30.0/24
              ranges: [10.84.30.20-10.84.30.199]
        -     exclusions: [10.84.30.40-10.84.30.190]
        +     exclusions: [10.84.30.40-10.84.30.49]
              demand: {devices: 90}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for network in sized(site):
            if network.kind or network.needed <= network.capacity:
                continue
            ranges = AddressSet(s for pool in network.pools for s in pool.ranges.spans())
            ranges &= AddressSet([network.pools[0].network.subnet.hosts])
            taken = _only_by_one(site, network, ranges)
            largest = max(taken, key=taken.__getitem__, default=0)
            if taken and network.capacity + taken[largest] >= network.needed:
                span = network.pools[0].network.exclusions[largest].range
                yield self.finding(
                    f"{expected(network)}, but the exclusion {span} takes {taken[largest]:,} of "
                    f"the {counted(len(ranges), 'address')} in the ranges of {network.name}",
                    (*network.pools[0].path, "exclusions", largest, "range"),
                    Witness("refused", network.name, count=network.capacity + 1),
                )


def _only_by_one(site: Site, network: Sized, ranges: AddressSet) -> dict[int, int]:
    """How many addresses of the ranges each exclusion takes that nothing else keeps."""
    exclusions = [exclusion.range for exclusion in network.pools[0].network.exclusions]
    rows = network.pools[0].bindings
    bound = AddressSet.of_addresses(site.pools.bindings.address[rows])
    return {
        place: len((AddressSet([span]) & ranges) - bound - AddressSet(_others(exclusions, place)))
        for place, span in _largest(exclusions)
    }


def _largest(exclusions: Sequence[Span]) -> list[tuple[int, Span]]:
    """The few largest exclusions, with their places; a smaller one is not what takes it all."""
    return sorted(enumerate(exclusions), key=lambda item: -item[1].size)[:FEW]


def _others(exclusions: Sequence[Span], place: int) -> Iterator[Span]:
    return (span for other, span in enumerate(exclusions) if other != place)
