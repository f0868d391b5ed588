"""Relays: from a client network, to a server that has a pool for it, and back."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from functools import lru_cache
from typing import NamedTuple

from reservoir.core.checks.rule import SUBNET_WRONG, Rule, Site, replaced
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.plan.model import PlanPath
from reservoir.core.topology import Attachment
from reservoir.core.values.addresses import Prefix, format_address
from reservoir.core.values.typos import FEW, likely_meant
from reservoir.core.wording import listed


class Relay(NamedTuple):
    """One server that an interface relays to."""

    attachment: Attachment
    position: int
    target: int
    network: str | None
    """The network whose clients' requests are relayed, if the plan has it."""
    servers: Sequence[str]
    """The devices that hold the address that is relayed to."""

    @property
    def path(self) -> PlanPath:
        """Where the server's address stands."""
        return (*self.attachment.path, "relay_to", self.position)


@lru_cache(maxsize=1)
def relays(site: Site) -> list[Relay]:
    """Every server that an addressed interface relays to."""
    found = []
    for attachment in site.topology.addressed:
        interface = site.topology.interface(attachment)
        if not interface.relay_to:
            continue
        network = site.topology.home_of(attachment)
        for position, target in enumerate(interface.relay_to):
            holders = dict.fromkeys(holder.device for holder in site.topology.holders(target))
            found.append(Relay(attachment, position, target, network, list(holders)))
    return found


class RelayMisplaced(Rule):
    """An interface relays, and no network of clients is there.

    Why: Relayed requests come from the wrong subnet or none; the network that was meant gets no
    answer.

    Remedy: Move the relay to the interface in the client network, or correct the address.
    """

    severity = Severity.ERROR
    follows = SUBNET_WRONG
    failing = """
        devices:
          pier: {interfaces: {deck: {address: 10.84.40.1/24, relay_to: [10.84.0.10]}}}
          depot: {interfaces: {lan: {address: 10.84.0.10/24}}}
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: depot, ranges: [10.84.30.20]}
    """
    passing = """
        devices:
          pier: {interfaces: {deck: {address: 10.84.30.1/24, relay_to: [10.84.0.10]}}}
          depot: {interfaces: {lan: {address: 10.84.0.10/24}}}
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: depot, ranges: [10.84.30.20]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for relay in relays(site):
            servers = relay.servers
            if not servers or relay.position or not self._is_astray(site, relay):
                continue  # where neither end is in the plan, it is none of the plan's business
            meant = _unreached(site, servers)
            names = f"; {', '.join(meant[:3])} waits for a relay" if meant else ""
            attachment, path = relay.attachment, (*relay.attachment.path, "address")
            shown, typo = format_address(attachment.address), self._meant(site, attachment)
            elsewhere = self._in_other_vrf(site, attachment)
            hint = f"; {format_address(typo[1].address)} would be in {typo[0]}" if typo else names
            networks = [*meant, *([typo[0]] if typo else ()), *filter(None, [relay.network])]
            yield self.finding(
                f"{attachment} relays from {shown}, which is in "
                + (relay.network or "no network of the plan")
                + (elsewhere or hint),
                relay.path[:-1],
                self._witness(relay, networks[0] if networks else None, bool(meant)),
                replaced(path, attachment.prefix, typo and typo[1]),
                concerns=tuple(networks[1:]),
            )

    def _witness(self, relay: Relay, network: str | None, unheard: bool) -> Witness:
        """Nobody answers the network's clients; or they are taken for those of another."""
        if unheard:
            return Witness("unanswered", network, relay.attachment.address)
        if relay.network is not None:
            also = f"is answered as one of {relay.network}"
            return Witness("told-otherwise", network, relay.attachment.address, also=also)
        return Witness("lost-request", network, relay.target, also="for nobody")

    def _is_astray(self, site: Site, relay: Relay) -> bool:
        """Whether the relay is in no network; or in one, and has the VLAN of another.

        That other one, unless the device stands there too: then the VLAN may be what is wrong.
        """
        if relay.network is None:
            return True
        interface = site.topology.interface(relay.attachment)
        alike = _by_tag(site).get((interface.vrf, interface.vlan), [])
        if interface.vlan is None or len(alike) != 1 or alike[0][0] == relay.network:
            return False
        there = site.topology.attachments(site.plan.networks[alike[0][0]])
        return all(attachment.device != relay.attachment.device for attachment in there)

    def _in_other_vrf(self, site: Site, attachment: Attachment) -> str:
        """Where the address would be at home in another VRF, if it is at home in none here."""
        own, *others = (
            f"VRF {vrf}" if vrf else "no VRF"
            for vrf in (site.topology.interface(attachment).vrf, *site.lending.vrf_of)
        )
        here = site.topology.interface(attachment).vrf
        for words, vrf in zip(others, site.lending.vrf_of, strict=True):
            if vrf == here:
                continue
            for name in site.topology.networks_at(attachment.address, vrf):
                return f"; {name} has it, in {words}, and the interface is in {own}"
        return ""

    def _meant(self, site: Site, attachment: Attachment) -> tuple[str, Prefix] | None:
        """The one network that a slip kept the interface out of, and the address meant there."""
        interface = site.topology.interface(attachment)
        alike = _by_tag(site).get((interface.vrf, interface.vlan), [])
        found = [
            (name, Prefix(meant, subnet.bits))
            for name, subnet in (alike if len(alike) <= FEW else ())
            if (meant := likely_meant(attachment.address, subnet)) is not None
            if not site.topology.holders(meant)
        ]
        return found[0] if len(found) == 1 else None


