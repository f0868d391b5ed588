"""Enough addresses for the expected clients, and not absurdly many."""

from __future__ import annotations

from collections.abc import Iterator
from functools import lru_cache

from reservoir.core.checks.rule import Rule, Site
from reservoir.core.findings import Finding, Severity
from reservoir.core.plan.edits import Edit
from reservoir.core.pools import Pools
from reservoir.core.sizing.networks import Sized, segment_served_as_one, sized_networks
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import Span
from reservoir.core.wording import be, counted

OVERSIZED = 8
"""A pool this many times the demand is oversized."""

ORDINARY = 254
"""A pool up to this size is never oversized: a /24 is everybody's default."""


@lru_cache(maxsize=1)
def sized(site: Site) -> list[Sized]:
    """The networks whose demand can be sized: those whose leases expire."""
    return sized_networks(site.pools, site.behaviours)


class PoolUndersized(Rule):
    """A network expects more clients than it has addresses for.

    Why: Once the last address is assigned, the next client gets none.

    Remedy: Widen the range, or plan a larger subnet.
    """

    severity = Severity.ERROR
    rests_on = ("range", "exclusion", "binding", "subnet", "size", "lease")
    follows = ("pool-empty", "exclusion-swallows-range", "secondary-unserved")
    example = """
          networks:
            crew:
              subnet: 10.84.30.0/24
        -     ranges: [10.84.30.20-10.84.30.99]
        +     ranges: [10.84.30.20-10.84.30.199]
              demand: {devices: 90, growth: 10%/year, horizon: 2 years}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for network in sized(site):
            short = network.needed - network.capacity
            if short > 0:
                yield self.finding(
                    f"{expected(network)}, but only {counted(network.assignable, 'address')} "
                    f"{be(network.assignable)} assignable{network.elsewhere} and "
                    f"{network.bound:,} bound: {short:,} too few",
                    network.path,
                    network.refused(network.capacity + 1),
                    _wider(site.pools, network, network.comfortable - network.capacity)
                    or _wider(site.pools, network, short),
                )


def expected(network: Sized) -> str:
    """How many clients there will be, in words."""
    needed, demand = network.needed, network.demand
    whose = f" of class {network.kind}" if network.kind else ""
    addresses, devices = (counted(needed, what) + whose for what in ("address", "device"))
    if not network.size.crowd.is_known:
        risk = f"{demand.risk * 100:.4g}%"
        return f"for at most a {risk} chance of a refusal a day, {addresses} {be(needed)} needed"
    if demand.comes_and_goes:
        return f"up to {addresses} {be(needed)} in use at once"
    if needed > demand.devices:
        return f"{counted(demand.devices, 'device')}{whose} will grow to {needed:,}"
    return f"{devices} {be(needed)} expected"


def _wider(every: Pools, sized: Sized, short: int) -> tuple[Edit, ...]:
    """The network's one range made longer: upwards as far as is free, then downwards."""
    index, pools = sized.index, sized.pools
    network = pools[0].network
    if sized.kind or len(pools) > 1 or network.ranges == "all" or len(network.ranges) != 1:
        return ()
    span, hosts = network.ranges[0], network.subnet.hosts
    if not (hosts.holds(span.first) and hosts.holds(span.last)):
        return ()
    held = every.taken(index) - AddressSet([span])  # never to be reached by a longer range
    beyond = held & AddressSet([Span(span.last + 1, hosts.last)])
    before = held & AddressSet([Span(hosts.first, span.first - 1)])
    upper = Span(span.last + 1, beyond.first - 1 if beyond else hosts.last)
    lower = Span(before.last + 1 if before else hosts.first, span.first - 1)
    reserved = every.reserved[index]
    above, below = reserved.complement_within(upper), reserved.complement_within(lower)
    if len(above) >= short:
        wider = Span(span.first, above.nth(short - 1))
    elif len(above) + len(below) >= short:
        wider = Span(below.nth(len(above) - short), above.last if above else span.last)
    else:
        return ()
    return (Edit((*pools[0].ranges_path, 0), str(span), str(wider)),)


