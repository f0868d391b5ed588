"""Lifting: from a device's facts to the plan's terms, with its defaults made explicit."""

from __future__ import annotations

from collections import ChainMap
from collections.abc import Iterable, Mapping, Sequence
from functools import cached_property, partial
from typing import Any, NamedTuple

from reservoir.core.plan.model import (
    Binding,
    Device,
    Exclusion,
    Interface,
    Network,
    Route,
    Service,
    Zone,
)
from reservoir.core.values.address_set import EMPTY, AddressSet
from reservoir.core.values.addresses import Prefix, Span
from reservoir.core.values.client_classes import ClassWords
from reservoir.core.wording import listed
from reservoir.dialects.behaviour.device import Behaviour
from reservoir.dialects.behaviour.kept import kept_of
from reservoir.dialects.behaviour.lift_classes import ClassLifter, OwnPool, own_class, without_words
from reservoir.dialects.behaviour.lift_offer import OfferLifter, apart
from reservoir.dialects.behaviour.lifted import Lifted, Note, Origin, SwitchedOff
from reservoir.dialects.behaviour.lower import called
from reservoir.dialects.behaviour.own_ranges import with_own_ranges
from reservoir.dialects.behaviour.pool_subnets import pools_of, subnet_of
from reservoir.dialects.behaviour.unsaid import with_unsaid_apart
from reservoir.dialects.behaviour.used_files import passed_over, without
from reservoir.dialects.facts.by_address import FactsByAddress, addresses_of
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.facts.spans import backward_ranges, each_span, idle_exclusions, notes_of
from reservoir.dialects.parse.not_understood import EVERYTHING, NotUnderstood
from reservoir.dialects.sheet.model import Sheet


def lift(device: Fact, sheet: Sheet, otherwise_called: str = "device") -> Lifted:
    """Put a device's facts into the plan's terms."""
    return _Lifting(device, sheet, otherwise_called).lifted()


class _Pool(NamedTuple):
    """A pool, with its subnet."""

    fact: Fact
    subnet: Prefix
    words: ClassWords | None = None
    """Of the class that it is for, if it is for one."""


