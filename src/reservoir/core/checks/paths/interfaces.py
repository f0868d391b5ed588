"""Interfaces that serve or relay: up, in a zone that admits DHCP, not a bridge member."""

from __future__ import annotations

from collections.abc import Iterator
from functools import lru_cache

from reservoir.core.checks.paths.relays import relayed_ways
from reservoir.core.checks.rule import Rule, Site, replaced
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.hearing import drops_dhcp
from reservoir.core.plan.edits import Edit
from reservoir.core.plan.model import PlanPath
from reservoir.core.topology import Attachment
from reservoir.core.wording import listed, nearest


@lru_cache(maxsize=1)
def serving(site: Site) -> list[tuple[str, Attachment]]:
    """Each network with each interface that its clients' requests come in at, once."""
    found: dict[tuple[str, Attachment], None] = {}
    for pool in site.pools:
        reach = site.topology.reach(pool.server, pool.network) if pool.server else None
        if reach is not None:
            found[pool.name, reach.through] = None
    return list(found)


def _ends_of_ways(site: Site) -> Iterator[tuple[str, Attachment]]:
    """Each network with the disabled interface at which its relayed requests or answers end."""
    for way in relayed_ways(site):
        for down in (way.there.down, way.back.down):
            if down is not None:
                yield way.network, down


def entered(site: Site) -> Iterator[tuple[str, Attachment]]:
    """Each network with the interfaces that its relayed requests come in at on their way.

    Where the way leaves what the plan knows, they come in where the address is that they are for.
    """
    for way in relayed_ways(site):
        for attachment in way.there.entered:
            yield way.network, attachment
        if way.there.is_open:
            for holder in site.topology.holders(way.relay.target):
                yield way.network, holder


def _down_at(site: Site, attachment: Attachment) -> PlanPath | None:
    """Where it is set that an interface is disabled, itself or its parent; None if it isn't."""
    name = site.topology.down_at(attachment)
    return None if name is None else ("devices", attachment.device, "interfaces", name, "enabled")


def _gateways_down(site: Site) -> Iterator[tuple[str, Attachment]]:
    """Each network that is served with the disabled interface that alone has its gateway."""
    for pools in site.pools.by_network:
        gateway, vrf = pools[0].offer.gateway, pools[0].network.vrf
        if gateway is None or pools[0].server is None:
            continue
        there = site.topology.answering(gateway, vrf)
        if there and not site.topology.answering_up(gateway, vrf):
            yield pools[0].name, there[0]


class InterfaceIsMember(Rule):
    """The interface that should serve or relay a network is a member of a bridge.

    Why: Frames that arrive at a member belong to the bridge; the device refuses the service there,
    or the service never sees a request.

    Remedy: Move the address and the service to the bridge.
    """

    severity = Severity.ERROR
    rests_on = ("interface",)
    example = """
          devices:
        -   pier: {interfaces: {deck: {members: [port1]}, port1: {address: 10.84.30.1/24}}}
        +   pier: {interfaces: {deck: {members: [port1], address: 10.84.30.1/24}, port1: {}}}
          networks:
            crew: {subnet: 10.84.30.0/24, served_by: pier, ranges: [10.84.30.20]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        bridges = {
            (device, member): name
            for device, described in site.plan.devices.items()
            for name, interface in described.interfaces.items()
            for member in interface.members
        }
        for name, attachment in serving(site):
            bridge = bridges.get((attachment.device, attachment.interface))
            if bridge is None:
                continue
            behaviour = site.behaviour(attachment.device)
            refuses = behaviour is not None and behaviour.refuses_bridge_members
            yield self.finding(
                f"{attachment} is a member of {bridge}"
                + (", so the device refuses to serve there" if refuses else ""),
                attachment.address_path,
                Witness("unanswered", name),
            )


class InterfaceInTwoBridges(Rule):
    """An interface is a member of two bridges.

    Why: A port belongs to one bridge or bond; the device refuses the second, and the clients behind
    it are in the other network or in none.

    Remedy: Remove it from one of them.
    """

    severity = Severity.ERROR
    example = """
          devices:
            office:
              interfaces:
                shop: {members: [port1, port2], address: 10.84.51.1/24}
        -       staff: {members: [port2, port3], address: 10.84.50.1/24}
        +       staff: {members: [port3], address: 10.84.50.1/24}
                port1: {}
                port2: {}
                port3: {}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for device, described in site.plan.devices.items():
            first: dict[str, str] = {}
            for name, interface in described.interfaces.items():
                for position, member in enumerate(interface.members):
                    other = first.setdefault(member, name)
                    if other != name:
                        yield self.finding(
                            f"{device} {member} is a member of {other} and of {name}",
                            ("devices", device, "interfaces", name, "members", position),
                            Witness(
                                "member-shared",
                                name=f"{device} {member}",
                                also=f"{other} and {name}",
                            ),
                        )


