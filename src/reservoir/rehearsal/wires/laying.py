"""Lays the segments of a plan: who is on one LAN, at which ports, and who holds addresses there."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from reservoir.core.pools import Pools
from reservoir.rehearsal.wires.segment import Port, Segment


def on_one_lan(pools: Pools, name: str) -> Sequence[str]:
    """The networks on one LAN with a network; not those that name another VLAN."""
    networks = pools.plan.networks
    vlan = networks[name].vlan
    return [
        other
        for other in pools.topology.segment_of(name)
        if None in (vlan, networks[other].vlan) or vlan == networks[other].vlan
    ]


def laid(pools: Pools, networks: Sequence[str]) -> Segment:
    """A segment with its ports: what is up and in the same VLAN, where both name one."""
    topology = pools.topology
    ports: dict[tuple[str, str], Port] = {}
    held: dict[int, str] = {}
    device_at: dict[int, str] = {}
    twice: list[tuple[int, str, str]] = []
    elsewhere = ""
    shared = {*pools.plan.anycast}
    for name in networks:
        network = pools.plan.networks[name]
        for attachment in (*topology.attachments(network), *topology.sharing(network)):
            interface = topology.interface(attachment)
            apart = topology.has_other_tag(attachment, network)
            home = topology.home_of(attachment)
            at_home = home in networks  # where networks overlap
            if not at_home:
                elsewhere = elsewhere or f"{attachment} is in {home}, which overlaps it"
            if apart or not at_home or not topology.is_up(attachment):
                continue
            other = held.setdefault(attachment.address, str(attachment))
            device_at.setdefault(attachment.address, attachment.device)
            is_own = attachment in topology.attachments(network)
            if is_own and other != str(attachment) and attachment.address not in shared:
                twice.append((attachment.address, other, str(attachment)))
            if interface.addresses:
                primary = interface.addresses[0].address
                port = Port(attachment.device, attachment.interface, primary)
                ports.setdefault((port.device, port.interface), port)
        for address, host, device in _static_hosts(pools, name):
            is_known = not host or (device and device == device_at.get(address))
            if address in held and not is_known and address not in shared:
                twice.append((address, held[address], host))
            held.setdefault(address, host or "a static host")
    return Segment(networks, list(ports.values()), held, twice, elsewhere)


def _static_hosts(pools: Pools, network: str) -> Iterator[tuple[int, str, str | None]]:
    """The static hosts of a network, less other names of bound clients there.

    Each with its name, empty if nobody said, and the device that it is another name of. At an
    address that is held already, without a name or by that device, it is who holds it, listed.
    """
    place = pools.place_of(network)
    table = pools.static
    bound = {pools.bindings.name[row] for row in pools.bound_rows(place).tolist()}
    owners: set[tuple[int, str]] = set()
    for row in pools.static_rows(place).tolist():
        address, owner = int(table.address[row]), pools.owner(row)
        if (address, owner) not in owners and owner not in bound:
            yield address, table.name[row], pools.device_at(row)
        owners.add((address, owner))
