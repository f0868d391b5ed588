"""Lowering: from a plan to the facts of one device's configuration."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, replace
from functools import cached_property
from operator import itemgetter
from typing import Any

from reservoir.core.compare.differences import Served
from reservoir.core.findings import Obstacle
from reservoir.core.plan.hosts import HostTable
from reservoir.core.plan.model import Device, Interface, PlanPath
from reservoir.core.pools import Pools
from reservoir.core.values import options as dhcp_options
from reservoir.core.values.addresses import Prefix, Span
from reservoir.core.values.client_classes import ClassWords
from reservoir.core.values.clients import Client, Mac, format_client
from reservoir.dialects.behaviour.device import Behaviour
from reservoir.dialects.behaviour.fit import FittedDevice, FittedPool, fit_device
from reservoir.dialects.behaviour.fit_classes import FIELD_OF
from reservoir.dialects.behaviour.kept import put_back
from reservoir.dialects.behaviour.names import NameFitter
from reservoir.dialects.behaviour.offer import FittedOffer
from reservoir.dialects.behaviour.specimens import specimens
from reservoir.dialects.behaviour.unsaid import with_switches
from reservoir.dialects.facts.by_address import addresses_of
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.facts.kinds import KINDS
from reservoir.dialects.sheet.model import Sheet


@dataclass(frozen=True)
class Lowered:
    """A device's facts, and what they must come back as."""

    device: Fact
    obstacles: tuple[Obstacle, ...]
    renamed: Mapping[str, str]
    """Names that the device doesn't accept, and what they become."""
    bindings: HostTable
    """The plan's."""
    pools: Mapping[str, FittedPool]
    """By the name of the pool on the device."""

    @cached_property
    def served(self) -> Mapping[str, Served]:
        """What each pool does, by its name on the device."""
        return {
            name: Served(
                network=pool.pool.name,
                subnet=pool.pool.network.subnet,
                assignable=pool.assignable,
                bindings=frozenset(_clients(pool, self.bindings)),
                offer=pool.offered.offer,
                classes=tuple(its.served for its in pool.classes),
                pairing=pool.pairing,
                own={
                    self.bindings.client_at(row): fitted.offer for row, fitted in pool.own.items()
                },
            )
            for name, pool in self.pools.items()
        }


def lower(
    pools: Pools,
    device: str,
    sheet: Sheet,
    taken: Iterable[str] = (),
    fitted: FittedDevice | None = None,
) -> Lowered:
    """Make the facts of one device of the plan.

    Args:
        pools: The plan's pools.
        device: The device in it.
        sheet: Its dialect's.
        taken: Names that its pools and bindings can't have, as others have them.
        fitted: The pools as the device will have them, if they have been fitted.
    """
    its = fit_device(pools, device, sheet) if fitted is None else fitted
    return _Lowering(pools, device, sheet, taken, its).lowered()


def lower_specimens(pools: Pools, device: str, sheet: Sheet) -> Lowered:
    """Make the facts of one device with a few of its bindings, which stand for all of them."""
    fitted = fit_device(pools, device, sheet)
    chosen = specimens(pools.bindings, [pool.bindings for pool in fitted.pools])
    pairs = zip(fitted.pools, chosen, strict=True)
    few = tuple(pool.with_bindings(rows) for pool, rows in pairs)
    return lower(pools, device, sheet, fitted=replace(fitted, pools=few))


def _clients(pool: FittedPool, table: HostTable) -> Iterator[tuple[Client, int]]:
    for row in pool.bindings.tolist():
        yield table.client_at(row), int(table.address[row])


