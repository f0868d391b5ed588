"""Who reaches whom: which interfaces are in a network, how a server hears its clients."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from itertools import accumulate, chain

from reservoir.core.plan.model import Interface, Network, Plan, PlanPath
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import ADDRESS_BITS, Prefix


@dataclass(frozen=True, order=True)
class Attachment:
    """An interface with the address that puts it into a network."""

    address: int
    device: str
    interface: str
    bits: int

    @property
    def prefix(self) -> Prefix:
        """The address with its prefix length, as the interface has it."""
        return Prefix(self.address, self.bits)

    @property
    def path(self) -> PlanPath:
        """Where the interface is in the plan."""
        return ("devices", self.device, "interfaces", self.interface)

    def __str__(self) -> str:
        return f"{self.device} {self.interface}"


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
        """Every interface that has an address, in the plan's order."""
        self._by_vrf: dict[str, list[Attachment]] = {}
        self._holders: dict[int, list[Attachment]] = {}
        self._attached: dict[tuple[str, Prefix], list[Attachment]] = {}
        self._reached: dict[tuple[str, str, Prefix], Reach | None] = {}
        self._ways: dict[str, AddressSet] = {}
        self._attached_of: dict[str, list[Attachment]] = {name: [] for name in plan.devices}
        for device_name, device in plan.devices.items():
            for name, interface in device.interfaces.items():
                if interface.address is None:
                    continue
                address, bits = interface.address
                attachment = Attachment(address, device_name, name, bits)
                self.addressed.append(attachment)
                self._by_vrf.setdefault(interface.vrf, []).append(attachment)
                self._holders.setdefault(attachment.address, []).append(attachment)
                self._attached_of[device_name].append(attachment)
        for attachments in self._by_vrf.values():
            attachments.sort()
        self._addresses_of = {
            name: {attachment.address for attachment in attached}
            for name, attached in self._attached_of.items()
        }

    def interface(self, attachment: Attachment) -> Interface:
        """The interface itself."""
        return self._plan.devices[attachment.device].interfaces[attachment.interface]

    def attachments(self, network: Network) -> list[Attachment]:
        """The interfaces whose address is in the network's subnet, by address."""
        key = (network.vrf, network.subnet)
        if key not in self._attached:  # a dozen rules ask the same
            self._attached[key] = self._attachments(network)
        return self._attached[key]

    def _attachments(self, network: Network) -> list[Attachment]:
        in_vrf = self._by_vrf.get(network.vrf, [])
        first, last = network.subnet.span
        begin = bisect_left(in_vrf, first, key=lambda a: a.address)
        end = bisect_right(in_vrf, last, key=lambda a: a.address)
        return in_vrf[begin:end]

    def holders(self, address: int) -> list[Attachment]:
        """The interfaces that hold an address, in whatever VRF."""
        return self._holders.get(address, [])

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

    def devices_touching(self, name: str) -> Iterator[str]:
        """The devices that serve a network or have an interface in it; none if it isn't known."""
        network = self._plan.networks.get(name)
        if network is not None:
            yield from (service.device for service in network.served_by)
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
        for attachment in attachments:
            if attachment.device == server:
                return Reach(own=attachment)
        served = self._addresses_of[server]
        for attachment in attachments:
            if served.intersection(self.interface(attachment).relay_to):
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
        if device not in self._ways:
            described = self._plan.devices[device]
            own = [i.address for i in described.interfaces.values() if i.address is not None]
            prefixes = chain(own, (route.to for route in described.routes))
            self._ways[device] = AddressSet(prefix.span for prefix in prefixes)
        return address in self._ways[device]
