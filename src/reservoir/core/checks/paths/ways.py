"""Ways of relayed requests to their server, and of the answers back, by the devices' routes."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterator
from functools import lru_cache

from reservoir.core.checks.paths.relays import RelayedWay, relayed_ways
from reservoir.core.checks.rule import Rule, Site
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.plan.edits import Edit
from reservoir.core.routing import End, Way
from reservoir.core.topology import Attachment
from reservoir.core.values.addresses import format_address
from reservoir.core.wording import listed, listed_briefly

MANY = 4
"""Names that a message lists before it counts the rest."""


class RelayNoWayToServer(Rule):
    """A relay's requests don't arrive at the server: a device on the way lacks a route to it.

    Why: The relay forwards the clients' requests, and they are lost on the way; the clients get no
    address.

    Remedy: Give the device that the finding names a route to the server. A device that learns its
    routes can be listed without any: they count as not known then, which routes-unknown says.
    """

    severity = Severity.ERROR
    rests_on = ("route",)
    example = """
          devices:
            pier:
              interfaces:
                uplink: {address: 10.84.1.2/24}
                deck: {address: 10.84.30.1/24, relay_to: [10.84.0.10]}
        -     routes: [{to: 10.84.9.0/24, via: 10.84.1.1}]
        +     routes: [{to: 10.84.0.0/24, via: 10.84.1.1}]
            depot:
              interfaces: {lan: {address: 10.84.0.10/24}}
              routes: [{to: 0.0.0.0/0, via: 10.84.0.1}]
          networks:
            crew: {subnet: 10.84.30.0/24, served_by: depot, ranges: [10.84.30.20]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for (device, _), ways in _broken(site, lambda way: way.there, _target).items():
            first = ways[0]
            networks = list(dict.fromkeys(way.network for way in ways))
            on_the_way = "" if device == first.relay.attachment.device else ", on the way there,"
            yield self.finding(
                f"{_these(ways)} to {first.server} at {format_address(first.relay.target)}, but "
                + _fault(first.there, device, on_the_way, "it"),
                ("devices", device, "routes"),
                Witness(
                    "request-lost",
                    networks[0],
                    first.relay.target,
                    also=device,
                    because=_because(first.there),
                ),
                concerns=tuple(networks[1:]),
            )


def _target(way: RelayedWay) -> int:
    return way.relay.target


def _network(way: RelayedWay) -> str:
    return way.network


def _broken(
    site: Site, direction: Callable[[RelayedWay], Way], by: Callable[[RelayedWay], Hashable]
) -> dict[tuple[str, Hashable], list[RelayedWay]]:
    """The ways that end for want of a route, by the device that lacks it and something else."""
    found: dict[tuple[str, Hashable], list[RelayedWay]] = {}
    for way in relayed_ways(site):
        end = direction(way)
        if end.end in (End.NO_ROUTE, End.LOOP):
            found.setdefault((end.at, by(way)), []).append(way)
    return found


def _fault(way: Way, device: str, on_the_way: str, to: str) -> str:
    """What a device on a way lacks, in words."""
    if way.end is End.LOOP:
        return f"by the routes of {device}{on_the_way} packets to {to} go in a circle"
    return f"{device}{on_the_way} has no route to {to}"


def _because(way: Way) -> str:
    return "loop" if way.end is End.LOOP else "no-route"


def _these(ways: list[RelayedWay]) -> str:
    """The relays that something concerns: ``pier deck relays``."""
    attachments = list(dict.fromkeys(way.relay.attachment for way in ways))
    return f"{listed_briefly(attachments)} relay{'s' * (len(attachments) == 1)}"


class RelayNoWayBack(Rule):
    """A server has no route back to a relay, or a device on the way back has none.

    Why: The server answers to the relay's address in the client network; without a route the answer
    is lost, and the clients get no address.

    Remedy: Give the device that the finding names a route to the client network. A device that
    learns its routes can be listed without any: they count as not known then, which routes-unknown
    says.
    """

    severity = Severity.ERROR
    rests_on = ("route",)
    example = """
          devices:
            pier:
              interfaces:
                uplink: {address: 10.84.0.2/24}
                deck: {address: 10.84.30.1/24, relay_to: [10.84.0.10]}
            depot:
              interfaces: {lan: {address: 10.84.0.10/24}}
        -     routes: [{to: 10.84.31.0/24, via: 10.84.0.2}]
        +     routes: [{to: 10.84.30.0/24, via: 10.84.0.2}]
          networks:
            crew: {subnet: 10.84.30.0/24, served_by: depot, ranges: [10.84.30.20]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        broken = _broken(site, lambda way: way.back, _network)
        together: dict[str, list[tuple[str, tuple[Edit, ...]]]] = {}
        for (device, network), ways in broken.items():
            edits = _routes(site, device, str(network), ways)
            if len(edits) == 1:
                yield self._unanswered(device, [str(network)], ways, edits)
            else:
                together.setdefault(device, []).append((str(network), edits))
        for device, lacking in together.items():  # most likely a single wrong route
            networks = [network for network, _ in lacking]
            ways = [way for network in networks for way in broken[device, network]]
            edits = lacking[0][1] if len(lacking) == 1 else ()
            yield self._unanswered(device, networks, ways, edits)

    def _unanswered(
        self, device: str, networks: list[str], ways: list[RelayedWay], edits: tuple[Edit, ...]
    ) -> Finding:
        first, attachments = ways[0], list(dict.fromkeys(way.relay.attachment for way in ways))
        addresses = listed([format_address(a.address) for a in attachments[:MANY]])
        to = listed_briefly(networks)
        server = "it" if device == first.server else first.server
        on_the_way = "" if device == first.server else f", on the way back from {server},"
        return self.finding(
            f"{_fault(first.back, device, on_the_way, to)}, but {_these(ways)} to {server} "
            f"from {addresses}",
            ("devices", device, "routes"),
            Witness(
                "answer-lost",
                networks[0],
                attachments[0].address,
                also=device,
                because=_because(first.back),
            ),
            edits,
            concerns=tuple(networks[1:]),
        )


def _routes(site: Site, device: str, network: str, ways: list[RelayedWay]) -> tuple[Edit, ...]:
    """For each relay the route by it, where the device shares a subnet with the relaying one."""
    position, subnet = len(site.plan.devices[device].routes), site.plan.networks[network].subnet
    own = [attachment.prefix.span for attachment in site.topology.attachments_of(device)]
    edits = []
    for attachment in dict.fromkeys(way.relay.attachment for way in ways):
        near = [
            beside
            for beside in site.topology.attachments_of(attachment.device)
            if any(span.holds(beside.address) for span in own)
        ]
        if len(near) == 1:
            route = f"{{to: {subnet.subnet}, via: {format_address(near[0].address)}}}"
            edits.append(Edit(("devices", device, "routes", position), None, route))
    return tuple(edits)


class RoutesUnknown(Rule):
    """Clients are served only if a device has a route that the plan doesn't state.

    Why: A forgotten route loses the clients' requests, or the answers. Where the plan leaves a
    device's routes out, or they lead to a router that it doesn't describe, neither the checks nor
    a rehearsal can tell.

    Remedy: List the device's routes; `routes: []` where it has none. List the routers on the way as
    devices; an address that they share as `virtual`. Or look on the devices whether they have a
    route to each of the addresses.
    """

    severity = Severity.ADVICE
    example = """
          devices:
            pier:
              interfaces:
                uplink: {address: 10.84.0.2/24}
                deck: {address: 10.84.30.1/24, relay_to: [10.84.0.10]}
        -   depot: {interfaces: {lan: {address: 10.84.0.10/24}}}
        +   depot:
        +     interfaces: {lan: {address: 10.84.0.10/24}}
        +     routes: [{to: 10.84.30.0/24, via: 10.84.0.2}]
          networks:
            crew: {subnet: 10.84.30.0/24, served_by: depot, ranges: [10.84.30.20]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        needed: dict[tuple[str, int | None], list[tuple[str, int]]] = {}
        for network, way, address in _taken(site):
            if way.is_open and _meant(site, way, address) is None:
                needed.setdefault((way.at, way.hop), []).append((network, address))
        for (device, hop), needs in needed.items():
            networks = list(dict.fromkeys(network for network, _ in needs))
            addresses = dict.fromkeys(format_address(address) for _, address in needs)
            what = (
                f"the plan doesn't state the routes of {device}"
                if hop is None
                else f"{device} sends to {format_address(hop)}, which is no device of the plan"
            )
            are = "is" if len(networks) == 1 else "are"
            yield self.finding(
                f"{what}; {listed_briefly(networks)} {are} served only if it has a way to "
                + listed_briefly(addresses),
                ("devices", device, *(("routes",) if hop is not None else ())),
                concerns=tuple(networks),
            )


def _taken(site: Site) -> Iterator[tuple[str, Way, int]]:
    """Each way of a network's requests and answers, with the address that it leads to."""
    for relayed in relayed_ways(site):
        yield relayed.network, relayed.there, relayed.relay.target
        yield relayed.network, relayed.back, relayed.relay.attachment.address


def _meant(site: Site, way: Way, address: int) -> Attachment | None:
    """The interface beside a device that has an address, where it sends that out of the plan.

    None where it sends it to a LAN's gateway, which routers may share that the plan doesn't say.
    """
    if way.end is not End.BEYOND or None in site.routing.named_as_routers.get(way.hop or 0, ()):
        return None
    links = (_link(site, way.at, holder.device) for holder in site.topology.holders(address))
    return next((link for link in links if link is not None), None)


@lru_cache(maxsize=256)
def _link(site: Site, device: str, other: str) -> Attachment | None:
    """The interface of another device that is on a link of a device; thousands of ways ask."""
    own = [a for a in site.topology.attachments_of(device) if site.topology.is_up(a)]
    return next(
        (
            beside
            for beside in site.topology.attachments_of(other)
            if any(a.prefix.span.holds(beside.address) for a in own)
        ),
        None,
    )


class RouteForgotten(Rule):
    """A device sends what is for a relay or a server out of the plan, not to the one beside it.

    Why: Another device of the plan, on a link of this one, has the address, and no route says so:
    the default route takes the clients' requests, or the answers, elsewhere.

    Remedy: Give the device a route to the network by the device that has it.
    """

    severity = Severity.WARNING
    blames = ("route",)
    rests_on = ("address", "interface")
    follows = ("next-hop-unreachable",)
    example = """
          devices:
            pier:
              interfaces:
                uplink: {address: 10.84.0.2/24}
                deck: {address: 10.84.30.1/24, relay_to: [10.84.0.10]}
            depot:
              interfaces: {lan: {address: 10.84.0.10/24}}
        -     routes: [{to: 0.0.0.0/0, via: 10.84.0.254}]
        +     routes: [{to: 0.0.0.0/0, via: 10.84.0.254}, {to: 10.84.30.0/24, via: 10.84.0.2}]
          networks:
            crew: {subnet: 10.84.30.0/24, served_by: depot, ranges: [10.84.30.20]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        leaving: dict[tuple[str, int, Attachment], dict[str, int]] = {}
        for network, way, address in _taken(site):
            beside = _meant(site, way, address)
            if beside is not None and way.hop is not None:
                networks = leaving.setdefault((way.at, way.hop, beside), {})
                networks.setdefault(network, address)
        for (device, hop, beside), networks in leaving.items():
            yield self._forgotten(site, device, hop, beside, networks)

    def _forgotten(
        self, site: Site, device: str, hop: int, beside: Attachment, networks: dict[str, int]
    ) -> Finding:
        by, via = format_address(hop), format_address(beside.address)
        addresses = dict.fromkeys(networks.values())
        shown = listed_briefly(map(format_address, addresses))
        path = ("devices", device, "routes")
        edits: tuple[Edit, ...] = ()
        if len(addresses) == 1:
            to = site.topology.holders(next(iter(addresses)))[0].prefix.subnet
            position = len(site.plan.devices[device].routes)
            edits = (Edit((*path, position), None, f"{{to: {to}, via: {via}}}"),)
        return self.finding(
            f"{device} sends what is for {shown} ({listed_briefly(networks)}) to {by}, which is no "
            f"device of the plan; {beside}, beside it, leads there",
            path,
            Witness(
                "leaves",
                next(iter(networks)),
                next(iter(addresses)),
                also=device,
                value=by,
                name=beside.device,
            ),
            edits,
            concerns=tuple(networks)[1:],
        )
