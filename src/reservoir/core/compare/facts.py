"""What differs of devices that decides whether DHCP works there: interfaces, zones, routes."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from typing import Any

from reservoir.core.compare.notice import Change, Notice
from reservoir.core.compare.sides import NetworkSide, Side
from reservoir.core.plan.model import Device, Interface
from reservoir.core.values.addresses import format_address

_FIELDS = (
    "addresses",
    "virtual",
    "parent",
    "vlan",
    "members",
    "zone",
    "vrf",
    "enabled",
    "relay_to",
)
"""What decides whether an interface serves or relays."""

_ADDRESSES = ("virtual", "relay_to")
_UNORDERED = ("members", "relay_to", "virtual")


class FactsCompared:
    """The interfaces, zones and routes of the devices that both sides have."""

    def __init__(self, old: Side, new: Side, devices: Collection[str] | None) -> None:
        """Compare the devices; of all that both sides have, or of some."""
        self._old, self._new = old, new
        both = [name for name in new.plan.devices if name in old.plan.devices]
        self._devices = [name for name in both if devices is None or name in devices]
        self._pairs = {
            name: dict(_interfaces(old.plan.devices[name], new.plan.devices[name]))
            for name in self._devices
        }

    def of_network(self, before: NetworkSide, after: NetworkSide, path: Notice) -> Iterator[Change]:
        """What differs of the interfaces in a network.

        Args:
            before: The network on the old side.
            after: And on the new side.
            path: What clients notice of a way to a server that is new or gone.
        """
        attached = [
            *self._new.topology.attachments(after.network),
            *self._old.topology.attachments(before.network),
        ]
        ports = dict.fromkeys((a.device, a.interface) for a in attached)
        ports |= {(device, p): None for device, name in ports for p in self._parents(device, name)}
        for device, name in ports:
            if device not in self._pairs:
                continue
            earlier, later = self._pairs[device].get(name, (None, None))
            for field, was, is_now in interface_differences(earlier, later):
                what = f"{device} {name}" + (f" {field}" if field else "")
                yield Change(what, was, is_now, path)

    def _parents(self, device: str, name: str) -> Iterator[str]:
        """The interfaces that an interface is part of, on either side: if they go, it does."""
        for interface in self._pairs.get(device, {}).get(name, (None, None)):
            if interface is not None and interface.parent is not None:
                yield interface.parent

    def elsewhere(self) -> Iterator[tuple[str, list[Change]]]:
        """What differs of zones and routes, by device, where both sides list them.

        Clients notice nothing but by a way that is gone, which their networks tell.
        """
        for name in self._devices:
            old, new = self._old.plan.devices[name], self._new.plan.devices[name]
            changes = [*_zones(old, new), *_routes(old, new)]
            if changes:
                yield name, changes


def _interfaces(
    old: Device, new: Device
) -> Iterator[tuple[str, tuple[Interface | None, Interface | None]]]:
    """The interfaces of a device on both sides: of one name, else of one primary address."""
    by_address = {
        interface.primary: name
        for name, interface in old.interfaces.items()
        if interface.primary is not None and name not in new.interfaces
    }
    used: set[str] = set()
    for name, interface in new.interfaces.items():
        there = name
        if name not in old.interfaces and interface.primary is not None:
            there = by_address.get(interface.primary, name)
        used.add(there)
        yield name, (old.interfaces.get(there), interface)
    for name, interface in old.interfaces.items():
        if name not in used:
            yield name, (interface, None)


def interface_differences(
    old: Interface | None, new: Interface | None, fields: Collection[str] = _FIELDS
) -> Iterator[tuple[str, str | None, str | None]]:
    """The fields that differ, with their texts; no name of a field for the interface as a whole."""
    if old is None or new is None:
        yield "", _address_text(old), _address_text(new)
        return
    for field in fields:
        was, is_now = getattr(old, field), getattr(new, field)
        if field in _UNORDERED:
            was, is_now = tuple(sorted(was)), tuple(sorted(is_now))
        if was != is_now:
            name = "address" if field == "addresses" else field
            yield name, _text(field, was), _text(field, is_now)


def _address_text(interface: Interface | None) -> str | None:
    return _text("addresses", interface.addresses) or "no address" if interface else None


def _text(field: str, value: Any) -> str | None:
    if value in (None, "", ()):
        return None
    if isinstance(value, bool):
        return "yes" if value else "no"
    if field in _ADDRESSES:
        return " ".join(map(format_address, value))
    return " ".join(map(str, value)) if isinstance(value, tuple) else str(value)


def _zones(old: Device, new: Device) -> Iterator[Change]:
    if not old.zones or not new.zones:
        return
    admitted: list[Mapping[str, str]] = [
        {name: " ".join(sorted(zone.admits)) or "nothing" for name, zone in device.zones.items()}
        for device in (old, new)
    ]
    for name in {**admitted[0], **admitted[1]}:
        was, is_now = admitted[0].get(name), admitted[1].get(name)
        if was != is_now:
            yield Change(f"zone {name} admits", was, is_now, Notice.NONE)


def _routes(old: Device, new: Device) -> Iterator[Change]:
    if not old.routes or not new.routes:
        return
    before = {(route.to, route.via) for route in old.routes}
    after = {(route.to, route.via) for route in new.routes}
    for to, via in sorted(before ^ after):
        text = f"to {to} via {format_address(via)}"
        is_new = (to, via) in after
        yield Change("route", None if is_new else text, text if is_new else None, Notice.NONE)
