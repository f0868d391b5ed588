"""How full each network is by a lease list, and what in the list contradicts the plan."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from functools import cached_property
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from reservoir.core.bindings import Bindings
from reservoir.core.findings import Severity
from reservoir.core.leases.table import ByNetwork, LeaseTable
from reservoir.core.plan.hosts import repeated
from reservoir.core.pools import Pool, Pools
from reservoir.core.values.addresses import format_address
from reservoir.core.values.durations import INFINITE, format_duration
from reservoir.core.wording import counted, listed

SOON = 3600.0
"""Seconds: leases that end within these are counted."""

NEARLY = 0.9
"""The share of a pool that may be taken before it counts as nearly full."""

AHEAD = 300.0
"""Seconds by which a server's clock may be ahead of ours."""

LONGER = 1.05
"""How much longer than planned a lease may be: clocks and roundings differ."""


class Contradiction(NamedTuple):
    """Something in a lease list that isn't as the plan has it."""

    rule: str
    severity: Severity
    message: str
    row: int
    """The place of the lease in its list."""
    network: str
    """The network that it is about; empty if none."""


@dataclass(frozen=True)
class PoolUsage:
    """How many addresses of one server's pool are taken, or of a pair's, which has them once."""

    network: str
    server: str | None
    """Both of a pair, with a comma."""
    assignable: int
    taken: int
    """Assignable addresses with a lease that hasn't expired."""
    bound: int
    """Bound addresses with a lease of their client."""
    expiring: int
    """Leases of both that end within an hour."""

    @property
    def free(self) -> int:
        """Assignable addresses without a lease."""
        return self.assignable - self.taken

    @property
    def share(self) -> float:
        """The share of assignable addresses that is taken, 0 to 1."""
        return self.taken / self.assignable if self.assignable else 0.0


@dataclass(frozen=True)
class LeasesChecked:
    """A lease list beside a plan."""

    usage: Sequence[PoolUsage]
    contradictions: Sequence[Contradiction]
    leases: int
    expired: int


def check_leases(pools: Pools, leases: LeaseTable, now: float) -> LeasesChecked:
    """What a lease list says of a plan: n log n in leases and bindings.

    Args:
        pools: The plan.
        leases: Who has which address.
        now: The present time in seconds since 1970; what has expired by then doesn't count.
    """
    checking = _Checking(pools, leases, now)
    usage = [each for place in range(len(pools.names)) for each in checking.network(place)]
    found = [*checking.found, *checking.in_no_network(), *checking.twice(), *checking.odd()]
    found.sort(key=lambda each: (each.row, each.rule))
    return LeasesChecked(usage, found, len(leases), int(leases.expired(now).sum()))


