"""What a device serves once it has started from its configuration: pools as they behave.

A plan says what is meant; this says what a device does with the facts that it was given, by the
traits of its family alone: which pools it takes, what each assigns, whose bindings it heeds, what
it fills in, and which pool serves whom.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence
from functools import cached_property

from reservoir.core.offers import Offer
from reservoir.core.plan.model import Interface
from reservoir.core.plan.own_values import own_values_of
from reservoir.core.values.address_set import EMPTY, AddressSet
from reservoir.core.values.addresses import Prefix, format_address
from reservoir.core.values.by_subnet import BySubnet
from reservoir.core.values.clients import Client
from reservoir.dialects.behaviour.device import Behaviour
from reservoir.dialects.behaviour.lift_classes import defined_classes, own_class
from reservoir.dialects.behaviour.lift_offer import OfferLifter
from reservoir.dialects.behaviour.lifted import Ignored
from reservoir.dialects.behaviour.own_ranges import with_own_ranges
from reservoir.dialects.behaviour.pool_subnets import pools_of, subnet_of
from reservoir.dialects.behaviour.serving_pool import (
    BoundClient,
    ServingClass,
    ServingPool,
    class_parts,
    join_class_pools,
)
from reservoir.dialects.behaviour.used_files import passed_over, without
from reservoir.dialects.facts.by_address import addresses_of
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.facts.spans import each_span
from reservoir.dialects.sheet.model import Sheet

Place = tuple[str, int, int]
"""What tells a fact from others of its text: its kind, line and column."""


class Serving:
    """A device that has started: its interfaces, and its pools in the order of its configuration.

    Raises nothing: what the device refuses is listed in :attr:`ignored`.
    """

    def __init__(self, device: Fact, sheet: Sheet) -> None:
        """Start a device from the facts of its configuration."""
        self.behaviour = Behaviour(sheet)
        device = without(device, passed_over(device, self.behaviour))
        device = with_own_ranges(device, self.behaviour)
        self._ignored: dict[Ignored, None] = {}
        self._own_names: dict[str, str] = {}
        self._passed_over: set[Place] = set()
        self._heeded: set[Place] = set()
        self.interfaces: dict[str, Fact] = {
            fact.get("name"): fact for fact in device.of_kind("interface") if fact.get("name")
        }
        self._device = device
        self._sheet = sheet
        self._offers = OfferLifter(device, self.behaviour, _unsaid, self._leave_out)
        self.own_addresses = AddressSet.of_addresses(
            [prefix.address for fact in self.interfaces.values() for prefix in addresses_of(fact)]
        )
        """Those of its interfaces."""
        self._zones = {fact.get("name"): fact.get("admits", ()) for fact in device.of_kind("zone")}
        self._classes = defined_classes(device)
        self._device_excluded = AddressSet(each_span(device.of_kind("exclusion")))
        self._dropped: dict[tuple[str, bool, bool], str] = {}
        self._found: dict[tuple[str, int], Sequence[ServingPool]] = {}
        self._open: dict[tuple[str, int], Sequence[ServingPool]] = {}
        self.pools: list[ServingPool] = []
        self._by_subnet = BySubnet[ServingPool]()
        self._start_pools()

    @property
    def ignored(self) -> list[Ignored]:
        """What it refuses or ignores of its configuration."""
        return list(self._ignored)

    @property
    def does_without(self) -> set[Place]:
        """The pools that it refuses, and the bindings that it heeds in no pool."""
        return self._passed_over - self._heeded

    def adopt_names(self, planned: Mapping[str, Interface]) -> None:
        """Let its interfaces go by the names that a plan has for those with the same addresses."""
        facts = self.interfaces.items()
        named = {prefix.address: name for name, fact in facts for prefix in addresses_of(fact)}
        for name, interface in planned.items():
            own = next((named[p.address] for p in interface.addresses if p.address in named), None)
            if own is not None and name not in self.interfaces:
                self._own_names[name] = own

    def _own_name(self, interface: str) -> str:
        return self._own_names.get(interface, interface)

    # What it answers.

    @property
    def is_on(self) -> bool:
        """Whether its DHCP service is on."""
        return bool(self._device.get("service", not self.behaviour.has_master_switch))

    def drops_at(self, interface: str, *, relayed: bool, serves: bool = True) -> str:
        """Why a request that arrives at an interface is dropped unread; empty if it isn't.

        Args:
            interface: The interface.
            relayed: Whether it was sent to the device itself, by a relay or to renew a lease.
            serves: Whether the device serves anybody, rather than only relaying.
        """
        key = self._own_name(interface), relayed, serves
        if key not in self._dropped:  # asked for every message
            self._dropped[key] = self._why_dropped(*key)
        return self._dropped[key]

    def _why_dropped(self, interface: str, relayed: bool, serves: bool) -> str:
        fact = self.interfaces.get(interface)
        if serves and not self.is_on:
            return "its DHCP service is off"
        if fact is None:
            return ""
        if not self.admits(interface, "dhcp"):
            zone = fact.get("zone")
            return f"zone {zone} doesn't admit DHCP" if zone else f"{interface} is in no zone"
        needs_switch = serves and not relayed and self.behaviour.has_interface_switches
        if needs_switch and not fact.get("service"):
            return f"the DHCP service is off on {interface}"
        if self._is_member(interface):
            return f"{interface} is a member of a bridge"
        return ""

    def admits(self, interface: str, what: str) -> bool:
        """Whether the zone of an interface lets ``dhcp`` or ``dns`` in; True where none matters."""
        fact = self.interfaces.get(self._own_name(interface))
        if fact is None or not self.behaviour.zone_must_admit_dhcp:
            return True
        return what in self._zones.get(fact.get("zone"), ())

    def pools_for(self, interface: str, relay: int) -> Sequence[ServingPool]:
        """The pools that serve a client, in the order in which they are asked.

        Args:
            interface: Where its request arrived.
            relay: The relay address in it; 0 without a relay.
        """
        key = self._own_name(interface), relay
        if key not in self._found:  # asked for every message
            self._found[key] = self._pools_for(*key)
        return self._found[key]

    def _pools_for(self, interface: str, relay: int) -> Sequence[ServingPool]:
        if relay and not self.behaviour.assigns_by_arrival:
            if not self.behaviour.answers_relays:
                return ()
            return self.pools_holding(relay)
        if self.behaviour.uses_pools_in_order:
            return self.pools
        if self.behaviour.joins_pools_to_interfaces:
            return self._by_interface.get(interface, ())
        fact = self.interfaces.get(interface)
        addresses = addresses_of(fact) if fact else ()
        if not self.behaviour.binds_by_secondary:
            addresses = addresses[:1]
        return [pool for prefix in addresses for pool in self.pools_holding(prefix.address)]

    def pools_holding(self, address: int) -> list[ServingPool]:
        """The pools whose subnets hold an address."""
        return self._by_subnet.holding(address)

    @cached_property
    def _by_interface(self) -> dict[str, list[ServingPool]]:
        """The pools by the interface that they name."""
        found: dict[str, list[ServingPool]] = {}
        for pool in self.pools:
            if pool.interface is not None:
                found.setdefault(pool.interface, []).append(pool)
        return found

    def open_pools_for(self, interface: str, relay: int) -> Sequence[ServingPool]:
        """Those of :meth:`pools_for` that serve clients without a binding."""
        key = interface, relay
        if key not in self._open:
            self._open[key] = [
                pool
                for pool in self.pools_for(interface, relay)
                if self.assigns_to_any(pool, interface, relay)
            ]
        return self._open[key]

    def assigns_to_any(self, pool: ServingPool, interface: str, relay: int) -> bool:
        """Whether a pool serves clients without a binding at an interface."""
        fact = self.interfaces.get(self._own_name(interface))
        addresses = addresses_of(fact) if fact else ()
        if relay or self.behaviour.assigns_by_secondary or len(addresses) < 2:
            return True
        return self.behaviour.uses_pools_in_order or pool.subnet.span.holds(addresses[0].address)

    # How it starts.

    def _start_pools(self) -> None:
        for fact in pools_of(self._device, self.interfaces):
            pool = self._pool(fact)
            if pool is None:
                continue
            if self.behaviour.refuses_overlapping_pools and any(
                not other.assignable.isdisjoint(pool.assignable)
                for other in self._by_subnet.meeting(pool.subnet)
            ):
                self.ignore(fact, "it shares addresses with a pool before it")
                continue
            self._add(pool)
            if self.behaviour.answers_by_class:
                excluded = self._excluded(fact, pool.subnet)
                for part in class_parts(pool, self._classes, self._offers, excluded):
                    self._add(part)
        if self.behaviour.serves_classes_by_pools:
            join_class_pools(self.pools)
        self._bind()

    def _add(self, pool: ServingPool) -> None:
        self.pools.append(pool)
        self._by_subnet.add(pool.subnet, pool)

    def _pool(self, fact: Fact) -> ServingPool | None:
        """A pool that the device takes; None if it refuses it, or it is switched off."""
        subnet = subnet_of(fact, self.interfaces, self._sheet)
        if subnet is None:
            self.ignore(fact, "it has no subnet")
            return None
        if self.behaviour.has_pool_switches and not fact.get("active"):
            self.ignore(fact, "it is not active")
            return None
        interface = fact.get("interface")
        if self.behaviour.refuses_bridge_members and interface and self._is_member(interface):
            self.ignore(fact, f"{interface} is a member of a bridge")
            return None
        if self.behaviour.refuses_impossible_pools:
            around = self.interfaces.get(fact.get("interface"))
            bindings = [b for owner in (fact, around) if owner for b in owner.of_kind("binding")]
            why = _why_impossible(fact, subnet, bindings)
            if why:
                self.ignore(fact, why)
                return None
        own = self.own_addresses.clipped(subnet.span)
        offer = self._offer(fact, own)
        if self.behaviour.refuses_pool_without_dns and not offer.dns:
            self.ignore(fact, "it has no DNS server")
            return None
        words = own_class(fact, self.behaviour)
        kin = None
        if words is not None:
            name = fact.get("name", "")
            kin = ServingClass(name, words, None, True, True, whole=offer)
        return ServingPool(
            own_class=kin,
            fact=fact,
            subnet=subnet.subnet,
            interface=interface,
            assignable=self._named(fact, subnet) - self._excluded(fact, subnet),
            offer=offer,
            probes=self.behaviour.probes(fact),
        )

    def _named(self, pool: Fact, subnet: Prefix) -> AddressSet:
        """What a pool names, before anything is excluded."""
        hosts = AddressSet([subnet.hosts])
        if not self.behaviour.assigns_ranges:
            return hosts
        return AddressSet(each_span(pool.of_kind("range"), subnet.span.first)) & hosts

    def _excluded(self, pool: Fact, subnet: Prefix) -> AddressSet:
        excluded = AddressSet(each_span(pool.of_kind("exclusion")))
        if self.behaviour.excludes_device_wide:
            excluded = excluded | self._device_excluded.clipped(subnet.span)
        if self.behaviour.skips_own_address:
            excluded = excluded | self.own_addresses.clipped(subnet.span)
        return excluded

    def _offer(self, fact: Fact, own: AddressSet) -> Offer:
        values = dict(self._offers.offered(fact, own))
        return Offer(options=values.pop("options"), values=values)

    def _bind(self) -> None:
        """Give each binding that the device heeds to the pool that it belongs to."""
        named = AddressSet(span for pool in self.pools for span in pool.assignable.spans())
        owners = (self._device, *self.interfaces.values())
        for binding in (fact for owner in owners for fact in owner.of_kind("binding")):
            address = binding.get("address")
            near = self.pools_holding(address) if address is not None else []
            near = [pool for pool in near if pool.own_class is None]
            if self.behaviour.binds_by_pools and not near:
                near = self._pool_of_its_own(binding)
                for pool in near:
                    self._add(pool)
            for pool in near:
                self._bind_in(pool, binding, named)
        for pool in self.pools:
            for binding in pool.fact.of_kind("binding") if pool.own_class is None else ():
                self._bind_in(pool, binding, named)
        if self.behaviour.reserves_bound_addresses:
            bound = AddressSet.of_addresses(
                sorted({client.address for pool in self.pools for client in pool.bound.values()})
            )
            for pool in self.pools:
                pool.assignable = pool.assignable - bound.clipped(pool.subnet.span)

    def _pool_of_its_own(self, binding: Fact) -> list[ServingPool]:
        """The pool that a binding is by itself, where no other serves its subnet."""
        subnet: Prefix | None = binding.get("subnet")
        if subnet is None:
            return []
        offer = self._offer(binding, self.own_addresses.clipped(subnet.span))
        return [ServingPool(binding, subnet.subnet, binding.get("interface"), EMPTY, offer, False)]

    def _bind_in(self, pool: ServingPool, binding: Fact, named: AddressSet) -> None:
        address = binding.get("address")
        client: Client | None = binding.get("mac", binding.get("client_id"))
        if address is None or client is None:
            self.ignore(binding, "it has no address" if client else "it has no client")
            return
        why = self._misplaced(address, pool, named)
        if why:
            self.ignore(binding, why)
            return
        bound = BoundClient(address)
        if self.behaviour.binds_by_pools:
            offer = self._offer(binding, self.own_addresses.clipped(pool.subnet.span))
            if self.behaviour.refuses_pool_without_dns and not offer.dns:
                self.ignore(binding, "it has no DNS server")
                return
            bound = BoundClient(address, whole=offer)
        else:
            own = self._offers.own(binding)
            bound = BoundClient(address, own_values_of(own) if own else None)
        self._heeded.add(binding.place)
        pool.bound.setdefault(client, bound)

    def _misplaced(self, address: int, pool: ServingPool, named: AddressSet) -> str:
        """Why the device doesn't heed a binding of an address; empty if it does."""
        if not pool.subnet.span.holds(address):
            return "its address is not in the pool's subnet"
        if self.behaviour.binds_excluded_only and address in pool.assignable:
            return "its address is not excluded"
        if self.behaviour.binds_inside_only and address not in pool.assignable:
            return "its address is not in what the pool assigns"
        if self.behaviour.binds_outside_only and address in named:
            return "its address is in a range"
        return ""

    def _is_member(self, interface: str) -> bool:
        return interface in self._members

    @cached_property
    def _members(self) -> set[str]:
        """The interfaces that are members of a bridge."""
        facts = self.interfaces.items()
        named = {member for _, fact in facts for member in fact.get("members", ())}
        return named | {name for name, fact in facts if fact.get("member_of")}

    def ignore(self, fact: Fact, why: str) -> None:
        """Note what the device does without."""
        self._passed_over.add(fact.place)
        self._ignored[Ignored(fact.line, fact.label, why)] = None  # once: several pools may be near

    def _leave_out(self, fact: Fact, why: object, *_: str, within: Fact | None = None) -> None:
        label = fact.label if within is None else f"{fact.label} of {within.label}"
        self._ignored[Ignored(fact.line, label, str(why))] = None


def _why_impossible(pool: Fact, subnet: Prefix, bindings: Sequence[Fact]) -> str:
    """Why a pool can't be as it is configured; empty if it can."""
    named = AddressSet(each_span(pool.of_kind("range"), subnet.span.first))
    if not named <= AddressSet([subnet.span]):
        return f"its range leaves {subnet.subnet}"
    bound = Counter(binding.get("address") for binding in bindings)
    twice = next((a for a, count in bound.items() if a is not None and count > 1), None)
    return f"it binds {format_address(twice)} twice" if twice is not None else ""


def _unsaid(fact: Fact, text: str) -> None:
    """Takes a note about a default, which is known where it is offered."""
