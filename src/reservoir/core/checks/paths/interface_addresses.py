"""Interface addresses: present, usable, and with their network's mask."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator
from functools import lru_cache
from itertools import islice
from operator import itemgetter

from reservoir.core.checks.agreement import networks_met
from reservoir.core.checks.rule import Rule, Site, replaced
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.plan.edits import Edit
from reservoir.core.plan.model import PlanPath
from reservoir.core.topology import Attachment
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import ADDRESS_BITS, Prefix, Span, format_address
from reservoir.core.values.typos import FEW


class InterfaceWithoutAddress(Rule):
    """The interface that should serve or relay a network has no address.

    Why: A server never answers from a pool without an interface address in its subnet, and no
    server can answer a relay without an address.

    Remedy: Give the interface an address in the network's subnet.
    """

    severity = Severity.ERROR
    rests_on = ("address",)
    example = """
          devices:
            pier:
              interfaces:
                deck: {}
        -       deck.30: {parent: deck, vlan: 30}
        +       deck.30: {parent: deck, vlan: 30, address: 10.84.30.1/24}
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
                if interface.addresses:
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
                f"{device} {name} relays but has no address",
                path,
                Witness("not-relayed", also=f"{device} {name}"),
            )
        network = site.plan.networks[meant]
        edit: tuple[Edit, ...] = ()
        if network.gateway is not None and network.subnet.hosts.holds(network.gateway):
            address = f"{format_address(network.gateway)}/{network.subnet.bits}"
            held = site.topology.holders(network.gateway)
            edit = () if held else (Edit((*path, "address"), None, address),)
        return self.finding(
            f"{device} {name} has the VLAN of {meant} but no address in {network.subnet.subnet}",
            path,
            Witness("unanswered", meant),
            edit,
        )


