"""Lowering: from a plan to the facts that one device can hold."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from reservoir.core import options as dhcp_options
from reservoir.core.address_set import EMPTY, AddressSet
from reservoir.core.addressing import Span
from reservoir.core.clients import Client, Mac, format_client
from reservoir.core.findings import Obstacle
from reservoir.core.lending import Lending, Told
from reservoir.core.plan import Device
from reservoir.dialects.fitting import FittedPool, fit_pool
from reservoir.dialects.naming import NameFitter
from reservoir.dialects.sheet import Sheet
from reservoir.dialects.vocabulary import Fact


@dataclass(frozen=True)
class Held:
    """What a device is to hold for one network; what is read back must be the same."""

    network: str
    lendable: AddressSet
    bindings: frozenset[tuple[Client, int]]
    told: Told


@dataclass(frozen=True)
class Lowered:
    """A device's facts, and what they must come back as."""

    device: Fact
    held: Mapping[str, Held]
    """By the name that the pool has on the device."""
    obstacles: tuple[Obstacle, ...]
    renamed: Mapping[str, str]
    """Names that the device doesn't take, and what it takes instead."""


def lower(lending: Lending, device: str, sheet: Sheet) -> Lowered:
    """Make the facts of one device of the plan."""
    return _Lowering(lending, device, sheet).lowered()


