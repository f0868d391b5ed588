"""Compares two sides network by network, and says what clients who are there notice.

What they notice follows from the protocol: a client asks its own server for the same address at
half of the lease time, any server at seven eighths, and begins anew when the lease ends (RFC 2131
section 4.4.5); a server refuses an address that it doesn't assign to this client, and is silent
about clients that it has no record of (section 4.3.2).
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import replace
from functools import reduce
from itertools import chain

from reservoir.core.bindings import Rebound
from reservoir.core.compare.by_class import class_changes
from reservoir.core.compare.differences import offered_differently
from reservoir.core.compare.facts import FactsCompared
from reservoir.core.compare.notice import (
    Change,
    Comparison,
    DeviceCompared,
    NetworkCompared,
    Notice,
)
from reservoir.core.compare.resolving import dns_changes
from reservoir.core.compare.sides import NOTHING, NetworkSide, Side, paired, unheard
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import format_address
from reservoir.core.values.clients import Client, format_client
from reservoir.core.wording import listed

_HELD = "a static host or a device has it"


def compare(
    old: Side,
    new: Side,
    devices: Collection[str] | None = None,
    not_understood: int = 0,
    left_aside: Sequence[str] = (),
    watch: Callable[[float], None] = lambda share: None,
) -> Comparison:
    """What differs between two sides, and who notices.

    Args:
        old: What is there, or is planned.
        new: What it is compared with.
        devices: The devices that are known on both sides; all if None. Networks that they neither
            serve nor have an interface in are left out; so are those that others serve, if nothing
            differs at their interfaces there.
        not_understood: Lines of configuration that were not understood.
        left_aside: What the plan wants of devices that can't do it, or what they ignore, in words.
        watch: Called with the share of the networks that has been compared, 0 to 1.
    """
    facts = FactsCompared(old, new, devices)
    compared: list[NetworkCompared] = []
    left_out: list[str] = []
    pairs = paired(old, new)
    for number, (before, after) in enumerate(pairs, start=1):
        watch(number / len(pairs))
        changes: list[Change] = []
        if devices is None or _is_touched(before, after, old, new, set(devices)):
            changes = _ranked(_changes(before, after, old, new, facts))
        if devices is not None and not changes and not _are_served(before, after, devices):
            side = after or before
            assert side is not None
            left_out.append(side.name)
            continue
        was = before.summary if before is not None else None
        is_now = after.summary if after is not None else None
        compared.append(NetworkCompared(was, is_now, tuple(changes)))
    elsewhere = [DeviceCompared(name, tuple(changes)) for name, changes in facts.elsewhere()]
    return Comparison(compared, elsewhere, left_out, not_understood, left_aside)


def changed_pairs(old: Side, new: Side) -> list[tuple[NetworkSide | None, NetworkSide | None]]:
    """The networks of two sides that differ, each as it is on both."""
    facts = FactsCompared(old, new, None)
    pairs = paired(old, new)
    return [pair for pair in pairs if any(True for _ in _changes(*pair, old, new, facts))]


def _is_touched(
    before: NetworkSide | None,
    after: NetworkSide | None,
    old: Side,
    new: Side,
    devices: set[str],
) -> bool:
    """Whether some devices serve a network, or have an interface in it, on either side."""
    for there, side in ((before, old), (after, new)):
        if there is None:
            continue
        if not devices.isdisjoint(side.devices_of(there)):
            return True
    return False


def _are_served(
    before: NetworkSide | None, after: NetworkSide | None, devices: Collection[str]
) -> bool:
    """Whether some devices serve a network on either side."""
    return any(
        device in devices for side in (before, after) if side is not None for device in side.pools
    )


def _ranked(changes: Iterator[Change]) -> list[Change]:
    """What hurts most first."""
    return sorted(changes, key=lambda change: -change.notice.weight)


def _changes(
    before: NetworkSide | None,
    after: NetworkSide | None,
    old: Side,
    new: Side,
    facts: FactsCompared,
) -> Iterator[Change]:
    if before is None or after is None:
        yield from _on_one_side(before, after)
        return
    if before.name != after.name:
        yield Change("name", before.name, after.name, Notice.NONE)
    tags = before.network.vlan, after.network.vlan
    if None not in tags and tags[0] != tags[1]:
        yield Change("vlan", str(tags[0]), str(tags[1]), Notice.NONE)
    if before.network.subnet != after.network.subnet:
        subnets = before.network.subnet, after.network.subnet
        is_mask = subnets[0].bits != subnets[1].bits
        because = "clients have the old mask until then" if is_mask else ""
        yield Change("subnet", str(subnets[0]), str(subnets[1]), Notice.AT_RENEWAL, because)
    deaf = unheard(before, after, old, new)
    path = _path(before, after, *deaf)
    yield from facts.of_network(before, after, path.notice if path is not None else Notice.NONE)
    if not before.pools or not after.pools:
        if before.pools or after.pools:
            yield _served_on_one_side(before, after)
        return
    yield from _gateways(before, after, old, new)
    yield from dns_changes(before, after, old, new)
    if path is not None:
        yield path
    if len(deaf[0]) < len(before.pools) and len(deaf[1]) < len(after.pools):
        before, after = before.without(deaf[0]), after.without(deaf[1])
    rebound = list(before.bindings.apart(after.bindings))
    for change in chain(
        _servers(before, after), _lost(before, after), _lost_at_one(before, after),
        _appeared(before, after),
        _bindings(before, after, rebound), _bindings_at_one(before, after, rebound),
        _offers(before, after), _gained(before, after),
    ):  # fmt: skip
        yield _as_heard(change, path)
    if path is None:
        yield from _not_heard(*deaf)


def _as_heard(change: Change, path: Change | None) -> Change:
    """A change as it is noticed where the clients are heard on one side only."""
    if path is None or change.notice is Notice.NONE:
        return change
    if path.notice is Notice.CUT_OFF:  # whatever the servers would do, no request reaches them
        return replace(change, notice=Notice.CUT_OFF, because="")
    is_conflict = change.notice is Notice.CONFLICT and change.because == _HELD
    if is_conflict and change.new is not None:
        return change  # a static host needs no server to notice
    return replace(change, notice=Notice.ONLY_NEW_CLIENTS, because="")


def _not_heard(was: Mapping[str, str], is_now: Mapping[str, str]) -> Iterator[Change]:
    """Servers that have a pool for the network on one side only, and don't hear its clients."""
    for device in {**was, **is_now}:
        if (device in was) != (device in is_now):
            there = f"{device} has a pool"
            old, new = there if device in was else None, there if device in is_now else None
            yield Change("unheard server", old, new, Notice.NONE, {**was, **is_now}[device])