class _Lifting:
    def __init__(self, device: Fact, sheet: Sheet, otherwise_called: str) -> None:
        self.sheet = sheet
        self.behaviour = Behaviour(sheet)
        unused = passed_over(device, self.behaviour)
        device = without(device, unused)
        self.facts = device = with_unsaid_apart(with_own_ranges(device, self.behaviour))
        self.interfaces = {
            fact.get("name"): fact for fact in device.of_kind("interface") if fact.get("name")
        }
        self.name = device.get("name") or otherwise_called
        self._offers = OfferLifter(device, self.behaviour, self._note, self._leave_out)
        self.result = Lifted(self.name, Device())
        self._classes = ClassLifter(
            device, self.behaviour, self._offers, self._leave_out, self.result.classes
        )
        for fact in unused:
            self._leave_out(fact, "an earlier file is for the same interface", *EVERYTHING)
        self.result.device = self._device()
        self.result.interfaces = self.interfaces
        self.result.zones, self.result.routes = self._zones(), self._routes()
        owners = (device, *self.interfaces.values())
        self._bindings = self._usable(b for owner in owners for b in owner.of_kind("binding"))
        self._bindings_by_address = FactsByAddress(
            (address := fact.get("address"), address, fact) for fact in self._bindings
        )
        self._interfaces_by_address = FactsByAddress(
            (prefix.address, prefix.address, (fact, prefix))
            for fact in self.interfaces.values()
            for prefix in addresses_of(fact)
        )
        self._device_exclusions = AddressSet(each_span(device.of_kind("exclusion")))
        self._notes = notes_of(device)
        self._placed: set[int] = set()
        self._in_network: list[Fact] = []
        """The bindings of the network that was made last."""

    def lifted(self) -> Lifted:
        named: list[tuple[str, Fact]] = []
        for every in self._pools_by_network().values():
            own = [pool for pool in every if pool.words is not None]
            pools = [pool for pool in every if pool.words is None] or [
                _Pool(without_words(own[0].fact), own[0].subnet)
            ]
            name = called(pools[0].fact.fields, pools[0].subnet)
            if name in self.result.networks:
                pool = pools[0].fact
                first = self.result.origins[name].pools[0]
                self._leave_out(pool, "another pool has its name", *EVERYTHING, within=first)
                continue
            facts = [pool.fact for pool in pools]
            off = self._switched_off(facts[0])
            if off is not None:
                self._note(facts[0], f"not served: {off.why}")
            network = self._network(pools, () if off else (self._service(pools[0].fact),))
            own_pools = [
                OwnPool(called(p.fact.fields, p.subnet), p.words, p.fact) for p in own if p.words
            ]
            held = self._own_addresses(network.subnet)
            network = self._classes.with_classes(network, pools[0].fact, own_pools, held)
            self.result.networks[name] = network
            self.result.origins[name] = Origin(pools[0].subnet, facts, self._in_network, off)
            named.append((name, pools[0].fact))
        for binding in self._bindings:
            if id(binding) not in self._placed:
                self._leave_out(binding, "it is in no pool's subnet", "binding")
                self.result.strays.append(binding)
        kept = kept_of(self.facts, named)
        self.result.device = self.result.device.model_copy(update={"kept": kept})
        return self.result

    @cached_property
    def _subnets(self) -> AddressSet:
        """What the subnets of all pools have together."""
        subnets = (self._subnet(pool) for pool in pools_of(self.facts, self.interfaces))
        return AddressSet(subnet.span for subnet in subnets if subnet is not None)

    def _pools_by_network(self) -> dict[object, list[_Pool]]:
        """The pools that have a subnet; together those that are parts of one."""
        found: dict[object, list[_Pool]] = {}
        general: dict[object, object] = {}
        of_classes: list[_Pool] = []
        for number, pool in enumerate(pools_of(self.facts, self.interfaces)):
            subnet = self._subnet(pool)
            if subnet is None:
                around = self.interfaces.get(pool.get("interface"))  # whose address may be unread
                self._leave_out(pool, "it has no subnet", "pool", within=around)
                continue
            words = own_class(pool, self.behaviour)
            if words is not None:
                of_classes.append(_Pool(pool, subnet, words))
                continue
            key = subnet.subnet if self.behaviour.spreads_ranges_over_pools else number
            general.setdefault((subnet.subnet, pool.get("interface")), key)
            found.setdefault(key, []).append(_Pool(pool, subnet))
        for pools in found.values():  # of parts, one with host bits stands for all
            pools.sort(key=lambda pool: pool.subnet == pool.subnet.subnet)
        for own in of_classes:
            place = own.subnet.subnet, own.fact.get("interface")
            found.setdefault(general.get(place, place), []).append(own)
        return found

    def _subnet(self, pool: Fact) -> Prefix | None:
        return subnet_of(pool, self.interfaces, self.sheet)

    def _note(self, about: Fact, text: str) -> None:
        self.result.notes.append(Note(_label(about), text))

    def _leave_out(self, fact: Fact, why: object, *states: str, within: Fact | None = None) -> None:
        """Report what a plan can't say, and what it seems to be about."""
        what = _label(fact)
        if fact.kind == "option" and within is not None:
            what += f" of {_label(within)}"
        message = f"{what} has no place in a plan: {why}"
        place, about = (fact.line, fact.column), frozenset(states)
        self.result.left_out.append(NotUnderstood(*place, message, 1, about, within or fact))

    def _device(self) -> Device:
        interfaces = {name: self._interface(fact) for name, fact in self.interfaces.items()}
        named = {i.parent for i in interfaces.values() if i.parent is not None}
        named |= {member for i in interfaces.values() for member in i.members}
        # A port that others name is there, though it may have no lines of its own.
        interfaces |= {name: Interface() for name in sorted(named - interfaces.keys())}
        routes = tuple(Route(to=r.get("to"), via=r.get("via")) for r in self._routes())
        return Device(
            dialect=self.sheet.name,
            interfaces=interfaces,
            zones={
                name: Zone(admits=fact.get("admits", ())) for name, fact in self._zones().items()
            },
            # Without a line about routes they aren't known: a device may learn them.
            **({"routes": routes} if routes else {}),
        )

    def _zones(self) -> dict[str, Fact]:
        return {f.get("name"): f for f in self.facts.of_kind("zone") if f.get("name")}

    def _routes(self) -> list[Fact]:
        return [
            fact
            for owner in (self.facts, *self.interfaces.values())
            for fact in owner.of_kind("route")
            if fact.fields.keys() >= {"to", "via"}
        ]

    def _interface(self, fact: Fact) -> Interface:
        name = fact.get("name")
        return Interface(
            addresses=addresses_of(fact),
            parent=fact.get("parent", self._parents.get(name)),
            vlan=fact.get("vlan"),
            zone=fact.get("zone"),
            relay_to=fact.get("relay_to", ()),
            members=fact.get("members", tuple(self._members.get(name, ()))),
            enabled=fact.get("enabled", self.sheet.assumed["interface", "enabled"]),
            vrf=fact.get("vrf", ""),
        )

    @cached_property
    def _parents(self) -> dict[str, str]:
        """The parents of interfaces, where the parents name their subinterfaces."""
        parents: dict[str, str] = {}
        for name, fact in self.interfaces.items():
            for subinterface in fact.get("subinterfaces", ()):
                parents.setdefault(subinterface, name)
        return parents

    @cached_property
    def _members(self) -> dict[str, list[str]]:
        """The members of bridges, where the members name their bridge."""
        members: dict[str, list[str]] = {}
        for name, fact in self.interfaces.items():
            members.setdefault(fact.get("member_of"), []).append(name)
        return members

    def _service(self, pool: Fact) -> Service:
        """The device as the server of a pool, and what is said of its pair there."""
        partner = pool.get("partner") if self.behaviour.pairs else None
        if partner is None:
            return Service(device=self.name)
        leads = None if pool.get("leads", True) else False
        return Service(device=self.name, partner=partner, leads=leads, after=pool.get("after"))

    def _network(self, pools: Sequence[_Pool], served_by: tuple[Service, ...]) -> Network:
        subnet = pools[0].subnet
        self._in_network = bindings = self._bindings_in(pools)
        bound = AddressSet.of_addresses([fact.get("address") for fact in bindings])
        own = self._own_addresses(subnet)
        ranges, exclusions = self._ranges(pools, bound, own)
        pool = self._usual(pools, own)
        offered = self._offers.offered(pool, own)
        own_values = self._offers.own
        if self.behaviour.binds_by_pools:
            own_values = partial(self._apart, offered, own, pool)
        for part in pools if len(pools) > 1 else ():
            differing = self._differing(part.fact, offered, own)
            if differing:
                names = listed(differing)
                self._note(part.fact, f"its {names} differ from those of {_label(pool)}")
                self.result.differing_parts.append((part.fact, differing))
        return Network(
            subnet=subnet,
            vlan=self._vlan(subnet),
            vrf=self._vrf(subnet),
            served_by=served_by,
            ranges=tuple(ranges),
            exclusions=tuple(exclusions),
            bindings=tuple(_binding(fact, own_values(fact)) for fact in bindings),
            **{key: value for key, value in offered.items() if value is not None},
        )

    def _usual(self, pools: Sequence[_Pool], own: AddressSet) -> Fact:
        """The pool that offers what most of the parts of a network do; the first of several."""
        if len(pools) == 1:
            return pools[0].fact
        quiet = OfferLifter(self.facts, self.behaviour, _unsaid, _unsaid)
        offers = [str(quiet.offered(part.fact, own)) for part in pools]
        return pools[offers.index(max(offers, key=offers.count))].fact

    def _usable(self, bindings: Iterable[Fact]) -> list[Fact]:
        """The bindings that state both a client and an address."""
        usable = []
        for binding in bindings:
            clients = binding.fields.keys() & {"mac", "client_id"}
            if binding.get("address") is not None and len(clients) == 1:
                usable.append(binding)
            else:
                who = "two clients" if len(clients) > 1 else "no client"
                what = who if clients or binding.get("address") is not None else "no address"
                self._leave_out(binding, f"it has {what}", "binding")
        return usable

    def _bindings_in(self, pools: Sequence[_Pool]) -> list[Fact]:
        inside = [b for pool in pools for b in self._usable(pool.fact.of_kind("binding"))]
        found = self._bindings_by_address.within(pools[0].subnet.span)
        found += self._bindings_beside(pools[0])
        self._placed.update(map(id, found))
        return inside + found

    def _bindings_beside(self, pool: _Pool) -> list[Fact]:
        """Bindings in no pool's subnet, but near the pool's gateway: its subnet may be mistyped."""
        gateway = pool.fact.get("gateway")
        if not isinstance(gateway, int) or pool.subnet.span.holds(gateway):
            return []
        beside = self._bindings_by_address.within(Prefix(gateway, pool.subnet.bits).span)
        return [fact for fact in beside if fact.get("address") not in self._subnets]

    def _attached(self, subnet: Prefix) -> list[Fact]:
        """The interfaces in a subnet, each once for each of its addresses there."""
        return [fact for fact, _ in self._interfaces_by_address.within(subnet.span)]

    def _own_addresses(self, subnet: Prefix) -> AddressSet:
        attached = self._interfaces_by_address.within(subnet.span)
        return AddressSet.of_addresses([prefix.address for _, prefix in attached])

    def _vlan(self, subnet: Prefix) -> int | None:
        return next((fact.get("vlan") for fact in self._attached(subnet)), None)

    def _vrf(self, subnet: Prefix) -> str:
        return next((fact.get("vrf", "") for fact in self._attached(subnet)), "")

    def _switched_off(self, pool: Fact) -> SwitchedOff | None:
        """The switch that keeps the device from serving the pool, if one is off."""
        behaviour = self.behaviour
        interface = self.interfaces.get(pool.get("interface"))
        if not self.facts.get("service", not behaviour.has_master_switch):
            return self._off(self.facts, "service", f"the DHCP service of {self.name} is off")
        if behaviour.has_pool_switches and not pool.get("active"):
            return self._off(pool, "active", "the pool is not active")
        if behaviour.has_interface_switches and interface and not interface.get("service"):
            why = f"the DHCP service is off on {interface.get('name')}"
            return self._off(interface, "service", why)
        return None

    def _off(self, fact: Fact, switch: str, why: str) -> SwitchedOff:
        line = fact.line_of(switch)
        return SwitchedOff(why, max(line, 1), max(fact.column, 1) if line == fact.line else 1)

    def _ranges(
        self, pools: Sequence[_Pool], bound: AddressSet, own: AddressSet
    ) -> tuple[list[Span], list[Exclusion]]:
        """What is assigned, as ranges and exclusions that a person would write.

        Bound addresses don't split a range: the plan never assigns them to others anyway.
        """
        subnet = pools[0].subnet
        exclusions = [s for pool in pools for s in each_span(pool.fact.of_kind("exclusion"))]
        base = subnet.span.first
        stated = [s for pool in pools for s in each_span(pool.fact.of_kind("range"), base)]
        excluded = AddressSet(exclusions)
        if self.behaviour.skips_own_address:
            excluded = excluded | own
        if self.behaviour.assigns_ranges:
            named = AddressSet(stated)
            whole = named.hull if named else subnet.hosts
            not_excluded = named - self._excluded(excluded, whole)
        else:
            not_excluded = AddressSet([subnet.hosts]) - self._excluded(excluded, subnet.hosts)
            assigned = not_excluded - bound
            named = AddressSet([assigned.hull]) if assigned else EMPTY
        idle, backwards = idle_exclusions(exclusions, subnet.span), backward_ranges(stated)
        if not named:
            return backwards, [Exclusion(range=span) for span in idle]
        filled = named | bound.clipped(named.hull)
        ranges = [span for span in filled.spans() if not AddressSet([span]) <= bound]
        left = AddressSet(ranges) - not_excluded - bound
        notes = ChainMap(notes_of(pools[0].fact), self._notes)
        spans = [*(left - AddressSet(idle)).spans(), *idle]
        return [*ranges, *backwards], [
            Exclusion(range=span, reason=notes.get(span, "")) for span in spans
        ]

    def _excluded(self, excluded: AddressSet, span: Span) -> AddressSet:
        """What is excluded within ``span``: what its pools exclude, and the device as a whole."""
        if not self.behaviour.excludes_device_wide:
            return excluded
        return excluded | self._device_exclusions.clipped(span)

    def _apart(
        self, offered: Mapping[str, Any], own: AddressSet, pool: Fact, binding: Fact
    ) -> dict[str, Any]:
        """What a binding that is a pool of its own offers otherwise than its network's pool."""
        quiet = OfferLifter(self.facts, self.behaviour, _unsaid, _unsaid)
        its = quiet.offered(binding, own)
        differing = [key for key in offered if its[key] != offered[key]]
        if self.behaviour.refuses_pool_without_dns and not its["dns"] and "dns" in differing:
            differing.remove("dns")  # it is refused, rather than offering none
        if not differing:
            return {}
        self._note(binding, f"its {listed(differing)} differ from those of {pool.label}")
        self.result.differing.append((binding, differing))
        values = apart(offered, its)
        return values if "dns" in differing else {k: v for k, v in values.items() if k != "dns"}

    def _differing(self, fact: Fact, offered: Mapping[str, Any], own: AddressSet) -> list[str]:
        """What a binding, or a part of a pool, offers otherwise than the rest of its network."""
        quiet = OfferLifter(self.facts, self.behaviour, _unsaid, _unsaid)
        its = quiet.offered(fact, own)
        return [name for name in offered if its[name] != offered[name]]


def _unsaid(fact: Fact, why: object, *states: str, within: Fact | None = None) -> None:
    """Takes a note that is known already."""


def _label(fact: Fact) -> str:
    """What to call a fact in a message; of a pool without a name, by its interface."""
    if "name" not in fact.fields and "interface" in fact.fields:
        return f"{fact.label} at {fact.get('interface')}"
    return fact.label


def _binding(fact: Fact, own: Mapping[str, Any]) -> Binding:
    fields = fact.fields
    return Binding.model_construct(  # the reader has typed them; there may be a million
        name=fields.get("name", ""),
        mac=fields.get("mac"),
        client_id=fields.get("client_id"),
        address=fields["address"],
        **own,
    )