class _Lowering:
    def __init__(self, lending: Lending, device: str, sheet: Sheet) -> None:
        self.lending = lending
        self.name = device
        self.device: Device = lending.plan.devices[device]
        self.sheet = sheet
        self.pools = [fit_pool(p, lending, sheet) for p in lending.pools_served_by(device)]
        self.names = NameFitter(sheet.naming)
        self.exclusions: list[Fact] = []
        self.splits = self._must_split()

    def lowered(self) -> Lowered:
        top = Fact("device", {"name": self.name}, origin=("devices", self.name))
        pools: list[Fact] = []
        held: dict[str, Held] = {}
        for pool in self.pools:
            fact = self._pool(pool)
            pools.append(fact)
            held[fact.fields["name"]] = Held(
                network=pool.pool.name,
                lendable=pool.lendable,
                bindings=frozenset(self.lending.clients_bound(pool.pool)),
                told=pool.told,
            )
        bindings = [binding for pool in self.pools for binding in self._bindings(pool)]
        top.children = [*self._surroundings(), *self.exclusions, *pools, *bindings]
        self._switch(top)
        return Lowered(
            device=top,
            held=held,
            obstacles=tuple(obstacle for pool in self.pools for obstacle in pool.obstacles),
            renamed=self.names.changed,
        )

    def _switch(self, top: Fact) -> None:
        """Lending is on where the device lends, and off where it would lend by itself."""
        if self.sheet.trait("service") == "on-from-factory":
            if not self.pools:
                top.fields["service"] = False
        elif self.pools:
            top.fields["service"] = True

    def _surroundings(self) -> list[Fact]:
        """Interfaces, zones and routes."""
        serving = set()
        if self.sheet.trait("service") == "master-and-interface":
            serving = {pool.attachment.interface for pool in self.pools if pool.attachment}
        facts = []
        for name, zone in self.device.zones.items():
            facts.append(_fact("zone", ("zones", name), self.name, name=name, admits=zone.admits))
        for name, interface in self.device.interfaces.items():
            fields = {key: getattr(interface, key) for key in _INTERFACE_FIELDS}
            fact = _fact("interface", ("interfaces", name), self.name, name=name, **fields)
            fact.fields["enabled"] = interface.enabled
            if name in serving:
                fact.fields["service"] = True
            facts.append(fact)
        for number, route in enumerate(self.device.routes):
            facts.append(_fact("route", ("routes", number), self.name, to=route.to, via=route.via))
        return facts

    def _pool(self, pool: FittedPool) -> Fact:
        network = pool.pool.network
        spared = self._spared(pool)
        fields = {"name": self.names.fit(pool.pool.name)} | self._told(pool)
        fact = Fact("pool", fields, _options(pool), origin=pool.pool.path)
        if self.sheet.trait("lends") == "subnet-less-exclusions":
            hosts = AddressSet([network.subnet.hosts])
            kept = hosts - pool.lendable - pool.own - spared
        else:
            ranges = self._ranges(pool)
            fact.children += [_span("range", span, pool) for span in ranges]
            kept = ranges - pool.lendable - pool.own - spared
        notes = {exclusion.range: exclusion.reason for exclusion in network.exclusions}
        exclusions = [_span("exclusion", span, pool, notes.get(span, "")) for span in kept]
        if self.sheet.trait("exclusions") == "device-wide":
            self.exclusions += exclusions
        else:
            fact.children += exclusions
        return fact

    def _ranges(self, pool: FittedPool) -> AddressSet:
        """The spans that a device of ranges is given."""
        named = pool.pool.ranges.clipped(pool.pool.network.subnet.hosts)
        if self.splits:
            return pool.lendable | (named & self._spared(pool))
        if self.sheet.trait("bound-address") == "outside-ranges":
            return named - self._bound(pool)
        return named

    def _bound(self, pool: FittedPool) -> AddressSet:
        return AddressSet.of_addresses(self.lending.bindings.address[pool.pool.bindings])

    def _spared(self, pool: FittedPool) -> AddressSet:
        """Bound addresses that need no exclusion: the device itself keeps them from others."""
        return self._bound(pool) if self.sheet.trait("bound-address") == "anywhere" else EMPTY

    def _must_split(self) -> bool:
        """Whether ranges are split around what is kept out, for want of (enough) exclusions."""
        if self.sheet.trait("lends") != "ranges":
            return False
        if self.sheet.trait("exclusions") == "none":
            return True
        self.splits = False
        most = self.sheet.limits.get("device.exclusion")
        needed = sum(
            (self._ranges(pool) - pool.lendable - pool.own - self._spared(pool)).span_count
            for pool in self.pools
        )
        return most is not None and needed > most

    def _bindings(self, pool: FittedPool) -> list[Fact]:
        table = self.lending.bindings
        own_pools = self.sheet.trait("bindings") == "one-address-pool"
        told = self._told(pool) if own_pools else {}
        facts = []
        for row in pool.pool.bindings.tolist():
            client = table.client_at(row)
            fields: dict[str, Any] = dict(told)
            name = table.name[row]
            if own_pools:
                fields["name"] = self.names.fit(name or f"client {format_client(client)}")
            elif name:
                fields["name"] = self.names.fit(name)
            fields["address"] = int(table.address[row])
            fields["mac" if isinstance(client, Mac) else "client_id"] = client
            options = _options(pool) if own_pools else []
            facts.append(Fact("binding", fields, options, origin=table.path(row)))
        return facts

    def _told(self, pool: FittedPool) -> dict[str, Any]:
        """The fields of a pool that say what its clients are told."""
        fields: dict[str, Any] = {
            "subnet": pool.pool.network.subnet.subnet,
            "gateway": pool.written.gateway,
            "dns": pool.written.dns,
            "domain": pool.written.domain,
            "lease": pool.written.lease,
        }
        if self.sheet.trait("pool-found-by") == "joined-interface" and pool.attachment:
            fields["interface"] = pool.attachment.interface
        return {name: value for name, value in fields.items() if value not in (None, ())}


_INTERFACE_FIELDS = ("address", "parent", "vlan", "bridge", "zone", "vrf", "relay_to")


def _fact(kind: str, path: tuple[str | int, ...], device: str, **fields: Any) -> Fact:
    kept = {name: value for name, value in fields.items() if value not in (None, (), "")}
    return Fact(kind, kept, origin=("devices", device, *path))


def _span(kind: str, span: Span, pool: FittedPool, note: str = "") -> Fact:
    fields: dict[str, Any] = {"first": span.first, "last": span.last}
    if note:
        fields["note"] = note
    return Fact(kind, fields, origin=pool.pool.path)


def _options(pool: FittedPool) -> list[Fact]:
    facts = []
    for code, data in sorted(pool.written.options.items()):
        kind, text = dhcp_options.decode(code, data)
        fields = {"code": code, "type": kind, "value": text}
        facts.append(Fact("option", fields, origin=pool.pool.path))
    return facts
