"""DNS servers that clients have been told of, and that answer on one side only."""

from __future__ import annotations

from collections.abc import Iterator

from reservoir.core.compare.notice import Change, Notice
from reservoir.core.compare.sides import NetworkSide, Side
from reservoir.core.routing import Way
from reservoir.core.topology import Attachment
from reservoir.core.values.addresses import format_address


def dns_changes(before: NetworkSide, after: NetworkSide, old: Side, new: Side) -> Iterator[Change]:
    """The DNS servers that a network's clients know, whose answers reach them on one side only."""
    known = dict.fromkeys(server for pool in before.pools.values() for server in pool.offer.dns)
    told = {server for pool in after.pools.values() for server in pool.offer.dns}
    was = {server: _answers(old, before, server) for server in known}
    is_now = {server: _answers(new, after, server) for server in (*known, *told)}
    lost = [server for server in known if is_now[server] is False and was[server] is not False]
    others = [server for server in known if is_now[server] is not False]
    for server in lost:
        notice, because = Notice.CUT_OFF, "clients resolve no names"
        if others:
            notice, because = Notice.NONE, "clients ask the others"
        elif any(is_now[other] for other in told - known.keys()):
            notice, because = Notice.AT_RENEWAL, "until then they resolve no names"
        earlier = "answers" if was[server] else "not known"
        yield Change(f"DNS server {format_address(server)}", earlier, "no answer", notice, because)
    for server in known:
        if server in told and was[server] is False and is_now[server]:
            what = f"DNS server {format_address(server)}"
            yield Change(what, "no answer", "answers", Notice.NONE)


def _answers(side: Side, there: NetworkSide, server: int) -> bool | None:
    """Whether a DNS server's answers reach the clients by their gateway; None if unknown."""
    network = there.network
    if network.subnet.span.holds(server):
        return None  # no router is asked
    routers = [
        router
        for gateway in there.gateways
        for router in side.topology.answering_up(gateway, network.vrf)
    ]
    found = [_answers_by(side, router, server) for router in routers]
    if not found or (None in found and True not in found):
        return None
    return True in found


def _answers_by(side: Side, router: Attachment, server: int) -> bool | None:
    way = side.routing.way(router.device, server)
    if way.is_lost or (way.is_held and _is_closed(side, way, router)):
        return False
    if way.is_open:
        return None
    back = side.routing.way(way.at, router.address) if way.is_held else None
    if back is not None and back.is_lost:
        return False
    return None if back is not None and back.is_open else True


def _is_closed(side: Side, way: Way, router: Attachment) -> bool:
    """Whether the device that has the server's address drops queries where they come in."""
    behaviour, zones = side.behaviours.get(way.at), side.plan.devices[way.at].zones
    if way.is_open or behaviour is None or not behaviour.zone_must_admit_dhcp or not zones:
        return False
    zone = side.topology.interface(way.entered[-1] if way.entered else router).zone
    return zone is None or zone not in zones or "dns" not in zones[zone].admits
