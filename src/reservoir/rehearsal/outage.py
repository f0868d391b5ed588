"""What clients notice while a device or a link is off: they have their leases, then it fails.

Clients renew at half their lease, with whoever answers; who loses its address asks again. One new
client comes to each network meanwhile. When a lease has passed, all is on again.
"""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field
from functools import partial
from itertools import islice

from reservoir.core.findings import Witness
from reservoir.core.off import NOTHING_OFF, Off
from reservoir.core.pools import Pools
from reservoir.core.values.addresses import format_address
from reservoir.core.values.clients import Mac
from reservoir.core.values.durations import INFINITE
from reservoir.dialects.behaviour.serving import Serving
from reservoir.rehearsal.casting import MOST_EXPECTED, Cast, cast_of, expected_in
from reservoir.rehearsal.clients.client import MOST_TRIES, Client
from reservoir.rehearsal.clients.kinds import kinds_of
from reservoir.rehearsal.wires.setting import connect_devices
from reservoir.rehearsal.wires.wires import Wires

FIRST_NEWCOMER = 0x020400000000
"""The hardware address of the first client that comes meanwhile. Locally administered."""

APART = 0.02
"""Seconds between two clients that are switched on."""

SETTLED = 300.0
"""Seconds after which everybody has an address or has given up for now."""

NOBODY_ANSWERS = "no device answers"
"""Why a client gets nothing that no device hears."""

ALL_NIGHT = 86_400
"""Seconds of an outage where no lease ever ends."""


@dataclass
class NetworkOutage:
    """What the clients of one network noticed."""

    network: str
    clients: int
    """Those that had an address when it happened."""
    seconds: float
    """For how long they were watched: until every lease that was not renewed had ended."""
    lost: dict[Mac, float] = field(default_factory=dict)
    """Those whose lease ended meanwhile, and after how many seconds."""
    without: int = 0
    """Those that had no address then."""
    newcomer: str = ""
    """What a new client got: an address and from whom; or why it got none."""
    is_newcomer_served: bool = False
    back: int = 0
    """Those that had an address again once all was on."""

    @property
    def kept(self) -> int:
        """Those that had their address all the time."""
        return self.clients - len(self.lost)

    @property
    def first_lost(self) -> float | None:
        """After how many seconds the first lease ended; None if none did."""
        return min(self.lost.values(), default=None)


@dataclass(frozen=True)
class Outage:
    """What came of it."""

    off: Sequence[str]
    """What was off, as it was named."""
    seconds: float
    """For how long."""
    networks: Sequence[NetworkOutage]
    left_out: Mapping[str, str]
    """The networks that were not looked at, and why."""
    apart: Sequence[tuple[str, str]] = ()
    """The pairs of servers that went on alone, both on, since they didn't reach each other."""

    @property
    def failed(self) -> bool:
        """Whether a client lost its address, a new one got none, or a pair was out of step."""
        return bool(self.apart) or any(
            one.lost or not one.is_newcomer_served for one in self.networks
        )


def rehearse_outage(
    pools: Pools,
    started: Mapping[str, Serving],
    names: Sequence[str],
    *,
    complete: bool = True,
    only: Collection[str] = (),
    clients: int | None = None,
    seed: int = 0,
) -> Outage:
    """Let something fail while all clients have their leases.

    Args:
        pools: The plan.
        started: What each device serves that was started from its configuration.
        names: What fails: devices, or ``DEVICE.INTERFACE``.
        complete: Whether all devices that matter are in the plan.
        only: The networks to look at; all if empty.
        clients: Those without a binding in each network; as many as the plan expects if None.
        seed: What chance begins with.

    Raises:
        KeyError: there is no such device or interface; its argument is the name.
    """
    off = Off.of(names, pools.plan)
    wires = Wires(pools, seed, complete=complete)
    connect_devices(wires, pools, started, complete=complete)
    wanted = [name for name in pools.names if not only or name in only]
    left_out = {name: why for name in wanted if (why := _why_not(pools, name, started))}
    casts = [
        cast_of(pools, name, started, wires, clients, MOST_TRIES)
        for name in wanted
        if name not in left_out
    ]
    for cast in casts:
        cast.filling.clear()
        for client in cast.everybody:
            client.keeps, client.on_bound = True, None
            client.switch_on()
            wires.clock.run(wires.clock.now + APART)
    wires.clock.run(wires.clock.now + SETTLED)
    networks = [_watched(cast, wires) for cast in casts]
    wires.switch_off(off)
    apart = list(dict.fromkeys(pair.devices for pair in wires.in_step if pair.is_apart))
    for number, (cast, one) in enumerate(zip(casts, networks, strict=True)):
        newcomer = _newcomer(number, cast, wires, pools)
        wires.clock.after(one.seconds, _taken_stock, one, cast, newcomer, wires, pools)
    seconds = max((one.seconds for one in networks), default=0.0)
    wires.clock.run(wires.clock.now + seconds + APART)
    wires.switch_off(NOTHING_OFF)
    for cast in casts:
        for client in cast.everybody:
            if not client.is_online:
                client.refusals.clear()
                client.switch_on()
    wires.clock.run(wires.clock.now + SETTLED)
    for cast, one in zip(casts, networks, strict=True):
        one.back = sum(client.is_online for client in cast.everybody)
    return Outage(names, seconds, networks, left_out, apart)


