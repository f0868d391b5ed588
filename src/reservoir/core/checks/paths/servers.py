"""Paths: a client's request must arrive at a server."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from functools import lru_cache

from reservoir.core.checks.rule import SUBNET_WRONG, Obstructed, Rule, Site, replaced
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.plan.edits import Edit
from reservoir.core.plan.model import Network
from reservoir.core.pools import Pool
from reservoir.core.topology import Attachment
from reservoir.core.values.addresses import Prefix, format_address
from reservoir.core.values.typos import FEW, likely_meant
from reservoir.core.wording import listed


class NetworkUnserved(Rule):
    """A network has addresses to lend, and no server.

    Why: Its clients ask, and nobody answers.

    Remedy: Name the device that lends to it in ``served_by``.
    """

    severity = Severity.ERROR
    follows_here = ("network-unserved",)  # a switch that is off for several networks
    rests_on = ("service", "active", "interface")
    failing = """
        networks:
          crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20-10.84.30.99]}
    """
    passing = """
        devices: {pier: {interfaces: {deck: {address: 10.84.30.1/24}}}}
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: pier, ranges: [10.84.30.20-10.84.30.99]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        switched_off = {o.network: o for o in site.obstacles if o.rule == self.name}
        for pool in site.lending.pools:
            network = pool.network
            wanted = network.ranges or network.demand or len(pool.bindings)
            if pool.server is not None or not wanted:
                continue
            servers, path = _servers_near(site, network), (*pool.path, "served_by")
            off = switched_off.get(pool.name)
            yield self.finding(
                off.message if off else f"no device lends to {pool.name}: it has no served_by",
                off.at if off else pool.path,
                Witness("unanswered", pool.name),
                (Edit(path, None, servers.pop()),) if len(servers) == 1 else (),
            )


def _servers_near(site: Site, network: Network) -> set[str]:
    """The devices that hear the network's clients: those relayed to, or else those in it."""
    attached = site.topology.attachments(network)
    relayed_to = (t for a in attached for t in site.topology.interface(a).relay_to)
    relayed = {holder.device for target in relayed_to for holder in site.topology.holders(target)}
    return relayed or {attachment.device for attachment in attached}


class ServerNotReached(Obstructed):
    """A network's server neither stands in the network nor is relayed to from there.

    Why: The clients' broadcasts never arrive at it, and they get no address.

    Remedy: Give the server an interface in the subnet, or relay to one of its addresses from an
    interface in the subnet.
    """

    severity = Severity.ERROR
    follows = (
        *SUBNET_WRONG,
        "interface-without-address",
        "relay-misplaced",
        "relay-to-nobody",
        "relay-without-pool",
        "address-held-twice",
    )
    rests_on = ("relay_to", "address", "interface")
    failing = """
        devices: {pier: {interfaces: {deck: {address: 10.84.31.1/24}}}}
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: pier, ranges: [10.84.30.20-10.84.30.99]}
    """
    passing = """
        devices:
          pier: {interfaces: {deck: {address: 10.84.30.1/24, relay_to: [10.84.0.10]}}}
          depot: {interfaces: {lan: {address: 10.84.0.10/24}}}
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: depot, ranges: [10.84.30.20-10.84.30.99]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        said = set()
        for finding in () if site.complete else super().check(site):
            said.add(finding.network)
            yield finding
        for pool in site.lending.pools:
            if pool.name in said or not pool.server:
                continue
            if site.topology.reach(pool.server, pool.network) is not None:
                continue
            astray = _astray(site, pool.server, pool.network)
            if astray is not None:
                yield self._mistyped(site, pool, astray)
            elif site.complete or site.topology.attachments(pool.network):
                yield self._unreached(site, pool)  # else the relay may be at an unknown router

    def _unreached(self, site: Site, pool: Pool) -> Finding:
        refuses = site.trait(pool.server, "unreached-pool") == "configuration-refused"
        return self.finding(
            f"{pool.server} is named to serve {pool.name} and has no interface in "
            f"{pool.network.subnet.subnet}; {_relays(site, pool.network)}"
            + (f"; {pool.server} refuses its whole configuration then" if refuses else ""),
            (*pool.path, "served_by", pool.service, "device"),
            Witness("unanswered", pool.name),
        )

    def _mistyped(self, site: Site, pool: Pool, astray: Attachment) -> Finding:
        gateway, path = pool.network.gateway, (*astray.path, "address")
        assert gateway is not None  # which is what the interface was to have
        meant = format_address(gateway)
        there = list(site.topology.networks_of(astray))
        return self.finding(
            f"{astray} has {astray.prefix}, which is in "
            f"{there[0] if there else 'no network of the plan'}; {meant} would be in {pool.name}",
            path,
            Witness("unanswered", pool.name, astray.address),
            replaced(path, astray.prefix, Prefix(gateway, pool.network.subnet.bits)),
            concerns=tuple(there),
        )


def _astray(site: Site, server: str, network: Network) -> Attachment | None:
    """The server's interface that was to have the network's gateway as its address.

    It has the network's VLAN, and its address is in a network that hasn't; or its address is in no
    network, and a slip away from the gateway.
    """
    gateway = network.gateway
    if gateway is None or not network.subnet.hosts.holds(gateway):
        return None
    if site.topology.holders(gateway):
        return None
    tagged = _strangers(site, server).get((network.vrf, network.vlan), [])
    if network.vlan is not None and len(tagged) == 1:
        return tagged[0]
    homeless = _homeless(site, server, network.vrf)
    near = [a for a in homeless if likely_meant(a.address, network.subnet) == gateway]
    return near[0] if len(near) == 1 else None


@lru_cache(maxsize=64)
def _strangers(site: Site, server: str) -> Mapping[tuple[str, int | None], list[Attachment]]:
    """By VRF and VLAN: a server's interfaces that stand in no network of that VLAN."""
    found: dict[tuple[str, int | None], list[Attachment]] = {}
    for attachment in site.topology.attachments_of(server):
        interface = site.topology.interface(attachment)
        there = site.topology.networks_of(attachment)
        if all(site.plan.networks[name].vlan != interface.vlan for name in there):
            found.setdefault((interface.vrf, interface.vlan), []).append(attachment)
    return found


