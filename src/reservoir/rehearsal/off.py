"""What is off: devices that have failed, and links."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass, replace

from reservoir.core.plan.model import Device, Plan


@dataclass(frozen=True)
class Off:
    """Devices that are off as a whole, and single interfaces."""

    devices: frozenset[str] = frozenset()
    interfaces: frozenset[tuple[str, str]] = frozenset()
    """A device and its interface each."""

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


NOTHING_OFF = Off()
"""All devices and links are as planned."""