def _why_not(pools: Pools, name: str, started: Mapping[str, Serving]) -> str:
    """Why a network isn't looked at; empty if it is."""
    servers = pools.topology.serving(name)
    if not any(server in started for server in servers):
        return "no device that is started serves it"
    if (expected_in(pools, name, started) or 0) > MOST_EXPECTED:
        return f"it expects more than {MOST_EXPECTED:,} clients"
    return ""


def _length(clients: Collection[Client]) -> float:
    """Seconds after which every lease has ended that isn't renewed, and who can has another."""
    ending = [client.lease for client in clients if client.lease < INFINITE]
    return float(max(ending, default=ALL_NIGHT)) + SETTLED


def _taken_stock(
    one: NetworkOutage, cast: Cast, newcomer: Client, wires: Wires, pools: Pools
) -> None:
    """Note who has an address; nothing changes any more, so that nobody has to go on."""
    one.without = sum(not client.is_online for client in cast.everybody)
    one.is_newcomer_served = newcomer.is_online
    one.newcomer = _got(newcomer, wires, pools)
    for client in (*cast.everybody, newcomer):
        client.keeps, client.on_lost = False, None


def _watched(cast: Cast, wires: Wires) -> NetworkOutage:
    """A network whose clients note when they lose their addresses; those without are let go."""
    begin = wires.clock.now
    had = [client for client in cast.everybody if client.is_online]
    cast.bound = [(client, own) for client, own in cast.bound if client.is_online]
    cast.expected = [client for client in cast.expected if client.is_online]
    one = NetworkOutage(cast.network, len(had), _length(had))
    for client in had:
        client.on_lost = partial(_note_lost, one, wires, begin)
    return one


def _note_lost(one: NetworkOutage, wires: Wires, begin: float, client: Client) -> None:
    one.lost.setdefault(client.mac, wires.clock.now - begin)


def _newcomer(number: int, cast: Cast, wires: Wires, pools: Pools) -> Client:
    """A client that comes while it is off, and keeps on asking: one that the network serves."""
    kind = kinds_of(pools, pools.place_of(cast.network))[-1]  # of no class, if those are served
    present = {client.mac for client in cast.everybody}
    first = Mac(FIRST_NEWCOMER + number)
    said = next((one for one in kind.members(first) if one.mac not in present), None)
    client = Client(said.mac if said else first, wires, said=said if kind.name else None)
    client.keeps = True
    wires.connect(client, cast.network)
    client.switch_on()
    return client


def _got(client: Client, wires: Wires, pools: Pools) -> str:
    """What a new client got, and from whom; or why it got nothing."""
    if client.is_online:
        holders = pools.topology.holders(client.server)
        server = holders[0].device if holders else format_address(client.server)
        return f"{format_address(client.address)} from {server}"
    reasons = list(dict.fromkeys(wires.lost.get(client.mac, ())))
    return reasons[-1] if reasons else NOBODY_ANSWERS


def why_refused(
    pools: Pools, started: Mapping[str, Serving], witness: Witness, *, complete: bool = True
) -> str:
    """Why the last of some clients gets no address while a device is off; empty if it gets one.

    Args:
        pools: The plan.
        started: What each device serves that was started from its configuration.
        witness: In which network they come, how many, of which class, and what is off.
        complete: Whether all devices that matter are in the plan.
    """
    name, wires = witness.network or "", Wires(pools, complete=complete)
    connect_devices(wires, pools, started, complete=complete)
    wires.switch_off(Off.of([witness.also], pools.plan))
    kinds = {kind.name: kind for kind in kinds_of(pools, pools.place_of(name))}
    if witness.member_of not in kinds:
        return ""
    members = kinds[witness.member_of].members(Mac(FIRST_NEWCOMER))
    last: Client | None = None
    for said in islice(members, witness.count or 0):
        last = Client(said.mac, wires, patience=1, said=said if witness.member_of else None)
        wires.connect(last, name)
        last.switch_on()
        wires.clock.run(wires.clock.now + APART)
    wires.clock.run(wires.clock.now + SETTLED)
    return "" if last is None or last.is_online else _got(last, wires, pools)
