"""What a server that fails leaves to its clients, where that is meant to be borne."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from reservoir.core.checks.capacity.demand import expected, sized
from reservoir.core.checks.rule import Rule, Site
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.pools import Pool
from reservoir.core.sizing.networks import Sized, lease_of
from reservoir.core.values.durations import INFINITE, format_duration
from reservoir.core.wording import be, counted


class SplitTooSmall(Rule):
    """Several servers share a network, and the rest is too small for it when one is down.

    Why: None knows the leases of another. When one is down, its clients keep their addresses until
    their leases end, half a lease at least if they renew at half of it (RFC 2131 section 4.4.5);
    then they need one of the others', and there aren't enough. `reservoir size --without DEVICE`
    counts, `reservoir rehearse --without DEVICE` lives through it.

    Remedy: Give each server ranges for all clients, as far as the subnet has room, or lengthen the
    lease beyond twice the time that a repair takes.
    """

    severity = Severity.ADVICE
    rests_on = ("range", "exclusion", "binding", "subnet", "size", "lease")
    example = """
          devices: {pier: {}, depot: {}}
          networks:
            crew:
              subnet: 10.84.30.0/24
              served_by:
                - {device: pier, ranges: [10.84.30.20-10.84.30.99]}
        -       - {device: depot, ranges: [10.84.30.100-10.84.30.129]}
        +       - {device: depot, ranges: [10.84.30.100-10.84.30.179]}
              demand: {devices: 70}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for one in sized(site):
            own = [pool for pool in one.pools if pool.serving and pool.serving.ranges is not None]
            if len(own) < len(one.pools) or one.needed > one.capacity:
                continue
            for pool in own:
                left = one.without([str(pool.server)], site.behaviours)
                if left.pools_left and left.needed > left.capacity:
                    yield self._short(pool, left)

    def _short(self, pool: Pool, left: Sized) -> Finding:
        while_down = f"while {pool.server} is down"
        path, count = pool.server_path, left.assignable + 1
        meanwhile = f"a client keeps its address for {loses_after(left.lease)}"
        return self.finding(
            f"{expected(left)} in {left.name}, but {counted(left.capacity, 'address')} "
            f"{be(left.capacity)} left {while_down}; leases last {format_duration(left.lease)}: "
            f"{meanwhile}, then {left.needed - left.capacity:,} find none",
            path,
            Witness(
                "refused-meanwhile",
                pool.name,
                count=count,
                also=str(pool.server),
                member_of=left.kind,
            ),
        )


def loses_after(lease: int) -> str:
    """After how long a client loses its address that renews at half its lease, in words."""
    return f"{format_duration(lease // 2)} to {format_duration(lease)}"


class RepairOutlasted(Rule):
    """A network hangs on one server, and its leases may end before that is repaired.

    Why: Clients renew at half the lease (RFC 2131 section 4.4.5): when the server fails, each has
    between half a lease and a whole one left. Nothing is found unless `checks: {repair: 8h}` says
    how long a repair takes.

    Remedy: Use a lease of twice the time that a repair takes, or a second server.
    """

    severity = Severity.ADVICE
    rests_on = ("lease",)
    example = """
          checks: {repair: 8h}
          devices: {pier: {}}
          networks:
            crew:
              subnet: 10.84.30.0/24
              served_by: pier
              ranges: [10.84.30.20-10.84.30.99]
        -     lease: 8h
        +     lease: 1d
    """

    def check(self, site: Site) -> Iterator[Finding]:
        repair = site.plan.checks.repair
        for pools in site.pools.by_network if repair else ():
            lease = min(_leases(pools, site))
            serving = pools[0].serving
            is_paired = serving is not None and serving.is_paired
            if (
                len(pools) == 1
                and pools[0].server
                and not is_paired
                and repair
                and lease < min(2 * repair, INFINITE)
            ):
                takes = format_duration(repair)
                yield self.finding(
                    f"only {pools[0].server} serves {pools[0].name}: while it is down a client "
                    f"keeps its address for {loses_after(lease)}, and a repair takes {takes}",
                    pools[0].server_path,
                )


def _leases(pools: Sequence[Pool], site: Site) -> Iterator[int]:
    """The lease times of who may get an address there, in seconds."""
    pool = pools[0]
    if pool.common or len(pool.bindings):
        yield lease_of(pool, site.behaviours)
    for its in pool.by_class.classes if pool.by_class is not None else ():
        if its.assignable:
            yield lease_of(pool, site.behaviours, its.name)
    for offer in site.pools.own_offers(pool).values():
        if offer.lease is not None:
            yield offer.lease
    yield INFINITE
