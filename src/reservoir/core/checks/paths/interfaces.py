"""Interfaces that serve or relay: addressed, enabled, let in, and not part of another."""

from __future__ import annotations

from collections.abc import Iterator
from functools import lru_cache

from reservoir.core.addressing import Prefix, format_address
from reservoir.core.checks.rule import SUBNET_WRONG, Rule, Site, replaced
from reservoir.core.findings import Finding, Severity, Suggestion, Witness
from reservoir.core.plan import PlanPath
from reservoir.core.schema_types import nearest
from reservoir.core.topology import Attachment
from reservoir.core.wording import listed


@lru_cache(maxsize=1)
def serving(site: Site) -> list[tuple[str, Attachment]]:
    """Each network with each interface that its clients' requests come in at, once."""
    found: dict[tuple[str, Attachment], None] = {}
    for pool in site.lending.pools:
        reach = site.topology.reach(pool.server, pool.network) if pool.server else None
        if reach is not None:
            found[pool.name, reach.through] = None
    return list(found)


class InterfaceWithoutAddress(Rule):
    """The interface that should serve or relay a network has no address.

    Why: A pool without an addressed interface in the same subnet never answers, and a relay
    without an address can't be answered.

    Remedy: Give the interface an address in the network's subnet.
    """

    severity = Severity.ERROR
    rests_on = ("address",)
    failing = """
        devices: {pier: {interfaces: {deck: {}, deck.30: {parent: deck, vlan: 30}}}}
        networks:
          crew:
            subnet: 10.84.30.0/24
            vlan: 30
            gateway: 10.84.30.1
            served_by: pier
            ranges: [10.84.30.20]
    """
    passing = """
        devices:
          pier: {interfaces: {deck: {}, deck.30: {parent: deck, vlan: 30, address: 10.84.30.1/24}}}
        networks:
          crew:
            subnet: 10.84.30.0/24
            vlan: 30
            gateway: 10.84.30.1
            served_by: pier
            ranges: [10.84.30.20]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        by_vlan: dict[tuple[str, int], list[str]] = {}
        for name, network in site.plan.networks.items():
            if network.vlan is not None and not site.topology.attachments(network):
                by_vlan.setdefault((network.vrf, network.vlan), []).append(name)
        for device, described in site.plan.devices.items():
            for name, interface in described.interfaces.items():
                if interface.address is not None:
                    continue
                meant = by_vlan.get((interface.vrf, interface.vlan or 0), [])
                if len(meant) == 1:
                    yield self._without(site, device, name, meant[0])
                elif interface.relay_to:
                    yield self._without(site, device, name, None)

    def _without(self, site: Site, device: str, name: str, meant: str | None) -> Finding:
        path: PlanPath = ("devices", device, "interfaces", name)
        if meant is None:
            return self.finding(
                f"{device} {name} relays and has no address",
                path,
                Witness("told-otherwise", also="is relayed without an address to answer to"),
            )
        network = site.plan.networks[meant]
        edit: tuple[Suggestion, ...] = ()
        if network.gateway is not None and network.subnet.hosts.holds(network.gateway):
            address = f"{format_address(network.gateway)}/{network.subnet.bits}"
            held = site.topology.holders(network.gateway)
            edit = () if held else (Suggestion((*path, "address"), None, address),)
        return self.finding(
            f"{device} {name} has the VLAN of {meant} and no address in {network.subnet.subnet}",
            path,
            Witness("unanswered", meant),
            edit,
        )


class InterfaceMaskDiffers(Rule):
    """An interface in a network has another subnet mask than the network.

    Why: Device and clients disagree on who is near: some clients can't be reached, and a device
    that finds its pool by the interface's subnet may not find it.

    Remedy: Write the network's prefix length at the interface, or correct the network's.
    """

    severity = Severity.ERROR
    follows = (*SUBNET_WRONG, "networks-overlap")
    follows_here = ("server-not-reached", "address-held-twice")
    failing = """
        devices: {pier: {interfaces: {deck: {address: 10.84.30.1/23}}}}
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: pier, ranges: [10.84.30.20]}
    """
    passing = """
        devices: {pier: {interfaces: {deck: {address: 10.84.30.1/24}}}}
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: pier, ranges: [10.84.30.20]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for name, network in site.plan.networks.items():
            for attachment in site.topology.attachments(network):
                address = site.topology.interface(attachment).address
                if address is None or address.bits == network.subnet.bits:
                    continue
                path = (*attachment.path, "address")
                right = Prefix(address.address, network.subnet.bits)
                yield self.finding(
                    f"{attachment} has {address}, and {name} is {network.subnet}",
                    path,
                    Witness(
                        "told-otherwise",
                        name,
                        also=f"has a mask of {network.subnet.bits} bits, and {attachment} one of "
                        f"{address.bits}",
                    ),
                    replaced(path, address, right),
                    concerns=others_there(site, attachment, name),
                )


def others_there(site: Site, attachment: Attachment, network: str) -> tuple[str, ...]:
    """Other networks that have the interface's address in their subnet."""
    vrf = site.topology.interface(attachment).vrf
    return tuple(n for n in site.topology.networks_at(attachment.address, vrf) if n != network)


