"""Who reaches whom: which interfaces are in a network, how a server hears its clients."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections import defaultdict
from collections.abc import Iterator, Sequence, Set
from dataclasses import dataclass
from functools import cached_property
from itertools import accumulate, chain

from reservoir.core.plan.model import Interface, Network, Plan, PlanPath, Server
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import ADDRESS_BITS, Prefix


@dataclass(frozen=True)
class Attachment:
    """An interface with the address that puts it into a network."""

    address: int
    device: str
    interface: str
    bits: int
    position: int | None = None
    """Where the address is in the interface's list; None if it is the only one."""

    @property
    def is_secondary(self) -> bool:
        """Whether the interface has another, primary address."""
        return bool(self.position)

    @property
    def prefix(self) -> Prefix:
        """The address with its prefix length, as the interface has it."""
        return Prefix(self.address, self.bits)

    @property
    def path(self) -> PlanPath:
        """Where the interface is in the plan."""
        return ("devices", self.device, "interfaces", self.interface)

    @property
    def address_path(self) -> PlanPath:
        """Where its address is in the plan."""
        listed = () if self.position is None else (self.position,)
        return (*self.path, "address", *listed)

    def __str__(self) -> str:
        return f"{self.device} {self.interface}"


def _attachments(device: str, name: str, interface: Interface) -> Iterator[Attachment]:
    several = len(interface.addresses) > 1
    for position, (address, bits) in enumerate(interface.addresses):
        yield Attachment(address, device, name, bits, position if several else None)


def _virtual(device: str, name: str, interface: Interface) -> Iterator[Attachment]:
    """Its virtual addresses, each with the length of the subnet of its own that it is in."""
    for address in interface.virtual:
        around = (own.bits for own in interface.addresses if own.span.holds(address))
        yield Attachment(address, device, name, max(around, default=ADDRESS_BITS))


def _by_address(attachment: Attachment) -> tuple[int, str, str]:
    """Sorts attachments by their address."""
    return attachment.address, attachment.device, attachment.interface


def _in_subnet(attachments: list[Attachment], network: Network) -> list[Attachment]:
    """Those of a VRF's interfaces, sorted by address, that are in a network's subnet."""
    first, last = network.subnet.span
    begin = bisect_left(attachments, first, key=lambda a: a.address)
    return attachments[begin : bisect_right(attachments, last, key=lambda a: a.address)]


@dataclass(frozen=True)
class Reach:
    """How a server hears the clients of a network."""

    own: Attachment | None = None
    """The server's own interface in the network, if it has one."""
    relay: Attachment | None = None
    """Otherwise the relaying interface in the network; its address is the relay address."""

    @property
    def through(self) -> Attachment:
        """The interface in the network that the clients' requests come in at."""
        through = self.own or self.relay
        assert through is not None
        return through


