"""Addresses that devices hold: each gateway held by a router, no address held twice."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import lru_cache
from itertools import islice

import numpy as np

from reservoir.core.checks.remedies import exclude, range_holding
from reservoir.core.checks.rule import Rule, Site, replaced
from reservoir.core.checks.statics.placed import NAMELESS
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.plan.model import Network, PlanPath
from reservoir.core.topology import Attachment
from reservoir.core.values.addresses import Prefix, format_address
from reservoir.core.values.typos import FEW, is_slip


class GatewayBound(Rule):
    """The gateway's address is bound to a client.

    Why: The client answers in place of the router, and the whole network is cut off.

    Remedy: Bind the client to another address, or correct the gateway.
    """

    severity = Severity.ERROR
    example = """
          networks:
            crew:
              subnet: 10.84.30.0/24
              gateway: 10.84.30.1
        -     bindings: [{name: printer, mac: 00:00:5e:00:53:01, address: 10.84.30.1}]
        +     bindings: [{name: printer, mac: 00:00:5e:00:53:01, address: 10.84.30.9}]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        pools, table = site.pools, site.pools.bindings
        if not len(table):
            return
        named = [(i, n.gateway) for i, n in enumerate(pools.networks) if n.gateway is not None]
        indices, gateways = np.array(named, dtype=np.int64).reshape(-1, 2).T
        vrfs = pools.vrf_numbers[indices]
        bound = pools.bindings_by_address.first_at(vrfs, gateways) >= 0
        for place in np.flatnonzero(bound).tolist():
            name, gateway = pools.names[indices[place]], int(gateways[place])
            for row in pools.bindings_by_address.at(int(vrfs[place]), gateway):
                own = pools.names[table.network[row]]
                yield self.finding(
                    f"{table.label(row)} is bound to {format_address(gateway)}, "
                    f"the gateway of {name}",
                    (*table.path(row), "address"),
                    Witness(
                        "bound", own, gateway, **table.who(row), also="gateway", because="gateway"
                    ),
                    concerns=() if own == name else (name,),
                )


class GatewayUnattended(Rule):
    """No interface or static host in the plan has the gateway's address.

    Why: If no router answers there, clients reach nothing beyond their own network. Often a digit
    of the gateway or of the router's address is wrong.

    Remedy: Correct the gateway, or give the router's interface the address. List a router that
    isn't in the plan as a static host; set an address that two routers share as `virtual` on the
    interfaces of both.
    """

    severity = Severity.WARNING
    rests_on = ("subnet", "address", "interface")
    follows = ("interface-edge-address", "static-outside-subnet", "server-not-reached")
    example = """
          devices: {pier: {interfaces: {deck: {address: 10.84.30.2/24}}}}
          networks:
            crew:
              subnet: 10.84.30.0/24
              gateway: 10.84.30.1
              served_by: pier
              ranges: [10.84.30.20-10.84.30.99]
        +     static: [{name: core-router, address: 10.84.30.1}]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        next_hops = {r.via for device in site.plan.devices.values() for r in device.routes}
        for pools in site.pools.by_network:
            name, network = pools[0].name, pools[0].network
            gateway = network.gateway
            if gateway is None or not network.subnet.hosts.holds(gateway):
                continue
            if _is_held(site, network, gateway):
                continue
            if gateway in next_hops:  # a router that the plan doesn't describe, or has elsewhere
                meant = _interface_meant(site, gateway, network)
                if meant is not None:
                    yield self._mistyped(name, gateway, meant, network.subnet.bits)
                continue
            attached = site.topology.attachments(network)
            if not attached:
                continue  # its routers aren't known; server-not-reached reports it
            others = ", ".join(f"{a} has {format_address(a.address)}" for a in attached[:2])
            # Two routers in one network usually share the gateway's address.
            shared = len({attachment.device for attachment in attached}) > 1
            if shared and any(gateway in pool.assignable for pool in pools):
                continue  # then that is the mistake
            yield self.finding(
                f"no interface in the plan has the gateway address {format_address(gateway)}"
                + (f"; {others}" if others else ""),
                ("networks", name, "gateway"),
                Witness.of_gateway(name, gateway, "not-held"),
                severity=Severity.ADVICE if shared else None,
            )

    def _mistyped(self, name: str, gateway: int, interface: Attachment, bits: int) -> Finding:
        shown = format_address(gateway)
        return self.finding(
            f"no interface in the plan has the gateway address {shown}; {interface} has "
            f"{interface.prefix}, which is in no network",
            ("networks", name, "gateway"),
            Witness.of_gateway(name, gateway, "not-held"),
            replaced(interface.address_path, interface.prefix, Prefix(gateway, bits)),
        )


def _interface_meant(site: Site, gateway: int, network: Network) -> Attachment | None:
    """The one interface in no network, and confirmed by no next hop, that is a slip from it."""
    there = {attachment.device for attachment in site.topology.attachments(network)}
    slips = [
        attachment
        for attachment in _homeless(site)
        if site.topology.interface(attachment).vrf == network.vrf
        and attachment.device not in there
        and is_slip(attachment.address, gateway)
    ]
    return slips[0] if len(slips) == 1 else None


@lru_cache(maxsize=1)
def _homeless(site: Site) -> list[Attachment]:
    """Interfaces in no network, beside which nobody stands; none if there are many."""
    found = [
        attachment
        for attachment in site.topology.addressed
        if site.topology.home_of(attachment) is None
        and site.topology.is_up(attachment)
        and not site.topology.subnets_around(attachment.address, but=attachment.device)
    ]
    return found if len(found) <= FEW else []


def _is_held(site: Site, network: Network, address: int) -> bool:
    """Whether an interface or a static host of the network's VRF has the address."""
    if site.topology.answering(address, network.vrf):
        return True
    vrf = site.pools.vrf_of[network.vrf]
    return bool(len(site.pools.static) and site.pools.static_by_address.at(vrf, address))


