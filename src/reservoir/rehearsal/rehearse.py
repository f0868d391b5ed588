"""The rehearsal of a plan: every network's clients ask for their addresses, and use them."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import replace
from functools import partial

from reservoir.core.plan.model import Network
from reservoir.core.pools import Pools
from reservoir.core.values.addresses import format_address
from reservoir.core.values.clients import Mac
from reservoir.core.values.durations import INFINITE
from reservoir.dialects.behaviour.serving import Serving
from reservoir.files.lease_list import LeaseRow
from reservoir.rehearsal.casting import MOST_EXPECTED, MOST_FILLED, Cast, cast_of, expected_in
from reservoir.rehearsal.clients.client import MOST_TRIES, Client
from reservoir.rehearsal.clients.kinds import kinds_of
from reservoir.rehearsal.judgement.judging import judge, not_renewed
from reservoir.rehearsal.judgement.result import NetworkRehearsed, Rehearsal
from reservoir.rehearsal.wires.setting import connect_devices
from reservoir.rehearsal.wires.wires import UNDISTURBED, Disturbance, Event, Wires

APART = 0.02
"""Seconds between two clients that are switched on."""

PATIENCE = 180.0
"""Seconds after which every client has an address or has given up."""

TRIES_IF_DISTURBED = 20
"""Messages without an answer after which a client gives up where messages are lost."""

PATIENCE_IF_DISTURBED = 1_800.0
"""Seconds after which even those have an address or have given up."""


def rehearse(
    pools: Pools,
    started: Mapping[str, Serving],
    *,
    complete: bool = True,
    clients: int | None = None,
    only: Collection[str] = (),
    listen: Collection[str] = (),
    seed: int = 0,
    disturbance: Disturbance = UNDISTURBED,
    capture: Callable[[float, bytes], None] | None = None,
    watch: Callable[[float], None] | None = None,
) -> Rehearsal:
    """Let the clients of a plan's networks ask for addresses, and look at what they get.

    Args:
        pools: The plan.
        started: What each device serves that was started from its configuration.
        complete: Whether all devices that matter are in the plan; else nothing is claimed of
            what others may do.
        clients: Clients without a binding in each network; as many as the plan expects if None.
        only: The networks to rehearse; all if empty.
        listen: The networks of which the whole conversation is kept.
        seed: What chance begins with: the same seed gives the same messages.
        disturbance: What goes wrong under way.
        capture: Called with the time and the bytes of each frame that is sent.
        watch: Called with the share of the clients that have come, 0 to 1.

    Returns:
        What the clients got, network by network, in the plan's order.
    """
    planned = pools
    if not complete and not only:  # a plan's relays that lead nowhere are the checks' affair
        pools = _with_relayed(pools, started)
    wires = Wires(pools, seed, disturbance, complete=complete)
    wires.capture = capture
    connect_devices(wires, pools, started, complete=complete)
    tries = TRIES_IF_DISTURBED if disturbance else MOST_TRIES
    names = [name for name in pools.names if not only or name in only]
    unplanned = set(pools.names) - set(planned.names)
    asked = dict.fromkeys(unplanned, 1)
    if clients is not None:  # nobody comes where nobody is meant to be served, or only the bound
        asked |= {name: 0 for name in planned.names if not _is_meant(planned, name)}
    left_out = {
        name: why
        for name in names
        if name not in unplanned
        if (why := _why_not(pools, name, started, complete))
        or (why := _too_many(pools, name, started) if clients is None else "")
    }
    casts = [
        cast_of(pools, name, started, wires, asked.get(name, clients), tries)
        for name in names
        if name not in left_out
    ]
    conversations = _listen(wires, casts, listen)
    _let_come(wires, casts, PATIENCE_IF_DISTURBED if disturbance else PATIENCE, watch)
    networks = [
        judge(cast.network, cast.bound, cast.expected, cast.filling, wires, pools, complete)
        for cast in casts
    ]
    leases = [row for cast in casts for row in _leases_of(cast, pools)]
    _let_renew(wires, casts, networks)
    for each, cast in zip(networks, casts, strict=True):
        room = len(pools.assignable_in(pools.place_of(cast.network)))
        each.is_too_large = clients is None and room > MOST_FILLED
        each.conversation = conversations.get(each.network, [])
        each.called = {
            client.mac: _called(client)
            for client in cast.everybody
            if client.kind or client.label != str(client.mac)
        }
        each.of_class = {client.mac: client.kind for client in cast.everybody if client.kind}
    return Rehearsal(
        networks=networks,
        left_out=left_out,
        ignored={name: serving.ignored for name, serving in started.items() if serving.ignored},
        exchanges=sum(1 for cast in casts for _ in cast.everybody),
        seconds=wires.clock.now,
        leases=leases,
    )


def _called(client: Client) -> str:
    """What a client is called in what was said: by its name, and the class that it is of."""
    label = str(client.mac)
    if client.label != label:
        label = f"{client.label} ({label})"
    return f"{label}, of class {client.kind}" if client.kind else label


def _with_relayed(pools: Pools, started: Mapping[str, Serving]) -> Pools:
    """The pools, with a network by the name of each interface that relays from none to a server.

    Its clients ask, and the server has no pool for them.
    """
    topology, added = pools.topology, dict[str, Network]()
    for attachment in topology.addressed:
        targets = topology.interface(attachment).relay_to
        asked = {holder.device for target in targets for holder in topology.holders(target)}
        is_lost = topology.home_of(attachment) is None and topology.is_up(attachment)
        if is_lost and asked & started.keys():
            vrf = topology.interface(attachment).vrf
            subnet = attachment.prefix.subnet
            added[str(attachment)] = Network(subnet=subnet, vrf=vrf, served_by=())
    if not added:
        return pools
    return Pools(replace(pools.plan, networks={**pools.plan.networks, **added}))


def _is_meant(pools: Pools, name: str) -> bool:
    """Whether clients without a binding are to be served, and not only those with one."""
    index = pools.place_of(name)
    has_ranges = any(pool.named or pool.by_class is not None for pool in pools.of(name))
    is_for_bound = len(pools.bound_rows(index)) > 0 and not has_ranges
    served = pools.topology.serving(name) or pools.assignable_in(index)
    return bool(served) and not is_for_bound


def _why_not(pools: Pools, name: str, started: Mapping[str, Serving], complete: bool) -> str:
    """Why a network can't be rehearsed; empty if it can."""
    if not complete and not pools.topology.attachments(pools.plan.networks[name]):
        return "no device of these files is in it, so nothing is known of its relay"
    servers = sorted(pools.topology.serving(name))
    unknown = [server for server in servers if server not in started]
    if not servers and not pools.plan.networks[name].ranges and not pools.offer_in(name).gateway:
        return "no device serves it"
    if unknown and len(unknown) == len(servers):
        return f"{unknown[0]} has no dialect, so there is no configuration to start it from"
    return ""


