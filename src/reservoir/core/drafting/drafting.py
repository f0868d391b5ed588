"""Drafts networks: suggests what wasn't answered, and says what a plan has to get for each."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import Any, NamedTuple

from reservoir.core.behaviour import DeviceBehaviour
from reservoir.core.drafting.answers import NONE, Answers, Kept
from reservoir.core.plan.model import Device, Interface, Plan, PlanPath, Zone
from reservoir.core.pools import Pools
from reservoir.core.sizing.size import EDGES, with_headroom
from reservoir.core.space import VLAN_TAGS, Space
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import Prefix, Span, format_address
from reservoir.core.values.durations import format_duration, parse_duration
from reservoir.core.wording import counted

USUAL_BITS = 24
USUAL_LEASE = parse_duration("12h")
USUAL_BLOCK_BITS = 16
USUAL_BLOCK = Prefix(10 << 24, 8)
"""Where a first subnet is looked for if no block is stated (RFC 1918)."""

TRUNK, LAN, ZONE = "trunk", "lan", "inside"
"""Names of interfaces and zones that a device gets that has none."""

ZONELESS = Zone()

SHARE_KEPT = 8
"""One in so many addresses is kept for static addresses, up to :data:`MOST_KEPT`."""

MOST_KEPT = 19


class Suggested(NamedTuple):
    """An answer that is suggested, and why."""

    value: Any
    because: str


class NoRoomError(ValueError):
    """There is no free subnet or VLAN tag where one was looked for."""


Addition = tuple[PlanPath, Any]
"""A path of the plan that isn't there yet, and what it gets: the plan file's keys and texts."""

BehaviourOf = Callable[[str | None], DeviceBehaviour | None]
"""How devices of a dialect behave; None if that isn't known."""