def _on_one_side(before: NetworkSide | None, after: NetworkSide | None) -> Iterator[Change]:
    if after is not None:
        notice = Notice.ONLY_NEW_CLIENTS if after.pools else Notice.NONE
        yield Change("network", None, str(after.network.subnet), notice)
    elif before is not None:
        subnet = str(before.network.subnet)
        if before.pools:
            yield Change("network", subnet, None, Notice.CUT_OFF, "nothing serves it any more")
        else:
            yield Change("network", subnet, None, Notice.NONE)


def _gateways(before: NetworkSide, after: NetworkSide, old: Side, new: Side) -> Iterator[Change]:
    """Gateways that clients have been offered and that answer on one side only."""
    for gateway in before.gateways:
        shown = f"gateway {format_address(gateway)}"
        answered = old.answering(gateway, before.network.vrf)
        answers = new.answering(gateway, after.network.vrf)
        is_new = answers and not answered and all(map(old.knows, answers))
        if is_new and gateway in after.gateways:
            yield Change(shown, "no answer", "answers", Notice.NONE)
        if answers or not answered or not all(map(new.knows, answered)):
            continue
        others = [a for a in after.gateways - {gateway} if new.answering(a, after.network.vrf)]
        notice = Notice.AT_RENEWAL if others else Notice.CUT_OFF
        because = "until then they" if others else "clients"
        because += " reach nothing beyond their network"
        yield Change(shown, "answers", "no answer", notice, because)


def _served_on_one_side(before: NetworkSide, after: NetworkSide) -> Change:
    servers = listed(before.pools or [""]) or None, listed(after.pools or [""]) or None
    if after.pools:
        return Change("server", *servers, Notice.ONLY_NEW_CLIENTS)
    return Change("server", *servers, Notice.CUT_OFF, "nothing serves it any more")


def _path(
    before: NetworkSide, after: NetworkSide, was: Mapping[str, str], is_now: Mapping[str, str]
) -> Change | None:
    """A way from the clients to a server that is there on one side only."""
    if not before.pools or not after.pools:
        return None
    was_lost, is_lost = len(was) == len(before.pools), len(is_now) == len(after.pools)
    if was_lost == is_lost:
        return None
    if is_lost:
        reason = next(iter(is_now.values()))
        return Change("path", "heard", reason, Notice.CUT_OFF, "their requests reach no server")
    return Change("path", next(iter(was.values())), "heard", Notice.ONLY_NEW_CLIENTS)


