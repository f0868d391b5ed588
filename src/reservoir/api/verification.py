"""Verifying from Python: real servers are asked, and what they answer is held to the plan."""

from __future__ import annotations

import time
from collections.abc import Callable, Collection, Sequence
from contextlib import closing
from dataclasses import replace

from reservoir.api.plans import Watch, check, pools_of, require_known
from reservoir.api.rehearsals import served_by
from reservoir.core.leases.holders import Holders
from reservoir.core.leases.table import LeaseTable
from reservoir.core.pools import Pools
from reservoir.core.subject import Subject
from reservoir.core.values.addresses import format_address
from reservoir.core.values.clients import Mac
from reservoir.dialects.behaviour.serving import Serving
from reservoir.rehearsal.asking import TRIES, asks_of
from reservoir.rehearsal.judgement.known import find_known
from reservoir.rehearsal.judgement.result import Rehearsal
from reservoir.rehearsal.judgement.verified import Verification
from reservoir.rehearsal.verify import MOST_OF_A_TAKER, Verifying
from reservoir.rehearsal.wires.as_relay import AsRelay
from reservoir.rehearsal.wires.interface import SystemInterface, UnusableInterfaceError
from reservoir.rehearsal.wires.laying import on_one_lan
from reservoir.rehearsal.wires.live import Live
from reservoir.rehearsal.wires.on_lan import OnLan

MOST = 300
"""Messages that are sent at most, if nothing else is said."""


def verify(
    subject: Subject,
    on: str | None = None,
    *,
    networks: Collection[str] = (),
    take: bool = False,
    as_relay: int | None = None,
    servers: Sequence[int] = (),
    most: int = MOST,
    leases: LeaseTable | None = None,
    now: float | None = None,
    before: Callable[[Verifying], None] | None = None,
    capture: Callable[[float, bytes], None] | None = None,
    watch: Watch | None = None,
) -> Verification:
    """Ask the real servers, and hold what they answer to the plan.

    Args:
        subject: A plan, or configuration that was read, perhaps with a plan (:func:`combine`).
        on: The interface to ask from (Linux).
        networks: The networks to ask; by default those of the interface's LAN, or as relay those
            that the servers serve.
        take: Whether clients without a binding take what they are offered, use it, and give it
            back; only on an interface.
        as_relay: An address of this machine, to ask from instead, as a relay does.
        servers: The addresses of the servers that are asked then.
        most: Messages that are sent at most.
        leases: Who has which address at present: an offer of one that somebody else has is told.
        now: The present time in seconds since 1970, for the leases; by the clock if None.
        before: Called with what is to be asked, before anything is sent; it may raise.
        capture: Called with the seconds since 1970 and the bytes of each frame; on an interface.
        watch: Called with the share of the clients that have asked, 0 to 1.

    Raises:
        UnusableInterfaceError: the interface or address can't be used, or isn't in these networks.
        UnknownNameError: the plan has no such network.
        InputError: a device's dialect is unknown, or its sheet has mistakes.
        ValueError: neither or both of ``on`` and ``as_relay`` are given, or no server with the
            latter.
    """
    if (on is None) == (as_relay is None) or (as_relay is not None and not servers):
        raise ValueError("give an interface, or an address to relay from and a server")
    require_known("network", networks, subject.plan.networks)
    pools, started = pools_of(subject), served_by(subject)
    at = time.time() if now is None else now
    holders = None if leases is None else Holders(leases, at)
    if as_relay is not None:
        verifying, links = _beyond(pools, started, subject, networks, as_relay, servers, most)
        verifying = replace(verifying, holders=holders)
        if before is not None:
            before(verifying)
        with closing(AsRelay(as_relay, servers, links, verifying.most)) as live:
            return _verified(verifying, live, subject, watch)
    assert on is not None  # one of the two is given
    with closing(SystemInterface(on)) as interface:
        names = _on_lan(pools, interface, networks)
        asks = asks_of(
            pools, names, interface.mac, tells_ports=False, most=_clients(most, take, pools, names)
        )
        verifying = Verifying(
            pools,
            started,
            subject.is_complete,
            names,
            asks,
            takes=take,
            on=interface.name,
            holders=holders,
        )
        if before is not None:
            before(verifying)
        on_lan = OnLan(interface, verifying.most, verifying.kept_back, capture)
        return _verified(verifying, on_lan, subject, watch)


