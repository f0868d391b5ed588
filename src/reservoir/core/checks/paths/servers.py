"""Servers: one for each network, which the clients' requests reach."""

from __future__ import annotations

from collections.abc import Iterator

from reservoir.core.checks.paths.meant import interface_of_server, strayed_interface
from reservoir.core.checks.rule import Obstructed, Rule, Site, replaced
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.plan.edits import Edit
from reservoir.core.plan.model import Network, PlanPath
from reservoir.core.pools import Pool
from reservoir.core.topology import Attachment
from reservoir.core.values.addresses import Prefix, format_address
from reservoir.core.values.typos import FEW, slips
from reservoir.core.wording import listed


class NetworkUnserved(Rule):
    """A network has addresses to assign, but no DHCP server.

    Why: Its clients ask, and nobody answers.

    Remedy: Name the device that serves it in ``served_by``.
    """

    severity = Severity.ERROR
    is_certain = True
    blames = ("server",)
    rests_on = ("service", "active", "interface")
    follows_itself = "place"
    example = """
        + devices: {pier: {interfaces: {deck: {address: 10.84.30.1/24}}}}
          networks:
        -   crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20-10.84.30.99]}
        +   crew: {subnet: 10.84.30.0/24, served_by: pier, ranges: [10.84.30.20-10.84.30.99]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        switched_off = {o.network: o for o in site.obstacles if o.rule == self.name}
        for pool in site.pools:
            network = pool.network
            wanted = network.ranges or network.demand or len(pool.bindings)
            if pool.server is not None or not wanted:
                continue
            servers, path = _servers_near(site, network), (*pool.path, "served_by")
            off = switched_off.get(pool.name)
            mistyped = None if off or servers else _interface_meant(site, network)
            if mistyped is not None:
                yield self._mistyped(site, pool, mistyped)
                continue
            yield self.finding(
                off.message if off else f"no device serves {pool.name}: it has no served_by",
                off.at if off else pool.path,
                Witness("unanswered", pool.name),
                (Edit(path, None, servers.pop()),) if len(servers) == 1 else (),
            )

    def _mistyped(self, site: Site, pool: Pool, interface: Attachment) -> Finding:
        return self.finding(
            *interface_astray(site, pool, interface),
            Witness("unanswered", pool.name, interface.address),
            moved_to_gateway(pool, interface),
            concerns=networks_at_interface(site, interface),
        )


def interface_astray(site: Site, pool: Pool, interface: Attachment) -> tuple[str, PlanPath]:
    """What is wrong with an interface that was meant to be a network's gateway, and where."""
    assert pool.network.gateway is not None  # which is what the interface was to have
    meant, there = format_address(pool.network.gateway), list(site.topology.networks_of(interface))
    return (
        f"{interface} has {interface.prefix}, which is in "
        f"{there[0] if there else 'no network of the plan'}; {meant} would be in {pool.name}",
        interface.address_path,
    )


def moved_to_gateway(pool: Pool, interface: Attachment) -> tuple[Edit, ...]:
    """The gateway's address for that of an interface that was meant to have it.

    Not where a whole octet differs and no VLAN tells: it may be in a subnet of its own.
    """
    tag = pool.network.vlan
    if tag is None and pool.network.gateway not in slips(interface.address):
        return ()
    gateway = Prefix(pool.network.gateway or 0, pool.network.subnet.bits)
    return replaced(interface.address_path, interface.prefix, gateway)


def networks_at_interface(site: Site, interface: Attachment) -> tuple[str, ...]:
    """The networks that any address of an interface is in."""
    own = site.topology.attachments_at(interface.device, interface.interface)
    return tuple(dict.fromkeys(n for a in own for n in site.topology.networks_of(a)))


def _interface_meant(site: Site, network: Network) -> Attachment | None:
    """The interface of any device that was meant to be in a network whose server is left out."""
    devices = site.plan.devices
    if not network.leaves_out_server or len(devices) > FEW:
        return None
    found = [interface_of_server(site, device, network) for device in devices]
    meant = [interface for interface in found if interface is not None]
    return meant[0] if len(meant) == 1 else None


def _servers_near(site: Site, network: Network) -> set[str]:
    """The devices that receive the clients' requests: relay targets, else those in the network."""
    attached = site.topology.attachments(network)
    relayed_to = (t for a in attached for t in site.topology.interface(a).relay_to)
    relayed = {holder.device for target in relayed_to for holder in site.topology.holders(target)}
    return relayed or {attachment.device for attachment in attached}


