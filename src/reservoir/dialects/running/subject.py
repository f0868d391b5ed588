"""Makes one plan of configuration that was read, so that the checks can look at it.

Alone, or together with a plan: what devices do now beside what is planned.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from functools import cached_property

from reservoir.core.compare.pairing import as_planned
from reservoir.core.findings import Obstacle, Witness
from reservoir.core.plan.edits import Edit
from reservoir.core.plan.model import Device, Network, Plan, PlanPath, Service
from reservoir.core.plan.offered import DEFAULTS
from reservoir.core.pools import Pools
from reservoir.core.problems import InputError, Place, Problem
from reservoir.core.subject import LineChange, Subject
from reservoir.core.values.addresses import Prefix
from reservoir.dialects.behaviour.lifted import Lifted
from reservoir.dialects.parse.not_understood import NotUnderstood
from reservoir.dialects.reading import ConfigurationRead
from reservoir.dialects.running.devices import merged_plan, own_ranges
from reservoir.dialects.running.faults import faults_in
from reservoir.dialects.running.line_changes import changed_lines
from reservoir.dialects.running.otherwise import otherwise
from reservoir.dialects.running.places import origin_of, spot_in_device, spot_in_network
from reservoir.dialects.running.servers import bindings_missing

LINES = "configuration"
"""The key, below a device's path, of the lines of its configuration."""


class ReadSubject(Subject):
    """Configuration of one or more devices, and perhaps a plan that it is checked beside."""

    def __init__(self, reads: Sequence[ConfigurationRead], planned: Subject | None = None) -> None:
        """Merge what was read, and that into the plan if there is one.

        Raises:
            InputError: two files are the configuration of one device.
        """
        self._reads = {read.lifted.name: read for read in reads}
        twice = [read for read in reads if self._reads[read.lifted.name] is not read]
        if twice:
            raise InputError(
                Problem(
                    Place(read.file),
                    f"this is the configuration of {read.lifted.name}, and so is "
                    f"{self._reads[read.lifted.name].file}; give only one of them",
                )
                for read in twice
            )
        self._planned = planned
        merged = merged_plan([read.lifted for read in reads])
        self._names: dict[str, str] = {}
        """The names that networks that were read have in the plan."""
        self.plan = merged if planned is None else self._together(planned.plan, merged)
        self._by_subnet = _by_subnet(self.plan)
        files = tuple(read.file for read in reads)
        self.files = files if planned is None else (*planned.files, *files)

    def _together(self, planned: Plan, read: Plan) -> Plan:
        """The plan, with the networks and devices that only the configuration has.

        A network in both gets the servers too that only the configuration has, each with its
        ranges.
        """
        pools = Pools(planned)
        same, topology = as_planned(pools, Pools(read)), pools.topology
        networks = dict(planned.networks)
        for name, network in read.networks.items():
            if name in same:
                known = topology.serving(same[name])
                networks[same[name]] = _with_servers(networks[same[name]], network, known)
                continue
            values = {key: getattr(network, key) or getattr(read.defaults, key) for key in DEFAULTS}
            free = name if name not in networks else f"{name}-{network_device(network) or 'read'}"
            networks[free] = network.model_copy(update=values)
            self._names[free] = name
        devices = dict(planned.devices)
        for name, device in read.devices.items():
            devices[name] = _with_interfaces(devices[name], device) if name in devices else device
        return replace(planned, devices=devices, networks=networks)

    def place(self, path: PlanPath) -> Place:
        """Where it is in the plan, or in the configuration that it was read from."""
        if path[:1] == ("devices",) and len(path) > 1:
            return self._place_of_device(path)
        if path[:1] == ("networks",) and len(path) > 1:
            found = self._place_of_network(path)
            if found is not None:
                return found
        return self._planned.place(path) if self._planned else Place(self.files[0])

    def _place_of_device(self, path: PlanPath) -> Place:
        read = self._reads.get(str(path[1]))
        if path[2:3] == (LINES,) and read is not None:
            return read.place(int(path[3]), int(path[4]))
        if self._planned is not None and path[1] in self._planned.plan.devices:
            return self._planned.place(path)
        if read is None:
            return Place(self.files[0])
        return read.place(*spot_in_device(read.lifted, path))

    def _place_of_network(self, path: PlanPath) -> Place | None:
        name = str(path[1])
        if self._planned is not None and name in self._planned.plan.networks:
            return None
        network, there = self.plan.networks[name], self._names.get(name, name)
        wanted = {server.device for server in network.servers}
        if path[2:3] == ("served_by",) and len(path) > 3 and isinstance(path[3], int):
            wanted = set(network.served_by[path[3]].devices)
        holders = [r for r in self._reads.values() if origin_of(r.lifted, there, network.subnet)]
        holders.sort(key=lambda read: read.lifted.name not in wanted)
        for read in holders:
            origin = origin_of(read.lifted, there, network.subnet)
            assert origin is not None
            return read.place(*spot_in_network(origin, path, network))
        return None

    @property
    def reads(self) -> Sequence[ConfigurationRead]:
        """The configuration of each device."""
        return list(self._reads.values())

    @property
    def texts(self) -> Mapping[str, str]:
        """The configuration that was read of each device, by the device's name."""
        return {name: read.text for name, read in self._reads.items()}

    @property
    def is_complete(self) -> bool:
        """Only with a plan: whether all devices' configuration was given can't be known."""
        return self._planned is not None

    @cached_property
    def obstacles(self) -> Sequence[Obstacle]:
        """Lines that were not understood, and what is wrong with the order or place of others."""
        found = [obstacle for read in self._reads.values() for obstacle in self._of(read)]
        if self._planned is not None:
            pools = Pools(self._planned.plan)
            for name, read in self._reads.items():
                if name in self._planned.plan.devices:
                    found += self._otherwise(pools, read)
        return [*found, *self._unbound()]

    def _unbound(self) -> Iterator[Obstacle]:
        """Bindings that one of a network's servers lacks; a plan tells what each should have."""
        planned = self._planned.plan.networks if self._planned is not None else {}
        for found in bindings_missing(self.reads):
            name = self._by_subnet.get(found.subnet)
            if name is not None and name not in planned:
                at: PlanPath = ("devices", found.device, LINES, found.line, 1)
                message = f"{found.device} {found.lacks} in {name}, but {found.other} does"
                witness = replace(found.witness, network=name)
                yield Obstacle("binding-missing", message, at, witness)

    def _otherwise(self, pools: Pools, read: ConfigurationRead) -> Iterator[Obstacle]:
        """What a device of the plan does otherwise than planned."""
        for found in otherwise(pools, read):
            at: PlanPath = ("networks", found.network)
            if found.line:
                at = ("devices", read.lifted.name, LINES, found.line, 1)
            is_planned = found.network in pools.plan.networks
            name = found.network if is_planned else self._known_as(read, found.network)
            witness = replace(found.witness, network=name)
            yield Obstacle("running-differs", found.message, at, witness)

    def _of(self, read: ConfigurationRead) -> Iterator[Obstacle]:
        """What only the text of one device's configuration shows."""
        device = read.lifted.name
        homes = _Homes(read.lifted) if read.not_understood else None
        strays = {(fact.line, fact.column) for fact in read.lifted.strays}
        for unread in read.not_understood:
            if (unread.line, unread.column) in strays:
                continue  # a rule of its own reports it
            assert homes is not None
            at: PlanPath = ("devices", device, LINES, unread.line, unread.column)
            network = self._known_as(read, homes.of(unread))
            what = "depends" if network else "depends-anywhere"
            witness = Witness(what, network, also=device)
            yield Obstacle("line-not-understood", unread.message, at, witness, states=unread.states)
        for fault in faults_in(read.lifted, read.reading.device, read.sheet):
            at = ("devices", device, LINES, fault.line, fault.column)
            network = self._known_as(read, fault.witness.network or "")
            witness = replace(fault.witness, network=network)
            yield Obstacle(fault.rule, fault.message, at, witness)

    def _known_as(self, read: ConfigurationRead, name: str) -> str | None:
        """The name that a device's network has in the plan; None for none."""
        if not name:
            return None
        planned = self._as_planned.get(read.lifted.name, {})
        if name in planned:
            return planned[name]
        network = read.lifted.networks[name]
        key = network.vrf, network.subnet.subnet
        for known in (f"{name}-{read.lifted.name}", name):
            there = self.plan.networks.get(known)
            if there is not None and (there.vrf, there.subnet.subnet) == key:
                return known
        return self._by_subnet[key]

    @cached_property
    def _as_planned(self) -> Mapping[str, Mapping[str, str]]:
        """The plan's networks that those of each device are, by the device's names for them."""
        if self._planned is None:
            return {}
        pools = Pools(self._planned.plan)
        return {name: as_planned(pools, Pools(r.lifted.plan())) for name, r in self._reads.items()}

    def lines_of(self, edit: Edit) -> Sequence[LineChange]:
        """None beside a plan: that is what is to be edited then."""
        if self._planned is not None:
            return ()
        return changed_lines(self.plan, edit, self._reads)