def _verified(
    verifying: Verifying, live: Live, subject: Subject, watch: Watch | None
) -> Verification:
    """Ask, and name the findings of the checks that tell of what went wrong in the rehearsal too.

    What only the real servers do is no finding's, so that nothing accepted hides it.
    """
    found = verifying.verified(live, watch)
    planned = [each.planned for each in found.networks if each.planned is not None]
    if any(each.failures for each in planned):
        rehearsed = Rehearsal(planned, {}, {}, 0, 0.0)
        find_known(rehearsed, check(subject).findings)
    for each in found.networks:
        each.take_known()
    return found


def _clients(most: int, take: bool, pools: Pools, names: Sequence[str]) -> int:
    """How many clients may ask, so that no more messages are sent than may be."""
    takers = 0
    if take:
        kinds = (pools.of(name)[0].by_class for name in names)
        takers = sum(1 if kind is None else len(kind.classes) + 1 for kind in kinds)
    return (most - MOST_OF_A_TAKER * takers) // TRIES


def _on_lan(pools: Pools, interface: SystemInterface, networks: Collection[str]) -> Sequence[str]:
    """The networks that an interface is in: those that are named, or those of its address.

    Raises:
        UnusableInterfaceError: the named ones are on several LANs, or none is named and the
            address tells of none.
    """
    if networks:
        lan = on_one_lan(pools, next(iter(networks)))
        other = next((name for name in networks if name not in lan), None)
        if other is not None:
            first = next(iter(networks))
            raise UnusableInterfaceError(
                f"{first} and {other} are not on one LAN: ask from the interface of each."
            )
        return list(networks)
    there = [
        n for n, net in pools.plan.networks.items() if net.subnet.span.holds(interface.address)
    ]
    lans = {tuple(on_one_lan(pools, name)) for name in there or pools.names}
    if len(lans) == 1:
        return next(iter(lans))
    if not interface.address:
        where = f"{interface.name} has no address"
    elif not there:
        where = f"{interface.name} has {format_address(interface.address)}, which is in no network"
    else:
        where = f"{format_address(interface.address)} of {interface.name} is in several networks"
    raise UnusableInterfaceError(f"{where}: name the one that it is in with --network.")


def _beyond(
    pools: Pools,
    started: dict[str, Serving],
    subject: Subject,
    networks: Collection[str],
    own: int,
    servers: Sequence[int],
    most: int,
) -> tuple[Verifying, dict[str, int]]:
    """What is asked of servers as a relay, and an address in each network; 0 for its own."""
    topology = pools.topology
    devices = {holder.device for server in servers for holder in topology.holders(server)}
    serving = {device for name in pools.names for device in topology.serving(name)}
    if not devices and all(topology.addresses_of(device) for device in serving):
        shown = " or ".join(map(format_address, servers))
        raise UnusableInterfaceError(f"No device of the plan has {shown}: see --server.")
    left_out: list[tuple[str, str]] = []
    names: list[str] = []
    for name in networks or pools.names:
        why = _why_not_beyond(pools, started, name, own, devices)
        if why is None:
            names.append(name)
        elif why or networks:
            shown = " and ".join(map(format_address, servers))
            left_out.append((name, why or f"the plan doesn't have {shown} as its server"))
    asks = asks_of(pools, names, Mac(own), tells_ports=True, most=most // (TRIES * len(servers)))
    plan = pools.plan
    links = {
        name: 0 if plan.networks[name].subnet.span.holds(own) else _address_in(pools, name)
        for name in names
    }
    verifying = Verifying(
        pools,
        started,
        subject.is_complete,
        names,
        asks,
        takes=False,
        on=format_address(own),
        targets=len(servers),
        left_out=left_out,
    )
    return verifying, links


def _why_not_beyond(
    pools: Pools, started: dict[str, Serving], name: str, own: int, devices: set[str]
) -> str | None:
    """Why a network can't be asked as a relay; None if it can, empty if others serve it."""
    serving = pools.topology.serving(name)
    its = serving & devices
    if devices and not its:
        return ""
    if pools.plan.networks[name].subnet.span.holds(own):
        return None
    for device in sorted(its & started.keys()):
        behaviour = started[device].behaviour
        if not behaviour.answers_relays:
            return f"{device} doesn't answer relays"
        if not behaviour.heeds_subnet_named:
            return f"{device} knows a network only by the relay's own address: ask from inside it"
    return None


def _address_in(pools: Pools, name: str) -> int:
    """An address in a network that its relays may have: of the relay, if the plan has one."""
    network = pools.plan.networks[name]
    for server in sorted(pools.topology.serving(name)):
        reach = pools.topology.reach(server, network)
        if reach is not None:
            return reach.through.address
    return network.subnet.hosts.first
