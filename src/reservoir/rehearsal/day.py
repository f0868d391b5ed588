"""A virtual day: clients come and go as the demand says, and addresses are taken and given back.

Every day is like the last. Leases of the days before are still held in the morning, so the day that
counts comes after as many others as a visitor's address stays taken.
Visitors of other days are others.
"""

from __future__ import annotations

import math
from bisect import bisect_left
from collections.abc import Callable, Collection, Iterator, Mapping
from dataclasses import dataclass, field
from functools import partial
from random import Random
from typing import NamedTuple

import numpy as np

from reservoir.core.plan.demand import Demand
from reservoir.core.pools import Pools
from reservoir.core.sizing.size import clients_at_peak, sizable, size
from reservoir.core.sizing.streams import DAY, MINUTE, Stream, crowd
from reservoir.core.values.clients import Mac
from reservoir.core.values.durations import INFINITE
from reservoir.dialects.behaviour.serving import Serving
from reservoir.rehearsal.clients.client import Client
from reservoir.rehearsal.devices.leases import PoolLeases
from reservoir.rehearsal.wires.setting import connect_devices, lease_in
from reservoir.rehearsal.wires.wires import Wires

MOST_DAYS_BEFORE = 8
"""Days that are lived through before the one that counts, at most."""

STEP = 300
"""Seconds between two looks at how many addresses are taken."""

FIRST_MAC = 0x021000000000
"""The hardware address of the first client of the day. Locally administered."""


@dataclass
class NetworkDay:
    """A day of one network."""

    network: str
    room: int
    """Addresses that clients may have: assignable ones, and those that are bound."""
    expected: int
    """Those that are taken on average at the busiest moment, as sizing has it."""
    came: int = 0
    """Clients that asked for an address that day; those always there too."""
    refused: int = 0
    """Those of them that got none."""
    expected_renewals: float = 0.0
    """Renewals a second in the busiest minute, as sizing has it; 0 where it can't be sized."""
    renewed: list[float] = field(default_factory=list)
    """When clients renewed that day: seconds from midnight."""
    taken: list[int] = field(default_factory=list)
    """Addresses taken at the end of each :data:`STEP` seconds from midnight."""

    @property
    def peak(self) -> int:
        """The most that were taken at once."""
        return max(self.taken, default=0)

    @property
    def renewals_per_second(self) -> float:
        """Renewals in the busiest minute, on average."""
        times = sorted(self.renewed)
        most = (place - bisect_left(times, at - MINUTE) + 1 for place, at in enumerate(times))
        return max(most, default=0) / MINUTE

    @property
    def peak_at(self) -> int:
        """When that was first so: seconds from midnight."""
        return (self.taken.index(self.peak) + 1) * STEP if self.taken else 0


def rehearse_day(
    pools: Pools,
    started: Mapping[str, Serving],
    *,
    complete: bool = True,
    only: Collection[str] = (),
    seed: int = 0,
    watch: Callable[[float], None] | None = None,
) -> list[NetworkDay]:
    """Let a day pass in every network that has a demand.

    Args:
        pools: The plan.
        started: What each device serves that was started from its configuration.
        complete: Whether all devices that matter are in the plan.
        only: The networks; all if empty.
        seed: What chance begins with: when visitors walk in.
        watch: Called with the share of the time that has passed, 0 to 1.

    Returns:
        What came of it, in the plan's order; networks without a demand are left out.
    """
    wires = Wires(pools, seed)
    connect_devices(wires, pools, started, complete=complete)
    lives = [
        _Life(name, network.demand, pools, wires, lease_in(pools, name, started))
        for name, network in pools.plan.networks.items()
        if network.demand is not None and (not only or name in only)
    ]
    before = max((life.days_before for life in lives), default=0)
    for life in lives:
        life.begin(before)
    count = (before + 1) * DAY // STEP
    for step in range(count):
        wires.clock.run((step + 1) * STEP)
        if (step + 1) * STEP > before * DAY:
            for life in lives:
                life.look()
        if watch is not None:
            watch((step + 1) / count)
    return [life.result for life in lives]


class Visit(NamedTuple):
    """A client that comes and goes."""

    at: float
    """Seconds from midnight."""
    stay: float
    """Seconds."""
    releases: bool
    """Whether it releases its address when it leaves."""


def _visits(stream: Stream, chance: Random) -> Iterator[Visit]:
    """Who comes on a day: those who are known each at a moment by chance, others as they like."""
    count, left = round(stream.count), 0.0
    if not stream.is_known:
        count, left = 0, chance.expovariate(1.0)
        while left < stream.count:
            count, left = count + 1, left + chance.expovariate(1.0)
    shares = np.array([chance.random() for _ in range(2 * count)])
    arrivals, stays = stream.arrivals(shares[:count]), stream.stays.quantiles(shares[count:])
    for at, stay in zip(arrivals.tolist(), stays.tolist(), strict=True):
        yield Visit(at, stay, chance.random() < stream.released)