def _by_subnet(plan: Plan) -> dict[tuple[str, Prefix], str]:
    """The name of the network that has a subnet of a VRF; the first, if several have."""
    networks = reversed(list(plan.networks.items()))
    return {(network.vrf, network.subnet.subnet): name for name, network in networks}


def network_device(network: Network) -> str | None:
    """The device that serves a network first."""
    return next((server.device for server in network.servers), None)


def _with_servers(planned: Network, read: Network, known: set[str]) -> Network:
    """The plan's network, also served by devices whose configuration does, besides the known."""
    known = known | {server.device for server in planned.servers}
    ranges = own_ranges(read)
    more = [service.model_copy(update={"ranges": ranges}) for service in read.served_by]
    added = tuple(service for service in more if known.isdisjoint(service.devices))
    if not added:
        return planned
    stated = planned.served_by or tuple(Service(device=device) for device in sorted(known))
    return planned.model_copy(update={"served_by": (*stated, *added)})


def _with_interfaces(planned: Device, read: Device) -> Device:
    """The plan's device, with the interfaces that only its configuration has."""
    held = {prefix.address for i in planned.interfaces.values() for prefix in i.addresses}
    more = {
        name: interface
        for name, interface in read.interfaces.items()
        if name not in planned.interfaces
        and held.isdisjoint(prefix.address for prefix in interface.addresses)
    }
    return planned.model_copy(update={"interfaces": {**planned.interfaces, **more}})


class _Homes:
    """Finds the network that a line of a device's configuration is about."""

    def __init__(self, lifted: Lifted) -> None:
        self._names = {
            fact.place: name
            for name, origin in lifted.origins.items()
            for owner in (*origin.pools, *origin.bindings)
            for fact in (owner, *owner.walk())
        }

    def of(self, unread: NotUnderstood) -> str:
        """The network's name on the device; nothing if it isn't about one."""
        return self._names.get(unread.within.place, "") if unread.within is not None else ""
