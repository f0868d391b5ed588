"""DNS servers that are in the plan's own networks, and servers that options name."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from functools import cache, partial
from typing import NamedTuple

from reservoir.core.checks.agreement import is_nowhere
from reservoir.core.checks.options.dns import WrittenServer, dns_servers, why_no_host
from reservoir.core.checks.options.written import options_as_written
from reservoir.core.checks.rule import Rule, Site, replaced
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.plan.edits import Edit
from reservoir.core.plan.model import PlanPath
from reservoir.core.values.addresses import format_address
from reservoir.core.values.options import REGISTRY, addresses_in, name_of, servers_in
from reservoir.core.values.typos import slips

BROADCAST = REGISTRY["broadcast_address"].code
"""The option whose address is no server's."""


class DnsTwice(Rule):
    """A DNS server is listed twice.

    Why: Clients that get no answer ask the same server again, and another may have been meant.

    Remedy: Name another server, or remove the second.
    """

    severity = Severity.WARNING
    example = """
          networks:
        -   crew: {subnet: 10.84.30.0/24, dns: [10.84.0.53, 10.84.0.53]}
        +   crew: {subnet: 10.84.30.0/24, dns: [10.84.0.53, 10.84.1.53]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        said: set[tuple[object, ...]] = set()
        for server in dns_servers(site):
            key = (*server.path[:-1], server.address)
            if key in said:
                shown = format_address(server.address)
                yield self.finding(
                    f"the DNS server {shown} is listed twice",
                    server.path,
                    server.witness("again"),
                    (Edit(server.path, shown, None),),
                )
            said.add(key)


class DnsNotHeld(Rule):
    """A DNS server's address is in a network of the plan, and nobody there has it.

    Why: If no server answers there, clients resolve no names. Where a typo leads to a machine that
    is there, it is a warning, in whatever subnet the address is; else the server may just not be
    listed, and it is advice.

    Remedy: Correct the address, or list the server as a static host.
    """

    severity = Severity.WARNING
    rests_on = ("subnet", "networks", "address", "holder")
    follows = ("static-outside-subnet", "static-edge-address", "dns-digits-swapped")
    example = """
          networks:
            crew:
              subnet: 10.84.30.0/24
              static: [{name: ns1, address: 10.84.30.53}]
        -     dns: [10.84.30.35]
        +     dns: [10.84.30.53]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        listed: set[tuple[object, ...]] = set()
        # Many networks name the same servers.
        unheld, meant_by = cache(partial(_homes_without, site)), cache(partial(_near, site))
        for server in dns_servers(site):
            path, address, name, _ = server
            if (key := (*path[:-1], address)) in listed:
                continue  # dns-twice reports it
            listed.add(key)
            shown = format_address(address)
            homes = unheld(address, site.plan.networks[name].vrf)
            if not homes:
                yield from self._astray(site, server)
                continue
            home = name if name in homes else next(iter(homes))
            meant = meant_by(address, home)
            hint = f"; {_who(site, meant, home)} has {format_address(meant)}" if meant else ""
            yield self.finding(
                f"the DNS server {shown} is in {home}, but nobody in the plan has it{hint}",
                path,
                server.witness("not-held"),
                replaced(path, shown, format_address(meant) if meant else None),
                severity=None if meant else Severity.ADVICE,
                concerns=tuple(other for other in homes if other != name),
            )

    def _astray(self, site: Site, server: WrittenServer) -> Iterator[Finding]:
        """A server in no network, if a machine of the plan is a typo away."""
        path, address, name, _ = server
        machine = machine_meant(site, address, site.plan.networks[name].vrf)
        if machine is not None and machine.address not in site.pools.offer_in(name).dns:
            shown, meant = format_address(address), format_address(machine.address)
            yield self.finding(
                f"the DNS server {shown} is in no network of the plan; {machine.name} has {meant}",
                path,
                server.witness("not-held"),
                replaced(path, shown, meant),
            )


