"""What is off: devices that have failed, and links; and which servers nobody reaches then."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass, replace

from reservoir.core.plan.model import Device, Plan
from reservoir.core.pools import Pool, Pools
from reservoir.core.routing import Routing


@dataclass(frozen=True)
class Off:
    """Devices that are off as a whole, and single interfaces."""

    devices: frozenset[str] = frozenset()
    interfaces: frozenset[tuple[str, str]] = frozenset()
    """A device and its interface each; with a parent, its subinterfaces."""

    @classmethod
    def of(cls, names: Collection[str], plan: Plan) -> Off:
        """Those that are meant by names: a device, or ``DEVICE.INTERFACE``.

        Raises:
            KeyError: the plan has no such device or interface; its argument is the name.
        """
        devices, interfaces = set[str](), set[tuple[str, str]]()
        for name in names:
            if name in plan.devices:
                devices.add(name)
                continue
            device = next(
                (d for d in plan.devices if name.startswith(f"{d}.")
                 and name[len(d) + 1 :] in plan.devices[d].interfaces), None
            )  # fmt: skip
            if device is None:
                raise KeyError(name)
            interfaces.add((device, name[len(device) + 1 :]))
        for device, its in plan.devices.items():
            for port in its.interfaces:
                if any((device, over) in interfaces for over in _parents(its, port)):
                    interfaces.add((device, port))
        return cls(frozenset(devices), frozenset(interfaces))

    def taken_from(self, plan: Plan) -> Plan:
        """The plan with these interfaces disabled."""
        devices = {name: self._left_of(name, device) for name, device in plan.devices.items()}
        return replace(plan, devices=devices)

    def _left_of(self, name: str, device: Device) -> Device:
        interfaces = {
            port: there.model_copy(update={"enabled": False})
            if name in self.devices or (name, port) in self.interfaces
            else there
            for port, there in device.interfaces.items()
        }
        return device.model_copy(update={"interfaces": interfaces})


def _parents(device: Device, port: str) -> list[str]:
    """The interfaces on which one rests, from its parent on."""
    found: list[str] = []
    over = device.interfaces[port].parent
    while over is not None and over in device.interfaces and over not in found:
        found.append(over)
        over = device.interfaces[over].parent
    return found


NOTHING_OFF = Off()
"""All devices and links are as planned."""


def devices_and_interfaces(plan: Plan) -> list[str]:
    """What can fail: each device, and each interface as ``DEVICE.INTERFACE``."""
    interfaces = (f"{name}.{port}" for name, d in plan.devices.items() for port in d.interfaces)
    return [*plan.devices, *interfaces]


def servers_lost(pools: Pools, off: Off, *, complete: bool = True) -> dict[str, frozenset[str]]:
    """The servers that clients of each network reach usually, and don't while something is off.

    Args:
        pools: The plan.
        off: What is off.
        complete: Whether all devices that matter are in the plan.

    Returns:
        Their devices by the network's name; networks that lose none are left out.
    """
    left = Pools(off.taken_from(pools.plan))
    usual, then = (Routing(some, is_complete=complete) for some in (pools, left))
    found: dict[str, set[str]] = {}
    for before, after in zip(pools, left, strict=True):
        is_off = before.server in off.devices
        if before.server and (
            is_off or (_is_heard(before, pools, usual) and not _is_heard(after, left, then))
        ):
            found.setdefault(before.name, set()).add(before.server)
    return {name: frozenset(servers) for name, servers in found.items()}


def _is_heard(pool: Pool, pools: Pools, routing: Routing) -> bool:
    """Whether a request from the pool's network gets to its server, and the answer back."""
    server, topology = str(pool.server), pools.topology
    its = topology.relay_targets_of(server)
    for attachment in topology.attachments(pool.network):
        if not topology.is_up(attachment):
            continue
        if attachment.device == server:
            return True
        targets = its & {*topology.interface(attachment).relay_to}
        there = (routing.way(attachment.device, target) for target in targets)
        if any(not way.is_lost for way in there) and not (
            routing.way(server, attachment.address).is_lost
        ):
            return True
    return False
