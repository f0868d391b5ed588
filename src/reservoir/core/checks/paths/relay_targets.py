"""Where relays send requests: to a server that is there, and that knows the way back."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import groupby

from reservoir.core.checks.paths.relays import Relay, relays
from reservoir.core.checks.rule import Rule, Site, replaced
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.plan.edits import Edit
from reservoir.core.plan.model import PlanPath
from reservoir.core.topology import Attachment
from reservoir.core.values.addresses import Prefix, format_address
from reservoir.core.values.typos import is_slip
from reservoir.core.wording import listed

MANY = 4
"""So many names are said; of more it is enough to say how many there are."""


class RelayToNobody(Rule):
    """An interface relays to an address where no server is.

    Why: The clients' requests are sent into the void, and they get no address.

    Remedy: Name an address of the device that serves the network.
    """

    severity = Severity.ERROR
    follows = ("network-unserved", "address-held-twice", "interface-edge-address")
    rests_on = ("address", "interface")
    failing = """
        devices:
          pier: {interfaces: {deck: {address: 10.84.30.1/24, relay_to: [10.48.0.10]}}}
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
        lost = [relay for relay in relays(site) if self._is_lost(site, relay)]
        lost.sort(key=lambda relay: relay.target)
        for target, group in groupby(lost, key=lambda relay: relay.target):
            together = list(group)
            meant = {self._meant(site, relay) for relay in together}
            server = meant.pop() if len(meant) == 1 else None
            if meant or len(together) == 1 or together[0].servers:
                yield from (self._lost(site, relay) for relay in together)
            else:
                yield self._lost_by_many(site, target, together, server)

    def _is_lost(self, site: Site, relay: Relay) -> bool:
        if relay.network is None or relay.attachment.device in relay.servers:
            return False
        if not site.complete and not relay.servers:
            return False  # the server may be one that isn't known
        return not any(site.lending.pools_served_by(server) for server in relay.servers)

    def _lost(self, site: Site, relay: Relay) -> Finding:
        shown, holders = format_address(relay.target), relay.servers
        fault = f"is {holders[0]}'s, which serves nothing" if holders else "nobody in the plan has"
        also = f"and {holders[0]} serves nothing" if holders else "where nobody is"
        meant = self._meant(site, relay)
        path, edit = relay.path, replaced(relay.path, shown, None)
        if meant is not None and not holders and _stands_astray(site, meant, relay.target):
            path = (*meant.path, "address")
            edit = replaced(path, meant.prefix, Prefix(relay.target, meant.bits))
        elif meant is not None:
            edit = replaced(path, shown, format_address(meant.address))
        return self.finding(
            f"{relay.attachment} relays to {shown}, which {fault}"
            + (f"; {meant.device} has {format_address(meant.address)}" if meant else ""),
            path,
            Witness("lost-request", relay.network, relay.target, also=also),
            edit,
        )

    def _lost_by_many(
        self, site: Site, target: int, together: list[Relay], server: Attachment | None
    ) -> Finding:
        """Several relays to an address that nobody has: it is the server's that is wrong."""
        networks = list(dict.fromkeys(str(relay.network) for relay in together))
        wanted, edit = format_address(target), None
        path: PlanPath = together[0].path
        near = server is not None and server.prefix.span.holds(target)
        if server is not None and (near or is_slip(target, server.address)):
            path, edit = (*server.path, "address"), Prefix(target, server.bits)
        return self.finding(
            f"{len(together):,} relays go to {wanted}, which nobody in the plan has"
            + (f"; {server} has {format_address(server.address)}" if server else ""),
            path,
            Witness("lost-request", networks[0], target, also="where nobody is"),
            replaced(path, server and server.prefix, edit),
            concerns=tuple(networks[1:]),
        )

    def _meant(self, site: Site, relay: Relay) -> Attachment | None:
        """The interface of the network's server whose address was meant."""
        serving = {service.device for service in site.plan.networks[str(relay.network)].served_by}
        others = site.topology.interface(relay.attachment).relay_to
        found = [
            attachment
            for server in sorted(serving)
            for attachment in site.topology.attachments_of(server)
            if attachment.address not in others
        ]
        near = [attachment for attachment in found if is_slip(relay.target, attachment.address)]
        chosen = near if len(near) == 1 else found
        return chosen[0] if len(chosen) == 1 else None


