"""Sets a rehearsal up: devices started from their configuration, on the wires of the plan."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace
from functools import partial
from math import inf

from reservoir.core.pools import Pools
from reservoir.core.sizing.networks import lease_of
from reservoir.core.values.addresses import format_address
from reservoir.dialects.behaviour.serving import Serving
from reservoir.dialects.behaviour.serving_pool import ServingPool
from reservoir.dialects.parse.reader import read_configuration
from reservoir.dialects.sheet.model import Sheet
from reservoir.rehearsal.devices.leases import PoolLeases
from reservoir.rehearsal.devices.pairs import InStep, Memory, Partner, pairs_in
from reservoir.rehearsal.devices.server import StandInServer
from reservoir.rehearsal.devices.stand_in import StandIn
from reservoir.rehearsal.wires.wires import Wires


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
    memories = {
        name: {pool: _memory(pool, serving) for pool in serving.pools}
        for name, serving in started.items()
    }
    partners = _paired(wires, started, memories)
    for name, device in pools.plan.devices.items():
        server, refusal = None, ""
        if name in started:
            started[name].adopt_names(device.interfaces)
            refusal = _refusal(name, started[name], pools, complete)
            if not refusal:
                server = StandInServer(
                    started[name],
                    memories[name],
                    partial(wires.is_used, name),
                    partners.get(name, {}),
                )
        wires.devices[name] = StandIn(
            name,
            wires,
            server,
            {i: interface.relay_to for i, interface in device.interfaces.items()},
            {a.address: a.interface for a in pools.topology.attachments_of(name)},
            refusal,
            adds_circuit=name in started and started[name].behaviour.adds_circuit,
        )


def _memory(pool: ServingPool, serving: Serving) -> PoolLeases:
    """What a server remembers of a pool that is its own alone, at first."""
    has_partner = pool.fact.get("partner") is not None
    by_halves = has_partner and serving.behaviour.assigns_halves
    return PoolLeases(pool.assignable, by_halves=by_halves)


def _paired(
    wires: Wires, started: Mapping[str, Serving], memories: Mapping[str, Memory]
) -> dict[str, dict[ServingPool, Partner]]:
    """Put the pairs in step, and tell each pool that has a partner of it."""
    found: dict[str, dict[ServingPool, Partner]] = {
        name: {
            pool: Partner(format_address(at), pool.fact.get("leads", True), serving.behaviour)
            for pool in serving.pools
            if serving.behaviour.pairs and (at := pool.fact.get("partner")) is not None
        }
        for name, serving in started.items()
    }
    for pair in pairs_in(started):
        first, second = pair.devices
        ends = [pool.fact.get("partner") for pool in pair.pools]
        memories[first][pair.pools[0]] = PoolLeases(
            pair.assignable, by_halves=started[first].behaviour.assigns_halves
        )
        step = InStep(
            pair.devices,
            (memories[first], memories[second]),
            pair.pools,
            partial(wires.are_apart, (first, second), (ends[1], ends[0])),
        )
        wires.in_step.append(step)
        for place, (device, pool) in enumerate(zip(pair.devices, pair.pools, strict=True)):
            other = pair.devices[1 - place]
            ways = (device, other), (ends[1 - place], ends[place])
            found[device][pool] = replace(
                found[device][pool],
                name=other,
                out_of_reach_for=partial(wires.out_of_reach_for, *ways),
                addresses=started[other].own_addresses,
                after=pool.fact.get("after", inf),
            )
    return found


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