def unaware(before: NetworkSide, after: NetworkSide) -> dict[str, AddressSet]:
    """What servers may assign now without knowing who has a lease there.

    That is what another one assigned before, and they didn't; by the server.
    """
    found: dict[str, AddressSet] = {}
    for device, pool in after.pools.items():
        own = before.pools[device].assignable if device in before.pools else NOTHING
        for other, earlier in before.pools.items():
            if other != device and not knows_leases(device, other, before, after):
                taken_over = (pool.assignable - own) & earlier.assignable
                if taken_over:
                    found[device] = found.get(device, NOTHING) | taken_over
    return found


def knows_leases(device: str, other: str, before: NetworkSide, after: NetworkSide) -> bool:
    """Whether a server keeps its leases in step with another one, on either side."""
    return any({device, other} == {*pair} for side in (before, after) for pair in side.pairs)


def _servers(before: NetworkSide, after: NetworkSide) -> Iterator[Change]:
    gone = [
        device
        for device in before.pools
        if device not in after.pools
        and not any(knows_leases(other, device, before, after) for other in after.pools)
    ]
    names = before.servers, after.servers
    is_same = set(before.pools) == set(after.pools)
    at_risk = unaware(before, after)
    for device, addresses in at_risk.items():
        because = f"{device} may assign {addresses}, without knowing who has a lease there"
        if is_same:
            what = f"{addresses} at {device}"
            yield Change("assignable", None, what, Notice.CONFLICT, because)
        else:
            yield Change("server", *names, Notice.CONFLICT, because)
    if is_same and not at_risk and names[0] != names[1]:
        yield Change("server", *names, Notice.NONE)
    if is_same or at_risk:
        return
    if any(before.pools[device].assignable for device in gone):
        because = f"the leases of {listed(gone)} can't be renewed"
        yield Change("server", *names, Notice.NEW_ADDRESS, because)
    else:
        yield Change("server", *names, Notice.NONE)


def _lost(before: NetworkSide, after: NetworkSide) -> Iterator[Change]:
    """Addresses that no server assigns any more."""
    lost = before.assignable - after.assignable
    if not lost:
        return
    held = lost & after.taken
    rest = lost - held - after.bindings.addresses  # the bindings tell of those
    if held:
        yield Change("assignable", str(held), None, Notice.CONFLICT, _HELD)
    if rest and after.assignable:
        yield Change("assignable", str(rest), None, Notice.NEW_ADDRESS)
    elif rest:
        because = "no address is left for clients without a binding"
        yield Change("assignable", str(rest), None, Notice.CUT_OFF, because)


def _appeared(before: NetworkSide, after: NetworkSide) -> Iterator[Change]:
    """Addresses that clients may have, and that a machine holds now though they stay assignable."""
    held = (after.taken - before.taken) & before.assignable & after.assignable
    if held:
        yield Change("held", None, str(held), Notice.CONFLICT, _HELD)


def _lost_at_one(before: NetworkSide, after: NetworkSide) -> Iterator[Change]:
    """Addresses that a server assigns no more, and another does that assigned them already."""
    at_risk = reduce(AddressSet.__or__, unaware(before, after).values(), NOTHING)
    for device, pool in before.pools.items():
        if device not in after.pools:
            continue
        lost = (pool.assignable - after.pools[device].assignable) & after.assignable
        for other, later in after.pools.items():
            if knows_leases(other, device, before, after):
                lost -= later.assignable
        lost -= at_risk  # which is told where it was gained
        if lost:
            because = f"the leases of {device} there can't be renewed"
            yield Change("assignable", f"{lost} at {device}", None, Notice.NEW_ADDRESS, because)


def _gained(before: NetworkSide, after: NetworkSide) -> Iterator[Change]:
    """Addresses that no server assigned before."""
    gained = after.assignable - before.assignable
    held = gained & (before.taken | after.taken)
    if held:
        yield Change("assignable", None, str(held), Notice.CONFLICT, _HELD)
    if gained - held:
        yield Change("assignable", None, str(gained - held), Notice.ONLY_NEW_CLIENTS)


def _bindings(
    before: NetworkSide, after: NetworkSide, rebound: Sequence[Rebound]
) -> Iterator[Change]:
    for client, old, new in rebound:
        added = [address for address in new if address not in old]
        if added:
            notice, because = _newly_bound(added, bool(old), before)
        else:
            notice, because = _unbound(old, new, before, after)
        yield Change("binding", _bound(client, old), _bound(client, new), notice, because)


