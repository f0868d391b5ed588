"""Who reaches whom: which interfaces stand in a network, and how a server hears its clients."""

from __future__ import annotations

from bisect import bisect_left, bisect_right
from dataclasses import dataclass

from reservoir.core.plan import Network, Plan, PlanPath


@dataclass(frozen=True, order=True)
class Attachment:
    """An interface with the address that puts it into a network."""

    address: int
    device: str
    interface: str

    @property
    def path(self) -> PlanPath:
        """Where the interface stands in the plan."""
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


class Topology:
    """The interfaces of a plan, found by address. Built once: n log n in interfaces."""

    def __init__(self, plan: Plan) -> None:
        """Sort the addressed interfaces of each VRF."""
        self._plan = plan
        self._by_vrf: dict[str, list[Attachment]] = {}
        for device_name, device in plan.devices.items():
            for name, interface in device.interfaces.items():
                if interface.address is not None:
                    self._by_vrf.setdefault(interface.vrf, []).append(
                        Attachment(interface.address.address, device_name, name)
                    )
        for attachments in self._by_vrf.values():
            attachments.sort()

    def attachments(self, network: Network) -> list[Attachment]:
        """The interfaces whose address lies in the network's subnet, by address."""
        in_vrf = self._by_vrf.get(network.vrf, [])
        first, last = network.subnet.span
        begin = bisect_left(in_vrf, first, key=lambda a: a.address)
        end = bisect_right(in_vrf, last, key=lambda a: a.address)
        return in_vrf[begin:end]

    def device_addresses(self, device: str) -> set[int]:
        """Every address that the device's interfaces hold."""
        interfaces = self._plan.devices[device].interfaces.values()
        return {i.address.address for i in interfaces if i.address is not None}

    def reach(self, server: str, network: Network) -> Reach | None:
        """How the server hears the network's clients; None if it doesn't.

        Its own interface goes before a relay: broadcasts arrive there without help.
        """
        attachments = self.attachments(network)
        for attachment in attachments:
            if attachment.device == server:
                return Reach(own=attachment)
        served = self.device_addresses(server)
        for attachment in attachments:
            interface = self._plan.devices[attachment.device].interfaces[attachment.interface]
            if served.intersection(interface.relay_to):
                return Reach(relay=attachment)
        return None
