"""What a plan made of a configuration can't show of its faults: where and when things stand."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from typing import NamedTuple

from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import Prefix, format_address
from reservoir.core.values.clients import format_client
from reservoir.core.values.typos import likely_meant
from reservoir.core.wording import listed
from reservoir.dialects.behaviour.lift import Lifted, Origin
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.facts.options import FIELD_OF_OPTION
from reservoir.dialects.facts.spans import each_span
from reservoir.dialects.sheet.model import Sheet


class ReadFault(NamedTuple):
    """Something that is wrong in a line, and the rule that says so."""

    rule: str
    message: str
    line: int
    column: int
    network: str
    harm: str


def faults_in(lifted: Lifted, device: Fact, sheet: Sheet) -> Iterator[ReadFault]:
    """Everything that is wrong with where the lines of a configuration stand."""
    for name, origin in lifted.origins.items():
        finder = _Faults(name, origin, device, sheet)
        yield from finder.not_lent()
        yield from finder.counted_from_elsewhere(lifted)
        yield from finder.lent_elsewhere(lifted.interfaces)
        yield from finder.misplaced_bindings()
        yield from finder.lent_before_excluded()
        yield from finder.options_twice()
        yield from finder.unlike_the_others(lifted)
    yield from _left_behind(lifted, device, sheet)
    yield from _strays(lifted)


def _left_behind(lifted: Lifted, device: Fact, sheet: Sheet) -> Iterator[ReadFault]:
    """The device's own exclusions that keep nothing out of any pool."""
    if not sheet.trait("exclusions").endswith("device-wide"):
        return
    origins, networks = lifted.origins.values(), lifted.networks.values()
    ranges = (span for network in networks if network.ranges != "all" for span in network.ranges)
    pools = AddressSet(origin.subnet.span for origin in origins) | AddressSet(ranges)
    for fact in device.of_kind("exclusion"):
        for span in each_span([fact]):
            first = format_address(span.first)
            if not span.size:
                rule, harm = "range-reversed", f"may be lent {first}, which was to be kept out"
                message = f"the exclusion {span} runs backwards, so nothing is kept out by it"
            elif pools.isdisjoint(AddressSet([span])):
                rule, harm = "exclusion-idle", f"is never lent {first}, excluded or not"
                message = f"{span} is excluded, and no pool of {lifted.name} has any of it"
            else:
                continue
            yield ReadFault(rule, message, fact.line, fact.column, "", harm)


def _strays(lifted: Lifted) -> Iterator[ReadFault]:
    """Bindings of addresses that are in no pool's subnet; perhaps only mistyped."""
    few = lifted.origins if len(lifted.origins) <= FEW else {}
    beside = Counter(binding.get("address") >> 8 for binding in lifted.strays)
    lost: list[Fact] = []
    for binding in lifted.strays:
        address = binding.get("address")
        found = {name: likely_meant(address, origin.subnet) for name, origin in few.items()}
        near = [(name, meant) for name, meant in found.items() if meant is not None]
        if len(near) == 1 and beside[address >> 8] == 1:  # several are hardly all mistyped
            name, meant = near[0]
            yield _stray([binding], f"; {format_address(meant)} would be in {name}", name)
        else:
            lost.append(binding)
    if lost:
        yield _stray(lost, "", "")


def _stray(bindings: Sequence[Fact], hint: str, network: str) -> ReadFault:
    first, more = bindings[0], len(bindings) - 1
    shown, client = format_address(first.get("address")), _client(first)
    others = f" ({more:,} more are like that)" if more else ""
    return ReadFault(
        "binding-outside-subnet",
        f"{client} is bound to {shown}, which is in no pool's subnet{others}{hint}",
        first.line_of("address"),
        first.column,
        network,
        f"that is {client} is given another address than {shown}",
    )


FEW = 100
"""Pools among which a mistyped address is looked for; more would be no hint."""


