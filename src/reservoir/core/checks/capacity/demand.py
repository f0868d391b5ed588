"""Enough addresses for the expected clients, and not absurdly many."""

from __future__ import annotations

import math
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property, lru_cache

from reservoir.core.checks.rule import Rule, Site
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.plan.edits import Edit
from reservoir.core.plan.model import Demand, PlanPath
from reservoir.core.pools import Pool, Pools
from reservoir.core.sizing.demand import peak_devices, peak_visits, with_headroom
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import Span
from reservoir.core.wording import be, counted

OVERSIZED = 8
"""A pool this many times the demand is oversized."""

A_DAY = 86_400
"""Seconds."""

LINK = 30
"""The prefix length from which on a subnet is a link between two machines."""

ORDINARY = 254
"""A pool up to this size is never oversized: a /24 is everybody's default."""


@dataclass(frozen=True)
class Sized:
    """A network that states a demand, and the numbers that decide."""

    index: int
    pools: list[Pool]
    demand: Demand
    lease: int
    """Seconds."""
    assignable: int
    shared: int
    """Addresses beyond its own that its clients get: free ones of other networks on its LAN."""
    bound: int
    headroom: float

    @property
    def name(self) -> str:
        """The network's name."""
        return self.pools[0].name

    @property
    def path(self) -> PlanPath:
        """Where the demand is."""
        return (*self.pools[0].path, "demand")

    @property
    def elsewhere(self) -> str:
        """The shared addresses in words; nothing if there are none."""
        return f", {self.shared:,} more elsewhere on its LAN" if self.shared else ""

    @property
    def capacity(self) -> int:
        """Clients that can have an address at once."""
        return self.assignable + self.shared + self.bound

    def peak(self, lease: int | None = None) -> int:
        """Clients at the busiest moment; with another lease time if one is given."""
        return self._peak if lease is None else peak_devices(self.demand, lease)

    @cached_property
    def _peak(self) -> int:
        return peak_devices(self.demand, self.lease)

    def needed(self, lease: int | None = None) -> int:
        """The peak plus headroom."""
        return with_headroom(self.peak(lease), self.headroom)


@lru_cache(maxsize=1)
def sized(site: Site) -> list[Sized]:
    """The networks whose demand can be sized: those whose leases expire."""
    found = []
    for index, pools in enumerate(site.pools.by_network):
        demand = pools[0].network.demand
        if demand is None:
            continue
        lease = lease_of(site, pools[0])
        if math.isinf(peak_visits(demand, lease)):
            continue  # visitors who keep their addresses for good: lease-infinite reports it
        # Of a link between two there is nothing to keep free.
        is_link = pools[0].network.subnet.bits >= LINK
        settings = 0.0 if is_link else site.plan.checks.headroom
        one = Sized(
            index,
            pools,
            demand,
            lease,
            len(site.pools.assignable_in(index)),
            0,
            len(pools[0].bindings),
            settings if demand.headroom is None else demand.headroom,
        )
        found.append(one)
    return _with_shared(site, found)


def _with_shared(site: Site, found: list[Sized]) -> list[Sized]:
    """The same, with what their servers assign from other pools of the segment when one is full."""
    peaks = {one.name: one.peak() for one in found} if site.topology.segments else {}
    for number, one in enumerate(found if peaks else ()):
        others = [n for n in segment_served_as_one(site, one.name) if n != one.name]
        free = sum(_capacity(site, name) - peaks.get(name, 0) for name in others)
        found[number] = replace(one, shared=max(0, free))
    return found


def segment_served_as_one(site: Site, name: str) -> Sequence[str]:
    """The networks on a network's LAN whose pools one server assigns from when its own is full."""
    servers = site.topology.serving(name)
    behaviour = site.behaviour(next(iter(servers))) if len(servers) == 1 else None
    if behaviour is None or not behaviour.assigns_by_secondary:
        return (name,)
    return [n for n in site.topology.segment_of(name) if site.topology.serving(n) == servers]


def _capacity(site: Site, name: str) -> int:
    pools = site.pools.of(name)
    return sum(len(pool.assignable) for pool in pools) + len(pools[0].bindings)


def lease_of(site: Site, pool: Pool) -> int:
    """The lease time of a pool in seconds; the device's default, or a day, if the plan has none."""
    if pool.offer.lease is not None:
        return pool.offer.lease
    behaviour = site.behaviour(pool.server)
    return A_DAY if behaviour is None else behaviour.default_lease


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
            short = network.peak() - network.capacity
            if short > 0:
                yield self.finding(
                    f"{expected(network)}, but only {counted(network.assignable, 'address')} "
                    f"{be(network.assignable)} assignable{network.elsewhere} and "
                    f"{network.bound:,} bound: {short:,} too few",
                    network.path,
                    Witness("refused", network.name, count=network.capacity + 1),
                    _wider(site.pools, network, network.needed() - network.capacity)
                    or _wider(site.pools, network, short),
                )


def expected(network: Sized) -> str:
    """How many clients there will be, in words."""
    peak, demand = network.peak(), network.demand
    if demand.arrivals or demand.walk_in:
        if demand.walk_in:
            risk = f"{demand.risk * 100:.4g}%"
            return f"for at most {risk} to be refused, {counted(peak, 'address')} {be(peak)} needed"
        return f"up to {counted(peak, 'address')} {be(peak)} in use at once"
    if peak > demand.devices:
        return f"{counted(demand.devices, 'device')} will grow to {peak:,}"
    return f"{counted(peak, 'device')} {be(peak)} expected"


def _wider(every: Pools, sized: Sized, short: int) -> tuple[Edit, ...]:
    """The network's one range made longer: upwards as far as is free, then downwards."""
    index, pools = sized.index, sized.pools
    network = pools[0].network
    if len(pools) > 1 or network.ranges == "all" or len(network.ranges) != 1:
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
            peak, needed = network.peak(), network.needed()
            if peak <= network.capacity < needed:
                spare = network.capacity - peak
                yield self.finding(
                    f"{expected(network)}, which leaves {spare:,} of {network.capacity:,} "
                    f"addresses free; {network.headroom:.0%} headroom takes {needed - peak:,}",
                    network.path,
                    Witness("refused", network.name, count=network.capacity + 1),
                    _wider(site.pools, network, needed - network.capacity),
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
            if (
                network.shared
                and network.shared >= network.needed() - network.assignable - network.bound
            ):
                continue  # its clients get addresses of other networks on its LAN
            if network.needed() + site.pools.held_at_most(network.index) <= subnet.hosts.size:
                continue
            held = len(site.pools.taken(network.index) & AddressSet([subnet.hosts]))
            needed, whole = network.needed(), subnet.hosts.size - held
            if needed > whole:
                bits = 32 - (needed + held + 1).bit_length()  # and two edge addresses
                yield self.finding(
                    f"{expected(network)}, {needed:,} with headroom, but all of {subnet.subnet} "
                    f"offers only {whole:,}; a /{bits} would do",
                    network.path,
                    Witness("refused", network.name, count=whole + 1),
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
            peak = network.peak()
            if network.assignable > max(OVERSIZED * peak, ORDINARY):
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

    def _is_stated(self, site: Site, name: str) -> bool:
        """Whether the network states its demand, or one whose clients get its addresses too."""
        together = segment_served_as_one(site, name)
        return any(site.plan.networks[network].demand is not None for network in together)