class _Checking:
    def __init__(self, pools: Pools, leases: LeaseTable, now: float) -> None:
        self._pools, self._leases, self._now = pools, leases, now
        self._valid = ~leases.expired(now)
        self._homes = ByNetwork(
            leases,
            [(n, net.subnet.span) for n, net in zip(pools.names, pools.networks, strict=True)],
        )
        self.found: list[Contradiction] = []

    def network(self, place: int) -> Iterator[PoolUsage]:
        """How full one network is; contradictions there are noted."""
        rows = self._homes.rows(place)
        rows = rows[self._valid[rows]]
        pools, leases = self._pools.by_network[place], self._leases
        bindings = Bindings([(self._pools.bindings, self._pools.bound_rows(place))])
        held, who = leases.address[rows], (leases.mac[rows], leases.client[rows])
        own = bindings.addresses_of(*who, leases.identifiers, held)
        bound = own == held
        for pool, servers in _in_step(pools):
            mine = self._of_servers(servers, pools, rows)
            inside = pool.assignable.contains(self._leases.address[rows]) & mine
            soon = self._leases.expires[rows] <= self._now + SOON
            yield PoolUsage(
                pool.name,
                ", ".join(servers) or None,
                len(pool.assignable),
                len(np.unique(self._leases.address[rows[inside]])),
                int((bound & mine).sum()),
                int((soon & mine & (inside | bound)).sum()),
            )
            self._too_long(pool, rows[mine])
            self._fullness(pool, servers, rows[inside])
        self._contradictions(place, pools, rows[~bound], own[~bound])

    def _of_servers(
        self, some: Sequence[str], pools: Sequence[Pool], rows: NDArray[np.int64]
    ) -> NDArray[np.bool_]:
        """Which leases are of some servers: by name, or all that name nobody of the network."""
        if len(pools) == 1:
            return np.ones(len(rows), dtype=np.bool_)
        servers = self._leases.servers
        known = [servers.known.get(other.server or "", -2) for other in pools]
        numbers = servers.numbers[rows]
        mine = [servers.known.get(name, -2) for name in some]
        is_mine: NDArray[np.bool_] = np.isin(numbers, mine) | ~np.isin(numbers, known)
        return is_mine

    def _fullness(self, pool: Pool, servers: Sequence[str], rows: NDArray[np.int64]) -> None:
        """That a pool has no address left, or few."""
        taken, size = len(np.unique(self._leases.address[rows])), len(pool.assignable)
        if not size or taken < NEARLY * size:
            return
        by = f" of {listed(servers)}" if servers else ""
        left = f"{size - taken:,} left" if taken < size else "none left: the next client gets none"
        message = f"{taken:,} of {counted(size, 'address')}{by} in {pool.name} are taken, {left}"
        rule = "pool-nearly-full" if taken < size else "pool-full"
        self._note(rule, Severity.WARNING, message, int(rows[-1]), pool.name)

    def _too_long(self, pool: Pool, rows: NDArray[np.int64]) -> None:
        """Leases that last longer than those that the plan gives."""
        planned = pool.offer.lease
        if planned is None or planned >= INFINITE:
            return
        starts = self._leases.starts[rows]
        since = np.where(np.isnan(starts), self._now, starts)
        lasts = self._leases.expires[rows] - since  # what began earlier lasts longer still
        for row in rows[lasts > planned * LONGER].tolist():
            end = float(self._leases.expires[row])
            shown = "without end"
            if np.isfinite(end):
                shown = f"until {datetime.fromtimestamp(end, UTC):%Y-%m-%d %H:%M} UTC"
            message = (
                f"{self._leases.label(row)} has a lease {shown}, which is longer than "
                f"{format_duration(planned)}, as {pool.name} gives"
            )
            self._note("too-long", Severity.WARNING, message, row, pool.name)

    def odd(self) -> Iterator[Contradiction]:
        """Leases that contradict themselves: of another network, or at impossible times."""
        leases, home = self._leases, self._homes.home
        places = np.array(
            [self._places.get(word, -1) for word in leases.networks.known], dtype=np.int64
        )
        if len(places):
            said = places[leases.networks.numbers]
            for row in np.flatnonzero((said >= 0) & (home >= 0) & (said != home)).tolist():
                here, there = self._pools.names[home[row]], self._pools.names[said[row]]
                shown = format_address(int(leases.address[row]))
                message = f"{leases.label(row)} has {shown} of {here}, but is listed in {there}"
                yield Contradiction("lease-other-network", Severity.WARNING, message, row, here)
        for wrong, what in (
            (leases.starts > leases.expires, "begins after it ends"),
            (
                (leases.starts > self._now + AHEAD) & (leases.starts <= leases.expires),
                "begins in the future",
            ),
        ):
            for row in np.flatnonzero(wrong).tolist():
                name = self._pools.names[home[row]] if home[row] >= 0 else ""
                message = f"the lease of {leases.label(row)} {what}"
                yield Contradiction("lease-times", Severity.WARNING, message, row, name)

    @cached_property
    def _places(self) -> Mapping[str, int]:
        """Where each network is in the plan's order."""
        return {name: place for place, name in enumerate(self._pools.names)}

    def _contradictions(
        self,
        place: int,
        pools: Sequence[Pool],
        rows: NDArray[np.int64],
        own: NDArray[np.int64],
    ) -> None:
        """What is wrong with leases of addresses that their clients are not bound to."""
        name, addresses = self._pools.names[place], self._leases.address[rows]
        assignable = self._pools.assignable_in(place).contains(addresses)
        others = self._pools.bindings_by_address.first_at(
            np.full(len(rows), self._pools.vrf_numbers[place]), addresses
        )
        held = self._pools.taken(place).contains(addresses)
        wrong = (own >= 0) | (others >= 0) | held | ~assignable
        for at in np.flatnonzero(wrong).tolist():
            row, shown = int(rows[at]), format_address(int(addresses[at]))
            who = self._leases.label(row)
            if own[at] >= 0:
                message = f"{who} has {shown}, but is bound to {format_address(int(own[at]))}"
                self._note("bound-elsewhere", Severity.WARNING, message, row, name)
            if others[at] >= 0:
                owner = self._pools.bindings.label(int(others[at]))
                message = f"{who} has {shown}, which {owner} is bound to"
                self._note("bound-to-another", Severity.ERROR, message, row, name)
            elif held[at]:
                message = f"{who} has {shown}, which {self._holder(place, int(addresses[at]))} has"
                self._note("held", Severity.ERROR, message, row, name)
            elif not assignable[at]:
                message = f"{who} has {shown}, which {self._why_not(place, int(addresses[at]))}"
                self._note("not-assignable", Severity.WARNING, message, row, name)
        self._from_others(place, pools, rows)

    def _from_others(self, place: int, pools: Sequence[Pool], rows: NDArray[np.int64]) -> None:
        """Leases from servers that don't serve the network in the plan."""
        servers, serving = self._leases.servers, [pool.server or "" for pool in pools]
        name = self._pools.names[place]
        for word, number in servers.known.items():
            if not word or word in serving:
                continue
            for row in rows[servers.numbers[rows] == number].tolist():
                by = f", but {listed(serving)} does" if any(serving) else ""
                who = self._leases.label(row)
                message = f"{who} has a lease of {word}, which doesn't serve {name}{by}"
                self._note("other-server", Severity.WARNING, message, row, name)

    def _note(
        self, rule: str, severity: Severity, message: str, row: int, network: str = ""
    ) -> None:
        self.found.append(Contradiction(f"lease-{rule}", severity, message, row, network))

    def _holder(self, place: int, address: int) -> str:
        """What a plan calls the machine at an address."""
        vrf = int(self._pools.vrf_numbers[place])
        for row in self._pools.static_by_address.at(vrf, address):
            return self._pools.static.label(row) or "a static host"
        for attachment in self._pools.topology.answering(address, self._pools.networks[place].vrf):
            return str(attachment)
        return "the gateway"

    def _why_not(self, place: int, address: int) -> str:
        network, name = self._pools.networks[place], self._pools.names[place]
        excluded = network.why_excluded(address)
        return f"is {excluded} in {name}" if excluded is not None else f"is in no range of {name}"

    def in_no_network(self) -> Iterator[Contradiction]:
        """Leases of addresses that are in no network."""
        rows = self._homes.rows(-1)
        for row in rows[self._valid[rows]].tolist():
            shown = format_address(int(self._leases.address[row]))
            message = f"{self._leases.label(row)} has {shown}, which is in no network of the plan"
            yield Contradiction("lease-in-no-network", Severity.WARNING, message, row, "")

    def twice(self) -> Iterator[Contradiction]:
        """Clients with two addresses in a network, and addresses that two clients have."""
        valid = np.flatnonzero(self._valid)
        home = self._homes.home[valid]
        client, address = self._leases.machine[valid], self._leases.address[valid]
        for group in repeated(home, address):
            rows = valid[group].tolist()
            if len({int(c) for c in client[group]}) > 1 and home[group[0]] >= 0:
                who = listed(dict.fromkeys(self._leases.label(row) for row in rows))
                shown = format_address(int(self._leases.address[rows[0]]))
                message = f"{who} {'both' if len(rows) == 2 else 'all'} have {shown}"
                yield self._twice("address-twice", Severity.ERROR, message, rows)
        for group in repeated(home, client):
            rows = valid[group].tolist()
            found = dict.fromkeys(format_address(int(a)) for a in address[group])
            if len(found) > 1 and home[group[0]] >= 0:
                message = f"{self._leases.label(rows[0])} has {listed(found)}"
                yield self._twice("client-twice", Severity.WARNING, message, rows)

    def _twice(
        self, rule: str, severity: Severity, message: str, rows: Sequence[int]
    ) -> Contradiction:
        home = int(self._homes.home[rows[-1]])
        return Contradiction(f"lease-{rule}", severity, message, rows[-1], self._pools.names[home])


def _in_step(pools: Sequence[Pool]) -> Iterator[tuple[Pool, Sequence[str]]]:
    """The pools of a network with who serves each; that of a pair once, with both."""
    told = set[str]()
    for pool in pools:
        both = [p for p in pools if p is pool or pool.keeps_in_step_with(p)]
        servers = [p.server for p in both if p.server is not None]
        if told.isdisjoint(servers):
            yield pool, servers
        told.update(servers)
