"""VLANs: one tag per network, the same at both ends."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from reservoir.core.checks.paths.interface_addresses import others_there
from reservoir.core.checks.rule import Rule, Site, replaced
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.topology import Attachment


class VlanTwice(Rule):
    """Two networks of one device have the same VLAN.

    Why: They are one broadcast domain: clients of one are answered as clients of the other.

    Remedy: Give one of them another VLAN, on the network and on the interface.
    """

    severity = Severity.ERROR
    rests_on = ("networks", "interface", "vlan")
    follows_itself = "network"
    example = """
          devices:
            pier:
              interfaces:
                deck: {address: 10.84.30.1/24}
                hold: {address: 10.84.31.1/24}
          networks:
            crew: {subnet: 10.84.30.0/24, vlan: 30, served_by: pier, ranges: [10.84.30.20]}
        -   shop: {subnet: 10.84.31.0/24, vlan: 30, served_by: pier, ranges: [10.84.31.20]}
        +   shop: {subnet: 10.84.31.0/24, vlan: 31, served_by: pier, ranges: [10.84.31.20]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        # The same tag on another device or another trunk may be a different VLAN altogether.
        first: dict[tuple[str, int], tuple[str, str | None]] = {}
        for name, network in site.plan.networks.items():
            if network.vlan is None:
                continue
            trunks = {
                a.device: site.topology.interface(a).parent
                for a in site.topology.attachments(network)
            }
            together = site.topology.segment_of(name)
            taken = [
                other
                for device, trunk in trunks.items()
                for other, its in [first.get((device, network.vlan), (name, None))]
                if other not in together and (None in (trunk, its) or trunk == its)
            ]
            if taken:
                yield self.finding(
                    f"{taken[0]} has VLAN {network.vlan} too",
                    ("networks", name, "vlan"),
                    Witness("answered-for", name, also=taken[0]),
                    concerns=(taken[0],),
                )
            for device, trunk in trunks.items():
                first.setdefault((device, network.vlan), (name, trunk))
        yield from self._at_one_trunk(site)

    def _at_one_trunk(self, site: Site) -> Iterator[Finding]:
        for device_name, device in site.plan.devices.items():
            first: dict[tuple[str, int], str] = {}
            for name, interface in device.interfaces.items():
                if interface.parent is None or interface.vlan is None:
                    continue
                other = first.setdefault((interface.parent, interface.vlan), name)
                if other != name:
                    yield self.finding(
                        f"{device_name} uses VLAN {interface.vlan} twice on {interface.parent}: "
                        f"for {other} and for {name}",
                        ("devices", device_name, "interfaces", name, "vlan"),
                        Witness(
                            "tag-shared",
                            _network_of(site, device_name, name),
                            name=other,
                            also=name,
                            value=str(interface.vlan),
                        ),
                        concerns=tuple(n for n in [_network_of(site, device_name, other)] if n),
                    )


def _network_of(site: Site, device: str, name: str) -> str | None:
    """The network that an interface is in by its address."""
    attached = site.topology.attachments_at(device, name)
    return site.topology.home_of(attached[0]) if attached else None


class VlanDiffers(Rule):
    """A network's VLAN and the VLAN tag of an interface in it differ.

    Why: The interface receives another VLAN than the clients', and nobody answers them.

    Remedy: Correct the one that is wrong.
    """

    severity = Severity.ERROR
    rests_on = ("subnet", "networks", "vlan", "interface")
    rests_here = ("placement",)
    rests_at = ("holder",)
    example = """
          devices:
            pier:
              interfaces:
                deck: {}
        -       deck.30: {parent: deck, vlan: 3, address: 10.84.30.1/24}
        +       deck.30: {parent: deck, vlan: 30, address: 10.84.30.1/24}
          networks:
            crew: {subnet: 10.84.30.0/24, vlan: 30, served_by: pier, ranges: [10.84.30.20]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for attachment in site.topology.addressed:
            name, tag = site.topology.home_of(attachment), site.topology.interface(attachment).vlan
            there = (site.plan.networks[n].vlan for n in site.topology.networks_of(attachment))
            if name is None or tag is None or any(vlan in (None, tag) for vlan in there):
                continue
            vlan, path = site.plan.networks[name].vlan, (*attachment.path, "vlan")
            # The interface's name often says which of the two was meant.
            named = attachment.interface.rpartition(".")[2] == str(vlan)
            yield self.finding(
                f"{attachment} has VLAN {tag}, but {name} has VLAN {vlan}",
                path,
                Witness("unanswered", name, attachment.address),
                replaced(path, tag, vlan if named else None),
                concerns=others_there(site, attachment, name),
            )
        for names in site.topology.segments:
            yield from self._on_one_segment(site, names)

    def _on_one_segment(self, site: Site, names: Sequence[str]) -> Iterator[Finding]:
        """Networks that share an untagged interface, and have different VLANs in the plan."""
        tagged = [name for name in names if site.plan.networks[name].vlan is not None]
        first, others = (tagged or names)[0], tagged[1:]
        vlan = site.plan.networks[first].vlan
        for name in others:
            own = site.plan.networks[name].vlan
            shared = _shared_interface(site, first, name)
            if own != vlan and shared and site.topology.interface(shared).vlan is None:
                yield self.finding(
                    f"{first} has VLAN {vlan} and {name} has VLAN {own}, but both are on {shared}",
                    ("networks", name, "vlan"),
                    Witness("unanswered", name, shared.address),
                    concerns=(first,),
                )


def _shared_interface(site: Site, one: str, other: str) -> Attachment | None:
    """An interface that two networks share."""
    there = {(a.device, a.interface) for a in site.topology.attachments(site.plan.networks[one])}
    attached = site.topology.attachments(site.plan.networks[other])
    return next((a for a in attached if (a.device, a.interface) in there), None)