class OptionAddressMistyped(Rule):
    """A server that clients are told of is in no network, but a static host a typo away is.

    Why: The clients' requests to it are lost.

    Remedy: Correct the address, or accept the finding if the server exists.
    """

    severity = Severity.WARNING
    rests_on = ("subnet", "networks", "address", "holder")
    example = """
          networks:
            crew:
              subnet: 10.84.30.0/24
              static: [{name: clock, address: 10.84.30.123}]
              ranges: [10.84.30.20]
        -     options: {ntp: [10.48.30.123]}
        +     options: {ntp: [10.84.30.123]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for option in options_as_written(site):
            if not option.networks:
                continue
            server, addresses = servers_in(option.code, option.data)
            for address in addresses if server else ():
                network = site.plan.networks[option.networks[0]]
                machine = machine_meant(site, address, network.vrf)
                if machine is not None and machine.address not in addresses:
                    shown, meant = format_address(address), format_address(machine.address)
                    yield self.finding(
                        f"the {server} {shown} is in no network of the plan; {machine.name} has "
                        f"{meant}",
                        option.path,
                        option.witness(
                            address=address,
                            option=f"option {name_of(option.code)}",
                            value=shown,
                            because="no-device",
                        ),
                        concerns=option.networks[1:],
                    )


class Machine(NamedTuple):
    """A static host of the plan."""

    name: str
    address: int


def machine_meant(site: Site, address: int, vrf: str) -> Machine | None:
    """The one static host a typo away from an address that is in no network and on no link."""
    if not is_nowhere(site, address) or site.topology.holders(address):
        return None
    table, there = (
        site.pools.static,
        partial(site.pools.static_by_address.at, site.pools.vrf_of[vrf]),
    )
    if address in site.plan.anycast or there(address):
        return None
    found = [
        Machine(table.name[rows[0]] or "a static host", other)
        for other in slips(address)
        if (rows := [r for r in there(other) if not is_nowhere(site, other)])
    ]
    return found[0] if len(found) == 1 else None


def _homes_without(site: Site, address: int, vrf: str) -> Mapping[str, None]:
    """The networks that an address is in, if a server could have it there and nobody has."""
    homes = dict.fromkeys(site.topology.networks_at(address, vrf))
    if why_no_host(site, address, vrf) or any(_is_known(site, address, home) for home in homes):
        return {}
    return homes


def _near(site: Site, address: int, home: str) -> int | None:
    """The one address a typo away that a machine of the network has."""
    near = [other for other in slips(address) if _who(site, other, home)]
    return near[0] if len(near) == 1 else None


def _is_known(site: Site, address: int, home: str) -> bool:
    """Whether somebody has the address; or another rule reports that a client may get it."""
    network, pools = site.plan.networks[home], site.pools
    return bool(
        _who(site, address, home)
        or address in site.plan.anycast
        or address == network.gateway
        or pools.bindings_by_address.at(pools.vrf_of[network.vrf], address)
        or any(address in pool.assignable for pool in pools.of(home))
    )


def _who(site: Site, address: int | None, home: str) -> str:
    """The machine of a network that has an address: an interface or a static host."""
    network, pools = site.plan.networks[home], site.pools
    if address is None or not network.subnet.hosts.holds(address):
        return ""
    for attachment in site.topology.answering(address, network.vrf):
        return str(attachment)
    rows = pools.static_by_address.at(pools.vrf_of[network.vrf], address)
    return (pools.static.name[rows[0]] or "a static host") if rows else ""


class ZoneBlocksDns(Rule):
    """Clients are offered a firewall's own address as DNS server, in a zone that doesn't admit DNS.

    Why: The firewall drops the clients' queries, and they resolve no names. It does the same at an
    interface that is in no zone.

    Remedy: Let the zone admit dns, or offer another DNS server.
    """

    severity = Severity.ERROR
    rests_on = ("zone", "admits")
    example = """
          devices:
            office:
              dialect: merganser
              interfaces: {lan: {address: 10.84.50.1/24, zone: staff}}
        -     zones: {staff: {admits: [dhcp]}}
        +     zones: {staff: {admits: [dhcp, dns]}}
          networks:
            staff:
              subnet: 10.84.50.0/24
              gateway: 10.84.50.1
              dns: [10.84.50.1]
              served_by: office
              ranges: [10.84.50.20]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        closed: dict[PlanPath, list[tuple[str, int]]] = {}
        for name, offer in zip(site.pools.names, site.pools.offers, strict=True):
            for address in offer.dns if site.topology.serving(name) else ():
                for path in _closed_to_dns(site, name, address):
                    closed.setdefault(path, []).append((name, address))
        for path, offered in closed.items():
            _, device, kind, what = path
            name, address = offered[0]
            where, edits = str(what), tuple[Edit, ...]()
            if kind == "zones":
                admits = site.plan.devices[str(device)].zones[str(what)].admits
                why = f"zone {what} of {device} admits {', '.join(admits) or 'nothing'}, not dns"
                edits = (Edit((*path, "admits", len(admits)), None, "dns"),)
            else:
                where = f"{device} {what}"
                why = f"{where} is in no zone that admits dns"
            shown, because = format_address(address), _CLOSED[str(kind)]
            yield self.finding(
                f"clients of {name} are offered the DNS server {shown}, but {why}",
                path,
                Witness.of_dns(name, address, because, where),
                edits,
                concerns=tuple(other for other, _ in offered[1:]),
            )


_CLOSED = {"zones": "zone-closed", "interfaces": "zoneless"}


def _closed_to_dns(site: Site, name: str, address: int) -> Iterator[PlanPath]:
    """The zone, or the interface in none, where queries to a device's own address are dropped."""
    network = site.plan.networks[name]
    for holder in site.topology.answering(address, network.vrf):
        behaviour = site.behaviour(holder.device)
        if behaviour is None or not behaviour.zone_must_admit_dhcp:
            continue  # its zones don't matter, or it isn't known
        # The clients come in where the device is in their network, if it is there.
        there = (a for a in site.topology.attachments(network) if a.device == holder.device)
        entered = next(there, holder)
        zone, zones = site.topology.interface(entered).zone, site.plan.devices[holder.device].zones
        if zone not in zones:
            yield "devices", holder.device, "interfaces", entered.interface
        elif "dns" not in zones[str(zone)].admits:
            yield "devices", holder.device, "zones", str(zone)


class OptionAddressInvalid(Rule):
    """A server that an option names has an address that no server can have.

    Why: The clients' requests to it are never answered.

    Remedy: Correct the address.
    """

    severity = Severity.ERROR
    example = """
          networks:
        -   crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20], options: {ntp: [10.84.30.255]}}
        +   crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20], options: {ntp: [10.84.30.123]}}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for option in options_as_written(site):
            if option.code == BROADCAST or not option.networks:
                continue
            name, what = option.networks[0], name_of(option.code)
            for address in addresses_in(option.code, option.data):
                reason = why_no_host(site, address, site.plan.networks[name].vrf)
                if reason:
                    shown = format_address(address)
                    yield self.finding(
                        f"option {what}: {shown} {reason}",
                        option.path,
                        option.witness(
                            address=address,
                            option=f"option {what}",
                            value=shown,
                            because="not-a-host",
                        ),
                        concerns=option.networks[1:],
                    )
