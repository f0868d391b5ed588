"""What a plan gets for networks that are drafted: devices, interfaces, zones, the networks."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import Any, NamedTuple

from reservoir.core.behaviour import DeviceBehaviour
from reservoir.core.drafting.answers import NONE, Answers
from reservoir.core.plan.model import Device, Interface, Plan, PlanPath, Zone
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import Prefix, Span, format_address
from reservoir.core.values.durations import format_duration

TRUNK, LAN, ZONE = "trunk", "lan", "inside"
"""Names of interfaces and zones that a device gets that has none."""

ZONELESS = Zone()


class Addition(NamedTuple):
    """What a plan gets at a path where nothing is yet."""

    path: PlanPath
    value: Any
    """The plan file's keys and texts."""
    remark: str = ""
    """What somebody who reads the plan is to know of it."""


BehaviourOf = Callable[[str | None], DeviceBehaviour | None]
"""How devices of a dialect behave; None if that isn't known."""


class DraftedSite:
    """The devices of a plan with what was drafted, and what the plan gets for it."""

    def __init__(self, plan: Plan, behaviour_of: BehaviourOf) -> None:
        """Begin with a plan as it is."""
        self._plan = plan
        self._behaviour_of = behaviour_of
        self.additions: list[Addition] = []
        """What the plan gets, in order."""
        self.names: set[str] = set()
        """The networks that were drafted, with their subnets and VLAN tags."""
        self.subnets: list[Span] = []
        self.tags: set[int] = set()
        self._routes: dict[str, list[tuple[Prefix, int]]] = {}
        """The routes of servers that were looked at: where to, and by which next hop."""
        self.interfaces = {name: dict(one.interfaces) for name, one in plan.devices.items()}
        """The interfaces of each device."""

    def trunk(self, device: str) -> str | None:
        """The interface of a device that most sub-interfaces are on."""
        there = self.interfaces.get(device, {})
        parents = Counter(one.parent for one in there.values() if one.parent is not None)
        return parents.most_common(1)[0][0] if parents else None

    def holder(self, address: int) -> str | None:
        """The device that has an address."""
        for name, interfaces in self.interfaces.items():
            for interface in interfaces.values():
                if any(prefix.address == address for prefix in interface.addresses):
                    return name
        return None

    def add(self, answers: Answers, remark: str = "") -> None:
        """Take a network whose questions are all answered into the plan's additions."""
        self._add_device(answers)
        self._add_interface(answers)
        self._add_route(answers)
        path = ("networks", answers["network"])
        self.additions.append(Addition(path, self._network(answers), remark))
        self.names.add(answers["network"])
        self.subnets.append(answers["subnet"].subnet.span)
        if answers.get("vlan") is not None:
            self.tags.add(answers["vlan"])

    def _add_device(self, answers: Answers) -> None:
        for device in dict.fromkeys((answers["device"], answers["server"])):
            if device not in self.interfaces:
                dialect = answers.get("dialect") if device == answers["device"] else None
                written = {"dialect": dialect} if dialect else {}
                self.additions.append(Addition(("devices", device), written))
                self.interfaces[device] = {}

    def _add_interface(self, answers: Answers) -> None:
        device, name = answers["device"], answers["interface"]
        there = self.interfaces[device]
        if name in there:
            return
        vlan, parent = answers.get("vlan"), None
        if vlan is not None:
            parent = name.rpartition(".")[0] or self.trunk(device) or TRUNK
            if parent not in there:
                self._give(device, parent, {})
        written: dict[str, Any] = {"parent": parent, "vlan": vlan} if parent else {}
        subnet = answers["subnet"]
        gateway = answers.get("gateway")
        if gateway is not None and subnet.span.holds(gateway):
            written["address"] = str(Prefix(gateway, subnet.bits))
        zone = self._zone(device, answers)
        if zone is not None:
            written["zone"] = zone
        if answers["server"] != device:
            target = self._relay_target(device, answers["server"])
            if target is not None:
                written["relay_to"] = [format_address(target)]
        self._give(device, name, written)

    def _add_route(self, answers: Answers) -> None:
        """Give the server the way back to a relay, as it has one to the relay's other subnets."""
        device, server, subnet = answers["device"], answers["server"], answers["subnet"].subnet
        routes = self._routes.setdefault(
            server, [(r.to.subnet, r.via) for r in self._plan.devices.get(server, Device()).routes]
        )
        ways = Counter(
            _way(routes, prefix.subnet)
            for interface in self.interfaces[device].values()
            for prefix in interface.addresses
            if interface.relay_to and prefix.subnet != subnet
        )
        way = next((way for way, _ in ways.most_common(1)), None)
        if server != device and way is not None and _way(routes, subnet) != way:
            route = {"to": str(subnet), "via": format_address(way)}
            self.additions.append(Addition(("devices", server, "routes"), [route]))
            routes.append((subnet, way))

    def _give(self, device: str, name: str, written: Mapping[str, Any]) -> None:
        path = ("devices", device, "interfaces", name)
        self.additions.append(Addition(path, dict(written)))
        data = {key: str(value) if key == "vlan" else value for key, value in written.items()}
        self.interfaces[device][name] = Interface.model_validate(data)

    def _zone(self, device: str, answers: Answers) -> str | None:
        """A zone that admits DHCP, where the device has zones or needs them."""
        known = self._plan.devices.get(device, Device())
        used = Counter(
            one.zone
            for one in self.interfaces[device].values()
            if one.zone and "dhcp" in known.zones.get(one.zone, ZONELESS).admits
        )
        if used:
            return used.most_common(1)[0][0]
        admitting = [name for name, zone in known.zones.items() if "dhcp" in zone.admits]
        if admitting:
            return admitting[0]
        behaviour = self._behaviour_of(known.dialect or answers.get("dialect"))
        if behaviour is None or not behaviour.zone_must_admit_dhcp:
            return None
        path = ("devices", device, "zones", ZONE)
        if path not in (addition.path for addition in self.additions):
            self.additions.append(Addition(path, {"admits": ["dhcp", "ping"]}))
        return ZONE

    def _relay_target(self, device: str, server: str) -> int | None:
        """The server's address that requests are relayed to; None if it has none yet."""
        for interface in self.interfaces[device].values():
            for target in interface.relay_to:
                if self.holder(target) == server:
                    return target
        addresses = (one.primary for one in self.interfaces[server].values())
        return next((prefix.address for prefix in addresses if prefix is not None), None)

    def _network(self, answers: Answers) -> dict[str, Any]:
        subnet, defaults = answers["subnet"].subnet, self._plan.defaults
        gateway = answers.get("gateway")
        ranges: Sequence[Span] = answers["range"]
        written: dict[str, Any] = {"subnet": str(subnet)}
        if answers.get("vlan") is not None:
            written["vlan"] = answers["vlan"]
        written["gateway"] = NONE if gateway is None else format_address(gateway)
        written["served_by"] = answers["server"]
        written["ranges"] = list(map(str, ranges))
        excluded = list(self._excluded(answers))
        if excluded:
            written["exclusions"] = excluded
        if tuple(answers["dns"]) != defaults.dns:
            written["dns"] = list(map(format_address, answers["dns"]))
        if answers.get("domain") not in (None, defaults.domain):
            written["domain"] = answers["domain"]
        if answers["lease"] != defaults.lease:
            written["lease"] = format_duration(answers["lease"])
        if answers.get("clients") is not None:
            written["demand"] = {"devices": answers["clients"]}
        return written

    def _excluded(self, answers: Answers) -> Iterator[Any]:
        """What is in the ranges and must not be assigned: kept addresses and DNS servers."""
        ranges = AddressSet(answers["range"])
        kept = AddressSet(answers["keep"].within(answers["subnet"].subnet)) & ranges
        yield from map(str, kept.spans())
        for address in answers["dns"]:
            if address in ranges and address not in kept:
                yield {"range": format_address(address), "for": "DNS server"}


def _way(routes: Sequence[tuple[Prefix, int]], subnet: Prefix) -> int | None:
    """The next hop to a subnet: of the longest prefix that holds it; None if there is none."""
    found = [(to.bits, via) for to, via in routes if to.span.holds(subnet.span.first)
             and to.span.holds(subnet.span.last)]  # fmt: skip
    return max(found)[1] if found else None