class Topology:
    """The interfaces of a plan, found by address. Built once: n log n in interfaces."""

    def __init__(self, plan: Plan) -> None:
        """Sort the addressed interfaces of each VRF."""
        self._plan = plan
        self.addressed: list[Attachment] = []
        """Every address of every interface, in the plan's order."""
        self.virtual: list[Attachment] = []
        """Every virtual address that an interface shares with others."""
        self._by_vrf: dict[str, list[Attachment]] = {}
        self._holders: dict[int, list[Attachment]] = {}
        self._attached: dict[tuple[str, Prefix], list[Attachment]] = {}
        self._reached: dict[tuple[str, str, Prefix], Reach | None] = {}
        self._ways: dict[str, AddressSet] = {}
        self._servers_meant: dict[str, Sequence[Server]] = {}
        self._attached_of: dict[str, list[Attachment]] = {name: [] for name in plan.devices}
        self._attached_at: dict[tuple[str, str], list[Attachment]] = {}
        for device_name, device in plan.devices.items():
            for name, interface in device.interfaces.items():
                for attachment in _attachments(device_name, name, interface):
                    self.addressed.append(attachment)
                    self._by_vrf.setdefault(interface.vrf, []).append(attachment)
                    self._holders.setdefault(attachment.address, []).append(attachment)
                    self._attached_of[device_name].append(attachment)
                    self._attached_at.setdefault((device_name, name), []).append(attachment)
                for attachment in _virtual(device_name, name, interface):
                    self.virtual.append(attachment)
                    self._holders.setdefault(attachment.address, []).append(attachment)
        for attachments in self._by_vrf.values():
            attachments.sort(key=_by_address)
        self._listening = frozenset(plan.listeners)
        self._addresses_of = {
            name: {attachment.address for attachment in attached}
            for name, attached in self._attached_of.items()
        }
        self._targets_of = {
            name: own - self._listening if self._listening else own
            for name, own in self._addresses_of.items()
        }

    def interface(self, attachment: Attachment) -> Interface:
        """The interface itself."""
        return self._plan.devices[attachment.device].interfaces[attachment.interface]

    def is_up(self, attachment: Attachment) -> bool:
        """Whether an interface is enabled, and its parent too."""
        return self.down_at(attachment) is None

    def down_at(self, attachment: Attachment) -> str | None:
        """The interface that keeps another one down: itself, its parent; None if it is up."""
        interfaces = self._plan.devices[attachment.device].interfaces
        own = interfaces[attachment.interface]
        for name in (attachment.interface, own.parent):
            if name is not None and name in interfaces and not interfaces[name].enabled:
                return name
        return None

    def attachments(self, network: Network) -> list[Attachment]:
        """The interfaces whose address is in the network's subnet, by address."""
        key = (network.vrf, network.subnet)
        if key not in self._attached:  # a dozen rules ask the same
            self._attached[key] = self._attachments(network)
        return self._attached[key]

    def _attachments(self, network: Network) -> list[Attachment]:
        return _in_subnet(self._by_vrf.get(network.vrf, []), network)

    def has_other_tag(self, attachment: Attachment, network: Network) -> bool:
        """Whether an interface in a network's subnet is in another VLAN, where both name one."""
        tag = self.interface(attachment).vlan
        return None not in (tag, network.vlan) and tag != network.vlan

    def sharing(self, network: Network) -> list[Attachment]:
        """The virtual addresses in the network's subnet that routers there share."""
        return _in_subnet(self._virtual_by_vrf.get(network.vrf, []), network)

    @cached_property
    def _virtual_by_vrf(self) -> dict[str, list[Attachment]]:
        found: dict[str, list[Attachment]] = {}
        for attachment in sorted(self.virtual, key=_by_address):
            found.setdefault(self.interface(attachment).vrf, []).append(attachment)
        return found

    def holders(self, address: int) -> list[Attachment]:
        """The interfaces that hold an address or share it, in whatever VRF."""
        return self._holders.get(address, [])

    def answering(self, address: int, vrf: str) -> list[Attachment]:
        """The interfaces of a VRF that hold an address or share it."""
        return [a for a in self.holders(address) if self.interface(a).vrf == vrf]

    def answering_up(self, address: int, vrf: str) -> list[Attachment]:
        """Those of them that are enabled."""
        return [a for a in self.answering(address, vrf) if self.is_up(a)]

    def serving(self, name: str) -> set[str]:
        """The devices that serve a network."""
        return {server.device for server in self.servers(name)}

    def servers(self, name: str) -> Sequence[Server]:
        """The devices that serve a network: those that it names, or the only one that can be meant.

        That is where the plan leaves them out, exactly one device has an interface in the subnet,
        and it doesn't relay.
        """
        network = self._plan.networks[name]
        if not network.leaves_out_server:
            return network.servers
        if name not in self._servers_meant:
            self._servers_meant[name] = self._server_meant(name, network)
        return self._servers_meant[name]

    def _server_meant(self, name: str, network: Network) -> Sequence[Server]:
        attached = self.attachments(network)
        devices = {attachment.device for attachment in attached}
        relays = any(set(self.interface(a).relay_to) - self._listening for a in attached)
        has_clients = bool(network.ranges or network.bindings or network.demand)
        has_clients |= name in self._bound_by_table
        return [Server(devices.pop())] if len(devices) == 1 and has_clients and not relays else []

    @cached_property
    def _bound_by_table(self) -> set[str]:
        """The networks that have bindings in a table."""
        names = list(self._plan.networks)
        return {names[index] for index in set(self._plan.bulk_bindings.network.tolist())}

    def subnets_around(self, address: int, but: str) -> list[Prefix]:
        """The subnets with an address in which a device other than ``but`` stands, in any VRF."""
        around = (Prefix(address, bits).subnet for bits in range(ADDRESS_BITS))
        return [subnet for subnet in around if self._by_subnet.get(subnet, set()) - {but}]

    @cached_property
    def _by_subnet(self) -> dict[Prefix, set[str]]:
        """The devices with an interface in each subnet."""
        found: dict[Prefix, set[str]] = {}
        for attachment in self.addressed:
            found.setdefault(attachment.prefix.subnet, set()).add(attachment.device)
        return found

    def attachments_of(self, device: str) -> list[Attachment]:
        """The device's interfaces that have an address, in the plan's order."""
        return self._attached_of[device]

    def attachments_at(self, device: str, interface: str) -> list[Attachment]:
        """An interface of a device with each of its addresses, in the plan's order."""
        return self._attached_at.get((device, interface), [])

    def addresses_of(self, device: str) -> Set[int]:
        """The addresses of a device's interfaces, without those that it shares with others."""
        return self._addresses_of[device]

    def relay_targets_of(self, device: str) -> Set[int]:
        """The device's addresses at which it may hear what is relayed to it."""
        return self._targets_of[device]

    def devices_touching(self, name: str) -> Iterator[str]:
        """The devices that serve a network or have an interface in it; none if it isn't known."""
        network = self._plan.networks.get(name)
        if network is not None:
            yield from (server.device for server in self.servers(name))
            yield from (attachment.device for attachment in self.attachments(network))

    def reach(self, server: str, network: Network) -> Reach | None:
        """How the server hears the network's clients; None if it doesn't.

        Its own interface goes before a relay: broadcasts arrive there without help.
        """
        key = (server, network.vrf, network.subnet)
        if key not in self._reached:
            self._reached[key] = self._reach(server, network)
        return self._reached[key]

    def _reach(self, server: str, network: Network) -> Reach | None:
        attachments = self.attachments(network)
        attachments = sorted(attachments, key=lambda attachment: attachment.is_secondary)
        for attachment in attachments:
            if attachment.device == server:
                return Reach(own=attachment)
        served = self.relay_targets_of(server)
        for attachment in attachments:
            if not served.isdisjoint(self.interface(attachment).relay_to):
                return Reach(relay=attachment)
        return None

    def networks_at(self, address: int, vrf: str) -> Iterator[str]:
        """The networks of a VRF whose subnet holds an address, the smallest subnet first."""
        starts, reaches, networks = self._networks_by_vrf.get(vrf, ([], [], []))
        at = bisect_right(starts, address) - 1
        while at >= 0 and reaches[at] >= address:
            last, name = networks[at]
            if last >= address:
                yield name
            at -= 1

    def networks_of(self, attachment: Attachment) -> Iterator[str]:
        """The networks whose subnet holds an interface's address, the smallest subnet first."""
        return self.networks_at(attachment.address, self.interface(attachment).vrf)

    def home_of(self, attachment: Attachment) -> str | None:
        """The network that an interface is in; of several one with its mask, or the smallest.

        Several hold its address only where networks overlap.
        """
        smallest = None
        for name in self.networks_of(attachment):
            smallest = smallest or name
            if self._plan.networks[name].subnet.bits == attachment.bits:
                return name
        return smallest

    def segment_of(self, name: str) -> Sequence[str]:
        """The networks on one LAN with a network, itself among them, in the plan's order.

        That is those that share an interface with it: a broadcast is heard for all of them.
        """
        return self._segments.get(name, [name])

    @cached_property
    def segments(self) -> list[Sequence[str]]:
        """The networks of each segment that has several, in the plan's order."""
        return list({id(names): names for names in self._segments.values()}.values())

    @cached_property
    def _segments(self) -> dict[str, list[str]]:
        together: dict[str, set[str]] = {}
        at_interface: dict[tuple[str, str], set[str]] = {}
        for attachment in self.addressed:
            home = self.home_of(attachment) if attachment.position is not None else None
            if home is not None:
                key = (attachment.device, attachment.interface)
                at_interface.setdefault(key, set()).add(home)
        for names in at_interface.values():
            joined = set().union(*(together.get(name, {name}) for name in names))
            together.update(dict.fromkeys(joined, joined))
        order = {name: number for number, name in enumerate(self._plan.networks)}
        sorted_once = {
            id(names): sorted(names, key=order.__getitem__) for names in together.values()
        }
        return {name: sorted_once[id(names)] for name, names in together.items() if len(names) > 1}

    @cached_property
    def _networks_by_vrf(self) -> dict[str, tuple[list[int], list[int], list[tuple[int, str]]]]:
        """By VRF, sorted: where each subnet begins, how far it or one before reaches, its name."""
        by_vrf: defaultdict[str, list[tuple[int, int, str]]] = defaultdict(list)
        for name, network in self._plan.networks.items():
            by_vrf[network.vrf].append((*network.subnet.span, name))
        found = {}
        for vrf, spans in by_vrf.items():
            spans.sort(key=lambda span: (span[0], -span[1]))
            reaches = list(accumulate((last for _, last, _ in spans), max))
            networks = [(last, name) for _, last, name in spans]
            found[vrf] = ([first for first, _, _ in spans], reaches, networks)
        return found

    def knows_way(self, device: str, address: int) -> bool:
        """Whether an interface's subnet or a route of the device leads to an address."""
        return address in self.known_ways(device)

    def known_ways(self, device: str) -> AddressSet:
        """What the device's interfaces' subnets and its routes lead to."""
        if device not in self._ways:
            own = [attachment.prefix for attachment in self._attached_of[device]]
            prefixes = chain(own, (route.to for route in self._plan.devices[device].routes))
            self._ways[device] = AddressSet(prefix.span for prefix in prefixes)
        return self._ways[device]