class _Lowering:
    def __init__(
        self, pools: Pools, device: str, sheet: Sheet, taken: Iterable[str], fitted: FittedDevice
    ) -> None:
        self.all_pools = pools
        self.name = device
        self.device: Device = pools.plan.devices[device]
        self.sheet = sheet
        self.behaviour = Behaviour(sheet)
        self.fitted = fitted
        self.names = NameFitter(sheet.naming, taken)
        self.top = Fact("device", {"name": device}, origin=("devices", device))
        self.class_names = NameFitter(sheet.naming)
        self.classes: dict[str, str] = {}
        """What the device calls the classes that its pools name."""
        self.defined: set[str] = set()
        """The classes that the device has been told of."""
        self.called = {"device": [self.top]}
        """The facts by what the plan's ``kept`` calls them."""

    def lowered(self) -> Lowered:
        self._surroundings()
        pools: dict[str, FittedPool] = {}
        for pool in self.fitted.pools:
            facts = self._pool(pool)
            self.called[f"pool {pool.pool.name}"] = facts
            pools[self._called(facts[0], pool)] = pool
        self._switch()
        put_back(self.device.kept, self.called)
        for name, facts in self.called.items():
            if name.startswith("pool "):
                for fact in facts:
                    with_switches(fact)
        return Lowered(
            device=self.top,
            obstacles=self.fitted.obstacles,
            renamed=self.class_names.changed | self.names.changed,
            bindings=self.all_pools.bindings,
            pools=pools,
        )

    def _called(self, fact: Fact, pool: FittedPool) -> str:
        fields = dict(fact.fields)
        if pool.attachment is not None and self.sheet.stands_in("pool", "interface"):
            fields["interface"] = pool.attachment.interface
        return called(fields, pool.pool.network.subnet)

    def _switch(self) -> None:
        """Turn the DHCP service on where the device serves, and off where it would by default."""
        serves = bool(self.fitted.pools)
        if self.behaviour.is_on_by_default and not serves:
            self.top.fields["service"] = False
        elif self.behaviour.has_master_switch and serves:
            self.top.fields["service"] = True

    def _surroundings(self) -> None:
        """Interfaces, zones and routes."""
        serving = set()
        if self.behaviour.has_interface_switches:
            attachments = (pool.attachment for pool in self.fitted.pools)
            serving = {attachment.interface for attachment in attachments if attachment}
        add = self.top.children.append
        for name, zone in self.device.zones.items():
            add(_fact("zone", ("zones", name), self.name, name=name, admits=zone.admits))
        for name, interface in self.device.interfaces.items():
            fields = {key: getattr(interface, key) for key in KINDS["interface"].planned}
            derived = self._derived(name, interface)
            if "addresses" not in derived:
                fields["address"], fields["secondary"] = interface.primary, interface.addresses[1:]
            if "subinterfaces" in derived and interface.parent in self.device.interfaces:
                del fields["parent"]
            if "member_of" in derived:
                del fields["members"]
            fact = _fact(
                "interface", ("interfaces", name), self.name, name=name, **fields, **derived
            )
            fact.fields["enabled"] = interface.enabled
            if name in serving:
                fact.fields["service"] = True
            self.called[f"interface {name}"] = [fact]
            add(fact)
        for number, route in enumerate(self.device.routes):
            fact = _fact("route", ("routes", number), self.name, to=route.to, via=route.via)
            self._route_owner(route.via).children.append(fact)

    def _derived(self, name: str, interface: Interface) -> dict[str, Any]:
        """Fields that state from an interface's side what the plan states of others."""
        fields = {
            "subinterfaces": tuple(self._subinterfaces.get(name, ())),
            "member_of": self._bridges.get(name),
            "is_bridge": bool(interface.members) or None,
            "addresses": interface.addresses,
            "file": name,
        }
        return {
            key: value for key, value in fields.items() if self.sheet.mentions("interface", key)
        }

    @cached_property
    def _subinterfaces(self) -> dict[str | None, list[str]]:
        """The interfaces on each parent."""
        found: dict[str | None, list[str]] = {}
        for name, interface in self.device.interfaces.items():
            found.setdefault(interface.parent, []).append(name)
        return found

    @cached_property
    def _bridges(self) -> dict[str, str]:
        """The bridge that each interface is a member of: the first, where several name it."""
        found: dict[str, str] = {}
        for name, interface in self.device.interfaces.items():
            for member in interface.members:
                found.setdefault(member, name)
        return found

    def _route_owner(self, via: int) -> Fact:
        """The fact that a route is in: the interface that leads to it, or the device."""
        if not self.sheet.stands_in("route", "interface"):
            return self.top
        lengths = {subnet.bits for subnet in self._interface_at}
        subnets = (Prefix(via, bits).subnet for bits in lengths)
        leading = [self._interface_at[subnet] for subnet in subnets if subnet in self._interface_at]
        return min(leading, default=(0, self.top), key=itemgetter(0))[1]

    @cached_property
    def _interface_at(self) -> dict[Prefix, tuple[int, Fact]]:
        """The first interface in each subnet, with its number."""
        found: dict[Prefix, tuple[int, Fact]] = {}
        for number, fact in enumerate(self.top.of_kind("interface")):
            for prefix in addresses_of(fact):
                found.setdefault(prefix.subnet, (number, fact))
        return found

    def _owner(self, pool: FittedPool) -> Fact:
        """The fact that the pool's facts are in: its interface or the device."""
        if pool.attachment is not None and self.sheet.stands_in("pool", "interface"):
            return self.called[f"interface {pool.attachment.interface}"][0]
        return self.top

    def _pool(self, pool: FittedPool) -> list[Fact]:
        """The facts of a pool, put where they belong; several where one can't hold all ranges."""
        fields = self._place(pool) | _paired(pool) | dict(pool.offered.fields)
        if self.behaviour.has_pool_switches:
            fields["active"] = True
        if self.behaviour.offers_own_timezone:
            fields["own_timezone"] = False  # clients are offered what the plan says, and no more
        network, most = pool.pool.network, self.behaviour.limit("pool.range")
        spans = list(pool.ranges.spans())
        parts = [spans]
        if most is not None and len(spans) > most:
            parts = [spans[at : at + most] for at in range(0, len(spans), most)]
        facts = []
        for part in parts:
            named = {"name": self.names.fit(pool.pool.name)} | fields
            if pool.pool.network.admits is not None and self.sheet.mentions("pool", "admits"):
                named["admits"] = tuple(map(self._class, pool.pool.network.admits))
            if not self.sheet.mentions("pool", "name"):
                del named["name"]
            if self.sheet.stands_in("pool", "interface"):
                named.pop("interface", None)
            options = self._options(pool.offered, pool.pool.path)
            fact = Fact("pool", named, options, origin=pool.pool.path)
            fact.children += [self._range(span, pool) for span in part]
            fact.children += self._classes(pool)
            facts.append(fact)
        self._owner(pool).children += facts
        if self.behaviour.serves_classes_by_pools:
            self._owner(pool).children += self._class_pools(pool)
        notes = {exclusion.range: exclusion.reason for exclusion in network.exclusions}
        exclusions = [_span("exclusion", s, pool, notes.get(s, "")) for s in pool.excluded.spans()]
        (facts[0] if self.behaviour.excludes_in_pool else self.top).children += exclusions
        bindings = self._bindings(pool, facts[0])
        self._binding_owner(pool, facts[0]).children += bindings
        return facts

    def _classes(self, pool: FittedPool) -> Iterator[Fact]:
        """What the pool says of the classes that get something otherwise."""
        defines = self.sheet.stands_in("class", "device")
        for its in pool.classes if self.behaviour.answers_by_class else ():
            name, words = self._class(its.pool.name), _words(its.pool.words)
            if defines and its.pool.name not in self.defined:
                self.defined.add(its.pool.name)
                path = ("classes", its.pool.name)
                self.top.children.append(Fact("class", {"name": name, **words}, origin=path))
            if its.pool.name not in pool.pool.network.by_class:
                continue  # it is only admitted
            fields = {"name": name, **({} if defines else words), **its.offered.fields}
            fact = Fact("class", fields, self._options(its.offered, its.pool.path))
            fact.origin = its.pool.path
            if its.pool.ranges is not None:
                fact.children += [self._range(span, pool) for span in its.assignable.spans()]
            yield fact

    def _class(self, name: str) -> str:
        """What the device calls a class; one name, wherever it is served."""
        if name not in self.classes:
            self.classes[name] = self.class_names.fit(name)
        return self.classes[name]

    def _class_pools(self, pool: FittedPool) -> Iterator[Fact]:
        """The pools of the classes that are served by one of their own."""
        for its in pool.classes:
            if not its.pool.is_admitted:
                continue
            fields = self._place(pool) | _paired(pool) | _words(its.pool.words)
            fields |= its.offered.fields
            fields["name"] = self.names.fit(its.pool.name)
            if self.behaviour.has_pool_switches:
                fields["active"] = True
            fact = Fact("pool", fields, self._options(its.offered, its.pool.path))
            fact.origin = its.pool.path
            fact.children += [self._range(span, pool) for span in its.assignable.spans()]
            yield fact

    def _binding_owner(self, pool: FittedPool, pool_fact: Fact) -> Fact:
        if not self.behaviour.binds_in_pool:
            return self.top
        return pool_fact if self.sheet.stands_in("binding", "pool") else self._owner(pool)

    def _range(self, span: Span, pool: FittedPool) -> Fact:
        """A range, by first and last address or by where it begins and how many there are."""
        values = {
            "first": span.first,
            "last": span.last,
            "count": span.last - span.first + 1,
            "offset": span.first - pool.pool.network.subnet.span.first,
        }
        says = self.sheet.mentioned.get("range", frozenset(("first", "last")))
        fields = {name: value for name, value in values.items() if name in says}
        return Fact("range", fields, origin=pool.pool.path)

    def _bindings(self, pool: FittedPool, pool_fact: Fact) -> list[Fact]:
        table = self.all_pools.bindings
        own_pools = self.behaviour.binds_by_pools
        common = self._place(pool) if own_pools else {}
        if self.sheet.mentions("binding", "pool"):
            common = {**common, "pool": pool_fact.get("name")}
        usual = pool.offered if own_pools else None
        facts = []
        for row in pool.bindings.tolist():
            client, path = table.client_at(row), table.path(row)
            offered = pool.own.get(row, usual)
            fields: dict[str, Any] = {**common, **(offered.fields if offered else {})}
            name = table.name[row]
            if own_pools:
                fields["name"] = self.names.fit(name or f"client {format_client(client)}")
            elif name:
                fields["name"] = self.names.fit(name)
            fields["address"] = int(table.address[row])
            fields["mac" if isinstance(client, Mac) else "client_id"] = client
            options = self._options(offered, path) if offered else []
            facts.append(Fact("binding", fields, options, origin=path))
        return facts

    def _place(self, pool: FittedPool) -> dict[str, Any]:
        """The fields that say where a pool is, or a binding that is a pool of its own."""
        fields: dict[str, Any] = {}
        if self.sheet.mentions("pool", "subnet"):
            fields["subnet"] = pool.pool.network.subnet.subnet
        if self.behaviour.joins_pools_to_interfaces and pool.attachment:
            fields["interface"] = pool.attachment.interface
        return fields

    def _options(self, offered: FittedOffer, path: PlanPath) -> list[Fact]:
        by_type = self.sheet.mentions("option", "type")
        known = self.sheet.words.get(("option", "type"), dhcp_options.KINDS)
        facts = []
        for code, data in sorted(offered.options.items()):
            fields: dict[str, Any] = {"code": code}
            if by_type:
                fields["type"], fields["value"] = dhcp_options.decode(code, data)
                if fields["type"] not in known:  # as bytes, if the device has a word for these
                    fields["type"], fields["value"] = "hex", data.hex()
            else:
                fields["data"] = data
            facts.append(Fact("option", fields, origin=path))
        return facts