@dataclass
class Drafting:
    """Networks that are drafted one after the other, into a plan or a new one."""

    plan: Plan
    behaviour_of: BehaviourOf
    dialects: Sequence[str] = ()
    """The dialects that there are."""
    block: Prefix | None = None
    """Where free subnets are looked for; in the blocks of the plan if None."""
    tags: tuple[int, int] | None = None
    """Where free VLAN tags are looked for; in all if None."""
    headroom: float = 0.2
    additions: list[Addition] = field(default_factory=list)
    """What the plan gets for the networks so far, in order."""
    _names: set[str] = field(default_factory=set)
    _subnets: list[Span] = field(default_factory=list)
    _tags: set[int] = field(default_factory=set)

    @property
    def count(self) -> int:
        """Networks so far."""
        return len(self._subnets)

    def is_known(self, network: str) -> bool:
        """Whether the plan, or what was drafted, has a network of this name."""
        return network in self.plan.networks or network in self._names

    @cached_property
    def _space(self) -> Space:
        return Space(Pools(self.plan))

    @cached_property
    def _devices(self) -> dict[str, dict[str, Interface]]:
        """The interfaces of each device, with those that were drafted."""
        return {name: dict(device.interfaces) for name, device in self.plan.devices.items()}

    def suggest(self, question: str, answers: Answers) -> Suggested | None:
        """What a question would be answered with, after those before it; None if nobody can tell.

        Raises:
            NoRoomError: no free subnet or VLAN tag is left.
        """
        suggestion: Suggested | None = getattr(self, f"_suggest_{question}")(answers)
        return suggestion

    def _suggest_network(self, answers: Answers) -> Suggested | None:
        if answers.get("vlan") is not None:
            return Suggested(f"vlan-{answers['vlan']}", "named by its VLAN tag")
        if "subnet" in answers:
            words = format_address(answers["subnet"].network).replace(".", "-")
            return Suggested(f"net-{words}", "named by its subnet")
        return None

    def _suggest_device(self, _answers: Answers) -> Suggested | None:
        if len(self._devices) == 1:
            return Suggested(next(iter(self._devices)), "the plan's only device")
        return None if self._devices else Suggested("router", "the plan has no device yet")

    def _suggest_dialect(self, answers: Answers) -> Suggested | None:
        known = self.plan.devices.get(answers["device"])
        if known is not None:
            return Suggested(known.dialect, f"{answers['device']} is configured in it")
        return None

    def _suggest_vlan(self, answers: Answers) -> Suggested | None:
        interface = answers.get("interface")
        there = self._devices.get(answers["device"], {}).get(interface or "")
        if there is not None:
            return Suggested(there.vlan, f"interface {interface} has it")
        if not self._trunk(answers["device"]):
            return Suggested(None, f"{answers['device']} has no trunk yet")
        near = min((one.vlan for one in self._devices[answers["device"]].values() if one.vlan),
                   default=2)  # fmt: skip
        low, high = self.tags or (near, 4094)
        used = self._space.vlans | self._tags
        free = [tag for tag in range(low, high + 1) if tag not in used]
        if not free and self.tags is None:
            free = [tag for tag in VLAN_TAGS if tag not in used]
        if not free:
            raise NoRoomError(f"no VLAN tag from {low} to {high} is free")
        fitting = (tag for tag in free if self._by_tag(answers["device"], tag, USUAL_BITS))
        tag = next(fitting, free[0]) if self._tags_are_octets else free[0]
        return Suggested(tag, "the next tag that no network or interface has")

    @cached_property
    def _tags_are_octets(self) -> bool:
        """Whether the plan's subnets mostly have their VLAN tag for a third number."""
        tagged = [network for network in self.plan.networks.values() if network.vlan is not None]
        alike = sum(network.subnet.network >> 8 & 255 == network.vlan for network in tagged)
        return alike * 2 > len(tagged)

    def _by_tag(self, device: str, tag: int, bits: int) -> Prefix | None:
        """The free subnet near the device's others whose third number is the VLAN tag."""
        drafted = AddressSet(self._subnets)
        for block in self._blocks(device)[:1]:
            subnet = Prefix(block.subnet.address + (tag << 8), bits)
            fits = tag < 256 and block.span.holds(subnet.span.last) and subnet == subnet.subnet
            used = self._space.used.meets(subnet.span) or drafted.meets(subnet.span)
            if fits and block.bits <= USUAL_BLOCK_BITS and not used:
                return subnet
        return None

    def _blocks(self, device: str) -> list[Prefix]:
        """Where free subnets are looked for: first in the blocks that a device has addresses in."""
        if self.block is not None:
            return [self.block]
        around = {Prefix(span.first, USUAL_BLOCK_BITS).subnet for span in self._subnets}
        blocks = sorted({*self._space.blocks, *around}, key=lambda block: block.span)
        there = self._devices.get(device, {}).values()
        held = [prefix.address for one in there for prefix in one.addresses]
        own = [b for b in blocks if any(b.span.holds(address) for address in held)]
        return [*own, *(block for block in blocks if block not in own)] or [USUAL_BLOCK]

    def _suggest_interface(self, answers: Answers) -> Suggested | None:
        device, vlan = answers["device"], answers.get("vlan")
        there = self._devices.get(device, {})
        trunk = self._trunk(device)
        if vlan is not None:
            same = next((name for name, one in there.items() if one.vlan == vlan), None)
            if same is not None:
                return Suggested(same, f"it has VLAN tag {vlan}")
            name = f"{trunk or TRUNK}.{vlan}"
            why = f"a sub-interface of {trunk}" if trunk else "a sub-interface of a new trunk"
            return Suggested(name, why)
        subnet = answers.get("subnet")
        for name, one in there.items():
            if subnet is not None and any(p.subnet == subnet.subnet for p in one.addresses):
                return Suggested(name, "it has an address in the subnet")
        name = LAN if LAN not in there else answers.get("network", f"{LAN}-{len(there)}")
        return Suggested(name, "a new interface")

    def _trunk(self, device: str) -> str | None:
        """The interface of a device that most sub-interfaces are on."""
        there = self._devices.get(device, {})
        parents = Counter(one.parent for one in there.values() if one.parent is not None)
        return parents.most_common(1)[0][0] if parents else None

    def _suggest_subnet(self, answers: Answers) -> Suggested | None:
        there = self._devices.get(answers["device"], {}).get(answers.get("interface") or "")
        if there is not None and there.primary is not None:
            return Suggested(there.primary.subnet, f"{answers['interface']} has an address in it")
        clients, kept = answers.get("clients"), answers.get("keep")
        bits, why = USUAL_BITS, f"a /{USUAL_BITS}"
        if clients:
            more = (kept or Kept(MOST_KEPT)).first + (kept or Kept()).last
            whole = with_headroom(clients, self.headroom) + more + 1 + EDGES
            bits = 32 - (whole - 1).bit_length()
            why = f"a /{bits} holds {counted(clients, 'client')} and headroom"
        blocks, vlan = self._blocks(answers["device"]), answers.get("vlan")
        by_tag = self._by_tag(answers["device"], vlan, bits) if vlan is not None else None
        if self._tags_are_octets and by_tag is not None:
            return Suggested(by_tag, f"{why}; its third number is the VLAN tag, as in the plan")
        dns = [Span(address, address) for address in answers.get("dns", ())]
        drafted = AddressSet([*self._subnets, *dns])
        for block in blocks:
            for subnet in self._space.free(bits, [block]):
                if not drafted.meets(subnet.span):
                    return Suggested(subnet, f"{why}; the first that is free in {block.subnet}")
        raise NoRoomError(f"no /{bits} is free in {', '.join(map(str, blocks))}")

    def _suggest_gateway(self, answers: Answers) -> Suggested | None:
        subnet = answers["subnet"].subnet
        there = self._devices.get(answers["device"], {}).get(answers.get("interface") or "")
        for prefix in there.addresses if there else ():
            if prefix.subnet == subnet:
                return Suggested(prefix.address, f"{answers['interface']} has it")
        if answers["subnet"].address != subnet.network:
            return Suggested(answers["subnet"].address, "the address that the subnet was given by")
        known = [n for n in self.plan.networks.values() if n.gateway is not None]
        last = sum(n.gateway == n.subnet.hosts.last for n in known)
        if last * 2 > len(known):
            return Suggested(subnet.hosts.last, "the last address, as in most networks of the plan")
        habit = ", as in most networks of the plan" if known else ""
        return Suggested(subnet.hosts.first, f"the first address{habit}")

    def _suggest_keep(self, answers: Answers) -> Suggested | None:
        if "range" in answers:
            return Suggested(Kept(), "the range says what is left")
        hosts = answers["subnet"].subnet.hosts
        alike = Counter(
            network.ranges[0].first - network.subnet.hosts.first
            for network in self.plan.networks.values()
            if network.ranges not in ((), "all") and network.subnet.bits == answers["subnet"].bits
            and isinstance(network.ranges[0], Span)
        )  # fmt: skip
        for count, times in alike.most_common(1):
            if times > 1 and 0 < count < hosts.size // 2:
                return Suggested(Kept(count), "as in other networks of the plan of this size")
        count = min(MOST_KEPT, hosts.size // SHARE_KEPT)
        return Suggested(Kept(count), "for machines that come with static addresses later")

    def _suggest_range(self, answers: Answers) -> Suggested | None:
        subnet = answers["subnet"].subnet
        held = list(answers["keep"].within(subnet))
        if answers.get("gateway") is not None:
            held.append(Span(answers["gateway"], answers["gateway"]))
        left = list(AddressSet(held).complement_within(subnet.hosts).spans())
        if not left:
            return Suggested([], "nothing is left of the subnet")
        longest = max(left, key=lambda span: span.size)
        return Suggested([longest], f"what is left: {counted(longest.size, 'address')}")

    def _suggest_server(self, answers: Answers) -> Suggested | None:
        device = answers["device"]
        there = self._devices.get(device, {})
        targets = Counter(target for one in there.values() for target in one.relay_to)
        served = sum(
            device in (server.device for server in network.servers)
            for network in self.plan.networks.values()
        )
        for target, times in targets.most_common(1):
            server = self._holder(target)
            if server is not None and times > served:
                return Suggested(server, f"{device} relays its other networks to it")
        return Suggested(device, "the device that the interface is on")

    def _holder(self, address: int) -> str | None:
        """The device that has an address."""
        for name, interfaces in self._devices.items():
            for interface in interfaces.values():
                if any(prefix.address == address for prefix in interface.addresses):
                    return name
        return None

    def _suggest_dns(self, _answers: Answers) -> Suggested | None:
        if self.plan.defaults.dns is not None:
            return Suggested(list(self.plan.defaults.dns), "the plan's default")
        known = Counter(n.dns for n in self.plan.networks.values() if n.dns)
        for servers, _times in known.most_common(1):
            return Suggested(list(servers), "as in other networks of the plan")
        return None

    def _suggest_domain(self, _answers: Answers) -> Suggested | None:
        if self.plan.defaults.domain is not None:
            return Suggested(self.plan.defaults.domain, "the plan's default")
        return Suggested(None, "none is needed")

    def _suggest_lease(self, _answers: Answers) -> Suggested | None:
        if self.plan.defaults.lease is not None:
            return Suggested(self.plan.defaults.lease, "the plan's default")
        return Suggested(USUAL_LEASE, "who stays for the day keeps it; shorter where many visit")

    def _suggest_clients(self, _answers: Answers) -> Suggested | None:
        return Suggested(None, "then nothing says whether the range is large enough")

    def add(self, answers: Answers) -> None:
        """Take a network whose questions are all answered into the plan's additions."""
        self._add_device(answers)
        self._add_interface(answers)
        self.additions.append((("networks", answers["network"]), self._network(answers)))
        self._names.add(answers["network"])
        self._subnets.append(answers["subnet"].subnet.span)
        if answers.get("vlan") is not None:
            self._tags.add(answers["vlan"])

    def _add_device(self, answers: Answers) -> None:
        for device in dict.fromkeys((answers["device"], answers["server"])):
            if device not in self._devices:
                dialect = answers.get("dialect") if device == answers["device"] else None
                self.additions.append(
                    (("devices", device), {"dialect": dialect} if dialect else {})
                )
                self._devices[device] = {}

    def _add_interface(self, answers: Answers) -> None:
        device, name = answers["device"], answers["interface"]
        there = self._devices[device]
        if name in there:
            return
        vlan, parent = answers.get("vlan"), None
        if vlan is not None:
            parent = name.rpartition(".")[0] or self._trunk(device) or TRUNK
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

    def _give(self, device: str, name: str, written: Mapping[str, Any]) -> None:
        self.additions.append((("devices", device, "interfaces", name), dict(written)))
        data = {key: str(value) if key == "vlan" else value for key, value in written.items()}
        self._devices[device][name] = Interface.model_validate(data)

    def _zone(self, device: str, answers: Answers) -> str | None:
        """A zone that admits DHCP, where the device has zones or needs them."""
        known = self.plan.devices.get(device, Device())
        used = Counter(
            one.zone
            for one in self._devices[device].values()
            if one.zone and "dhcp" in known.zones.get(one.zone, ZONELESS).admits
        )
        if used:
            return used.most_common(1)[0][0]
        admitting = [name for name, zone in known.zones.items() if "dhcp" in zone.admits]
        if admitting:
            return admitting[0]
        behaviour = self.behaviour_of(known.dialect or answers.get("dialect"))
        if behaviour is None or not behaviour.zone_must_admit_dhcp:
            return None
        path = ("devices", device, "zones", ZONE)
        if path not in (there for there, _ in self.additions):
            self.additions.append((path, {"admits": ["dhcp", "ping"]}))
        return ZONE

    def _relay_target(self, device: str, server: str) -> int | None:
        """The server's address that requests are relayed to; None if it has none yet."""
        for interface in self._devices[device].values():
            for target in interface.relay_to:
                if self._holder(target) == server:
                    return target
        addresses = (one.primary for one in self._devices[server].values())
        return next((prefix.address for prefix in addresses if prefix is not None), None)

    def _network(self, answers: Answers) -> dict[str, Any]:
        subnet, defaults = answers["subnet"].subnet, self.plan.defaults
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