class _Faults:
    """The faults of one network."""

    def __init__(self, name: str, origin: Origin, device: Fact, sheet: Sheet) -> None:
        self.name, self.origin, self.sheet = name, origin, sheet
        everywhere = sheet.trait("exclusions").endswith("device-wide")
        self.exclusions = [
            *(device.of_kind("exclusion") if everywhere else ()),
            *(fact for pool in origin.pools for fact in pool.of_kind("exclusion")),
        ]

    def not_lent(self) -> Iterator[ReadFault]:
        """A switch that is off."""
        off = self.origin.switched_off
        if off is not None:
            yield ReadFault(
                "network-unserved",
                f"{self.name} is not lent: {off.why}",
                off.line,
                off.column,
                self.name,
                "asks for an address and nobody answers",
            )

    def counted_from_elsewhere(self, lifted: Lifted) -> Iterator[ReadFault]:
        """A subnet that all speaks against but the ranges, which are counted from its start."""
        pool, subnet = self.origin.pools[0], self.origin.subnet
        counted = any("offset" in fact.fields for fact in pool.of_kind("range"))
        gateway = pool.get("gateway")
        named = [gateway, *(binding.get("address") for binding in self.origin.bindings)]
        if not counted or not isinstance(gateway, int) or len(named) < 2:
            return
        other = Prefix(gateway, subnet.bits).subnet
        if other == subnet.subnet or not all(map(other.span.holds, named)):
            return
        stating = lifted.interfaces.get(pool.get("interface"), pool)
        bound = f"{len(named) - 1} binding{'s' * (len(named) > 2)}"
        yield ReadFault(
            "subnet-differs",
            f"the gateway and {bound} of {self.name} are not in {subnet}; all are in {other}",
            stating.line_of("address" if stating is not pool else "subnet"),
            stating.column,
            self.name,
            "is lent addresses of one subnet and told the gateway of another",
        )

    def misplaced_bindings(self) -> Iterator[ReadFault]:
        """Bound addresses that lie where the device doesn't heed the binding."""
        wanted = self.sheet.trait("bound-address")
        if wanted == "anywhere" or not self.origin.bindings:
            return
        excluded, lent = AddressSet(each_span(self.exclusions)), self._named()
        for binding in self.origin.bindings:
            address = binding.get("address")
            if not self.origin.subnet.span.holds(address):
                continue  # that is said already
            shown, client = format_address(address), _client(binding)
            if wanted == "inside" and address in excluded:
                message = f"{shown} is bound to {client} and excluded, and the binding isn't heeded"
                yield self._of(binding, "exclusion-swallows-binding", message, "address")
                continue
            why = None
            if wanted == "excluded" and address not in excluded:
                why = "isn't among the excluded addresses, where this device wants it"
            elif wanted == "inside" and address not in lent:
                why = "is in no range, where this device wants it"
            elif wanted == "outside-ranges" and address in lent - excluded:
                why = "is inside a range, and this device wants it outside"
            if why is not None:
                message = f"{shown}, which is bound to {client}, {why}"
                yield self._of(binding, "binding-placement", message, "address")

    def unlike_the_others(self, lifted: Lifted) -> Iterator[ReadFault]:
        """Bindings that say of their network what their network doesn't say itself."""
        own = set(map(id, self.origin.bindings))
        for binding in self.origin.bindings:
            subnet, address = binding.get("subnet"), binding.get("address")
            if subnet is None or subnet == self.origin.subnet:
                continue
            client = _client(binding)
            if not subnet.span.holds(address):
                shown = format_address(address)
                message = f"{client} is bound to {shown}, which is not in {subnet}, its own subnet"
                yield self._of(binding, "binding-outside-subnet", message, "subnet")
                continue
            message = f"{client} has the subnet {subnet}, and {self.name} is {self.origin.subnet}"
            yield self._of(binding, "binding-told-otherwise", message, "subnet")
        for binding, names in lifted.told_otherwise:
            if id(binding) in own:
                what = f"another {listed(names)} than other clients of {self.name}"
                message = f"{_client(binding)} is told {what}"
                yield self._of(binding, "binding-told-otherwise", message, names[0])

    def lent_elsewhere(self, interfaces: Mapping[str, Fact]) -> Iterator[ReadFault]:
        """Pools at an interface that stands in another subnet."""
        for pool in self.origin.pools:
            interface = interfaces.get(pool.get("interface"))
            address = interface.get("address") if interface else None
            if address is None or self.origin.subnet.span.holds(address.address):
                continue
            meant = likely_meant(address.address, self.origin.subnet)
            hint = f"; {format_address(meant)} would be" if meant is not None else ""
            yield ReadFault(
                "server-not-reached",
                f"{self.name} is lent at the interface {pool.get('interface')}, which has "
                f"{address}; that is not in {self.origin.subnet}{hint}",
                pool.line_of("interface"),
                pool.column,
                self.name,
                "asks for an address and nobody answers",
            )

    def _named(self) -> AddressSet:
        """What the device's ranges name, or all of the subnet where it has none."""
        if self.sheet.trait("lends") != "ranges":
            return AddressSet([self.origin.subnet.hosts])
        base = self.origin.subnet.span.first
        ranges = (fact for pool in self.origin.pools for fact in pool.of_kind("range"))
        return AddressSet(each_span(ranges, base))

    def lent_before_excluded(self) -> Iterator[ReadFault]:
        """Addresses that may be lent for a moment, since they are excluded later in the text.

        Where a device that lends from the factory takes its configuration line by line, a pool
        lends from the line on that gives it a subnet.
        """
        eager = self.sheet.trait("service") == "on-from-factory" and self.sheet.carrier.line_by_line
        if not eager or self.sheet.trait("lends") == "ranges":
            return
        pool, subnet = self.origin.pools[0], AddressSet([self.origin.subnet.hosts])
        opened = pool.line_of("subnet")
        for fact in self.exclusions:
            late = AddressSet(each_span([fact])) & subnet
            if fact.line > opened and late:
                first = next(iter(late))
                yield ReadFault(
                    "goes-live-before-exclusions",
                    f"{self.name} lends from line {opened} on, and {first} is excluded only in "
                    f"line {fact.line}",
                    fact.line,
                    fact.column,
                    self.name,
                    f"that asks in between may be lent {format_address(first.first)}",
                )

    def options_twice(self) -> Iterator[ReadFault]:
        """Options by number that state what a field of the pool states too."""
        for pool in self.origin.pools:
            for fact in pool.of_kind("option"):
                field, _ = FIELD_OF_OPTION.get(fact.get("code"), (None, None))
                if field in pool.fields:
                    message = (
                        f"option {fact.get('code')} says again what {pool.label} has as its {field}"
                    )
                    yield ReadFault(
                        "option-twice",
                        message,
                        fact.line,
                        fact.column,
                        self.name,
                        f"may be told either {field}",
                    )

    def _of(self, fact: Fact, rule: str, message: str, field: str) -> ReadFault:
        shown = format_address(fact.get("address"))
        harm = f"that is bound to {shown} may get another address"
        if rule == "binding-told-otherwise":
            harm = f"that is bound to {shown} is told something else than the others"
        return ReadFault(rule, message, fact.line_of(field), fact.column, self.name, harm)


def _client(binding: Fact) -> str:
    client = binding.get("mac", binding.get("client_id"))
    return binding.get("name") or format_client(client)