class PoolTight(Rule):
    """A network has barely enough addresses for the clients it expects.

    Why: A few more clients than expected, and some get no address.

    Remedy: Widen the range, or set the headroom you want.
    """

    severity = Severity.WARNING
    rests_on = ("range", "exclusion", "binding", "subnet", "size", "lease")
    example = """
          networks:
            crew:
              subnet: 10.84.30.0/24
        -     ranges: [10.84.30.20-10.84.30.99]
        +     ranges: [10.84.30.20-10.84.30.119]
              demand: {devices: 78, headroom: 15%}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for network in sized(site):
            needed, comfortable = network.needed, network.comfortable
            if needed <= network.capacity < comfortable:
                spare, short = network.capacity - needed, comfortable - needed
                yield self.finding(
                    f"{expected(network)}, which leaves {spare:,} of {network.capacity:,} "
                    f"addresses free; {network.headroom:.0%} headroom takes {short:,}",
                    network.path,
                    network.refused(network.capacity + 1),
                    _wider(site.pools, network, comfortable - network.capacity),
                )


class SubnetOutgrown(Rule):
    """The whole subnet is too small for the demand.

    Why: No range can help; sooner or later the network has to be renumbered.

    Remedy: Plan the prefix that the finding names, before more hosts get static addresses.
    """

    severity = Severity.WARNING
    blames = ("size",)
    rests_on = ("subnet", "size", "lease")
    follows = ("secondary-unserved",)
    example = """
          networks:
            crew:
        -     subnet: 10.84.30.0/24
        +     subnet: 10.84.30.0/23
        -     ranges: [10.84.30.2-10.84.30.254]
        +     ranges: [10.84.30.2-10.84.31.254]
              demand: {devices: 240, growth: 20%/year, horizon: 2 years}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for network in sized(site):
            subnet = network.pools[0].network.subnet
            if network.kind:
                continue  # a wider range of its own may do
            if (
                network.shared
                and network.shared >= network.comfortable - network.assignable - network.bound
            ):
                continue  # its clients get addresses of other networks on its LAN
            if network.comfortable + site.pools.held_at_most(network.index) <= subnet.hosts.size:
                continue
            needed, whole = network.comfortable, subnet.hosts.size - network.kept
            if needed > whole:
                prefix = network.size.prefix(network.kept)
                enough = "no IPv4 subnet" if prefix is None else f"a /{prefix}"
                yield self.finding(
                    f"{expected(network)}, {needed:,} with headroom, but all of {subnet.subnet} "
                    f"offers only {whole:,}; {enough} would do",
                    network.path,
                    network.refused(whole + 1),
                )


class PoolOversized(Rule):
    """A pool is many times larger than the demand.

    Why: Nobody notices a rogue machine in addresses that are never used, and the space is missing
    elsewhere.

    Remedy: Shorten the range, or correct the demand.
    """

    severity = Severity.ADVICE
    example = """
          networks:
            crew:
              subnet: 10.84.0.0/20
        -     ranges: [10.84.0.20-10.84.7.250]
        +     ranges: [10.84.0.20-10.84.0.250]
              demand: {devices: 40}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for network in sized(site):
            needed = network.needed
            if network.assignable > max(OVERSIZED * needed, ORDINARY):
                yield self.finding(
                    f"{expected(network)}; the pool has {counted(network.assignable, 'address')}",
                    network.path,
                )


class DemandUnknown(Rule):
    """A network states no demand.

    Why: Whether its range is large enough can't be checked.

    Remedy: State a demand, such as `demand: {devices: 40}`.
    """

    severity = Severity.ADVICE
    follows = ("secondary-unserved",)
    example = """
          devices: {pier: {interfaces: {deck: {address: 10.84.30.1/24}}}}
          networks:
        -   crew: {subnet: 10.84.30.0/24, served_by: pier, ranges: [10.84.30.20-10.84.30.99]}
        +   crew:
        +     subnet: 10.84.30.0/24
        +     served_by: pier
        +     ranges: [10.84.30.20-10.84.30.99]
        +     demand: {devices: 40}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        pools = site.pools
        unstated = [
            group[0]
            for index, group in enumerate(pools.by_network)
            if pools.assignable_in(index) and not self._is_stated(site, group[0].name)
        ]
        if not any(network.demand for network in pools.networks):
            if unstated:
                message = "no network states a demand, so no pool size is checked"
                yield self.finding(message, ("networks",))
            return
        for pool in unstated:
            yield self.finding(f"{pool.name} states no demand", pool.path)
        for name, network in site.plan.networks.items():
            for kin, answers in network.by_class.items():
                if answers.ranges and answers.demand is None:
                    path = ("networks", name, "by_class", kin)
                    yield self.finding(f"class {kin} in {name} states no demand", path)

    def _is_stated(self, site: Site, name: str) -> bool:
        """Whether the network states its demand, or one whose clients get its addresses too."""
        together = segment_served_as_one(site.pools, site.behaviours, name)
        return any(site.plan.networks[network].demand is not None for network in together)