@lru_cache(maxsize=64)
def _homeless(site: Site, server: str, vrf: str) -> Sequence[Attachment]:
    """A server's interfaces in no network, and without a next hop that shows them to be right.

    Empty if there are many: to look through them all would be no hint.
    """
    hops = [route.via for route in site.plan.devices[server].routes]
    found = [
        attachment
        for attachment in site.topology.attachments_of(server)
        if site.topology.interface(attachment).vrf == vrf
        and site.topology.home_of(attachment) is None
        if not any(map(attachment.prefix.span.holds, hops))
    ]
    return found if len(found) <= FEW else []


def _relays(site: Site, network: Network) -> str:
    """What the interfaces in the network relay to instead."""
    attached = site.lending.topology.attachments(network)
    if not attached:
        return "no other device stands there to relay to it"
    interfaces = [
        (a, site.plan.devices[a.device].interfaces[a.interface].relay_to) for a in attached
    ]
    relaying = [
        f"{a} relays to {', '.join(map(format_address, targets))}"
        for a, targets in interfaces
        if targets
    ]
    return "; ".join(relaying) or f"{attached[0]} stands there and relays to nobody"


class TwoServers(Rule):
    """Two servers answer on one network, and its ranges aren't split between them.

    Why: Each lends from all of it without knowing the other's leases: sooner or later two clients
    have one address.

    Remedy: Give each server ranges of its own, or let one of them serve alone.
    """

    severity = Severity.ERROR
    failing = """
        devices: {pier: {}, depot: {}}
        networks:
          crew:
            subnet: 10.84.30.0/24
            served_by: [pier, depot]
            ranges: [10.84.30.20-10.84.30.99]
    """
    passing = """
        devices: {pier: {}, depot: {}}
        networks:
          crew:
            subnet: 10.84.30.0/24
            served_by:
              - {device: pier, ranges: [10.84.30.20-10.84.30.59]}
              - {device: depot, ranges: [10.84.30.60-10.84.30.99]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for pools in site.lending.pools_by_network:
            name, path = pools[0].name, (*pools[0].path, "ranges")
            unsplit = [p for p in pools if p.server and p.lendable and p.ranges_path == path]
            servers = list(dict.fromkeys(str(pool.server) for pool in unsplit))
            if len(servers) > 1:
                who = listed(servers)
                yield self.finding(
                    f"{who} lend from the same ranges of {name}",
                    ("networks", name, "served_by"),
                    Witness("answered-twice", name, unsplit[0].lendable.first, also=who),
                )


class ServerOnByDefault(Rule):
    """A device that lends addresses from the factory stands on a network that another serves.

    Why: Switched on before it is configured, it answers clients too, from a pool of its own.

    Remedy: Load its configuration before it is connected; `reservoir write` switches lending off
    on a device that serves nothing.
    """

    severity = Severity.WARNING
    rests_on = ("service",)
    failing = """
        devices:
          pier: {interfaces: {deck: {address: 10.84.30.1/24}}}
          kiosk-box: {dialect: thimble, interfaces: {lan: {address: 10.84.30.9/24}}}
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: pier, ranges: [10.84.30.20]}
    """
    passing = """
        devices:
          pier: {interfaces: {deck: {address: 10.84.30.1/24}}}
          kiosk-box: {dialect: larkspur, interfaces: {lan: {address: 10.84.30.9/24}}}
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: pier, ranges: [10.84.30.20]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        eager = {
            device
            for device, traits in site.traits.items()
            if traits["service"] == "on-from-factory" and traits["factory-pool"] == "kept"
        }
        for name, network in site.plan.networks.items() if eager else ():
            serving = {service.device for service in network.served_by}
            for attachment in site.topology.attachments(network):
                if attachment.device in eager - serving and serving:
                    yield self.finding(
                        f"{attachment} stands in {name}, which {', '.join(sorted(serving))} "
                        f"serves; {attachment.device} lends from the factory",
                        attachment.path,
                        Witness(
                            "answered-twice",
                            name,
                            also=f"{min(serving)} and {attachment.device} both",
                        ),
                    )


class PoolShadowed(Obstructed):
    """A device uses this pool only when an earlier one is full.

    Why: It doesn't ask where a client is: clients of this network are lent addresses of another
    and can reach nobody.

    Remedy: Let another device serve one of the two, or bind the clients one by one.
    """

    severity = Severity.ERROR
    failing = """
        devices:
          kiosk-box:
            dialect: thimble
            interfaces: {lan: {address: 10.84.30.1/24}, shop: {address: 10.84.31.1/24}}
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: kiosk-box, ranges: [10.84.30.20-10.84.30.99]}
          shop: {subnet: 10.84.31.0/24, served_by: kiosk-box, ranges: [10.84.31.20-10.84.31.99]}
    """
    passing = """
        devices:
          kiosk-box: {dialect: thimble, interfaces: {lan: {address: 10.84.30.1/24}}}
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: kiosk-box, ranges: [10.84.30.20-10.84.30.99]}
    """
