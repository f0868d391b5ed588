"""Virtual addresses, which several routers share: in their subnets, and the same on all."""

from __future__ import annotations

from collections.abc import Iterator

from reservoir.core.checks.rule import Rule, Site, replaced
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.values.addresses import format_address
from reservoir.core.values.typos import is_slip


class VirtualNotShared(Rule):
    """A virtual address is on one router only, and the others there share another.

    Why: When that router fails, nobody answers at the address; clients whose gateway it is are cut
    off.

    Remedy: Correct the address, or set it on the other routers too.
    """

    severity = Severity.WARNING
    blames = ("placement",)
    example = """
          devices:
        -   pier: {interfaces: {deck: {address: 10.84.30.2/24, virtual: 10.84.30.11}}}
        +   pier: {interfaces: {deck: {address: 10.84.30.2/24, virtual: 10.84.30.1}}}
            bow: {interfaces: {deck: {address: 10.84.30.3/24, virtual: 10.84.30.1}}}
          networks:
            crew: {subnet: 10.84.30.0/24, gateway: 10.84.30.1}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for name, network in site.plan.networks.items():
            sharing = site.topology.sharing(network)
            alone = [a for a in sharing if sum(a.address == b.address for b in sharing) == 1]
            for attachment in alone:
                others = [other for other in sharing if other.device != attachment.device]
                if not others:
                    continue
                shown = format_address(attachment.address)
                yield self.finding(
                    f"only {attachment} has the virtual address {shown}; {others[0]} has "
                    f"{format_address(others[0].address)}",
                    (*attachment.path, "virtual"),
                    Witness("held-alone", name, attachment.address, name=str(attachment)),
                )


class VirtualOutsideSubnet(Rule):
    """A virtual address is in none of its interface's subnets.

    Why: Routers refuse such an address, or answer at it where no client asks; clients whose
    gateway it should be are cut off.

    Remedy: Correct the address, or the address of the interface itself.
    """

    severity = Severity.ERROR
    is_certain = True
    rests_on = ("interface", "address")
    blames = ("placement",)
    example = """
          devices:
            pier:
              interfaces:
        -       deck: {address: 10.84.30.2/24, virtual: 10.48.30.1}
        +       deck: {address: 10.84.30.2/24, virtual: 10.84.30.1}
          networks:
            crew: {subnet: 10.84.30.0/24, gateway: 10.84.30.1}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for virtual in site.topology.virtual:
            own = site.topology.interface(virtual).addresses
            if not own or any(prefix.span.holds(virtual.address) for prefix in own):
                continue  # an address that the plan doesn't know may be meant
            shown, path = format_address(virtual.address), (*virtual.path, "virtual")
            networks = [
                network
                for attachment in site.topology.attachments_at(virtual.device, virtual.interface)
                for network in site.topology.networks_of(attachment)
            ]
            meant = [
                gateway
                for name in networks
                if (gateway := site.plan.networks[name].gateway) is not None
                and is_slip(virtual.address, gateway)
                and not site.topology.holders(gateway)
            ]
            edits = replaced(path, shown, format_address(meant[0])) if len(meant) == 1 else ()
            yield self.finding(
                f"{virtual} has the virtual address {shown}, which is in none of its subnets",
                path,
                Witness(
                    "has",
                    next(iter(networks), None),
                    virtual.address,
                    name=str(virtual),
                    because="outside-subnet",
                ),
                edits,
                concerns=tuple(networks[1:]),
            )