class _Life:
    """The clients of one network, as they come and go."""

    def __init__(self, name: str, demand: Demand, pools: Pools, wires: Wires, lease: int) -> None:
        self._name = name
        self._wires = wires
        index = pools.place_of(name)
        self._lease = lease
        self._crowd = crowd(demand, self._lease)
        self._streams = self._crowd.streams
        self._first = FIRST_MAC + (index << 24)
        self._number = 0
        self._regulars: dict[tuple[int, int], Client] = {}
        """Those who come every day, by their stream and their number in it."""
        self._midnight = 0
        """Of the day that counts, in seconds of virtual time."""
        occupancy = size(demand, self._lease, 0, 0.0).occupancy() if self._crowd.first else None
        self._busiest = occupancy.peak_at // DAY if occupancy is not None else 0
        """The day that counts, of those on which some come alone."""
        self._bound = [pools.bindings.client_at(row) for row in pools.bound_rows(index).tolist()]
        self._leases = list(self._leases_of(pools))
        self.result = NetworkDay(
            name,
            len(pools.assignable_in(index)) + len(self._bound),
            clients_at_peak(demand, self._lease),
            expected_renewals=size(demand, self._lease, 0, 0.0).renewals_per_second
            if sizable(demand, self._lease)
            else 0.0,
        )

    def _leases_of(self, pools: Pools) -> Iterator[PoolLeases]:
        """What is remembered of the pools in the network's subnet; a pair's once."""
        subnet = pools.plan.networks[self._name].subnet.subnet
        found = (
            leases
            for device in self._wires.devices.values()
            if device.server is not None
            for pool, leases in device.server.leases.items()
            if pool.subnet == subnet
        )
        yield from dict.fromkeys(found)

    @property
    def days_before(self) -> int:
        """Days after which as many addresses are taken as on any later one."""
        if self._lease == INFINITE:
            return 0
        daily = [stream for stream in self._streams if stream.on is None]
        ends = [s.edges[-1] + s.stays.holds(self._lease, s.released).longest for s in daily]
        alone = [self._busiest - s.on for s in self._streams if s.on is not None]
        earlier = max(math.floor(max(ends, default=0.0) / DAY), *alone, 0)
        return min(earlier, MOST_DAYS_BEFORE)

    def begin(self, before: int) -> None:
        """Plan everybody's coming and going, from the first day on."""
        first = before - self.days_before
        for number in range(self._crowd.always):
            name = self._bound[number] if number < len(self._bound) else None
            at = first * DAY + number * 0.05
            self._wires.clock.after(at, self._comes, Visit(0.0, math.inf, False), name, True)
        self._midnight = before * DAY
        for day in range(first, before + 1):
            for place, stream in enumerate(self._streams):
                if stream.on is not None and day - before != stream.on - self._busiest:
                    continue
                for number, visit in enumerate(_visits(stream, self._wires.random)):
                    who = (place, number) if stream.returns else None
                    at, is_last = day * DAY + visit.at, day == before
                    self._wires.clock.after(at, self._comes, visit, None, is_last, who)

    def _comes(
        self,
        visit: Visit,
        name: Mac | bytes | None,
        is_counted: bool,
        who: tuple[int, int] | None = None,
    ) -> None:
        client = self._regulars.get(who) if who is not None else None
        if client is None:
            client = self._new(name)
            if who is not None:
                self._regulars[who] = client
        elif client.is_online:
            return  # it is still there from yesterday
        client.acknowledged = None
        client.renewals = 0
        client.refusals.clear()
        client.switch_on()
        self.result.came += is_counted
        if is_counted:
            # By then it has an address or has given up.
            self._wires.clock.after(STEP, self._look_at, client)
        if visit.stay < math.inf:
            self._wires.clock.after(visit.stay, partial(client.leave, releases=visit.releases))

    def _new(self, name: Mac | bytes | None) -> Client:
        """A client that has never been there."""
        self._number += 1
        mac = name if isinstance(name, Mac) else Mac(self._first + self._number)
        identifier = name if isinstance(name, bytes) else None
        # Who comes back and isn't answered asks once more, as new.
        client = Client(mac, self._wires, identifier, patience=2)
        client.keeps, client.on_bound = True, self._notes_renewal
        self._wires.connect(client, self._name)
        return client

    def _notes_renewal(self, client: Client) -> None:
        now = self._wires.clock.now - self._midnight
        if client.renewals and now >= 0:
            self.result.renewed.append(now)

    def _look_at(self, client: Client) -> None:
        self.result.refused += client.acknowledged is None

    def look(self) -> None:
        """Count the addresses that are taken now."""
        now = self._wires.clock.now
        for leases in self._leases:
            leases.expire(now)
        self.result.taken.append(
            sum(not lease.is_offer for leases in self._leases for lease in leases)
        )