class InterfaceIsMember(Rule):
    """The interface that should serve or relay a network is a member of a bridge.

    Why: What arrives at a member belongs to the bridge; the service on the member is refused, or
    never hears a client.

    Remedy: Put the address and the service on the bridge.
    """

    severity = Severity.ERROR
    rests_on = ("interface",)
    failing = """
        devices:
          pier: {interfaces: {deck: {bridge: [port1]}, port1: {address: 10.84.30.1/24}}}
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: pier, ranges: [10.84.30.20]}
    """
    passing = """
        devices:
          pier: {interfaces: {deck: {bridge: [port1], address: 10.84.30.1/24}, port1: {}}}
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: pier, ranges: [10.84.30.20]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        bridges = {
            (device, member): name
            for device, described in site.plan.devices.items()
            for name, interface in described.interfaces.items()
            for member in interface.bridge
        }
        for name, attachment in serving(site):
            bridge = bridges.get((attachment.device, attachment.interface))
            if bridge is None:
                continue
            refuses = site.trait(attachment.device, "bridge-member") == "refused"
            yield self.finding(
                f"{attachment} is a member of {bridge}"
                + (", so the device refuses to serve there" if refuses else ""),
                (*attachment.path, "address"),
                Witness("unanswered", name),
            )


class InterfaceDown(Rule):
    """The interface that should serve or relay a network is switched off.

    Why: Nothing arrives there, and its clients get no address.

    Remedy: Switch it on, and what it stands on.
    """

    severity = Severity.ERROR
    failing = """
        devices: {pier: {interfaces: {deck: {address: 10.84.30.1/24, enabled: no}}}}
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: pier, ranges: [10.84.30.20]}
    """
    passing = """
        devices: {pier: {interfaces: {deck: {address: 10.84.30.1/24, enabled: yes}}}}
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: pier, ranges: [10.84.30.20]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        down: dict[PlanPath, list[str]] = {}
        for name, attachment in serving(site):
            interfaces = site.plan.devices[attachment.device].interfaces
            own = interfaces[attachment.interface]
            parent = own.parent if own.parent in interfaces else None
            for where in (attachment.interface, parent):
                if where is not None and not interfaces[where].enabled:
                    down.setdefault((*attachment.path[:3], where, "enabled"), []).append(name)
        for path, (network, *others) in down.items():
            yield self.finding(
                f"{path[1]} {path[3]} is switched off",
                path,
                Witness("unanswered", network),
                replaced(path, "no", "yes"),
                concerns=tuple(others),
            )


class ZoneBlocksDhcp(Rule):
    """The zone of the interface that serves or relays a network doesn't admit DHCP.

    Why: The firewall drops the clients' requests before its own server sees them.

    Remedy: Let the zone admit dhcp, or put the interface in one that does.
    """

    severity = Severity.ERROR
    rests_on = ("zone", "admits")
    failing = """
        devices:
          office:
            dialect: merganser
            interfaces: {lan: {address: 10.84.50.1/24, zone: staff}}
            zones: {staff: {admits: [ping]}}
        networks:
          staff: {subnet: 10.84.50.0/24, served_by: office, ranges: [10.84.50.20]}
    """
    passing = """
        devices:
          office:
            dialect: merganser
            interfaces: {lan: {address: 10.84.50.1/24, zone: staff}}
            zones: {staff: {admits: [ping, dhcp]}}
        networks:
          staff: {subnet: 10.84.50.0/24, served_by: office, ranges: [10.84.50.20]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        astray: dict[tuple[str, str | None], list[tuple[str, Attachment]]] = {}
        for name, attachment in serving(site):
            zones = site.plan.devices[attachment.device].zones
            if not zones or site.trait(attachment.device, "zone") != "must-admit-dhcp":
                continue  # without zones the plan doesn't describe them
            zone = site.topology.interface(attachment).zone
            if zone is None or zone not in zones or "dhcp" not in zones[zone].admits:
                astray.setdefault((attachment.device, zone), []).append((name, attachment))
        for (device, zone), served in astray.items():
            networks = [name for name, _ in served]
            message, at, edit = self._wrong(site, device, zone, [there for _, there in served])
            unheard = Witness("unanswered", networks[0])
            yield self.finding(message, at, unheard, edit, concerns=tuple(networks[1:]))

    def _wrong(
        self, site: Site, device: str, zone: str | None, served: list[Attachment]
    ) -> tuple[str, PlanPath, tuple[Suggestion, ...]]:
        """What is wrong with a zone, where, and how to put it right."""
        names = listed(attachment.interface for attachment in served)
        they = f"{device} {names} {'is' if len(served) == 1 else 'are'} in"
        first, zones = served[0].path, site.plan.devices[device].zones
        if zone is None:
            return f"{they} no zone, and {device} admits nothing there", first, ()
        if zone not in zones:
            meant, at = nearest(zone, zones), (*first, "zone")
            message = f"{they} zone {zone}, which {device} doesn't have"
            if len(served) == 1:
                return message, at, replaced(at, zone, meant)
            return message + (f"; it has {meant}" if meant else ""), at, ()
        path, admits = ("devices", device, "zones", zone), zones[zone].admits
        message = f"zone {zone} of {device} admits {', '.join(admits) or 'nothing'}, not dhcp"
        return message, path, (Suggestion((*path, "admits", len(admits)), None, "dhcp"),)
