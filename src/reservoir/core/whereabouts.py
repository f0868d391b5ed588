"""Where things are in a plan: what an address, a client, a VLAN tag or a name is, and where.

Nothing is judged here: what clashes is what the findings about it say.
"""

from __future__ import annotations

import fnmatch
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from reservoir.core.findings import Finding
from reservoir.core.in_use import AddressInUse, addresses_in_use
from reservoir.core.leases.table import LeaseTable
from reservoir.core.plan.hosts import FIRST_IDENTIFIER, HostTable
from reservoir.core.plan.model import Network, PlanPath
from reservoir.core.plan.offered import SHORT_FOR
from reservoir.core.pools import Pool, Pools
from reservoir.core.space import USUAL_BLOCK, Space
from reservoir.core.values.addresses import Prefix, Span, format_address
from reservoir.core.values.clients import ETHERNET, Client, Mac
from reservoir.core.values.text_column import TextColumn
from reservoir.core.wording import counted, listed


class Thing(NamedTuple):
    """Something that a plan says of what was asked."""

    role: str
    """What it is: ``bound``, ``gateway``, ``assignable``, ``interface``, ``network`` and so on."""
    what: str
    """In words."""
    path: PlanPath
    """Where the plan says it."""
    network: str | None = None
    address: int | None = None
    """The address that it is about."""


class Served(NamedTuple):
    """A server of a network, and how it hears the clients there."""

    network: str
    server: str
    way: str


@dataclass(frozen=True)
class Answer:
    """All that is known of what was asked."""

    asked: str
    kind: str
    """``address``, ``addresses``, ``client``, ``tag`` or ``name``."""
    things: Sequence[Thing] = ()
    servers: Sequence[Served] = ()
    leases: Sequence[int] = ()
    """Rows of the lease list."""
    nearest: str | None = None
    """Of addresses that are in no network, the one that is nearest."""
    free: Span | None = None
    """The stretch of addresses around them of which the plan says nothing."""
    span: Span | None = None
    """The addresses that were asked for."""
    client: Client | None = None
    findings: Sequence[Finding] = ()

    @property
    def is_known(self) -> bool:
        """Whether the plan or the lease list says anything of it."""
        return bool(self.leases or self.things)

    def with_findings(self, findings: Sequence[Finding]) -> Answer:
        """The answer with those of some findings that are about it."""
        return replace(self, findings=[f for f in findings if self._is_about(f)])

    def _is_about(self, finding: Finding) -> bool:
        """Whether a finding is about it: its address, its client or its place."""
        witness = finding.witness
        if witness is not None:
            at_stake = witness.address
            if self.span is not None and at_stake is not None and self.span.holds(at_stake):
                return True
            if self.client is not None and witness.client == self.client:
                return True
        if finding.network in {thing.network for thing in self.things if thing.role == "network"}:
            return True
        classes = {thing.path[-1] for thing in self.things if thing.role == "class"}
        if witness is not None and witness.member_of in classes:
            return True
        if finding.at[2:3] == ("by_class",) and classes.intersection(finding.at[3:4]):
            return True
        return any(finding.at[: len(thing.path)] == thing.path for thing in self.things)