class GatewayDiffersFromRelay(Rule):
    """The gateway is not the router that relays the network's requests.

    Why: It works, but often both were meant to be the same router.

    Remedy: Use the relaying interface's address as the gateway, or accept the finding.
    """

    severity = Severity.ADVICE
    example = """
          devices:
            pier:
        -     interfaces: {deck: {address: 10.84.30.2/24, relay_to: [10.84.0.10]}}
        +     interfaces: {deck: {address: 10.84.30.1/24, relay_to: [10.84.0.10]}}
        -   bow: {interfaces: {deck: {address: 10.84.30.1/24}}}
            depot: {interfaces: {lan: {address: 10.84.0.10/24}}}
          networks:
            crew:
              subnet: 10.84.30.0/24
              gateway: 10.84.30.1
              served_by: depot
              ranges: [10.84.30.20-10.84.30.99]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for name, network in site.plan.networks.items():
            attached = site.topology.attachments(network)
            answering = [a for a in attached if a.address == network.gateway]
            shared = [a for a in site.topology.sharing(network) if a.address == network.gateway]
            if not answering or shared:
                continue  # an address that routers share, or one that the plan doesn't know
            relays = [a for a in attached if site.topology.interface(a).relay_to]
            if relays and all(relay.address != network.gateway for relay in relays):
                gateway, relay = answering[0], relays[0]
                yield self.finding(
                    f"clients are offered the gateway {format_address(gateway.address)} of "
                    f"{gateway}, but {relay} relays their requests from "
                    f"{format_address(relay.address)}",
                    ("networks", name, "gateway"),
                )


class AddressHeldTwice(Rule):
    """Two interfaces or static hosts in one VRF have the same address.

    Why: Traffic to the address reaches now one, now the other; if it is a DHCP server's address,
    relayed requests may never arrive.

    Remedy: Correct one of them; often a digit is wrong or a line was copied. If it is on purpose,
    say so: `owner` for another name of one machine, `virtual` for an address that routers share,
    `anycast` for one that several servers have.
    """

    severity = Severity.ERROR
    blames = ("holder",)
    rests_on = ("networks", "interface", "address")
    rests_at = ("placement",)
    example = """
          devices:
            pier: {interfaces: {deck: {address: 10.84.30.1/24}}}
        -   bow: {interfaces: {deck: {address: 10.84.30.1/24}}}
        +   bow: {interfaces: {deck: {address: 10.84.30.2/24}}}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        yield from self._interfaces(site)
        table = site.pools.static
        if not len(table):
            return
        yield from self._static_and_interfaces(site)
        for group in site.pools.static_by_address.repeated():
            first = int(group[0])
            for row in group[1:].tolist():
                names = table.name[first], table.name[row]
                machines = {site.pools.owner(first), site.pools.owner(row)}
                several = len(machines) > 1 or "" in machines  # else one machine in two lists
                if several and int(table.address[row]) not in site.plan.anycast:
                    path = (*table.path(row), "address")
                    address = int(table.address[row])
                    network = site.pools.names[int(table.network[row])]
                    yield self._twice(address, names[0], names[1], path, [network])

    def _interfaces(self, site: Site) -> Iterator[Finding]:
        first: dict[tuple[str, int], Attachment] = {}
        topology = site.topology
        asked = {to for a in topology.addressed for to in topology.interface(a).relay_to}
        for attachment in topology.addressed:
            interface = topology.interface(attachment)
            if not interface.enabled or attachment.address in site.plan.anycast:
                continue
            other = first.setdefault((interface.vrf, attachment.address), attachment)
            if other is attachment:
                continue
            networks = _concerned(site, other, attachment, attachment.address in asked)
            path = attachment.address_path
            yield self._twice(attachment.address, str(other), str(attachment), path, networks)

    def _static_and_interfaces(self, site: Site) -> Iterator[Finding]:
        table = site.pools.static
        shared = {  # of those that share an address, the first is told of
            (site.topology.interface(a).vrf, a.address): a for a in reversed(site.topology.virtual)
        }
        for attachment in (*site.topology.addressed, *shared.values()):
            interface = site.topology.interface(attachment)
            if interface.vrf not in site.pools.vrf_of or not interface.enabled:
                continue
            if attachment.address in site.plan.anycast:
                continue
            vrf = site.pools.vrf_of[interface.vrf]
            for row in site.pools.static_by_address.at(vrf, attachment.address):
                name = table.name[row]
                holders = {a.device for a in site.topology.holders(attachment.address)}
                if name and site.pools.device_at(row) not in holders:  # else it is listed
                    network = site.pools.names[int(table.network[row])]
                    path = (*table.path(row), "address")
                    yield self._twice(attachment.address, str(attachment), name, path, [network])

    def _twice(
        self, address: int, one: str, other: str, path: PlanPath, networks: Sequence[str]
    ) -> Finding:
        shown = format_address(address)
        one, other = (name or NAMELESS for name in (one, other))
        return self.finding(
            f"both {one} and {other} have {shown}",
            path,
            Witness("held-twice", next(iter(networks), None), address, name=one, also=other),
            concerns=tuple(networks[1:]),
        )