def _stands_astray(site: Site, server: Attachment, asked: int) -> bool:
    """Whether others stand beside the address that is asked, and nobody beside the server's."""
    topology = site.topology
    beside = topology.subnets_around(asked, but=server.device)
    return bool(beside) and not topology.subnets_around(server.address, but=server.device)


class RelayNoWayBack(Rule):
    """A server has no route to the relay that asks it.

    Why: The answer goes to the relay's address in the client network; without a route it is lost,
    and the clients get no address.

    Remedy: Give the server a route to the client network. Where it learns its routes, none need
    stand in the plan: this is an error only where some do.
    """

    severity = Severity.ERROR
    rests_on = ("route",)
    failing = """
        devices:
          pier:
            interfaces:
              uplink: {address: 10.84.0.2/24}
              deck: {address: 10.84.30.1/24, relay_to: [10.84.0.10]}
          depot:
            interfaces: {lan: {address: 10.84.0.10/24}}
            routes: [{to: 10.84.31.0/24, via: 10.84.0.2}]
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: depot, ranges: [10.84.30.20]}
    """
    passing = """
        devices:
          pier:
            interfaces:
              uplink: {address: 10.84.0.2/24}
              deck: {address: 10.84.30.1/24, relay_to: [10.84.0.10]}
          depot:
            interfaces: {lan: {address: 10.84.0.10/24}}
            routes: [{to: 10.84.30.0/24, via: 10.84.0.2}]
        networks:
          crew: {subnet: 10.84.30.0/24, served_by: depot, ranges: [10.84.30.20]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        unanswered: dict[tuple[str, str], list[Attachment]] = {}
        for relay in relays(site):
            if relay.network is None:
                continue
            services = site.plan.networks[relay.network].served_by
            serving = {service.device for service in services}.intersection(relay.servers)
            for server in sorted(serving):
                # A server without routes learns them, or the plan leaves them out altogether.
                routes = site.plan.devices[server].routes
                if routes and not site.topology.knows_way(server, relay.attachment.address):
                    unanswered.setdefault((server, relay.network), []).append(relay.attachment)
        together: dict[str, list[tuple[str, tuple[Edit, ...]]]] = {}
        for (server, network), attachments in unanswered.items():
            position = len(site.plan.devices[server].routes)
            edits = tuple(
                suggestion
                for attachment in attachments
                for suggestion in self._route(site, attachment, server, network, position)
            )
            if len(edits) == 1:
                yield self._unanswered(server, [network], attachments, edits)
            else:
                together.setdefault(server, []).append((network, edits))
        for server, lacking in together.items():  # one route is wrong, most likely
            networks = [network for network, _ in lacking]
            asking = [a for network in networks for a in unanswered[server, network]]
            edits = lacking[0][1] if len(lacking) == 1 else ()
            yield self._unanswered(server, networks, asking, edits)

    def _unanswered(
        self,
        server: str,
        networks: list[str],
        attachments: list[Attachment],
        edits: tuple[Edit, ...],
    ) -> Finding:
        addresses = [format_address(attachment.address) for attachment in attachments]
        return self.finding(
            f"{server} has no route to {listed(networks[:MANY])}"
            + (f" and {len(networks) - MANY:,} more" if len(networks) > MANY else "")
            + f", where {listed(attachments[:MANY])} relay{'s' * (len(attachments) == 1)} to it "
            f"from {listed(addresses[:MANY])}",
            ("devices", server, "routes"),
            Witness(
                "lost-answer",
                networks[0],
                attachments[0].address,
                also=f"and {server} has no route",
            ),
            edits,
            concerns=tuple(networks[1:]),
        )

    def _route(
        self, site: Site, relaying: Attachment, server: str, network: str, position: int
    ) -> tuple[Edit, ...]:
        """The route by way of the relaying device, where the server stands next to it."""
        near = [
            attachment
            for attachment in site.topology.addressed
            if attachment.device == relaying.device
            and any(
                interface.address is not None and interface.address.span.holds(attachment.address)
                for interface in site.plan.devices[server].interfaces.values()
            )
        ]
        if len(near) != 1:
            return ()
        to, via = site.plan.networks[network].subnet.subnet, format_address(near[0].address)
        path: PlanPath = ("devices", server, "routes", position)
        return (Edit(path, None, f"{{to: {to}, via: {via}}}"),)
