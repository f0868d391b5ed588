"""Sets a rehearsal up: devices started from their configuration, on the wires of the plan."""

from __future__ import annotations

from collections.abc import Mapping
from functools import partial

from reservoir.core.pools import Pools
from reservoir.core.sizing.networks import lease_of
from reservoir.dialects.behaviour.serving import Serving
from reservoir.dialects.parse.reader import read_configuration
from reservoir.dialects.sheet.model import Sheet
from reservoir.rehearsal.leases import PoolLeases
from reservoir.rehearsal.server import StandInServer
from reservoir.rehearsal.stand_in import StandIn
from reservoir.rehearsal.wires import Wires


def start(text: str, sheet: Sheet) -> Serving:
    """What a device serves that starts from a configuration text."""
    return Serving(read_configuration(text, sheet).device, sheet)


def connect_devices(
    wires: Wires, pools: Pools, started: Mapping[str, Serving], *, complete: bool = True
) -> None:
    """Put the devices of a plan on its wires.

    Args:
        wires: The wires of the plan.
        pools: The plan.
        started: What each device serves that was started from its configuration. The others relay
            and route as the plan says, and serve nobody.
        complete: Whether all devices that matter are in the plan; else an unknown one may relay.
    """
    for name, device in pools.plan.devices.items():
        server, refusal = None, ""
        if name in started:
            started[name].adopt_names(device.interfaces)
            refusal = _refusal(name, started[name], pools, complete)
            own = {pool: PoolLeases(pool) for pool in started[name].pools}
            if not refusal:
                server = StandInServer(started[name], own, partial(wires.is_used, name))
        wires.devices[name] = StandIn(
            name,
            wires,
            server,
            {i: interface.relay_to for i, interface in device.interfaces.items()},
            {a.address: a.interface for a in pools.topology.attachments_of(name)},
            refusal,
            adds_circuit=name in started and started[name].behaviour.adds_circuit,
        )


def lease_in(pools: Pools, name: str, started: Mapping[str, Serving], kind: str = "") -> int:
    """The longest lease time of a class in a network, in seconds, as plan or devices have it."""
    own = pools.of(name)
    servers = (str(pool.server) for pool in own)
    behaviours = {name: started[name].behaviour for name in servers if name in started}
    return max(lease_of(pool, behaviours, kind) for pool in own)


def _refusal(name: str, serving: Serving, pools: Pools, complete: bool) -> str:
    """Why a device refuses its configuration as a whole, as far as is known; empty if it starts."""
    if not serving.behaviour.refuses_unreached_pools:
        return ""
    topology = pools.topology
    own = {attachment.address for attachment in topology.attachments_of(name)}
    reached = {
        pool
        for attachment in topology.addressed
        if attachment.device == name or own.intersection(topology.interface(attachment).relay_to)
        for pool in serving.pools_holding(attachment.address)
    }
    known = {pool for a in topology.addressed for pool in serving.pools_holding(a.address)}
    doubtful = serving.pools if complete else [pool for pool in serving.pools if pool in known]
    unreached = [pool for pool in doubtful if pool not in reached]
    for pool in unreached:
        serving.ignore(pool.fact, "no interface or relay leads to it: the device refuses to start")
    if not unreached:
        return ""
    return f"refuses its configuration, since nothing leads to {unreached[0].label}"
