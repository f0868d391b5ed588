"""Where relays send requests: to a server that exists."""

from __future__ import annotations

from collections.abc import Collection, Iterator
from itertools import groupby

from reservoir.core.checks.paths.meant import is_isolated, server_of_relay
from reservoir.core.checks.paths.relays import Relay, relays
from reservoir.core.checks.rule import Rule, Site, replaced
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.plan.model import PlanPath
from reservoir.core.topology import Attachment
from reservoir.core.values.addresses import Prefix, format_address
from reservoir.core.values.typos import is_slip


class RelayToNobody(Rule):
    """An interface relays to an address where there is no DHCP server.

    Why: The clients' requests are lost, and they get no address.

    Remedy: Relay to an address of the device that serves the network.
    """

    severity = Severity.ERROR
    is_certain = True
    blames = ("relay_to",)
    rests_on = ("server", "holder", "address", "interface")
    follows = ("interface-edge-address",)
    example = """
          devices:
        -   pier: {interfaces: {deck: {address: 10.84.30.1/24, relay_to: [10.48.0.10]}}}
        +   pier: {interfaces: {deck: {address: 10.84.30.1/24, relay_to: [10.84.0.10]}}}
            depot: {interfaces: {lan: {address: 10.84.0.10/24}}}
          networks:
            crew: {subnet: 10.84.30.0/24, served_by: depot, ranges: [10.84.30.20]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        every = list(relays(site))
        targets = {relay.target for relay in every}
        lost = [relay for relay in every if _is_lost(site, relay)]
        lost.sort(key=lambda relay: relay.target)
        for target, group in groupby(lost, key=lambda relay: relay.target):
            together = list(group)
            meant = {_server_meant(site, relay) for relay in together}
            server = meant.pop() if len(meant) == 1 else None
            if meant or len(together) == 1 or together[0].servers:
                yield from (self._lost(site, relay, targets) for relay in together)
            else:
                yield self._lost_by_many(site, target, together, server)

    def _lost(self, site: Site, relay: Relay, targets: Collection[int]) -> Finding:
        """One relay's; ``targets`` are those of all relays."""
        shown, holders = format_address(relay.target), relay.servers
        owner = f"an address of {holders[0]}" if holders else ""
        fault = (
            f"{owner}, which serves no network" if holders else "which no device in the plan has"
        )
        meant = _server_meant(site, relay)
        path, edit = relay.path, replaced(relay.path, shown, None)
        is_certain = False  # unless other relays agree on the server's address
        if meant is not None and not holders and is_isolated(site, meant, relay.target):
            path = meant.address_path
            edit = replaced(path, meant.prefix, Prefix(relay.target, meant.bits))
        elif meant is not None:
            edit = replaced(path, shown, format_address(meant.address))
            is_certain = meant.address in targets
        return self.finding(
            f"{relay.attachment} relays to {shown}, {fault}"
            + (f"; {meant.device} has {format_address(meant.address)}" if meant else ""),
            path,
            Witness(
                "request-lost",
                relay.network,
                relay.target,
                also=holders[0] if holders else "",
                because="serves-nothing" if holders else "no-device",
            ),
            edit,
            is_certain=is_certain,
        )

    def _lost_by_many(
        self, site: Site, target: int, together: list[Relay], server: Attachment | None
    ) -> Finding:
        """Several relays to an address that no device has: the server's address is wrong."""
        networks = list(dict.fromkeys(str(relay.network) for relay in together))
        wanted, edit = format_address(target), None
        path: PlanPath = together[0].path
        near = server is not None and server.prefix.span.holds(target)
        if server is not None and (near or is_slip(target, server.address)):
            path, edit = server.address_path, Prefix(target, server.bits)
        return self.finding(
            f"{len(together):,} interfaces relay to {wanted}, which no device in the plan has"
            + (f"; {server} has {format_address(server.address)}" if server else ""),
            path,
            Witness("request-lost", networks[0], target, because="no-device"),
            replaced(path, server and server.prefix, edit),
            concerns=tuple(networks[1:]),
        )


def _server_meant(site: Site, relay: Relay) -> Attachment | None:
    return server_of_relay(site, str(relay.network), relay.attachment, relay.target)


def _is_lost(site: Site, relay: Relay) -> bool:
    if relay.network is None or relay.attachment.device in relay.servers:
        return False
    if not site.complete and not relay.servers:
        return False  # the server may be one that isn't known
    return not any(site.pools.served_by(server) for server in relay.servers)