class InterfaceEdgeAddress(Rule):
    """An interface's address is its subnet's network or broadcast address.

    Why: Devices refuse it, and the interface is left without an address.

    Remedy: Give it a host address: the gateway's, if this is the network's router.
    """

    severity = Severity.ERROR
    is_certain = True
    rests_on = ("subnet",)
    rests_here = ("placement",)
    follows_here = ("interface-mask-differs",)
    example = """
        - devices: {pier: {interfaces: {deck: {address: 10.84.30.0/24}}}}
        + devices: {pier: {interfaces: {deck: {address: 10.84.30.1/24}}}}
          networks:
            crew:
              subnet: 10.84.30.0/24
              gateway: 10.84.30.1
              served_by: pier
              ranges: [10.84.30.20-10.84.30.99]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for attachment in site.topology.addressed:
            address = attachment.prefix
            if not address.is_edge(address.address):
                continue
            there = site.topology.home_of(attachment)
            gateway = site.plan.networks[there].gateway if there else None
            free = gateway is not None and not site.topology.holders(gateway)
            path, kind = attachment.address_path, address.edge_word(address.address)
            fault = f"the {kind} address of {address.subnet}"
            yield self.finding(
                f"{attachment} has {format_address(attachment.address)}, {fault}",
                path,
                Witness(
                    "has",
                    there,
                    attachment.address,
                    name=str(attachment),
                    because=f"{kind}-address",
                ),
                replaced(path, address, Prefix(gateway, address.bits))
                if gateway is not None and free and address.hosts.holds(gateway)
                else (),
                concerns=tuple(p.name for p in site.pools.served_by(attachment.device)),
            )


class InterfaceMaskDiffers(Rule):
    """An interface's subnet mask differs from its network's.

    Why: Device and clients disagree on which addresses are on-link: some clients can't be reached,
    and a device that picks the pool by the interface's subnet may not find it.

    Remedy: Use the network's prefix length on the interface, or correct the network's.
    """

    severity = Severity.ERROR
    is_certain = True
    rests_on = ("subnet", "networks")
    rests_here = ("placement",)
    rests_at = ("holder",)
    example = """
        - devices: {pier: {interfaces: {deck: {address: 10.84.30.1/23}}}}
        + devices: {pier: {interfaces: {deck: {address: 10.84.30.1/24}}}}
          networks:
            crew: {subnet: 10.84.30.0/24, served_by: pier, ranges: [10.84.30.20]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for attachment in site.topology.addressed:
            name, address = site.topology.home_of(attachment), attachment.prefix
            if name is None:
                continue
            subnet, path = site.plan.networks[name].subnet, attachment.address_path
            is_service = address.bits == ADDRESS_BITS and address.address in site.plan.anycast
            if address.bits == subnet.bits or is_service:
                continue
            yield self.finding(
                f"{attachment} has {address}, but {name} is {subnet}",
                path,
                Witness(
                    "masks-differ",
                    name,
                    attachment.address,
                    also=str(attachment),
                    value=f"/{subnet.bits}",
                    expected=f"/{address.bits}",
                ),
                (
                    *replaced(path, address, Prefix(address.address, subnet.bits)),
                    *self._other_way(site, name, address),
                ),
                is_certain=self._is_contradicted(site, name, attachment),
                concerns=others_there(site, attachment, name),
            )

    def _is_contradicted(self, site: Site, name: str, attachment: Attachment) -> bool:
        """Whether something else shows that the interface's mask is wrong, not the network's.

        Another interface has the network's mask; or the network's ranges, or other networks, are
        where the interface's subnet would end, or go on. The interface has to belong there: by its
        VLAN, or as the gateway.
        """
        network, own = site.plan.networks[name], attachment.prefix
        tag = site.topology.interface(attachment).vlan
        if attachment.address != network.gateway and (tag is None or tag != network.vlan):
            return False
        others = [a for a in site.topology.attachments(network) if a is not attachment]
        if any(other.prefix.bits == network.subnet.bits for other in others):
            return True
        if own.bits > network.subnet.bits:
            spans = network.ranges if network.ranges != "all" else ()
            return any(not own.span.holds(end) for s in spans for end in (s.first, s.last))
        return networks_met(site, own) > 1

    def _other_way(self, site: Site, name: str, address: Prefix) -> tuple[Edit, ...]:
        """The interface's subnet for the network's, if it is larger and nothing contradicts it."""
        subnet = site.plan.networks[name].subnet
        attached = site.topology.attachments(site.plan.networks[name])
        agreed = any(other.prefix.bits == subnet.bits for other in attached)
        if agreed or address.bits > subnet.bits or address.network != subnet.network:
            return ()
        return replaced(("networks", name, "subnet"), subnet, address.subnet)


def others_there(site: Site, attachment: Attachment, network: str) -> tuple[str, ...]:
    """Some other networks that have the interface's address in their subnet."""
    others = (name for name in site.topology.networks_of(attachment) if name != network)
    return tuple(islice(others, FEW))


class InterfacesOverlap(Rule):
    """The subnets of two interfaces overlap without being the same.

    Why: One device can't tell which interface leads to an address; with two devices, one treats
    hosts as on-link that are not.

    Remedy: Correct the prefix length, or the address with the wrong digit.
    """

    severity = Severity.WARNING
    rests_here = ("placement",)
    follows_here = ("interface-edge-address",)
    example = """
          devices:
            pier: {interfaces: {uplink: {address: 10.84.0.2/24}}}
        -   depot: {interfaces: {lan: {address: 10.84.0.10/23}}}
        +   depot: {interfaces: {lan: {address: 10.84.0.10/24}}}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        doubtful: dict[Attachment, Attachment] = {}
        for outer, inner in _nested(site):
            # The one without support is wrong; the larger one, if that doesn't decide it.
            wrong, other = sorted((outer, inner), key=lambda a: _support(site, a))
            if site.topology.home_of(wrong) is None:
                doubtful.setdefault(wrong, other)
        for wrong, other in doubtful.items():
            yield self._between(site, wrong, other)

    def _between(self, site: Site, wrong: Attachment, other: Attachment) -> Finding:
        """The finding, shown by an address in the larger subnet that is not in the smaller."""
        written, there = wrong.prefix, other.prefix
        outer, inner = (wrong, other) if written.bits < there.bits else (other, wrong)
        own = Span(outer.address, outer.address)
        beyond = AddressSet([outer.prefix.hosts]) - AddressSet([inner.prefix.span])
        beyond = beyond - AddressSet([own]) or beyond
        return self.finding(
            f"{wrong} has {written}, and {other} has {there}: the subnets overlap",
            wrong.address_path,
            Witness("on-link", address=beyond.first, name=str(outer), also=str(inner)),
        )


def _support(site: Site, attachment: Attachment) -> tuple[bool, int, int]:
    """How much supports an interface's address: a network, others in that subnet, its size."""
    prefix, at_home = attachment.prefix, site.topology.home_of(attachment) is not None
    return at_home, _interfaces_in(site)[prefix.subnet], prefix.bits


@lru_cache(maxsize=1)
def _interfaces_in(site: Site) -> Counter[Prefix]:
    """How many interfaces there are in each subnet."""
    return Counter(attachment.prefix.subnet for attachment in site.topology.addressed)


def _nested(site: Site) -> Iterator[tuple[Attachment, Attachment]]:
    """Interfaces of one VRF, each with the nearest whose subnet is inside its own.

    Subnets lie inside each other or apart, so that those around the next are a stack. A single
    address inside a subnet is no subnet of its own; an interface with another mask than its network
    is wrong anyway.
    """
    by_vrf: dict[str, list[tuple[int, int, Attachment]]] = {}
    for attachment in site.topology.addressed:
        interface, prefix = site.topology.interface(attachment), attachment.prefix
        home = site.topology.home_of(attachment)
        fits = home is None or site.plan.networks[home].subnet.bits == prefix.bits
        if prefix.bits < ADDRESS_BITS and interface.enabled and fits:
            entry = (prefix.network, prefix.bits, attachment)
            by_vrf.setdefault(interface.vrf, []).append(entry)
    for entries in by_vrf.values():
        around: list[tuple[Prefix, Attachment]] = []
        for network, bits, attachment in sorted(entries, key=itemgetter(0, 1)):
            subnet = Prefix(network, bits)
            while around and not around[-1][0].span.holds(network):
                around.pop()
            if around and around[-1][0] != subnet:
                yield around[-1][1], attachment
            if not around or around[-1][0] != subnet:
                around.append((subnet, attachment))
