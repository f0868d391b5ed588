"""The next free address, range, subnet or VLAN tag where a plan is about to name one."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Mapping
from itertools import islice
from typing import Any, NamedTuple

from reservoir.core.drafting.drafting import Drafting, NoRoomError, Suggested
from reservoir.core.plan.model import Interface, PlanPath
from reservoir.core.plan.scalars import READERS
from reservoir.core.space import NetworkSpace, Space
from reservoir.core.values.addresses import MalformedValueError, Prefix, Span, format_address
from reservoir.core.wording import counted

MOST = 3
"""Of one kind so many are suggested."""


class Free(NamedTuple):
    """What may be written, and why it is suggested."""

    text: str
    because: str


class NextFree:
    """What of a plan's address space can be named next, asked of what is indexed already."""

    def __init__(self, space: Space, drafting: Drafting) -> None:
        """Take the plan's address space, and what suggests for new networks in it."""
        self._drafting, self._space, self._plan = drafting, space, drafting.plan

    def at(self, path: PlanPath, beside: Mapping[str, str]) -> list[Free]:
        """What may be written at a path of the plan, the likeliest first.

        Args:
            path: The path of a value.
            beside: What the block that it is in says so far, by key.
        """
        found: Iterator[Free] = iter(())
        match path:
            case ("networks", _, "subnet"):
                found = self._subnets(beside)
            case ("networks", str(name), "gateway"):
                found = self._gateways(self._subnet(name, beside))
            case ("networks", str(name), "ranges", *_):
                found = self._ranges(name, self._subnet(name, beside))
            case ("networks", str(name), "bindings" | "static", int(), "address"):
                found = self._addresses(name)
            case ("networks", _, "vlan") | ("devices", _, "interfaces", _, "vlan"):
                found = self._tags()
            case ("devices", _, "interfaces", _, "address", *_):
                found = self._gateways_not_held()
            case ("devices", str(device), "interfaces", _, "relay_to", *_):
                found = self._servers(device)
            case ("networks", _, "dns", *_) | ("defaults", "dns", *_):
                found = self._dns()
        return list(dict.fromkeys(found))

    def addresses_of(self, network: str) -> list[Free]:
        """The next free addresses in a network."""
        return list(self._addresses(network))

    def _subnet(self, name: str, beside: Mapping[str, str]) -> Prefix | None:
        """The subnet of a network that is being typed, or is in the plan."""
        try:
            subnet: Prefix = READERS["subnet"](beside.get("subnet", ""))
        except MalformedValueError:
            known = self._plan.networks.get(name)
            return known.subnet if known is not None else None
        return subnet

    def _network(self, name: str) -> NetworkSpace | None:
        return self._space.network(name) if name in self._plan.networks else None

    def _interfaces(self) -> Iterator[tuple[str, Interface]]:
        """All interfaces, each with what people call it."""
        for device, its in self._plan.devices.items():
            for name, interface in its.interfaces.items():
                yield f"{device} {name}", interface

    def _suggested(
        self, question: str, answers: Mapping[str, Any], write: Callable[[Any], str] = str
    ) -> Iterator[Free]:
        """What a new network would be given here."""
        try:
            suggested: Suggested | None = self._drafting.suggest(question, dict(answers))
        except NoRoomError:
            return
        if suggested is not None and suggested.value is not None:
            yield Free(write(suggested.value), suggested.because)

    def _subnets(self, beside: Mapping[str, str]) -> Iterator[Free]:
        """Those of interfaces that have no network yet; the next ones that are free."""
        known = {network.subnet.subnet for network in self._plan.networks.values()}
        tag = beside.get("vlan", "")
        waiting = [
            (str(interface.vlan) == tag, Free(str(prefix.subnet), f"{who} has an address in it"))
            for who, interface in self._interfaces()
            for prefix in interface.addresses
            if prefix.subnet not in known
        ]
        yield from (free for has_tag, free in waiting if has_tag)
        answers: dict[str, Any] = {"device": next(iter(self._plan.devices), "")}
        if tag.isascii() and tag.isdigit():
            answers["vlan"] = int(tag)
        for first in self._suggested("subnet", answers):
            yield first
            chosen: Prefix = READERS["subnet"](first.text)
            block = Prefix(chosen.address, min(chosen.bits, 16)).subnet
            after = (s for s in self._space.free(chosen.bits, [block]) if s.span > chosen.span)
            for subnet in islice(after, MOST - 1):
                yield Free(str(subnet), "the next free one")
        yield from [free for has_tag, free in waiting if not has_tag][:MOST]

    def _gateways(self, subnet: Prefix | None) -> Iterator[Free]:
        """The addresses that interfaces have in a subnet; the usual one if none has one."""
        if subnet is None:
            return
        held = [
            Free(format_address(prefix.address), f"{who} has it")
            for who, interface in self._interfaces()
            for prefix in interface.addresses
            if prefix.subnet == subnet.subnet
        ]
        yield from held
        if not held:
            yield from self._suggested("gateway", {"device": "", "subnet": subnet}, format_address)

    def _gateways_not_held(self) -> Iterator[Free]:
        """The gateways that no interface has yet."""
        held = {prefix.address for _, one in self._interfaces() for prefix in one.addresses}
        held |= {address for _, one in self._interfaces() for address in one.virtual}
        for name, network in self._plan.networks.items():
            if network.gateway is not None and network.gateway not in held:
                prefix = Prefix(network.gateway, network.subnet.bits)
                yield Free(str(prefix), f"the gateway of {name}")

    def _ranges(self, name: str, subnet: Prefix | None) -> Iterator[Free]:
        """The longest stretches that are free in a network; what a new one would be given."""
        there = self._network(name)
        if there is not None and (subnet is None or there.subnet == subnet.subnet):
            spans = sorted(there.kinds["free"].spans(), key=lambda span: -span.size)
            for span in spans[:MOST]:
                yield Free(str(span), f"{counted(span.size, 'address')}, free in {name}")
        elif subnet is not None:
            answers: dict[str, Any] = {"device": "", "subnet": subnet}
            for question in ("gateway", "keep"):
                suggested = self._drafting.suggest(question, answers)
                answers[question] = suggested.value if suggested is not None else None

            def write(spans: list[Span]) -> str:
                return ", ".join(map(str, spans))

            yield from self._suggested("range", answers, write)

    def _addresses(self, name: str) -> Iterator[Free]:
        """The next free addresses in a network; if none is, the next that its servers assign."""
        there = self._network(name)
        if there is None:
            return
        for some, because in (
            (there.kinds["free"], "free"),
            (there.kinds["assignable"], "assignable, bound to nobody"),
        ):
            addresses = (a for span in some.spans() for a in range(span.first, span.last + 1))
            found = [
                Free(format_address(address), f"{because} in {name}")
                for address in islice(addresses, MOST)
            ]
            yield from found
            if found:
                return

    def _tags(self) -> Iterator[Free]:
        """Tags of interfaces that no network has; the next one that nothing has."""
        of_networks = {network.vlan for network in self._plan.networks.values()}
        waiting = [
            Free(str(interface.vlan), f"{who} has it, and no network yet")
            for who, interface in self._interfaces()
            if interface.vlan is not None and interface.vlan not in of_networks
        ]
        yield from waiting[:MOST]
        for device, its in self._plan.devices.items():
            if any(one.vlan is not None for one in its.interfaces.values()):
                for tag in self._suggested("vlan", {"device": device}):
                    yield Free(tag.text, f"{tag.because}, near those of {device}")
        for low, _ in self._space.free_vlans[:1]:
            yield Free(str(low), "the lowest tag that no network or interface has")

    def _servers(self, device: str) -> Iterator[Free]:
        """The addresses of devices that serve networks, but for one device's own."""
        serving = {
            server.device
            for network in self._plan.networks.values()
            for server in network.servers
            if server.device != device
        }
        for name in (name for name in self._plan.devices if name in serving):
            for port, interface in self._plan.devices[name].interfaces.items():
                if interface.primary is not None:
                    yield Free(format_address(interface.primary.address), f"{name}, at {port}")

    def _dns(self) -> Iterator[Free]:
        """The DNS servers that the plan names, those of most networks first."""
        networks = self._plan.networks.values()
        known = Counter(server for network in networks for server in network.dns or ())
        for server in self._plan.defaults.dns or ():
            yield Free(format_address(server), "the plan's default")
        for server, count in known.most_common(MOST):
            yield Free(format_address(server), f"offered in {counted(count, 'network')}")
