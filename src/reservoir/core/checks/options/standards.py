"""Options whose value fits its type and not the network, or what the standards ask for."""

from __future__ import annotations

from collections.abc import Iterator

from reservoir.core.checks.options.written import WrittenOption, options_as_written
from reservoir.core.checks.rule import Rule, Site, replaced
from reservoir.core.findings import Finding, Severity
from reservoir.core.values.addresses import Prefix, format_address
from reservoir.core.values.options import REGISTRY, routes_in
from reservoir.core.wording import listed

MTU = REGISTRY["mtu"].code
BROADCAST = REGISTRY["broadcast_address"].code
ROUTES = REGISTRY["classless_routes"].code

SMALLEST_DATAGRAM = 576
"""Bytes that every IPv4 host must be able to receive (RFC 791 section 3.1)."""

SMALLEST_MTU = 68
"""The least that the option may say (RFC 2132 section 5.1)."""

ON_LINK = 0
"""A router of 0.0.0.0 says that the destination is on the link itself (RFC 3442)."""


def _having(site: Site, code: int) -> Iterator[WrittenOption]:
    return (o for o in options_as_written(site) if o.code == code and o.networks)


class BroadcastDiffers(Rule):
    """The broadcast address that clients are offered is not that of their subnet.

    Why: Clients send broadcasts to an address that the others don't listen to, or to a single host.

    Remedy: Leave the option out: clients work it out from the mask. Or write the subnet's own.
    """

    severity = Severity.ERROR
    rests_on = ("subnet",)
    example = """
          networks:
            crew:
              subnet: 10.84.30.0/24
              ranges: [10.84.30.20]
        -     options: {broadcast_address: 10.84.31.255}
        +     options: {broadcast_address: 10.84.30.255}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for option in _having(site, BROADCAST):
            if len(option.data) != 4:
                continue  # option-invalid reports it
            address = int.from_bytes(option.data, "big")
            subnets = {name: site.plan.networks[name].subnet for name in option.networks}
            wrong = tuple(n for n, subnet in subnets.items() if subnet.broadcast != address)
            if wrong:
                subnet, shown = subnets[wrong[0]], format_address(address)
                right = format_address(subnet.broadcast)
                in_network = option.path[0] == "networks"
                yield self.finding(
                    f"clients of {listed(wrong[:3])} are offered the broadcast address {shown}; "
                    f"that of {subnet.subnet} is {right}",
                    option.path,
                    option.witness(
                        wrong[0],
                        option="broadcast address",
                        value=shown,
                        because="not-of-subnet",
                    ),
                    replaced(option.path, shown, right if in_network else None),
                    concerns=wrong[1:],
                )


class MtuTooSmall(Rule):
    """Clients are offered an interface MTU below what every IPv4 host must take.

    Why: RFC 791 (section 3.1) lets others send datagrams of 576 bytes unasked; many services stop
    working. Below 68 the option itself is invalid (RFC 2132 section 5.1), which is an error.

    Remedy: Correct the number, or leave the option out.
    """

    severity = Severity.WARNING
    example = """
          networks:
        -   crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20], options: {mtu: 150}}
        +   crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20], options: {mtu: 1500}}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for option in _having(site, MTU):
            mtu = int.from_bytes(option.data, "big")
            if len(option.data) == 2 and mtu < SMALLEST_DATAGRAM:
                yield self.finding(
                    f"an MTU of {mtu} bytes is too small: IPv4 hosts take {SMALLEST_DATAGRAM}",
                    option.path,
                    option.witness(
                        option="MTU",
                        value=str(mtu),
                        because="small",
                    ),
                    severity=Severity.ERROR if mtu < SMALLEST_MTU else None,
                    concerns=option.networks[1:],
                )


class OfferedRoutesLackDefault(Rule):
    """Clients are offered classless routes without a default route.

    Why: Clients that take these routes ignore the gateway option (RFC 3442), so they reach nothing
    beyond what the routes name; others go on using the gateway.

    Remedy: Add `0.0.0.0/0 via` the gateway to the routes.
    """

    severity = Severity.ERROR
    rests_on = ("gateway",)
    example = """
          networks:
            crew:
              subnet: 10.84.30.0/24
              gateway: 10.84.30.1
              ranges: [10.84.30.20]
              options:
                classless_routes:
                  - 10.85.0.0/16 via 10.84.30.2
        +         - 0.0.0.0/0 via 10.84.30.1
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for option in _having(site, ROUTES):
            if any(to.bits == 0 for to, _ in routes_in(option.data)):
                continue
            using = [n for n in option.networks if site.plan.networks[n].gateway is not None]
            if using:
                gateway = format_address(site.plan.networks[using[0]].gateway or 0)
                yield self.finding(
                    f"the classless routes for clients of {listed(using[:3])} have no default "
                    f"route, and clients that take them ignore the gateway {gateway}",
                    option.path,
                    option.witness(
                        using[0],
                        option="classless routes",
                        value="without a default route",
                        because="gateway-ignored",
                    ),
                    concerns=tuple(using[1:]),
                )


class OfferedRouteUnreachable(Rule):
    """Clients are offered a route whose router is not in their subnet.

    Why: They can't send to a router that isn't on their link; they ignore the route, or lose what
    takes it.

    Remedy: Correct the router's address; `0.0.0.0` says that the destination is on the link.
    """

    severity = Severity.ERROR
    rests_on = ("subnet",)
    example = """
          networks:
            crew:
              subnet: 10.84.30.0/24
              gateway: 10.84.30.1
              ranges: [10.84.30.20]
              options:
                classless_routes:
                  - 0.0.0.0/0 via 10.84.30.1
        -         - 10.85.0.0/16 via 10.84.3.2
        +         - 10.85.0.0/16 via 10.84.30.2
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for option in _having(site, ROUTES):
            for to, router in routes_in(option.data):
                astray = tuple(n for n in option.networks if _is_astray(site, n, router))
                if astray:
                    yield self._unreachable(site, option, to, router, astray)

    def _unreachable(
        self, site: Site, option: WrittenOption, to: Prefix, router: int, names: tuple[str, ...]
    ) -> Finding:
        shown, subnet = format_address(router), site.plan.networks[names[0]].subnet.subnet
        return self.finding(
            f"clients of {listed(names[:3])} are offered a route to {to} via {shown}, which is "
            f"not a host address of {subnet}",
            option.path,
            option.witness(
                names[0],
                router,
                option="route",
                value=f"{to} via {shown}",
                because="not-on-link",
            ),
            concerns=names[1:],
        )


def _is_astray(site: Site, network: str, router: int) -> bool:
    return router != ON_LINK and not site.plan.networks[network].subnet.hosts.holds(router)