@lru_cache(maxsize=1)
def _by_tag(site: Site) -> dict[tuple[str, int | None], list[tuple[str, Prefix]]]:
    """The networks of each VRF and VLAN."""
    found: dict[tuple[str, int | None], list[tuple[str, Prefix]]] = {}
    for name, network in site.plan.networks.items():
        found.setdefault((network.vrf, network.vlan), []).append((name, network.subnet))
    return found


def _unreached(site: Site, servers: Sequence[str]) -> list[str]:
    """The networks that these servers should lend to and don't hear."""
    return [name for server in servers for name in _unheard(site, server)]


@lru_cache(maxsize=64)
def _unheard(site: Site, server: str) -> list[str]:
    pools = site.lending.pools_served_by(server)
    return [pool.name for pool in pools if site.topology.reach(server, pool.network) is None]


class RelayWithoutPool(Rule):
    """A server that a network is relayed to has no pool for it.

    Why: It finds no pool for the relay's address and keeps silent; the clients get no address.

    Remedy: Let the server serve the network, relay to the one that does, or correct the subnet of
    the pool that was meant.
    """

    severity = Severity.ERROR
    follows = (*SUBNET_WRONG, "network-unserved", "address-held-twice")
    rests_on = ("pool", "subnet")
    failing = """
        devices:
          pier: {interfaces: {deck: {address: 10.84.30.1/24, relay_to: [10.84.0.10]}}}
          depot:
            interfaces: {lan: {address: 10.84.0.10/24}, hall: {address: 10.84.31.1/24}}
        networks:
          crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20]}
          hall: {subnet: 10.84.31.0/24, served_by: depot, ranges: [10.84.31.20]}
    """
    passing = """
        devices:
          pier: {interfaces: {deck: {address: 10.84.30.1/24, relay_to: [10.84.0.10]}}}
          depot:
            interfaces: {lan: {address: 10.84.0.10/24}, hall: {address: 10.84.31.1/24}}
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: depot, ranges: [10.84.30.20]}
          hall: {subnet: 10.84.31.0/24, served_by: depot, ranges: [10.84.31.20]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        poolless: dict[tuple[str, str], list[Relay]] = {}
        for relay in relays(site):
            network = relay.network
            if network is None or relay.attachment.device in relay.servers:
                continue
            serving = {service.device for service in site.plan.networks[network].served_by}
            for server in relay.servers:
                if server not in serving and site.lending.pools_served_by(server):
                    poolless.setdefault((server, network), []).append(relay)
        for (server, network), together in poolless.items():
            meant = _unreached(site, [server])[:1]
            looks = [f"; {name}, which it serves and never hears, looks meant" for name in meant]
            attachments = listed(relay.attachment for relay in together)
            yield self.finding(
                f"{attachments} relay{'s' * (len(together) == 1)} to {server}, "
                f"which has no pool for {network}" + "".join(looks),
                together[0].path,
                Witness(
                    "lost-request", network, together[0].target, also=f"and {server} has no pool"
                ),
                concerns=tuple(meant),
            )


class RelayAndServer(Rule):
    """An interface relays a network's requests that its own device serves too.

    Why: Two answers come for each request; which one counts changes from client to client.

    Remedy: Serve the network here or relay it, not both.
    """

    severity = Severity.WARNING
    follows = ("relay-to-itself", "relay-to-nobody", "relay-without-pool")
    rests_on = ("relay_to", "address", "interface")
    failing = """
        devices:
          pier: {interfaces: {deck: {address: 10.84.30.1/24, relay_to: [10.84.0.10]}}}
          depot:
            interfaces: {lan: {address: 10.84.0.10/24}}
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: pier, ranges: [10.84.30.20]}
          depot: {subnet: 10.84.0.0/24, served_by: depot, ranges: [10.84.0.20]}
    """
    passing = """
        devices:
          pier: {interfaces: {deck: {address: 10.84.30.1/24}}}
          depot:
            interfaces: {lan: {address: 10.84.0.10/24}}
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: pier, ranges: [10.84.30.20]}
          depot: {subnet: 10.84.0.0/24, served_by: depot, ranges: [10.84.0.20]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for relay in relays(site):
            network = relay.network
            if network is None or relay.position:
                continue
            serving = {service.device for service in site.plan.networks[network].served_by}
            splits = serving.intersection(relay.servers)
            if relay.attachment.device in serving and not splits:
                yield self.finding(
                    f"{relay.attachment} relays {network} to {format_address(relay.target)}, and "
                    f"{relay.attachment.device} serves it too",
                    relay.path[:-1],
                    Witness(
                        "answered-twice",
                        network,
                        also=f"{relay.attachment.device} and {format_address(relay.target)} may",
                    ),
                )


class RelayToItself(Rule):
    """An interface relays to an address of its own device.

    Why: Devices refuse that or send requests in a circle; a device that serves needs no relay.

    Remedy: Name the server's address, or take the relay away where the device itself serves.
    """

    severity = Severity.ERROR
    follows_address = ("address-held-twice",)
    failing = """
        devices:
          pier: {interfaces: {deck: {address: 10.84.30.1/24, relay_to: [10.84.30.1]}}}
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: pier, ranges: [10.84.30.20]}
    """
    passing = """
        devices:
          pier: {interfaces: {deck: {address: 10.84.30.1/24}}}
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: pier, ranges: [10.84.30.20]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for relay in relays(site):
            if relay.attachment.device in relay.servers:
                network = relay.network
                yield self.finding(
                    f"{relay.attachment} relays to {format_address(relay.target)}, its own device",
                    relay.path,
                    Witness(
                        "lost-request",
                        network,
                        relay.target,
                        also="the relay itself",
                    ),
                )