class Whereabouts:
    """Everything that a plan names, found by address, client, tag or name."""

    def __init__(self, pools: Pools, space: Space, leases: LeaseTable | None = None) -> None:
        """Take a plan's pools and address space, and perhaps who has which address."""
        self._pools, self._space, self._leases = pools, space, leases
        self._plan = pools.plan

    # Addresses.

    def addresses(self, asked: str, span: Span) -> Answer:
        """What is known of an address, or of a stretch of them.

        Args:
            asked: What was asked, as it was written.
            span: The addresses.
        """
        places = [
            (index, Span(max(span.first, subnet.first), min(span.last, subnet.last)))
            for index, network in enumerate(self._pools.networks)
            for subnet in [network.subnet.span]
            if span.first <= subnet.last and subnet.first <= span.last
        ]
        is_one = span.first == span.last
        things: list[Thing] = []
        for index, here in places:
            things += self._roles(index, here.first) if is_one else self._part(index, here)
        things += self._held(span) if is_one else self._routes(span)
        if not places:
            things += self._links(span)
        leases = self._leased(span)
        is_silent = all(thing.role in ("free", "link") for thing in things)
        return Answer(
            asked,
            "address" if is_one else "addresses",
            things,
            [served for index, _ in places for served in self._served(index)],
            leases,
            None if places or things or leases else self._nearest(span),
            self._free_around(span) if is_silent else None,
            span,
        )

    def _roles(self, index: int, address: int) -> Iterator[Thing]:
        """What an address is for in a network."""
        name, network = self._pools.names[index], self._pools.networks[index]
        found = [*self._stated(name, network, address), *self._assigned(index, address)]
        yield from found
        at = ("networks", name, "subnet")
        if network.subnet.is_edge(address):
            edge = network.subnet.edge_word(address)
            yield Thing("edge", f"the {edge} address of {name}", at, name, address)
        elif not found and not self._is_known(index, address):
            yield Thing("free", f"free in {name}", at, name, address)

    def _is_known(self, index: int, address: int) -> bool:
        """Whether anything in a network's VRF has an address, is bound to it, or names it."""
        pools, vrf = self._pools, int(self._pools.vrf_numbers[index])
        is_bound = bool(pools.bindings_by_address.at(vrf, address))
        named = (use for use in self._in_use if (use.vrf, use.address) == (vrf, address))
        return is_bound or address in pools.taken(index) or next(named, None) is not None

    def _stated(self, name: str, network: Network, address: int) -> Iterator[Thing]:
        """What a network says of an address itself."""
        if network.gateway == address:
            path = ("networks", name, "gateway")
            yield Thing("gateway", f"the gateway of {name}", path, name, address)
        for place, exclusion in enumerate(network.exclusions):
            if exclusion.range.holds(address):
                why = f" for {exclusion.reason}" if exclusion.reason else ""
                at = ("networks", name, "exclusions", place)
                yield Thing("excluded", f"excluded in {name}{why}", at, name, address)

    def _assigned(self, index: int, address: int) -> Iterator[Thing]:
        """Who assigns an address in a network, and to whom."""
        name, by = self._pools.names[index], dict[tuple[str, PlanPath], list[str]]()
        for pool in self._pools.by_network[index]:
            if address in pool.assignable:
                by.setdefault((_whom(pool, address), pool.ranges_path), []).append(
                    pool.server or "nobody"
                )
        for (whom, path), servers in by.items():
            what = f"assignable{whom} in {name}, by {listed(servers)}"
            yield Thing("assignable", what, path, name, address)

    def _held(self, span: Span) -> Iterator[Thing]:
        """Who has set an address, is bound to it, or is expected there."""
        topology, address = self._pools.topology, span.first
        for holder in (each for each in topology.addressed if each.address == address):
            home, what = topology.home_of(holder), f"the address of {holder}"
            yield Thing("interface", what, holder.address_path, home, address)
        for holder in (each for each in topology.virtual if each.address == address):
            home, what = topology.home_of(holder), f"the virtual address of {holder}"
            yield Thing("virtual", what, (*holder.path, "virtual"), home, address)
        for role, table in (("static", self._pools.static), ("bound", self._pools.bindings)):
            for row in np.flatnonzero(table.address == address).tolist():
                yield self._machine(role, table, row)
        for use in self._in_use:
            if use.address == address:
                yield Thing("used", use.role, use.path, None, address)

    @cached_property
    def _in_use(self) -> Sequence[AddressInUse]:
        return list(addresses_in_use(self._pools))

    def _links(self, span: Span) -> Iterator[Thing]:
        """The interfaces that have some addresses on their link, which is no network's."""
        for attachment in self._pools.topology.addressed:
            link = attachment.prefix.span
            if link.first <= span.first and span.last <= link.last:
                what = f"on the link of {attachment}, which is {attachment.prefix}"
                yield Thing("link", what, attachment.address_path)

    def _machine(self, role: str, table: HostTable, row: int) -> Thing:
        """A bound client, or a static host."""
        name, address = self._pools.names[int(table.network[row])], int(table.address[row])
        who = table.name[row]
        if role == "bound":
            who = " ".join(filter(None, (who, f"({table.client_text(row)})")))
        there = format_address(address)
        what = f"{who or 'a static host'}, bound to {there} in {name}"
        if role == "static":
            what = f"{who or 'a machine'}, which has set {there} itself in {name}"
        return Thing(role, what, table.path(row), name, address)

    def _part(self, index: int, span: Span) -> Iterator[Thing]:
        """How many addresses of a stretch are for what in a network."""
        name = self._pools.names[index]
        whole = self._pools.networks[index].subnet.span == span
        of = f"the subnet of {name}" if whole else f"{span} in {name}"
        at = ("networks", name, "subnet")
        yield Thing("network" if whole else "part", f"{of}: {self._counts(name, span)}", at, name)

    def _counts(self, name: str, span: Span) -> str:
        """How many addresses of a network are for what, in a stretch of them."""
        kinds = self._space.network(name).kinds.items()
        parts = ((kind, some.clipped(span)) for kind, some in kinds)
        counts = [f"{len(some):,} {kind}" for kind, some in parts if some]
        return listed(counts) if counts else "no host address"

    def _routes(self, span: Span) -> Iterator[Thing]:
        """The routes that lead just there."""
        for device, its in self._plan.devices.items():
            for place, route in enumerate(its.routes):
                if route.to.subnet.span == span:
                    what = f"{device} sends it to {format_address(route.via)}"
                    yield Thing("route", what, ("devices", device, "routes", place))

    def _served(self, index: int) -> Iterator[Served]:
        """Who serves a network, and how each hears its clients."""
        name, network = self._pools.names[index], self._pools.networks[index]
        for pool in self._pools.by_network[index]:
            if pool.server is None:
                continue
            reach = self._pools.topology.reach(pool.server, network)
            if reach is None:
                way = "nothing in the plan leads to it"
            elif reach.own is not None:
                way = f"at its interface {reach.own.interface}"
            else:
                way = f"through the relay of {reach.relay}"
            serving = pool.serving
            if serving is not None and serving.is_paired:
                partner = serving.partner or format_address(serving.partner_at or 0)
                way += f", in a pair with {partner}"
            yield Served(name, pool.server, way)

    def _leased(self, span: Span) -> Sequence[int]:
        if self._leases is None:
            return ()
        address = self._leases.address
        rows: list[int] = np.flatnonzero((address >= span.first) & (address <= span.last)).tolist()
        return rows

    def _nearest(self, span: Span) -> str | None:
        """The network whose subnet is the nearest to some addresses that are in none."""

        def distance(network: Network) -> int:
            there = network.subnet.span
            return max(there.first - span.last, span.first - there.last)

        networks = self._plan.networks
        return min(networks, key=lambda name: distance(networks[name]), default=None)

    def _free_around(self, span: Span) -> Span | None:
        """The stretch around some addresses that has nothing of the plan; None if they have."""
        for index, network in enumerate(self._pools.networks):
            if network.subnet.span.holds(span.first):
                gaps = self._space.network(self._pools.names[index]).kinds["free"].spans()
                break
        else:
            block = Prefix(span.first, USUAL_BLOCK).span
            gaps = self._space.used.complement_within(block).spans()
        return next((g for g in gaps if g.holds(span.first) and g.holds(span.last)), None)

    # Clients, tags and names.

    def client(self, asked: str, client: Client) -> Answer:
        """What is known of a client; a MAC address is also the identifier made of it."""
        table = self._pools.bindings
        rows = _rows_of(table.client, table.identifiers, client)
        things = [self._machine("bound", table, row) for row in rows]
        things += self._member_of(client)
        leased: Sequence[int] = ()
        if self._leases is not None:
            leased = _rows_of(self._leases.client, self._leases.identifiers, client)
        indexes = dict.fromkeys(int(table.network[row]) for row in rows)
        servers = [served for index in indexes for served in self._served(index)]
        return Answer(asked, "client", things, servers, leased, client=client)

    def _member_of(self, client: Client) -> Iterator[Thing]:
        """The classes that a client is in by its MAC address alone."""
        for name, its in self._plan.classes.items():
            words = its.words
            beginning = words.mac
            if beginning is None or not isinstance(client, Mac) or len(words.said) > 1:
                continue
            if client.to_bytes(6, "big").startswith(beginning):
                yield Thing("class", f"a member of class {name}", ("classes", name))

    def tag(self, asked: str, tag: int) -> Answer:
        """What has a VLAN tag."""
        things = [
            self._network(name)
            for name, network in self._plan.networks.items()
            if network.vlan == tag
        ]
        indexes = [self._pools.place_of(str(thing.network)) for thing in things]
        for device, its in self._plan.devices.items():
            for name, interface in its.interfaces.items():
                if interface.vlan == tag:
                    at = ("devices", device, "interfaces", name)
                    things.append(Thing("interface", f"{device} {name}", at))
        servers = [served for index in indexes for served in self._served(index)]
        return Answer(asked, "tag", things, servers)

    def name(self, asked: str) -> Answer:
        """What is called so; ``*`` and ``?`` stand for any characters, and case doesn't matter."""
        pattern = asked.casefold()
        is_pattern = any(sign in asked for sign in "*?[")

        def fits(name: str) -> bool:
            said = name.casefold()
            return said == pattern or (is_pattern and fnmatch.fnmatchcase(said, pattern))

        def called(column: TextColumn) -> list[int]:
            """The rows of a column of names that fit; empty ones are none."""
            lengths = column.lengths
            near = lengths > 0 if is_pattern or not asked.isascii() else lengths == len(asked)
            return [row for row in np.flatnonzero(near).tolist() if fits(column[row])]

        things = [self._network(name) for name in filter(fits, self._plan.networks)]
        things += [thing for names, thing in self._named() if any(map(fits, names))]
        for role, table in (("static", self._pools.static), ("bound", self._pools.bindings)):
            hosts = (row for row, name in self._host_names(table) if fits(name))
            rows = dict.fromkeys([*called(table.name), *hosts])
            things += [self._machine(role, table, row) for row in rows]
        networks = [t.network for t in things if t.role == "network" and t.network is not None]
        servers = [s for name in networks for s in self._served(self._pools.place_of(name))]
        leased: Sequence[int] = ()
        if self._leases is not None:
            leased = called(self._leases.name)
        return Answer(asked, "name", things, servers, leased)

    @staticmethod
    def _host_names(table: HostTable) -> Iterator[tuple[int, str]]:
        """The host names that clients are offered (RFC 2132 section 3.14), by their rows."""
        for row, own in table.own.items():
            name = own.options.get(SHORT_FOR["hostname"])
            if name:
                yield row, name.decode(errors="replace")

    def _network(self, name: str) -> Thing:
        """A network in a few words."""
        network = self._plan.networks[name]
        tag = f", VLAN {network.vlan}" if network.vlan is not None else ""
        vrf = f", VRF {network.vrf}" if network.vrf else ""
        counts = self._counts(name, network.subnet.span)
        what = f"{name}, {network.subnet}{tag}{vrf}: {counts}"
        return Thing("network", what, ("networks", name), name)

    def _named(self) -> Iterator[tuple[Sequence[str], Thing]]:
        """All that has a name, but for networks and machines, with what it may be called."""
        vrfs: dict[str, list[str]] = {}
        for name, network in self._plan.networks.items():
            vrfs.setdefault(network.vrf, []).append(name)
        vrfs.pop("", None)
        for vrf, names in vrfs.items():
            what = f"{vrf}, of {listed(names)}"
            yield [vrf], Thing("vrf", what, ("networks", names[0], "vrf"))
        for name in self._plan.classes:
            where = [n for n, net in self._plan.networks.items() if name in net.by_class]
            what = name + (f", told apart in {listed(where)}" if where else "")
            yield [name], Thing("class", what, ("classes", name))
        for device, its in self._plan.devices.items():
            pools = self._pools.served_by(device)
            of = f" ({its.dialect})" if its.dialect else ""
            names = list(dict.fromkeys(pool.name for pool in pools))
            serves = listed(names) if names else "nothing"
            what = f"{device}{of}, with {counted(len(its.interfaces), 'interface')}"
            yield [device], Thing("device", f"{what}; serves {serves}", ("devices", device))
            for name, interface in its.interfaces.items():
                addresses = ", ".join(map(str, interface.addresses))
                what = ", ".join(filter(None, (f"{device} {name}", addresses)))
                at = ("devices", device, "interfaces", name)
                yield (
                    [name, f"{device} {name}", f"{device}.{name}"],
                    Thing("interface", what, at),
                )
            for name in its.zones:
                at = ("devices", device, "zones", name)
                yield [name], Thing("zone", f"{name} of {device}", at)


def _whom(pool: Pool, address: int) -> str:
    """To whom a pool assigns an address, if not to everybody."""
    by_class = pool.by_class
    if by_class is None or address in by_class.others:
        return ""
    names = [its.name for its in by_class.classes if address in its.assignable]
    return f" to {listed(names)}"


def _rows_of(clients: NDArray[np.int64], identifiers: Sequence[bytes], client: Client) -> list[int]:
    """The rows of a column of clients that are one: by its MAC, or the identifier made of it."""
    own = client.identifier if isinstance(client, Mac) else client
    numbers = [FIRST_IDENTIFIER + place for place, known in enumerate(identifiers) if known == own]
    if len(own) == 7 and own[0] == ETHERNET:
        numbers.append(int.from_bytes(own[1:], "big"))
    rows: list[int] = np.flatnonzero(np.isin(clients, numbers)).tolist()
    return rows