class ServerNotReached(Obstructed):
    """A network's server has no interface in the network, and no relay there leads to it.

    Why: The clients' broadcasts never reach the server, and they get no address.

    Remedy: Give the server an interface in the subnet, or relay to one of its addresses from an
    interface in the subnet.
    """

    severity = Severity.ERROR
    is_certain = True
    blames = ("placement",)
    rests_on = ("subnet", "relay_to", "holder", "address", "interface")
    follows = ("interface-without-address",)
    follows_here = ("interface-mask-differs",)
    example = """
          devices:
        -   pier: {interfaces: {deck: {address: 10.84.31.1/24}}}
        +   pier: {interfaces: {deck: {address: 10.84.30.1/24, relay_to: [10.84.0.10]}}}
        +   depot: {interfaces: {lan: {address: 10.84.0.10/24}}}
          networks:
        -   crew: {subnet: 10.84.30.0/24, served_by: pier, ranges: [10.84.30.20-10.84.30.99]}
        +   crew: {subnet: 10.84.30.0/24, served_by: depot, ranges: [10.84.30.20-10.84.30.99]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        said = set()
        for finding in () if site.complete else super().check(site):
            said.add(finding.network)
            yield finding
        for pool in site.pools:
            if pool.name in said or not pool.server:
                continue
            if site.topology.reach(pool.server, pool.network) is not None:
                continue
            mistyped = interface_of_server(site, pool.server, pool.network)
            if mistyped is not None:
                yield self._mistyped(site, pool, mistyped)
            elif site.complete or site.topology.attachments(pool.network):
                yield self._unreached(site, pool)  # else the relay may be at an unknown router

    def _unreached(self, site: Site, pool: Pool) -> Finding:
        behaviour = site.behaviour(pool.server)
        refuses = behaviour is not None and behaviour.refuses_unreached_pools
        served = site.pools.served_by(str(pool.server)) if refuses else []
        strayed = strayed_interface(site, str(pool.server), pool.network)
        return self.finding(
            f"{pool.server} should serve {pool.name} but has no interface in "
            f"{pool.network.subnet.subnet}; {_relays(site, pool.network)}"
            + (f"; {pool.server} refuses such a configuration as a whole" if refuses else ""),
            pool.server_path,
            Witness("unanswered", pool.name),
            concerns=tuple(other.name for other in served if other.name != pool.name),
            rests_at=strayed.address_path if strayed is not None else (),
        )

    def _mistyped(self, site: Site, pool: Pool, interface: Attachment) -> Finding:
        return self.finding(
            *interface_astray(site, pool, interface),
            Witness("unanswered", pool.name, interface.address),
            moved_to_gateway(pool, interface),
            concerns=networks_at_interface(site, interface),
        )


def _relays(site: Site, network: Network) -> str:
    """What the interfaces in the network relay to instead."""
    attached = site.pools.topology.attachments(network)
    if not attached:
        return "nothing in the plan relays from there"
    interfaces = [
        (a, site.plan.devices[a.device].interfaces[a.interface].relay_to) for a in attached
    ]
    relaying = [
        f"{a} relays to {', '.join(map(format_address, targets))}"
        for a, targets in interfaces
        if targets
    ]
    return "; ".join(relaying) or f"{attached[0]} is there but doesn't relay"


class TwoServers(Rule):
    """Two servers answer on one LAN: from the same ranges, or each for a subnet of its own.

    Why: From the same ranges, each assigns without knowing the other's leases: sooner or later two
    clients get the same address. From two subnets of one LAN, which of them a client ends up in is
    a matter of chance.

    Remedy: Give each server its own ranges, let only one of them serve, or say that they keep
    their leases in step: `served_by: {pair: [pier, depot]}`.
    """

    severity = Severity.ERROR
    follows = ("pair-not-mutual",)
    example = """
          devices: {pier: {}, depot: {}}
          networks:
            crew:
              subnet: 10.84.30.0/24
        -     served_by: [pier, depot]
        -     ranges: [10.84.30.20-10.84.30.99]
        +     served_by:
        +       - {device: pier, ranges: [10.84.30.20-10.84.30.59]}
        +       - {device: depot, ranges: [10.84.30.60-10.84.30.99]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        yield from self._on_one_network(site)
        yield from self._on_one_segment(site)

    def _on_one_segment(self, site: Site) -> Iterator[Finding]:
        """Servers that hear the same broadcasts, and answer them for networks of their own."""
        for names in site.topology.segments:
            answering: dict[str, Pool] = {}
            for pool in (pool for name in names for pool in site.pools.of(name)):
                reach = site.topology.reach(pool.server, pool.network) if pool.server else None
                if reach is not None and pool.assignable:
                    answering.setdefault(str(pool.server), pool)
            one, *others = answering.values() if answering else [None]
            for other in others:
                if one and other and one.name != other.name:
                    yield self.finding(
                        f"{one.name}, which {one.server} serves, and {other.name}, which "
                        f"{other.server} serves, are on one LAN: both servers answer each client",
                        other.server_path,
                        Witness(
                            "answered-twice",
                            other.name,
                            servers=(str(one.server), str(other.server)),
                        ),
                        concerns=(one.name,),
                    )

    def _on_one_network(self, site: Site) -> Iterator[Finding]:
        for pools in site.pools.by_network:
            name, path = pools[0].name, (*pools[0].path, "ranges")
            unsplit = [p for p in pools if p.server and p.assignable and p.ranges_path == path]
            servers = list(dict.fromkeys(str(pool.server) for pool in unsplit))
            if len(servers) > 1 and not unsplit[0].keeps_in_step_with(unsplit[-1]):
                who = listed(servers)
                yield self.finding(
                    f"{who} assign from the same ranges of {name}",
                    ("networks", name, "served_by"),
                    Witness(
                        "answered-twice", name, unsplit[0].assignable.first, servers=tuple(servers)
                    ),
                )


class ServerOnByDefault(Rule):
    """A device whose DHCP server is on by default is in a network that another device serves.

    Why: Connected before it is configured, it answers clients too, from a default pool.

    Remedy: Load its configuration before you connect it; `reservoir write` turns the DHCP service
    off on a device that serves no network.
    """

    severity = Severity.WARNING
    rests_on = ("service",)
    example = """
          devices:
            pier: {interfaces: {deck: {address: 10.84.30.1/24}}}
        -   kiosk-box: {dialect: thimble, interfaces: {lan: {address: 10.84.30.9/24}}}
        +   kiosk-box: {dialect: larkspur, interfaces: {lan: {address: 10.84.30.9/24}}}
          networks:
            crew: {subnet: 10.84.30.0/24, served_by: pier, ranges: [10.84.30.20]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        eager = {
            device for device, behaviour in site.behaviours.items() if behaviour.answers_by_default
        }
        for name, network in site.plan.networks.items() if eager else ():
            serving = site.topology.serving(name)
            for attachment in site.topology.attachments(network):
                if attachment.device in eager - serving and serving:
                    yield self.finding(
                        f"{attachment} is in {name}, which {', '.join(sorted(serving))} serves; "
                        f"the DHCP server of {attachment.device} is on by default",
                        attachment.path,
                        Witness("answered-twice", name, servers=(min(serving), attachment.device)),
                    )


class SecondaryUnserved(Obstructed):
    """A network is that of a secondary address, for which the device assigns nothing.

    Why: Clients broadcast. This device picks the pool of its primary address there, and a relay
    gives its primary address as its own: no client without a binding gets an address of this
    network, and on some devices none at all.

    Remedy: Make its address the primary one, widen the primary's subnet instead, or let a device
    serve it that assigns from the pools of secondary addresses too.
    """

    severity = Severity.ERROR
    rests_on = ("subnet", "placement")
    example = """
          devices:
            office:
              dialect: mortise
        -     interfaces: {lan: {address: [10.84.51.1/24, 10.84.53.1/24]}}
        +     interfaces: {lan: {address: 10.84.51.1/24}, annex: {address: 10.84.53.1/24}}
          networks:
            shop: {subnet: 10.84.51.0/24, ranges: [10.84.51.20-10.84.51.99]}
            annex: {subnet: 10.84.53.0/24, ranges: [10.84.53.20-10.84.53.99]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for finding in super().check(site):
            yield finding._replace(concerns=_beside(site, str(finding.network)))
        for pool in site.pools:
            reach = site.topology.reach(pool.server, pool.network) if pool.server else None
            relay = reach.relay if reach else None
            if relay is None or not relay.is_secondary:
                continue
            primary = site.topology.interface(relay).primary
            assert primary is not None
            yield self.finding(
                f"{relay} relays from its primary address {format_address(primary.address)}, so "
                f"{pool.server} never assigns from the pool of {pool.name}",
                relay.address_path,
                Witness("unanswered", pool.name, relay.address),
                concerns=_beside(site, pool.name),
            )


def _beside(site: Site, name: str) -> tuple[str, ...]:
    """The other networks on a network's LAN."""
    return tuple(other for other in site.topology.segment_of(name) if other != name)


class PoolShadowed(Obstructed):
    """A device uses this pool only when an earlier one is full.

    Why: It doesn't look at which network a client is in: clients of this network get addresses of
    another network and can't communicate.

    Remedy: Let another device serve one of the two, or bind the clients one by one.
    """

    severity = Severity.ERROR
    example = """
          devices:
            kiosk-box:
              dialect: thimble
              interfaces: {lan: {address: 10.84.30.1/24}, shop: {address: 10.84.31.1/24}}
          networks:
            crew: {subnet: 10.84.30.0/24, served_by: kiosk-box, ranges: [10.84.30.20-10.84.30.99]}
        -   shop: {subnet: 10.84.31.0/24, served_by: kiosk-box, ranges: [10.84.31.20-10.84.31.99]}
    """