def _too_many(pools: Pools, name: str, started: Mapping[str, Serving]) -> str:
    """That so many clients are expected that they would come for minutes; empty if not."""
    kinds = kinds_of(pools, pools.place_of(name))
    expected = sum(expected_in(pools, name, started, kind.name) or 0 for kind in kinds)
    if expected <= MOST_EXPECTED:
        return ""
    return (
        f"it expects {expected:,} clients, and a rehearsal has {MOST_EXPECTED:,} at most; "
        "rehearse --clients N lets fewer come"
    )


def _leases_of(cast: Cast, pools: Pools) -> Iterator[LeaseRow]:
    """What the clients of a network have."""
    for client in cast.everybody:
        if client.is_online:
            holders = pools.topology.holders(client.server)
            server = holders[0].device if holders else format_address(client.server)
            whose = (client.mac, client.identifier, client.address)
            yield LeaseRow(*whose, cast.network, server, None)


def _let_come(
    wires: Wires, casts: list[Cast], patience: float, watch: Callable[[float], None] | None
) -> None:
    """Switch every client on: first those that are expected, then those that fill the pools."""
    count, come = sum(1 for cast in casts for _ in cast.everybody), 0
    for turn in (Cast.owners, Cast.expected_ones, Cast.filling_ones):
        for client in [client for cast in casts for client in turn(cast)]:
            client.switch_on()
            come += 1
            wires.clock.run(wires.clock.now + APART)
            if watch is not None and not come % 256:
                watch(come / count)
        wires.clock.run(wires.clock.now + patience)


def _let_renew(wires: Wires, casts: list[Cast], networks: Sequence[NetworkRehearsed]) -> None:
    """Wait until the first client of each network has renewed its lease, or could not."""
    samples: list[tuple[Client, NetworkRehearsed]] = []
    for cast, result in zip(casts, networks, strict=True):
        everybody = list(cast.everybody)
        for client in everybody[1:]:
            client.keeps = False
        first = everybody[0] if everybody else None
        if first is not None and first.is_online and first.lease < INFINITE:
            samples.append((first, result))
    lease = max((first.lease for first, _ in samples), default=0)
    if lease:
        wires.clock.run(wires.clock.now + lease)
    for client, result in samples:
        result.renewed = client.renewals > 0
        if not result.renewed:
            result.failures.append(not_renewed(client, wires))


def _listen(wires: Wires, casts: list[Cast], listen: Collection[str]) -> dict[str, list[Event]]:
    """Keep what is said of the clients of some networks."""
    conversations: dict[str, list[Event]] = {name: [] for name in listen}
    whose = {
        client.mac: conversations[cast.network]
        for cast in casts
        if cast.network in conversations
        for client in cast.everybody
    }
    if whose:
        wires.watch = partial(_keep, whose)
    return conversations


def _keep(whose: Mapping[Mac, list[Event]], event: Event) -> None:
    if event.client in whose:
        whose[event.client].append(event)
