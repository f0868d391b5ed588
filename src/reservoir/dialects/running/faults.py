"""Faults that only the configuration shows, not the plan read from it: what is where, and when."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from typing import NamedTuple

from reservoir.core.findings import Witness
from reservoir.core.plan.offered import OFFERED, SHORT_FOR, title_of
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import Prefix, format_address
from reservoir.core.values.clients import format_client
from reservoir.core.values.typos import likely_meant
from reservoir.core.wording import counted, listed
from reservoir.dialects.behaviour.device import Behaviour
from reservoir.dialects.behaviour.lifted import Lifted, Origin
from reservoir.dialects.facts.by_address import FactsByAddress, addresses_of
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.facts.spans import each_span
from reservoir.dialects.sheet.model import Sheet


class Fault(NamedTuple):
    """Something that is wrong in a line, and the rule that reports it."""

    rule: str
    message: str
    line: int
    column: int
    witness: Witness


def faults_in(lifted: Lifted, device: Fact, sheet: Sheet) -> Iterator[Fault]:
    """Everything that is wrong with the order or the place of a configuration's lines."""
    behaviour = Behaviour(sheet)
    excluded = device.of_kind("exclusion") if behaviour.excludes_device_wide else ()
    everywhere = FactsByAddress((*span, fact) for fact in excluded for span in each_span([fact]))
    for name, origin in lifted.origins.items():
        finder = _Faults(name, origin, everywhere, behaviour)
        yield from finder.not_served()
        yield from finder.counted_from_elsewhere(lifted)
        yield from finder.served_elsewhere(lifted.interfaces)
        yield from finder.overlapping_parts()
        yield from finder.misplaced_bindings()
        yield from finder.live_before_excluded()
        yield from finder.options_twice()
        yield from finder.differing_bindings(lifted)
        yield from finder.differing_parts(lifted)
    yield from _left_behind(lifted, device, behaviour)
    yield from _strays(lifted)


def _left_behind(lifted: Lifted, device: Fact, behaviour: Behaviour) -> Iterator[Fault]:
    """The device-wide exclusions that exclude nothing from any pool."""
    if not behaviour.excludes_device_wide:
        return
    origins, networks = lifted.origins.values(), lifted.networks.values()
    ranges = (span for network in networks if network.ranges != "all" for span in network.ranges)
    pools = AddressSet(origin.subnet.span for origin in origins) | AddressSet(ranges)
    for fact in device.of_kind("exclusion"):
        for span in each_span([fact]):
            if not span.size:
                rule = "range-reversed"
                witness = Witness("assigned", None, span.first, because="meant-excluded")
                message = f"the exclusion {span} is reversed, so it excludes nothing"
            elif not pools.meets(span):
                rule, witness = "exclusion-idle", Witness("excluded-anyway", None, span.first)
                message = f"{span} is excluded, but no pool of {lifted.name} includes any of it"
            else:
                continue
            yield Fault(rule, message, fact.line, fact.column, witness)


def _strays(lifted: Lifted) -> Iterator[Fault]:
    """Bindings whose address is in no pool's subnet; perhaps only mistyped."""
    few = lifted.origins if len(lifted.origins) <= FEW else {}
    beside = Counter(binding.get("address") >> 8 for binding in lifted.strays)
    lost: list[Fact] = []
    for binding in lifted.strays:
        address = binding.get("address")
        found = {name: likely_meant(address, origin.subnet) for name, origin in few.items()}
        near = [(name, meant) for name, meant in found.items() if meant is not None]
        if len(near) == 1 and beside[address >> 8] == 1:  # several are unlikely to be all mistyped
            name, meant = near[0]
            yield _stray([binding], f"; {format_address(meant)} would be in {name}", name)
        else:
            lost.append(binding)
    if lost:
        yield _stray(lost, "", "")


def _stray(bindings: Sequence[Fact], hint: str, network: str) -> Fault:
    first, more = bindings[0], len(bindings) - 1
    shown, client = format_address(first.get("address")), _client(first)
    others = f" (and {more:,} more)" if more else ""
    return Fault(
        "binding-outside-subnet",
        f"{client} is bound to {shown}, which is in no pool's subnet{others}{hint}",
        first.line_of("address"),
        first.column,
        _ignored(first, network),
    )


FEW = 100
"""Pools among which a mistyped address is looked up; with more it would be no hint."""


