"""Lease times: short enough for addresses to come back, long enough to ride out an outage."""

from __future__ import annotations

from collections.abc import Iterator

from reservoir.core.checks.capacity.demand import expected, sized
from reservoir.core.checks.rule import Rule, Site
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.plan.edits import Edit
from reservoir.core.plan.model import PlanPath
from reservoir.core.pools import Pool
from reservoir.core.sizing.networks import Sized, lease_of
from reservoir.core.sizing.size import USUAL
from reservoir.core.sizing.stays import hold
from reservoir.core.values.durations import INFINITE, format_duration
from reservoir.core.wording import counted

SHORT = 600
"""Seconds below which a lease doesn't outlast a server's restart."""


def _lease_path(pool: Pool) -> PlanPath:
    """Where the network's lease time is: in the network, or in the defaults."""
    inherited = pool.network.lease is None and pool.offer.lease is not None
    return ("defaults", "lease") if inherited else (*pool.path, "lease")


class LeaseTooLong(Rule):
    """Visitors hold their addresses so long that others get none; a shorter lease would do.

    Why: Clients leave without releasing their addresses, which stay taken until the lease expires.

    Remedy: Use the lease time that the finding names.
    """

    severity = Severity.WARNING
    blames = ("lease",)
    rests_on = ("range", "binding", "subnet")
    example = """
          networks:
            crew:
              subnet: 10.84.30.0/24
              ranges: [10.84.30.20-10.84.30.250]
        -     lease: 12h
        +     lease: 1h
              demand: {arrivals: [{at: "06:30", devices: 150, over: 20m, stay: 50m},
                                  {at: "12:30", devices: 150, over: 20m, stay: 50m}]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for network in sized(site):
            if not network.demand.comes_and_goes or network.comfortable <= network.capacity:
                continue
            shorter = [lease for lease in USUAL if lease < network.lease]
            fits = network.size.longest_of(shorter)
            if fits is None:
                continue
            now, then = format_duration(network.lease), format_duration(fits)
            stay = round(network.size.crowd.longest_stay)
            held = format_duration(round(hold(stay, network.lease)))
            path, edit = _shorter(network, now, then)
            # Where there are enough without headroom, it is the headroom that is missing.
            short = network.needed > network.capacity
            whole = "" if short else f", {network.comfortable:,} with headroom,"
            yield self.finding(
                f"{expected(network)}{whole} with a lease of {now}, and only {network.capacity:,} "
                f"are available; with a lease of {then} it would be "
                f"{network.size.needed(fits) if short else network.size.comfortable(fits):,}",
                path,
                Witness(
                    "stays",
                    network.name,
                    value=format_duration(stay),
                    expected=held,
                    member_of=network.kind,
                ),
                (edit,),
            )


class LeaseTooShort(Rule):
    """A lease is so short that a brief server outage cuts clients off.

    Why: Clients renew at half the lease (RFC 2131 section 4.4.5); if the server is down for longer
    than the other half, they lose their addresses. And every renewal is load on the server.

    Remedy: Use a lease of ten minutes or more, unless addresses are scarce.
    """

    severity = Severity.ADVICE
    example = """
          networks:
            crew:
              subnet: 10.84.30.0/24
              ranges: [10.84.30.20-10.84.30.250]
        -     lease: 90s
        +     lease: 30m
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for index, pools in enumerate(site.pools.by_network):
            lease = lease_of(pools[0], site.behaviours)
            clients = len(site.pools.assignable_in(index)) + len(pools[0].bindings)
            if lease >= SHORT or not clients:
                continue
            demand = pools[0].network.demand
            busy = min(demand.devices, clients) if demand and demand.devices else clients
            serving = pools[0].serving
            is_paired = serving is not None and serving.is_paired
            down = "both servers are" if is_paired else "the server is"
            yield self.finding(
                f"with a lease of {format_duration(lease)}, {counted(busy, 'client')} renew "
                f"{busy / (lease / 2):.3g} times a second, and some of them lose their addresses "
                f"once {down} down for {format_duration(lease // 2)}",
                _lease_path(pools[0]),
            )


class LeaseInfinite(Rule):
    """A lease never expires.

    Why: Clients that leave keep their addresses; one day the range is full of clients that are
    gone.

    Remedy: Use a lease of days or weeks, and bind the machines that must keep their address.
    """

    severity = Severity.WARNING
    example = """
          networks:
        -   crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20-10.84.30.99], lease: infinite}
        +   crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20-10.84.30.99], lease: 7d}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for index, pools in enumerate(site.pools.by_network):
            assignable = site.pools.assignable_in(index)
            if pools[0].offer.lease == INFINITE and assignable:
                yield self.finding(
                    f"{pools[0].name} assigns {counted(len(assignable), 'address')} "
                    "with a lease that never expires",
                    _lease_path(pools[0]),
                    Witness("refused", pools[0].name, count=len(assignable) + 1),
                )


def _shorter(network: Sized, now: str, then: str) -> tuple[PlanPath, Edit]:
    """Where the lease time is that clients get, and the edit that shortens it for them alone."""
    pool = network.pools[0]
    if network.kind:
        path: PlanPath = (*pool.path, "by_class", network.kind)
        own = pool.network.by_class[network.kind].lease is not None
        return path, Edit((*path, "lease"), now if own else None, then)
    path = _lease_path(pool)
    if path[0] == "defaults" or pool.offer.lease is None:
        return path, Edit((*pool.path, "lease"), None, then)
    return path, Edit(path, now, then)
