"""What was meant where an address on the way from client to server is mistyped."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from functools import lru_cache
from typing import NamedTuple

from reservoir.core.checks.rule import Site
from reservoir.core.plan.model import Network
from reservoir.core.topology import Attachment
from reservoir.core.values.addresses import Prefix
from reservoir.core.values.typos import FEW, is_slip, likely_meant


def interface_of_server(site: Site, server: str, network: Network) -> Attachment | None:
    """The server's interface that was meant to have the network's gateway address.

    It has the network's VLAN, but its address is in a network that hasn't; or its address is in no
    network, has the network's mask, and is a typo away from the gateway.
    """
    gateway = network.gateway
    if gateway is None or not network.subnet.hosts.holds(gateway):
        return None
    if site.topology.holders(gateway):
        return None
    tagged = _strangers(site, server).get((network.vrf, network.vlan), [])
    if network.vlan is not None and len(tagged) == 1:
        return tagged[0]
    routes = site.plan.devices[server].routes
    if any(route.to.bits and route.to.subnet.span.holds(gateway) for route in routes):
        return None  # the network is elsewhere, as the device knows
    homeless = _homeless(site, server, network.vrf)
    alike = (a for a in homeless if a.bits == network.subnet.bits)  # else it is a link of its own
    near = [a for a in alike if likely_meant(a.address, network.subnet) == gateway]
    return near[0] if len(near) == 1 else None


@lru_cache(maxsize=64)
def _strangers(site: Site, server: str) -> Mapping[tuple[str, int | None], list[Attachment]]:
    """By VRF and VLAN: a server's interfaces that are in no network with that VLAN."""
    found: dict[tuple[str, int | None], list[Attachment]] = {}
    for attachment in site.topology.attachments_of(server):
        interface = site.topology.interface(attachment)
        there = site.topology.networks_of(attachment)
        if all(site.plan.networks[name].vlan != interface.vlan for name in there):
            found.setdefault((interface.vrf, interface.vlan), []).append(attachment)
    return found


@lru_cache(maxsize=64)
def _homeless(site: Site, server: str, vrf: str) -> Sequence[Attachment]:
    """A server's interfaces that are up, in no network, and without a next hop that confirms them.

    Empty if there are many: one of so many would be no hint.
    """
    hops = [route.via for route in site.plan.devices[server].routes]
    found = [
        attachment
        for attachment in site.topology.attachments_of(server)
        if site.topology.interface(attachment).vrf == vrf
        and site.topology.home_of(attachment) is None
        and site.topology.is_up(attachment)
        if not any(map(attachment.prefix.span.holds, hops))
    ]
    return found if len(found) <= FEW else []


def strayed_interface(site: Site, server: str, network: Network) -> Attachment | None:
    """The server's interface in another network, with this one's mask and a typo away from it."""
    subnet, topology = network.subnet.subnet, site.topology
    found = [
        attachment
        for attachment in topology.attachments_of(server)[:FEW]
        if attachment.bits == subnet.bits
        if (home := topology.home_of(attachment)) is not None
        if site.plan.networks[home].subnet.bits != subnet.bits
        if likely_meant(attachment.address, subnet) is not None
    ]
    return found[0] if len(found) == 1 else None


class Moved(NamedTuple):
    """An interface, and the address that was meant: of itself, or of a next hop there."""

    at: Attachment
    meant: Prefix


def hop_meant(site: Site, device: str, hop: int) -> Moved | None:
    """The one address in the device's connected subnets that is a typo away from a next hop."""
    found = [
        Moved(attachment, Prefix(meant, own.bits))
        for attachment in site.topology.attachments_of(device)[:FEW]
        for own in [attachment.prefix]
        if (meant := likely_meant(hop, own)) not in (None, attachment.address)
    ]
    return found[0] if len(found) == 1 else None


def interface_meant(site: Site, device: str, hop: int) -> Moved | None:
    """The interface that a typo kept out of the hop's subnet, where another device is."""
    found = {
        Moved(attachment, Prefix(meant, subnet.bits))
        for subnet in site.topology.subnets_around(hop, but=device)
        for attachment in site.topology.attachments_of(device)[:FEW]
        for own in [attachment.prefix]
        if own.bits != subnet.bits or site.topology.home_of(attachment) is None
        if (meant := _in_subnet(own, subnet)) not in (None, hop)
    }
    return found.pop() if len(found) == 1 else None


def _in_subnet(written: Prefix, subnet: Prefix) -> int | None:
    """The address in a subnet that was meant by one with another mask, or with a typo."""
    if written.bits != subnet.bits:
        return written.address if subnet.hosts.holds(written.address) else None
    return likely_meant(written.address, subnet)


def network_of_relay(site: Site, attachment: Attachment) -> tuple[str, Prefix] | None:
    """The one network that the interface would be in but for a typo, and the address meant."""
    interface = site.topology.interface(attachment)
    alike = networks_by_tag(site).get((interface.vrf, interface.vlan), [])
    found = [
        (name, Prefix(meant, subnet.bits))
        for name, subnet in (alike if len(alike) <= FEW else ())
        if (meant := likely_meant(attachment.address, subnet)) is not None
        if not site.topology.holders(meant)
    ]
    return found[0] if len(found) == 1 else None


@lru_cache(maxsize=1)
def networks_by_tag(site: Site) -> dict[tuple[str, int | None], list[tuple[str, Prefix]]]:
    """The networks of each VRF and VLAN."""
    found: dict[tuple[str, int | None], list[tuple[str, Prefix]]] = {}
    for name, network in site.plan.networks.items():
        found.setdefault((network.vrf, network.vlan), []).append((name, network.subnet))
    return found


def server_of_relay(
    site: Site, network: str, relaying: Attachment, target: int
) -> Attachment | None:
    """The interface of the network's server whose address was meant."""
    serving = site.topology.serving(network)
    others = site.topology.interface(relaying).relay_to
    found = [
        attachment
        for server in sorted(serving)
        for attachment in site.topology.attachments_of(server)
        if attachment.address not in others
    ]
    near = [attachment for attachment in found if is_slip(target, attachment.address)]
    chosen = near if len(near) == 1 else found
    return chosen[0] if len(chosen) == 1 else None


def is_isolated(site: Site, server: Attachment, asked: int) -> bool:
    """Whether other devices share a subnet with the target, and none with the server's address."""
    topology = site.topology
    beside = topology.subnets_around(asked, but=server.device)
    return bool(beside) and not topology.subnets_around(server.address, but=server.device)
