"""Routes of devices: to a whole subnet, via a reachable next hop."""

from __future__ import annotations

from collections.abc import Iterator

from reservoir.core.checks.paths.meant import Moved, hop_meant, interface_meant
from reservoir.core.checks.paths.relays import networks_lost_by
from reservoir.core.checks.rule import Rule, Site, replaced
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.plan.model import PlanPath
from reservoir.core.routing import OWN
from reservoir.core.values.addresses import Prefix, format_address
from reservoir.core.values.typos import is_slip
from reservoir.core.wording import listed


class NextHopUnreachable(Rule):
    """A route's next hop is not another device's address on a directly connected subnet.

    Why: The device can't forward there. Everything that should take the route is lost: clients'
    traffic, DNS queries, answers to a relay.

    Remedy: Correct the next hop, or the address of the interface that leads to it.
    """

    severity = Severity.WARNING
    is_certain = True
    rests_on = ("interface", "address")
    rests_at = ("holder",)
    follows = ("relay-to-nobody",)
    follows_here = ("interface-edge-address", "interface-mask-differs", "interfaces-overlap")
    example = """
          devices:
            pier:
              interfaces: {deck: {address: 10.84.30.1/24}, uplink: {address: 10.84.0.2/24}}
        -     routes: [{to: 0.0.0.0/0, via: 10.48.0.1}]
        +     routes: [{to: 0.0.0.0/0, via: 10.84.0.1}]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for name, device in site.plan.devices.items():
            together: dict[tuple[str, Moved | None], list[int]] = {}
            for hop in dict.fromkeys(route.via for route in device.routes):
                fault = site.routing.why_unusable(name, hop)
                if fault is not None:
                    meant = interface_meant(site, name, hop)
                    together.setdefault((fault, meant), []).append(hop)
            for (fault, meant), hops in together.items():
                yield self._unreachable(site, name, hops, fault, meant)

    def _unreachable(
        self, site: Site, device: str, hops: list[int], fault: str, interface: Moved | None
    ) -> Finding:
        routes = site.plan.devices[device].routes
        by_it = [position for position, route in enumerate(routes) if route.via in hops]
        path: PlanPath = ("devices", device, "routes", by_it[0], "via")
        hint, edits, is_certain = "", replaced((), "", None), True
        networks = [
            name
            for a in site.topology.attachments_of(device)
            for name in site.topology.networks_of(a)
        ]
        if interface is not None or fault == OWN:  # then relays can't reach it either
            networks += [pool.name for pool in site.pools.served_by(device)]
        networks += [name for hop in hops for name in networks_lost_by(site, device, hop)]
        if interface is not None:
            written, path = interface.at.prefix, interface.at.address_path
            hint = f"; {interface.at} has {written}, but {interface.meant} would connect them"
            edits = replaced(path, written, interface.meant)
        elif len(hops) == 1 and (hop := hop_meant(site, device, hops[0])) is not None:
            shown = format_address(hop.meant.address)
            hint = f"; {shown} would be in the subnet of {hop.at.interface}"
            if len(by_it) == 1 and _is_somebodys(site, device, hop.meant.address):
                is_certain = len(site.topology.holders(hop.at.address)) == 1
                edits = replaced(path, format_address(hops[0]), shown)
        listing = listed(map(format_address, hops))
        are = "is" if len(hops) == 1 else "are"
        return self.finding(
            f"the next hop{'s' * (len(hops) > 1)} {listing} of {device} {are} {fault}{hint}",
            path,
            Witness(
                "traffic-lost",
                networks[0] if networks else None,
                hops[0],
                also=device,
                value=_where(routes[by_it[0]].to),
            ),
            edits,
            is_certain=is_certain,
            concerns=tuple(dict.fromkeys(networks[1:])),
        )


def _where(to: Prefix) -> str:
    """What a route leads to, in words."""
    return f"to {to}" if to.bits else "anywhere"


def _is_somebodys(site: Site, device: str, address: int) -> bool:
    """Whether an interface, a gateway or another device's next hop shows that a router is there."""
    said_by = site.routing.named_as_routers.get(address, set())
    return bool(site.topology.holders(address) or said_by - {device})


class NextHopNotHeld(Rule):
    """A next hop is in a network whose router is another device of the plan, and nobody holds it.

    Why: The device sends packets to an address where nobody is. Everything that should take the
    route is lost: clients' traffic, DNS queries, answers to a relay.

    Remedy: Correct the next hop; or list the router that has the address, as a static host if the
    plan has no more to say of it.
    """

    severity = Severity.ERROR
    rests_on = ("subnet", "interface", "address")
    rests_at = ("holder",)
    follows_here = ("interface-edge-address", "interface-mask-differs", "interfaces-overlap")
    example = """
          devices:
            pier: {interfaces: {deck: {address: 10.84.30.1/24}}}
            depot:
              interfaces: {lan: {address: 10.84.30.10/24}}
        -     routes: [{to: 0.0.0.0/0, via: 10.84.30.11}]
        +     routes: [{to: 0.0.0.0/0, via: 10.84.30.1}]
          networks:
            crew:
              subnet: 10.84.30.0/24
              gateway: 10.84.30.1
              served_by: pier
              ranges: [10.84.30.20]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for name, device in site.plan.devices.items():
            positions: dict[int, int] = {}
            for position, route in enumerate(device.routes):
                positions.setdefault(route.via, position)
            for hop, position in positions.items():
                network = site.routing.network_without(name, hop)
                if network is not None:
                    yield self._not_held(site, name, hop, position, network)

    def _not_held(self, site: Site, device: str, hop: int, position: int, network: str) -> Finding:
        gateway = site.plan.networks[network].gateway
        assert gateway is not None
        shown, router = format_address(hop), format_address(gateway)
        path: PlanPath = ("devices", device, "routes", position, "via")
        others = sum(route.via == hop for route in site.plan.devices[device].routes) > 1
        return self.finding(
            f"nobody holds {shown}, the next hop of {device} in {network}; the router there has "
            f"{router}",
            path,
            Witness(
                "traffic-lost",
                network,
                hop,
                also=device,
                value=_where(site.plan.devices[device].routes[position].to),
            ),
            replaced(path, shown, router if is_slip(hop, gateway) and not others else None),
            concerns=tuple(n for n in networks_lost_by(site, device, hop) if n != network),
        )


class RouteHasHostBits(Rule):
    """A route's destination has host bits set.

    Why: Devices refuse it, or use the whole subnet; a digit of the address or of the prefix length
    may be wrong.

    Remedy: Write the subnet that was meant.
    """

    severity = Severity.WARNING
    example = """
          devices:
            depot:
              interfaces: {lan: {address: 10.84.0.10/24}}
        -     routes: [{to: 10.84.30.1/24, via: 10.84.0.2}]
        +     routes: [{to: 10.84.30.0/24, via: 10.84.0.2}]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for name, device in site.plan.devices.items():
            for position, route in enumerate(device.routes):
                if route.to == route.to.subnet:
                    continue
                path: PlanPath = ("devices", name, "routes", position, "to")
                yield self.finding(
                    f"the route of {name} to {route.to} leads {_where(route.to.subnet)} "
                    "or is refused",
                    path,
                    Witness(
                        "has",
                        address=route.to.address,
                        name=f"a route of {name}",
                        value=str(route.to.subnet),
                        because="host-bits",
                    ),
                    replaced(path, route.to, route.to.subnet),
                )