class _Faults:
    """The faults of one network."""

    def __init__(
        self, name: str, origin: Origin, everywhere: FactsByAddress[Fact], behaviour: Behaviour
    ) -> None:
        """Look at a network; ``everywhere`` has the exclusions of the device as a whole."""
        self.name, self.origin, self.behaviour = name, origin, behaviour
        self.exclusions = [
            *everywhere.within(origin.subnet.span),
            *(fact for pool in origin.pools for fact in pool.of_kind("exclusion")),
        ]

    def not_served(self) -> Iterator[Fault]:
        """A switch that is off."""
        off = self.origin.switched_off
        if off is not None:
            yield Fault(
                "network-unserved",
                f"{self.name} is not served: {off.why}",
                off.line,
                off.column,
                Witness("unanswered", self.name),
            )

    def counted_from_elsewhere(self, lifted: Lifted) -> Iterator[Fault]:
        """A subnet that everything contradicts but the ranges, which are offsets from its start."""
        pool, subnet = self.origin.pools[0], self.origin.subnet
        by_offset = any("offset" in fact.fields for fact in pool.of_kind("range"))
        gateway = pool.get("gateway")
        named = [gateway, *(binding.get("address") for binding in self.origin.bindings)]
        if not by_offset or not isinstance(gateway, int) or len(named) < 2:
            return
        other = Prefix(gateway, subnet.bits).subnet
        if other == subnet.subnet or not all(map(other.span.holds, named)):
            return
        stating = lifted.interfaces.get(pool.get("interface"), pool)
        bound = counted(len(named) - 1, "binding")
        yield Fault(
            "subnet-differs",
            f"the gateway and {bound} of {self.name} are not in {subnet}; all are in {other}",
            stating.line_of("address" if stating is not pool else "subnet"),
            stating.column,
            Witness.of_gateway(self.name, gateway, "outside-subnet"),
        )

    def overlapping_parts(self) -> Iterator[Fault]:
        """Pools of one network that have addresses in common: read together, they are one."""
        if len(self.origin.pools) < 2:
            return
        base, earlier = self.origin.subnet.span.first, AddressSet()
        for pool in self.origin.pools:
            for fact in pool.of_kind("range"):
                its = AddressSet(each_span([fact], base))
                shared = its & earlier
                if shared:
                    message = f"{its} of {pool.label} overlaps a pool before it: {shared}"
                    what = str(its)
                    witness = Witness("in-both", self.name, shared.first, name=what, also=self.name)
                    yield Fault("ranges-overlap", message, fact.line, fact.column, witness)
                earlier = earlier | its

    def misplaced_bindings(self) -> Iterator[Fault]:
        """Bound addresses that are where the device ignores the binding."""
        device = self.behaviour
        if device.binds_anywhere or not self.origin.bindings:
            return
        excluded, named = AddressSet(each_span(self.exclusions)), self._named()
        for binding in self.origin.bindings:
            address = binding.get("address")
            if not self.origin.subnet.span.holds(address):
                continue  # that is reported already
            shown, client = format_address(address), _client(binding)
            if device.binds_inside_only and address in excluded:
                message = f"{shown} is bound to {client} but excluded, so the binding is ignored"
                yield self._of(binding, "exclusion-swallows-binding", message, "address")
                continue
            why = None
            if device.binds_excluded_only and address not in excluded:
                why = "is not excluded, as this device requires"
            elif device.binds_inside_only and address not in named:
                why = "is in no range, as this device requires"
            elif device.binds_outside_only and address in named - excluded:
                why = "is inside a range, which this device doesn't allow"
            if why is not None:
                message = f"{shown}, which is bound to {client}, {why}"
                yield self._of(binding, "binding-placement", message, "address")

    def differing_parts(self, lifted: Lifted) -> Iterator[Fault]:
        """Pools of the network that offer something else than most of its pools do."""
        own = set(map(id, self.origin.pools))
        for pool, names in lifted.differing_parts:
            if id(pool) in own:
                message = (
                    f"{pool.label} offers another {_titles(names)} than the rest of {self.name}"
                )
                witness = Witness("offered-either", self.name, option=_titles(names[:1]))
                line = pool.line_of(names[0])
                yield Fault("pool-options-differ", message, line, pool.column, witness)

    def differing_bindings(self, lifted: Lifted) -> Iterator[Fault]:
        """Bindings that offer other values than their network does."""
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
            message = f"{client} has the subnet {subnet}, but {self.name} is {self.origin.subnet}"
            yield self._of(binding, "binding-options-differ", message, "subnet")
        for binding, names in lifted.differing:
            if id(binding) in own:
                what = f"another {_titles(names)} than the other clients of {self.name}"
                message = f"{_client(binding)} is offered {what}"
                yield self._of(binding, "binding-options-differ", message, names[0])

    def served_elsewhere(self, interfaces: Mapping[str, Fact]) -> Iterator[Fault]:
        """Pools at an interface that is in another subnet, or at none though one is in theirs."""
        for pool in self.origin.pools:
            if pool.get("interface") is None and self.behaviour.names_interface_in_pools:
                yield from self._unjoined(pool, interfaces)
            interface = interfaces.get(pool.get("interface"))
            held = addresses_of(interface) if interface else ()
            if not held or any(self.origin.subnet.span.holds(own.address) for own in held):
                continue
            address, subnet = held[0], self.origin.subnet
            meant = likely_meant(address.address, subnet) if len(held) == 1 else None
            hint = f"; {format_address(meant)} would be" if meant is not None else ""
            yield Fault(
                "server-not-reached",
                f"{self.name} is served on interface {pool.get('interface')}, but that has "
                f"{listed(held)}, which {'is' if len(held) == 1 else 'are'} not in {subnet}{hint}",
                pool.line_of("interface"),
                pool.column,
                Witness("unanswered", self.name),
            )

    def _unjoined(self, pool: Fact, interfaces: Mapping[str, Fact]) -> Iterator[Fault]:
        subnet = self.origin.subnet
        there = [
            name
            for name, interface in interfaces.items()
            if any(subnet.span.holds(own.address) for own in addresses_of(interface))
        ]
        if there:
            yield Fault(
                "server-not-reached",
                f"{self.name} names no interface, so its clients at {listed(there)} get no answer",
                pool.line,
                pool.column,
                Witness("unanswered", self.name),
            )

    def _named(self) -> AddressSet:
        """What the device's ranges cover, or the whole subnet where it has none."""
        if not self.behaviour.assigns_ranges:
            return AddressSet([self.origin.subnet.hosts])
        base = self.origin.subnet.span.first
        ranges = (fact for pool in self.origin.pools for fact in pool.of_kind("range"))
        return AddressSet(each_span(ranges, base))

    def live_before_excluded(self) -> Iterator[Fault]:
        """Addresses that may be assigned for a moment, since they are excluded later in the text.

        Where a device whose DHCP service is on by default takes its configuration line by line, a
        pool is live from the line on that gives it a subnet.
        """
        device = self.behaviour
        eager = device.is_on_by_default and device.sheet.notation.line_by_line
        if not eager or device.assigns_ranges:
            return
        pool, subnet = self.origin.pools[0], AddressSet([self.origin.subnet.hosts])
        opened = pool.line_of("subnet")
        for fact in self.exclusions:
            late = AddressSet(each_span([fact])) & subnet
            if fact.line > opened and late:
                first = next(late.spans())
                yield Fault(
                    "goes-live-before-exclusions",
                    f"{self.name} is live from line {opened} on, but {first} is excluded only in "
                    f"line {fact.line}",
                    fact.line,
                    fact.column,
                    Witness("assigned", self.name, first.first, because="excluded-later"),
                )

    def options_twice(self) -> Iterator[Fault]:
        """Options by number that state what a field of the pool states too."""
        for owner in (*self.origin.pools, *self.origin.bindings):
            for fact in owner.of_kind("option"):
                code = fact.get("code")
                key, title = _key_and_title(code)
                if key in owner.fields:
                    message = f"option {code} repeats the {title} of {owner.label}"
                    witness = Witness("offered-either", self.name, option=title)
                    yield Fault("option-twice", message, fact.line, fact.column, witness)

    def _of(self, fact: Fact, rule: str, message: str, field: str) -> Fault:
        witness = _ignored(fact, self.name)
        if rule == "binding-options-differ":
            witness = replace(witness, kind="offered-differently")
        return Fault(rule, message, fact.line_of(field), fact.column, witness)


def _key_and_title(code: int | None) -> tuple[str, str]:
    """The field that states the same as an option, and what people call it."""
    keys = {offered.option: key for key, offered in OFFERED.items()}
    keys |= {short: key for key, short in SHORT_FOR.items()}
    return keys.get(code, ""), title_of(code or 0)


def _titles(names: Sequence[str]) -> str:
    """What people call fields that clients are offered."""
    return listed(OFFERED[name].title if name in OFFERED else name for name in names)


def _ignored(binding: Fact, network: str) -> Witness:
    """A client that may not get what its binding says."""
    client = binding.get("mac", binding.get("client_id"))
    address, name = binding.get("address"), binding.get("name", "")
    return Witness("binding-ignored", network or None, address, client=client, name=name)


def _client(binding: Fact) -> str:
    client = binding.get("mac", binding.get("client_id"))
    return binding.get("name") or format_client(client)
