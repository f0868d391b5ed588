"""Drafts networks: suggests what wasn't answered, and says what a plan has to get for each."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import Any, NamedTuple

from reservoir.core.drafting.answers import Answers, Kept
from reservoir.core.drafting.site import LAN, TRUNK, Addition, BehaviourOf, DraftedSite
from reservoir.core.plan.model import Plan
from reservoir.core.pools import Pools
from reservoir.core.sizing.size import EDGES, with_headroom
from reservoir.core.space import VLAN_TAGS, Space
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import Prefix, Span, format_address
from reservoir.core.values.durations import parse_duration
from reservoir.core.wording import counted

USUAL_BITS = 24
USUAL_LEASE = parse_duration("12h")
USUAL_BLOCK_BITS = 16
USUAL_BLOCK = Prefix(10 << 24, 8)
"""Where a first subnet is looked for if no block is stated (RFC 1918)."""

SHARE_KEPT = 8
"""One in so many addresses is kept for static addresses, up to :data:`MOST_KEPT`."""

MOST_KEPT = 19


class Suggested(NamedTuple):
    """An answer that is suggested, and why."""

    value: Any
    because: str


class NoRoomError(ValueError):
    """There is no free subnet or VLAN tag where one was looked for."""


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
    space: Space | None = None
    """The plan's address space, where it is known already."""

    @cached_property
    def _site(self) -> DraftedSite:
        return DraftedSite(self.plan, self.behaviour_of)

    @cached_property
    def _space(self) -> Space:
        return self.space or Space(Pools(self.plan), {})

    @property
    def additions(self) -> list[Addition]:
        """What the plan gets for the networks so far, in order."""
        return self._site.additions

    @property
    def count(self) -> int:
        """Networks so far."""
        return len(self._site.subnets)

    @property
    def devices(self) -> list[str]:
        """The devices of the plan, and those that networks so far have brought."""
        return list(self._site.interfaces)

    def is_known(self, network: str) -> bool:
        """Whether the plan, or what was drafted, has a network of this name."""
        return network in self.plan.networks or network in self._site.names

    def add(self, answers: Answers, remark: str = "") -> None:
        """Take a network whose questions are all answered into the plan's additions.

        Args:
            answers: The answers.
            remark: What the plan is to say of the network.
        """
        self._site.add(answers, remark)

    def suggest(self, question: str, answers: Answers) -> Suggested | None:
        """What a question would be answered with, after those before it; None if nobody can tell.

        Raises:
            NoRoomError: no free subnet or VLAN tag is left.
        """
        return _SUGGESTERS[question](self, answers)

    def _suggest_network(self, answers: Answers) -> Suggested | None:
        if answers.get("vlan") is not None:
            return Suggested(f"vlan-{answers['vlan']}", "named by its VLAN tag")
        if "subnet" in answers:
            words = format_address(answers["subnet"].network).replace(".", "-")
            return Suggested(f"net-{words}", "named by its subnet")
        return None

    def _suggest_device(self, _answers: Answers) -> Suggested | None:
        if len(self._site.interfaces) == 1:
            return Suggested(next(iter(self._site.interfaces)), "the plan's only device")
        return None if self._site.interfaces else Suggested("router", "the plan has no device yet")

    def _suggest_dialect(self, answers: Answers) -> Suggested | None:
        known = self.plan.devices.get(answers["device"])
        if known is not None:
            return Suggested(known.dialect, f"{answers['device']} is configured in it")
        return None

    def _suggest_vlan(self, answers: Answers) -> Suggested | None:
        interface = answers.get("interface")
        there = self._site.interfaces.get(answers["device"], {}).get(interface or "")
        if there is not None:
            return Suggested(there.vlan, f"interface {interface} has it")
        if not self._site.trunk(answers["device"]):
            return Suggested(None, f"{answers['device']} has no trunk yet")
        others = self._site.interfaces[answers["device"]].values()
        near = min((one.vlan for one in others if one.vlan), default=2)
        low, high = self.tags or (near, 4094)
        used = self._space.vlans | self._site.tags
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
        drafted = AddressSet(self._site.subnets)
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
        around = {Prefix(span.first, USUAL_BLOCK_BITS).subnet for span in self._site.subnets}
        blocks = sorted({*self._space.blocks, *around}, key=lambda block: block.span)
        there = self._site.interfaces.get(device, {}).values()
        held = [prefix.address for one in there for prefix in one.addresses]
        own = [b for b in blocks if any(b.span.holds(address) for address in held)]
        return [*own, *(block for block in blocks if block not in own)] or [USUAL_BLOCK]

    def _suggest_interface(self, answers: Answers) -> Suggested | None:
        device, vlan = answers["device"], answers.get("vlan")
        there = self._site.interfaces.get(device, {})
        trunk = self._site.trunk(device)
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

    def _suggest_subnet(self, answers: Answers) -> Suggested | None:
        there = self._site.interfaces.get(answers["device"], {}).get(answers.get("interface") or "")
        known = {network.subnet.subnet for network in self.plan.networks.values()}
        for prefix in there.addresses if there is not None else ():
            if prefix.subnet not in known and prefix.subnet.span not in self._site.subnets:
                return Suggested(prefix.subnet, f"{answers['interface']} has an address in it")
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
        drafted = AddressSet([*self._site.subnets, *dns])
        for block in blocks:
            for subnet in self._space.free(bits, [block]):
                if not drafted.meets(subnet.span):
                    return Suggested(subnet, f"{why}; the first that is free in {block.subnet}")
        raise NoRoomError(f"no /{bits} is free in {', '.join(map(str, blocks))}")

    def _suggest_gateway(self, answers: Answers) -> Suggested | None:
        subnet = answers["subnet"].subnet
        there = self._site.interfaces.get(answers["device"], {}).get(answers.get("interface") or "")
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
        return Suggested(Kept(count), "room for static hosts that come later")

    def _suggest_range(self, answers: Answers) -> Suggested | None:
        subnet = answers["subnet"].subnet
        gateway = answers.get("gateway")
        held = AddressSet([] if gateway is None else [Span(gateway, gateway)])
        beside = held.complement_within(subnet.hosts).spans()
        kept = AddressSet(answers["keep"].within(subnet))
        # What is kept inside becomes exclusions; at the edges the range ends before it.
        left = max(
            (kept.complement_within(span) for span in beside), key=len, default=AddressSet([])
        )
        spans = list(left.spans())
        if not spans:
            return Suggested([], "nothing is left of the subnet")
        whole = Span(spans[0].first, spans[-1].last)
        return Suggested([whole], f"what is left: {counted(len(left), 'address')}")

    def _suggest_server(self, answers: Answers) -> Suggested | None:
        device = answers["device"]
        there = self._site.interfaces.get(device, {})
        targets = Counter(target for one in there.values() for target in one.relay_to)
        served = sum(
            device in (server.device for server in network.servers)
            for network in self.plan.networks.values()
        )
        for target, times in targets.most_common(1):
            server = self._site.holder(target)
            if server is not None and times > served:
                return Suggested(server, f"{device} relays its other networks to it")
        return Suggested(device, "the device that the interface is on")

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
        return Suggested(
            USUAL_LEASE, "clients keep their address for the day; shorter where many visit"
        )

    def _suggest_clients(self, _answers: Answers) -> Suggested | None:
        return Suggested(None, "without a number, nothing checks the size of the range")


_SUGGESTERS: Mapping[str, Callable[[Drafting, Answers], Suggested | None]] = {
    "network": Drafting._suggest_network,
    "device": Drafting._suggest_device,
    "dialect": Drafting._suggest_dialect,
    "vlan": Drafting._suggest_vlan,
    "interface": Drafting._suggest_interface,
    "subnet": Drafting._suggest_subnet,
    "gateway": Drafting._suggest_gateway,
    "keep": Drafting._suggest_keep,
    "range": Drafting._suggest_range,
    "server": Drafting._suggest_server,
    "dns": Drafting._suggest_dns,
    "domain": Drafting._suggest_domain,
    "lease": Drafting._suggest_lease,
    "clients": Drafting._suggest_clients,
}
