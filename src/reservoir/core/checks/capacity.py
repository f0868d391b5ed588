"""Capacity: enough addresses for the clients that are expected."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import groupby

from reservoir.core.address_set import EMPTY, AddressSet
from reservoir.core.addressing import Span
from reservoir.core.checks.rule import Rule, Site
from reservoir.core.findings import Finding, Severity, Suggestion, Witness
from reservoir.core.lending import Lending, Pool
from reservoir.core.sizing.demand import peak_devices


class PoolUndersized(Rule):
    """A network expects more clients than it has addresses for.

    Why: When the last address is lent, the next client simply gets none.

    Remedy: Widen the range, or plan a larger subnet.
    """

    severity = Severity.ERROR
    follows = ("range-outside-subnet", "range-reversed", "pool-empty", "subnet-has-host-bits")
    failing = """
        networks:
          crew:
            subnet: 10.84.30.0/24
            ranges: [10.84.30.20-10.84.30.99]
            demand: {devices: 90, growth: 10%/year, horizon: 2 years}
    """
    passing = """
        networks:
          crew:
            subnet: 10.84.30.0/24
            ranges: [10.84.30.20-10.84.30.199]
            demand: {devices: 90, growth: 10%/year, horizon: 2 years}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        lending = site.lending
        for index, (_, group) in enumerate(groupby(lending.pools, key=lambda pool: pool.name)):
            pools = list(group)
            demand = pools[0].network.demand
            if demand is None:
                continue
            lendable = EMPTY
            for pool in pools:
                lendable = lendable | pool.lendable
            peak, bound = peak_devices(demand), len(pools[0].bindings)
            short = peak - len(lendable) - bound
            if short <= 0:
                continue
            grown = (
                f"{demand.devices:,} devices will be {peak:,}"
                if peak > demand.devices
                else f"{peak:,} devices are expected"
            )
            yield self.finding(
                f"{grown}; {len(lendable):,} addresses can be lent and {bound:,} are bound: "
                f"{short:,} too few",
                (*pools[0].path, "demand"),
                Witness("refused", pools[0].name, count=len(lendable) + bound + 1),
                _wider(lending, index, pools, short),
            )


def _wider(lending: Lending, index: int, pools: list[Pool], short: int) -> tuple[Suggestion, ...]:
    """The network's one range made longer: upwards as far as is free, then downwards."""
    network = pools[0].network
    if len(pools) > 1 or network.ranges == "all" or len(network.ranges) != 1:
        return ()
    span, hosts = network.ranges[0], network.subnet.hosts
    if not (hosts.holds(span.first) and hosts.holds(span.last)):
        return ()
    held = lending.taken(index) - AddressSet([span])  # never to be reached by a longer range
    beyond = held & AddressSet([Span(span.last + 1, hosts.last)])
    before = held & AddressSet([Span(hosts.first, span.first - 1)])
    upper = Span(span.last + 1, beyond.first - 1 if beyond else hosts.last)
    lower = Span(before.last + 1 if before else hosts.first, span.first - 1)
    withheld = lending.withheld(index)
    above, below = withheld.complement_within(upper), withheld.complement_within(lower)
    if len(above) >= short:
        wider = Span(span.first, above.nth(short - 1))
    elif len(above) + len(below) >= short:
        wider = Span(below.nth(len(above) - short), above.last if above else span.last)
    else:
        return ()
    return (Suggestion((*pools[0].ranges_path, 0), str(span), str(wider)),)
