"""Sets a rehearsal up: devices started from their configuration, on the wires of the plan."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial

from reservoir.core.pools import Pools
from reservoir.dialects.behaviour.serving import Serving, ServingPool
from reservoir.dialects.parse.reader import read_configuration
from reservoir.dialects.sheet.model import Sheet
from reservoir.rehearsal.leases import PoolLeases
from reservoir.rehearsal.server import Server
from reservoir.rehearsal.stand_in import StandIn
from reservoir.rehearsal.wires import Wires


def start(text: str, sheet: Sheet) -> Serving:
    """What a device serves that starts from a configuration text."""
    return Serving(read_configuration(text, sheet).device, sheet)


def connect_devices(wires: Wires, pools: Pools, started: Mapping[str, Serving]) -> None:
    """Put the devices of a plan on its wires.

    Args:
        wires: The wires of the plan.
        pools: The plan.
        started: What each device serves that was started from its configuration. The others relay
            and route as the plan says, and serve nobody.
    """
    leases: dict[ServingPool, PoolLeases] = {}
    for name, serving in started.items():
        for pool in serving.pools:
            leases[pool] = _shared(pool, name, pools, started, leases) or PoolLeases(pool)
    for name, device in pools.plan.devices.items():
        server = None
        if name in started and _starts(name, started[name], pools):
            own = {pool: leases[pool] for pool in started[name].pools}
            server = Server(started[name], own, partial(wires.is_used, name))
        wires.devices[name] = StandIn(
            name,
            wires,
            server,
            {i: interface.relay_to for i, interface in device.interfaces.items()},
            {a.address: a.interface for a in pools.topology.attachments_of(name)},
        )


def _shared(
    pool: ServingPool,
    device: str,
    pools: Pools,
    started: Mapping[str, Serving],
    leases: Mapping[ServingPool, PoolLeases],
) -> PoolLeases | None:
    """The leases of its partner's pool, where the plan has two servers keep theirs in step."""
    for planned in pools.served_by(device):
        partner = planned.serving.partner if planned.serving else None
        if partner is None or planned.network.subnet.subnet != pool.subnet:
            continue
        for other in started[partner].pools if partner in started else ():
            if other in leases and other.assignable == pool.assignable:
                leases[other].is_shared = True
                return leases[other]
    return None


def _starts(name: str, serving: Serving, pools: Pools) -> bool:
    """Whether a device takes its configuration at all."""
    if not serving.behaviour.refuses_unreached_pools:
        return True
    topology = pools.topology
    own = {attachment.address for attachment in topology.attachments_of(name)}
    led = [
        attachment.address
        for attachment in topology.addressed
        if attachment.device == name or own.intersection(topology.interface(attachment).relay_to)
    ]
    unreached = [p for p in serving.pools if not any(p.subnet.span.holds(a) for a in led)]
    for pool in unreached:
        serving.ignore(pool.fact, "no interface or relay leads to it: the device refuses to start")
    return not unreached