def _bindings_at_one(
    before: NetworkSide, after: NetworkSide, rebound: Sequence[Rebound]
) -> Iterator[Change]:
    """Bindings that differ at a server, though another one has what it had or has now."""
    if len(before.pools) < 2 and len(after.pools) < 2:
        return
    everywhere = {client for client, *_ in rebound}
    found: dict[tuple[str | None, str | None, Notice, str], list[str]] = {}
    for device in [device for device in before.pools if device in after.pools]:
        for client, old, new in before.bindings_at(device).apart(after.bindings_at(device)):
            if client not in everywhere:
                assigns = (before if new else after).pools[device].assignable
                notice = Notice.NEW_ADDRESS if assigns else Notice.NONE
                because = "it may offer another address" if assigns and not new else ""
                told = _bound(client, old), _bound(client, new), notice, because
                found.setdefault(told, []).append(device)
    for (old_text, new_text, notice, because), devices in found.items():
        yield Change(f"binding of {listed(devices)}", old_text, new_text, notice, because)


def _bound(client: Client, addresses: Sequence[int]) -> str | None:
    return (
        f"{format_client(client)} {listed(map(format_address, addresses))}" if addresses else None
    )


def _newly_bound(added: Sequence[int], was_bound: bool, before: NetworkSide) -> tuple[Notice, str]:
    """What is noticed where a client is bound to addresses that it was not bound to."""
    for address in added:
        shown = format_address(address)
        if address in before.assignable:
            return Notice.CONFLICT, f"another client may have {shown} now"
        other = before.bindings.bound_to(address)
        if other is not None:
            return Notice.CONFLICT, f"{format_client(other)} was bound to {shown}"
        if address in before.taken:
            return Notice.CONFLICT, f"a static host or a device has {shown}"
    was_there = was_bound or bool(before.assignable)
    return (Notice.NEW_ADDRESS if was_there else Notice.ONLY_NEW_CLIENTS), ""


def _unbound(
    old: Sequence[int], new: Sequence[int], before: NetworkSide, after: NetworkSide
) -> tuple[Notice, str]:
    """What is noticed where a client is no longer bound to an address."""
    servers = [device for device in before.pools if device in after.pools] or list(after.pools)
    refusing = [
        [device for device in servers if address not in after.pools[device].assignable]
        for address in old
    ]
    if new or not all(refusing):
        return Notice.NONE, "it keeps the address while it renews it"
    for address in old:
        other = after.bindings.bound_to(address)
        if other is not None:
            return Notice.CONFLICT, f"{format_client(other)} gets {format_address(address)}"
    if any(address in after.assignable for address in old):
        return Notice.NEW_ADDRESS, f"a lease of {refusing[0][0]} can't be renewed"
    return (Notice.NEW_ADDRESS, "") if after.assignable else (Notice.CUT_OFF, "")


def _offers(before: NetworkSide, after: NetworkSide) -> Iterator[Change]:
    same = [device for device in after.pools if device in before.pools]
    pairs = [(device, device) for device in same]
    pairs = pairs or [(next(iter(before.pools)), next(iter(after.pools)))]
    found: dict[tuple[str, str | None, str | None], list[str]] = {}
    for earlier, later in pairs:
        offers = before.pools[earlier].offer, after.pools[later].offer
        for difference in offered_differently(*offers):
            found.setdefault(difference, []).append(later)
    for (what, was, is_now), at in found.items():
        of = f" of {listed(at)}" if len(at) < len(pairs) else ""
        yield Change(f"{what}{of}", was, is_now, Notice.AT_RENEWAL)
    yield from _own_offers(before, after, pairs, found)
    told = (class_changes(before.pools[old], after.pools[new]) for old, new in pairs)
    yield from dict.fromkeys(chain.from_iterable(told))


def _own_offers(
    before: NetworkSide,
    after: NetworkSide,
    pairs: Sequence[tuple[str, str]],
    common: Collection[tuple[str, str | None, str | None]],
) -> Iterator[Change]:
    """What differs for bound clients alone that have values of their own."""
    told: dict[Change, None] = {}
    for earlier, later in pairs:
        was, is_now = before.own_offers(earlier), after.own_offers(later)
        for client in {**was, **is_now}:
            offers = (
                was.get(client, before.pools[earlier].offer),
                is_now.get(client, after.pools[later].offer),
            )
            for difference in offered_differently(*offers):
                if difference not in common:
                    what, *values = difference
                    name = f"{what} of {format_client(client)}"
                    told[Change(name, values[0], values[1], Notice.AT_RENEWAL)] = None
    yield from told