class InterfaceDown(Rule):
    """A disabled interface serves or relays a network, is its gateway, or on the way to its server.

    Why: No requests arrive there, and the clients get no address; or nothing answers at their
    gateway.

    Remedy: Enable the interface, and its parent.
    """

    severity = Severity.ERROR
    is_certain = True
    example = """
        - devices: {pier: {interfaces: {deck: {address: 10.84.30.1/24, enabled: no}}}}
        + devices: {pier: {interfaces: {deck: {address: 10.84.30.1/24, enabled: yes}}}}
          networks:
            crew: {subnet: 10.84.30.0/24, served_by: pier, ranges: [10.84.30.20]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        down: dict[PlanPath, dict[str, Witness]] = {}
        for name, attachment in (*serving(site), *_ends_of_ways(site)):
            where = _down_at(site, attachment)
            if where is not None:
                down.setdefault(where, {})[name] = Witness("unanswered", name)
        for name, attachment in _gateways_down(site):
            where = _down_at(site, attachment)
            if where is not None:
                witness = Witness.of_gateway(name, attachment.address, "not-held")
                down.setdefault(where, {}).setdefault(name, witness)
        for path, witnesses in down.items():
            network, *others = witnesses
            yield self.finding(
                f"{path[1]} {path[3]} is disabled",
                path,
                witnesses[network],
                replaced(path, "no", "yes"),
                concerns=tuple(others),
            )


class ZoneBlocksDhcp(Rule):
    """The zone of an interface that requests come in at doesn't admit DHCP.

    Why: The firewall drops the requests, of clients or of a relay, before a server sees them.

    Remedy: Let the zone admit dhcp, or move the interface to a zone that does. Where the plan lists
    none of a firewall's zones, list them, or accept the warning if they are kept elsewhere.
    """

    severity = Severity.ERROR
    rests_on = ("zone", "admits")
    example = """
          devices:
            office:
              dialect: merganser
              interfaces: {lan: {address: 10.84.50.1/24, zone: staff}}
        -     zones: {staff: {admits: [ping]}}
        +     zones: {staff: {admits: [ping, dhcp]}}
          networks:
            staff: {subnet: 10.84.50.0/24, served_by: office, ranges: [10.84.50.20]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        blocked: dict[tuple[str, str | None], list[tuple[str, Attachment]]] = {}
        for name, attachment in dict.fromkeys((*serving(site), *entered(site))):
            if drops_dhcp(site.plan, site.topology, attachment, site.behaviours):
                zone = site.topology.interface(attachment).zone
                blocked.setdefault((attachment.device, zone), []).append((name, attachment))
        for (device, zone), served in blocked.items():
            networks = [name for name, _ in served]
            interfaces = list(dict.fromkeys(there for _, there in served))
            message, at, edit = self._wrong(site, device, zone, interfaces)
            unheard = Witness("unanswered", networks[0])
            yield self.finding(message, at, unheard, edit, concerns=tuple(networks[1:]))
        yield from self._unlisted(site)

    def _unlisted(self, site: Site) -> Iterator[Finding]:
        """Devices none of whose zones are known: a plan may leave them out, a device can't."""
        found: dict[str, list[tuple[str, Attachment]]] = {}
        for name, attachment in dict.fromkeys((*serving(site), *entered(site))):
            behaviour, device = site.behaviour(attachment.device), attachment.device
            needs_zone = behaviour is not None and behaviour.zone_must_admit_dhcp
            if needs_zone and not site.plan.devices[device].zones:
                found.setdefault(device, []).append((name, attachment))
        for device, served in found.items():
            interfaces = list(dict.fromkeys(there.interface for _, there in served))
            networks = list(dict.fromkeys(name for name, _ in served))
            need = "needs" if len(interfaces) == 1 else "need"
            known = f"the plan lists no zone of {device}" if site.complete else "there is no zone"
            yield self.finding(
                f"{device} {listed(interfaces)} {need} a zone that admits dhcp; {known}",
                ("devices", device),
                Witness("unanswered", networks[0]),
                severity=Severity.WARNING if site.complete else Severity.ERROR,
                concerns=tuple(networks[1:]),
            )

    def _wrong(
        self, site: Site, device: str, zone: str | None, served: list[Attachment]
    ) -> tuple[str, PlanPath, tuple[Edit, ...]]:
        """What is wrong with a zone, where, and how to put it right."""
        names = listed(attachment.interface for attachment in served)
        they = f"{device} {names} {'is' if len(served) == 1 else 'are'} in"
        first, zones = served[0].path, site.plan.devices[device].zones
        if zone is None:
            return f"{they} no zone, where {device} admits nothing", first, ()
        if zone not in zones:
            meant, at = nearest(zone, zones), (*first, "zone")
            message = f"{they} zone {zone}, which {device} doesn't have"
            if len(served) == 1:
                return message, at, replaced(at, zone, meant)
            return message + (f" (did you mean {meant}?)" if meant else ""), at, ()
        path, admits = ("devices", device, "zones", zone), zones[zone].admits
        message = f"zone {zone} of {device} admits {', '.join(admits) or 'nothing'}, not dhcp"
        return message, path, (Edit((*path, "admits", len(admits)), None, "dhcp"),)
