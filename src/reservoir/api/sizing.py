"""Sizing from Python: whether pools are large enough for who is expected."""

from __future__ import annotations

from collections.abc import Collection, Mapping
from dataclasses import dataclass, replace

from reservoir.api.plans import behaviours_of, pools_of, require_known
from reservoir.core.off import Off, devices_and_interfaces, servers_lost
from reservoir.core.plan.demand import Demand
from reservoir.core.plan.history import History
from reservoir.core.pools import Pools
from reservoir.core.sizing import size as sizes
from reservoir.core.sizing.networks import Sized, sized_networks
from reservoir.core.sizing.size import Size
from reservoir.core.subject import Subject


@dataclass(frozen=True)
class Sizing:
    """The networks of a plan that were sized."""

    networks: tuple[Sized, ...]
    """In the plan's order."""
    left_out: Mapping[str, str]
    """Why the other networks were not."""
    without: tuple[str, ...] = ()
    """The devices and interfaces that are down."""


def size(
    subject: Subject,
    only: Collection[str] = (),
    *,
    once: bool = False,
    without: Collection[str] = (),
) -> Sizing:
    """Size the networks that state a demand.

    Args:
        subject: A plan, or configuration that was read, perhaps with a plan.
        only: The networks; all if empty.
        once: Whether all who come and go are to come on one day only.
        without: Devices, or ``DEVICE.INTERFACE``, that are down: only what servers assign that
            are still reached is counted.

    Raises:
        UnknownNameError: there is no such network, device or interface.
        InputError: a device's dialect is unknown, or its sheet has mistakes.
    """
    pools = pools_of(subject)
    require_known("network", only, pools.plan.networks)
    require_known("device or interface", without, devices_and_interfaces(pools.plan))
    behaviours = behaviours_of(subject)
    if once:
        networks = {name: network.once() for name, network in pools.plan.networks.items()}
        pools = Pools(replace(pools.plan, networks=networks))
    wanted = [name for name in pools.names if not only or name in only]
    lost = servers_lost(pools, Off.of(without, pools.plan), complete=subject.is_complete)
    found: dict[str, list[Sized]] = {}
    for one in sized_networks(pools, behaviours):
        found.setdefault(one.name, []).append(one.without(lost.get(one.name, ()), behaviours))
    left_out = {
        name: "its leases never end and its clients come and go"
        if pools.plan.networks[name].demand
        else "it states no demand"
        for name in wanted
        if name not in found
    }
    sized = tuple(one for name in wanted for one in found.get(name, ()))
    return Sizing(sized, left_out, tuple(dict.fromkeys(without)))


def size_demand(
    demand: Mapping[str, object] | Demand,
    lease: int,
    addresses: int = 0,
    headroom: float = 0.2,
    history: History | None = None,
) -> Size:
    """Size a demand that is in no plan.

    Args:
        demand: As a plan states it, with the values as texts.
        lease: The lease time in seconds.
        addresses: Clients that can have an address at once.
        headroom: The share of what is needed that is to stay free, unless the demand says it.
        history: Leases of the past, for a demand that names some.

    Raises:
        ValueError: the demand can't be used, or clients come and go and leases never end.
    """
    wanted = demand if isinstance(demand, Demand) else Demand.model_validate(demand)
    known = wanted.with_tables({}, history) if history is not None else wanted
    return sizes.size(known, lease, addresses, headroom)