def _paired(pool: FittedPool) -> dict[str, Any]:
    """The fields that say with whom its leases are kept in step."""
    if pool.pairing is None:
        return {}
    partner, leads, after = pool.pairing
    fields: dict[str, Any] = {"partner": partner, "leads": leads}
    return fields if after is None else fields | {"after": after}


def _words(words: ClassWords) -> dict[str, Any]:
    """The fields that say who is in a class."""
    said: dict[str, Any] = {}
    for name in words.said:
        value = getattr(words, name)
        said[FIELD_OF.get(name, name)] = tuple(sorted(value)) if name == "architecture" else value
    return said


def called(fields: Mapping[str, Any], subnet: Prefix) -> str:
    """What a network is called that is read from a pool with these fields."""
    return str(fields.get("name") or fields.get("interface") or subnet)


def _fact(kind: str, path: tuple[str | int, ...], device: str, **fields: Any) -> Fact:
    kept = {name: value for name, value in fields.items() if value not in (None, (), "")}
    return Fact(kind, kept, origin=("devices", device, *path))


def _span(kind: str, span: Span, pool: FittedPool, note: str = "") -> Fact:
    fields: dict[str, Any] = {"first": span.first, "last": span.last}
    if note:
        fields["note"] = note
    return Fact(kind, fields, origin=pool.pool.path)