def _concerned(site: Site, one: Attachment, other: Attachment, is_asked: bool) -> list[str]:
    """The networks whose clients notice that two interfaces have one address."""
    networks = list(islice(site.topology.networks_of(other), FEW))
    for device in dict.fromkeys([one.device, other.device]):
        served = site.pools.served_by(device)
        if is_asked:  # by a relay: then every network that these devices serve
            networks += [pool.name for pool in served]
        else:  # or those that they don't reach, perhaps for want of the right address
            networks += [p.name for p in served if not site.topology.reach(device, p.network)]
    return networks


class InterfaceInPool(Rule):
    """A device's own address is in the pool.

    Why: The client that gets it conflicts with the device. Some servers never assign their own
    addresses; no server knows the addresses of other devices.

    Remedy: Exclude the address, or shorten the range.
    """

    severity = Severity.ERROR
    rests_on = ("subnet", "exclusion")
    rests_here = ("range",)
    rests_at = ("placement",)
    follows = ("gateway-unattended",)
    example = """
          devices:
            pier: {dialect: larkspur, interfaces: {deck: {address: 10.84.30.2/24}}}
          networks:
            crew:
              subnet: 10.84.30.0/24
              gateway: 10.84.30.1
              served_by: pier
        -     ranges: [10.84.30.2-10.84.30.99]
        +     ranges: [10.84.30.3-10.84.30.99]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for pool in site.pools:
            if pool.named == "all" or not pool.assignable:
                continue  # `all` leaves interfaces out
            assignable = pool.assignable - site.never_assigned(pool)
            for attachment in (
                *site.topology.attachments(pool.network),
                *site.topology.sharing(pool.network),
            ):
                address = attachment.address
                if address not in assignable or address == pool.network.gateway:
                    continue
                path, span = range_holding(address, pool)
                yield self.finding(
                    f"{attachment} has {format_address(address)}, which is in the pool of "
                    f"{pool.name} (range {span})",
                    path,
                    Witness(
                        "assigned",
                        pool.name,
                        address,
                        also=f"interface {attachment}",
                        because="taken",
                    ),
                    exclude(address, pool),
                )
