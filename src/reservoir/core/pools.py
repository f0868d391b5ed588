"""What each server may assign in each network, and what clients there are offered.

This is the only place that says it. Checks, writers, readers, rehearsal and sizing all ask here.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property, reduce
from itertools import groupby
from typing import Literal, overload

import numpy as np
from numpy.typing import NDArray

from reservoir.core.by_class import ByClass
from reservoir.core.offers import Offer, offer_in
from reservoir.core.plan.hosts import ByAddress, Groups, HostTable, joined, ordered
from reservoir.core.plan.listed_hosts import listed_bindings, listed_static
from reservoir.core.plan.model import Network, Plan, PlanPath, Server
from reservoir.core.plan.own_values import OwnValues
from reservoir.core.topology import Topology
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.address_sets import SPACE, AddressSets
from reservoir.core.values.addresses import Span
from reservoir.core.values.clients import Client

Named = tuple[Span, ...] | Literal["all"]
"""Ranges as a plan writes them."""


@dataclass(frozen=True)
class Pool:
    """What one server assigns in one network; or would, where no device serves it."""

    name: str
    """The network's name in the plan."""
    network: Network
    serving: Server | None
    """The device that serves it, as the plan names it."""
    named: Named
    """The ranges that this server has of the network, as they are written."""
    ranges: AddressSet
    """What they name, before anything is excluded."""
    assignable: AddressSet
    """What any client may get: ranges less exclusions, bound, network and broadcast addresses."""
    by_class: ByClass | None
    """What it assigns and offers the members of classes, if the network tells any apart."""
    bindings: NDArray[np.int64]
    """Rows of the table :attr:`Pools.bindings`, shape (n,)."""
    offer: Offer

    @property
    def server(self) -> str | None:
        """The device that serves it, if one does."""
        return self.serving.device if self.serving else None

    @property
    def path(self) -> PlanPath:
        """The path of the network in the plan."""
        return ("networks", self.name)

    @property
    def server_path(self) -> PlanPath:
        """The path of the server's name; of the network, where the plan leaves it out."""
        return (*self.path, *(self.serving.path if self.serving else ()))

    @cached_property
    def ranges_path(self) -> PlanPath:
        """The path of the list of ranges that this server assigns from."""
        if self.serving is not None and self.serving.ranges is not None:
            return (*self.path, *self.serving.path[:2], "ranges")
        return (*self.path, "ranges")

    @property
    def common(self) -> AddressSet:
        """What clients of no class may get."""
        return self.assignable if self.by_class is None else self.by_class.others

    @property
    def shared(self) -> AddressSet:
        """What is no class's own, if some client may get it."""
        return self.assignable if self.by_class is None else self.by_class.shared

    def keeps_in_step_with(self, other: Pool) -> bool:
        """Whether both are the pools of a pair, each of which knows the other's leases."""
        partner = self.serving.partner if self.serving else None
        return self.name == other.name and partner is not None and partner == other.server


class Pools(Sequence[Pool]):
    """The pools of a plan, in its order of networks and servers, and its machines in two tables.

    A network that no device serves has one pool without a server, so that its ranges are still
    checked.
    """

    def __init__(self, plan: Plan) -> None:
        """Build the tables; the pools follow when they are asked for."""
        self.plan = plan
        self.topology = Topology(plan)
        self.names = list(plan.networks)
        self.networks = list(plan.networks.values())
        self.bindings = joined([listed_bindings(plan), plan.bulk_bindings])
        self.static = joined([listed_static(plan), plan.bulk_static])
        self._bound = Groups(self.bindings.network, len(self.networks))
        self._static_groups = Groups(self.static.network, len(self.networks))

    def __len__(self) -> int:
        return len(self._pools)

    @overload
    def __getitem__(self, index: int) -> Pool: ...
    @overload
    def __getitem__(self, index: slice) -> Sequence[Pool]: ...
    def __getitem__(self, index: int | slice) -> Pool | Sequence[Pool]:
        return self._pools[index]

    @cached_property
    def vrf_numbers(self) -> NDArray[np.int64]:
        """For each network, in the plan's order, the number of its VRF: shape (networks,)."""
        numbers: dict[str, int] = {}
        return np.array(
            [numbers.setdefault(network.vrf, len(numbers)) for network in self.networks],
            dtype=np.int64,
        )

    @cached_property
    def vrf_of(self) -> Mapping[str, int]:
        """The number of the VRF that each name stands for."""
        vrfs = zip(self.networks, self.vrf_numbers.tolist(), strict=True)
        return {network.vrf: number for network, number in vrfs}

    @cached_property
    def subnet_spans(self) -> NDArray[np.int64]:
        """The first and last address of each network's subnet, shape (networks, 2)."""
        spans = [network.subnet.span for network in self.networks]
        return np.array(spans, dtype=np.int64).reshape(-1, 2)

    def outside_subnet(self, table: HostTable) -> NDArray[np.bool_]:
        """Whether each machine's address is outside its network's subnet, shape (n,)."""
        first, last = self.subnet_spans[table.network].T
        outside: NDArray[np.bool_] = (table.address < first) | (table.address > last)
        return outside

    def on_edge(self, table: HostTable) -> NDArray[np.bool_]:
        """Whether each machine's address is its network's network or broadcast address, shape (n,).

        A /31 (RFC 3021) and a /32 have no edges.
        """
        first, last = self.subnet_spans[table.network].T
        edge: NDArray[np.bool_] = (table.address == first) | (table.address == last)
        edge &= last - first > 1
        return edge

    def own_in(self, index: int) -> Mapping[int, OwnValues]:
        """What clients bound in the network at this place are offered otherwise, by their rows."""
        return self._own.get(index, {})

    @cached_property
    def _own(self) -> dict[int, dict[int, OwnValues]]:
        found: dict[int, dict[int, OwnValues]] = {}
        for row, own in self.bindings.own.items():
            found.setdefault(int(self.bindings.network[row]), {})[row] = own
        return found

    def offer_to(self, name: str, client: Client | None) -> Offer:
        """What a client is offered in the network of this name."""
        index = self.place_of(name)
        own = self.own_in(index).items() if client is not None else ()
        its = (values for row, values in own if self.bindings.client_at(row) == client)
        values = next(its, None)
        return self.offers[index].with_own(values) if values is not None else self.offers[index]

    def own_offers(self, pool: Pool) -> dict[Client, Offer]:
        """What the clients of a pool's bindings are offered that have values of their own."""
        rows = self.own_in(self.place_of(pool.name))
        return {self.bindings.client_at(row): pool.offer.with_own(own) for row, own in rows.items()}

    @cached_property
    def bindings_by_address(self) -> ByAddress:
        """The rows of the bindings, found by VRF and address."""
        return ByAddress(self.vrf_numbers[self.bindings.network], self.bindings.address)

    @cached_property
    def static_by_address(self) -> ByAddress:
        """The rows of the static hosts, found by VRF and address."""
        return ByAddress(self.vrf_numbers[self.static.network], self.static.address)

    def owner(self, row: int) -> str:
        """The machine that a static host is another name of; its own name, if of none."""
        return self._owners.get(row) or self.static.name[row]

    def device_at(self, row: int) -> str | None:
        """The device that a static host is by its owner or its name; None if it is none.

        That is the device's name alone, in a domain (``pier.sable.example``), or with a port of it
        (``pier deck``, ``pier-deck``): a name that only begins like a device's may be anything.
        """
        owner, devices = self.owner(row), self.plan.devices
        if owner in devices:
            return owner
        for found in re.finditer("[ ._-]", owner):
            name, rest = owner[: found.start()], owner[found.end() :]
            if name in devices and (found[0] == "." or rest in devices[name].interfaces):
                return name
        return None

    @cached_property
    def _owners(self) -> dict[int, str]:
        """The owners that the plan states, by the row; those of tables come after these."""
        listed = (host for network in self.networks for host in network.static)
        return {row: host.owner for row, host in enumerate(listed) if host.owner is not None}

    def static_in(self, index: int) -> NDArray[np.int64]:
        """The static addresses in the subnet of the network at this place, sorted, shape (n,)."""
        if not len(self.static):
            return self.static.address
        span = self.networks[index].subnet.span
        return self.static.address[
            self.static_by_address.within(int(self.vrf_numbers[index]), span)
        ]

    def bound_rows(self, index: int) -> NDArray[np.int64]:
        """Rows of the bindings of the network at this place in the plan's order."""
        return self._bound.rows(index)

    def static_rows(self, index: int) -> NDArray[np.int64]:
        """Rows of the static hosts of the network at this place in the plan's order."""
        return self._static_groups.rows(index)

    @cached_property
    def reserved(self) -> AddressSets:
        """What is never assigned dynamically in each network: exclusions and bound addresses."""
        excluded = AddressSets.of_spans(
            [[exclusion.range for exclusion in network.exclusions] for network in self.networks]
        )
        table = self.bindings
        return excluded | AddressSets.of_addresses(table.network, table.address, len(excluded))

    def taken(self, index: int) -> AddressSet:
        """Addresses that are taken there: gateway, static hosts, devices' interfaces."""
        network = self.networks[index]
        held = [attachment.address for attachment in self.topology.attachments(network)]
        held += [shared.address for shared in self.topology.sharing(network)]
        if network.gateway is not None:
            held.append(network.gateway)
        fixed = self.static_in(index)
        return AddressSet.of_addresses(np.concatenate([np.array(held, np.int64), fixed]))

    def held_at_most(self, index: int) -> int:
        """As many addresses are taken there at most: quicker than to say which."""
        network = self.networks[index]
        attached = [*self.topology.attachments(network), *self.topology.sharing(network)]
        return len(attached) + 1 + len(self.static_in(index))

    @cached_property
    def offers(self) -> list[Offer]:
        """What clients of each network are offered: its own values, else the plan's defaults."""
        return [offer_in(self.plan, network) for network in self.networks]

    def offer_in(self, name: str) -> Offer:
        """What clients of the network of this name are offered."""
        return offer_in(self.plan, self.plan.networks[name])

    @cached_property
    def _pools(self) -> tuple[Pool, ...]:
        places = [
            (index, serving)
            for index, name in enumerate(self.names)
            for serving in self.topology.servers(name) or (None,)
        ]
        owners = [index for index, _ in places]
        named = [_named(self.networks[index], serving) for index, serving in places]
        hosts = [(network.subnet.hosts,) for network in self.networks]
        of_classes = self._class_spans
        ranges = AddressSets.of_spans(
            [
                (*(hosts[i] if some == "all" else some), *of_classes.get(i, ()))
                for i, some in zip(owners, named, strict=True)
            ]
        ) - self._held_in_whole(owners, named)
        frames = AddressSets.of_spans([hosts[index] for index in owners])
        assignable = (ranges & frames) - self.reserved.at(owners)
        made = []
        for place, (index, serving) in enumerate(places):
            its, own = assignable[place], ranges[place]
            network, offer = self.networks[index], self.offers[index]
            by_class = None
            if network.tells_apart:
                if serving is not None and serving.ranges is not None:
                    own &= AddressSet(serving.ranges) if serving.ranges != "all" else own
                by_class = ByClass.of(self.plan, self.names[index], its & own, offer)
                its = by_class.assignable
            made.append(
                Pool(
                    name=self.names[index],
                    network=network,
                    serving=serving,
                    named=named[place],
                    ranges=own,
                    assignable=its,
                    by_class=by_class,
                    bindings=self.bound_rows(index),
                    offer=offer,
                )
            )
        return tuple(made)

    @cached_property
    def _class_spans(self) -> dict[int, list[Span]]:
        """The ranges that networks have for members of classes, by the networks' places."""
        return {
            index: [span for answers in network.by_class.values() for span in answers.ranges]
            for index, network in enumerate(self.networks)
            if network.by_class
        }

    def _held_in_whole(self, owners: Sequence[int], named: Sequence[Named]) -> AddressSets:
        """What is taken, for each pool that assigns the whole subnet."""
        return AddressSets.of_spans(
            [
                self.taken(index).spans() if some == "all" else ()
                for index, some in zip(owners, named, strict=True)
            ]
        )

    def of(self, name: str) -> list[Pool]:
        """The pools of the network of this name."""
        return self.by_network[self.place_of(name)]

    def place_of(self, name: str) -> int:
        """Where the network of this name is in the plan's order."""
        return self._places[name]

    @cached_property
    def _places(self) -> Mapping[str, int]:
        """Where each network is in the plan's order."""
        return {name: place for place, name in enumerate(self.names)}

    def served_by(self, device: str) -> list[Pool]:
        """The pools that this device assigns from."""
        return self._by_server.get(device, [])

    @cached_property
    def _by_server(self) -> dict[str | None, list[Pool]]:
        found: dict[str | None, list[Pool]] = {}
        for pool in self:
            found.setdefault(pool.server, []).append(pool)
        return found

    @cached_property
    def by_network(self) -> list[list[Pool]]:
        """The pools of each network, in the plan's order; one at least."""
        return [list(group) for _, group in groupby(self, key=lambda pool: pool.name)]

    def assignable_in(self, index: int) -> AddressSet:
        """What any server may assign in the network at this place in the plan's order."""
        pools = self.by_network[index]
        return reduce(AddressSet.__or__, (pool.assignable for pool in pools))

    def containing(
        self, vrfs: NDArray[np.int64], addresses: NDArray[np.int64]
    ) -> Iterator[tuple[Pool, NDArray[np.int64]]]:
        """The pools that some of many addresses are in, each with the places of those.

        Args:
            vrfs: The numbers of the addresses' VRFs, shape (n,).
            addresses: The addresses, shape (n,).
        """
        keys = (vrfs << SPACE) + addresses
        order = ordered(keys)
        begins, ends = np.searchsorted(keys[order], self._assignable_edges)
        for place in np.flatnonzero(ends > begins).tolist():
            pool, near = self[place], order[begins[place] : ends[place]]
            inside = near[pool.assignable.contains(addresses[near])]
            if len(inside):
                yield pool, np.sort(inside)

    @cached_property
    def _assignable_edges(self) -> NDArray[np.int64]:
        """The first address of each pool and the one past its last, behind its VRF: (2, pools)."""
        edges = [
            (self.vrf_of[pool.network.vrf], pool.assignable.first, pool.assignable.last + 1)
            if pool.assignable
            else (0, 0, 0)
            for pool in self
        ]
        vrfs, firsts, stops = np.array(edges, dtype=np.int64).reshape(-1, 3).T
        return np.stack([firsts, stops]) + (vrfs << SPACE)

    def clients_bound(self, pool: Pool) -> list[tuple[Client, int]]:
        """The pool's bindings: clients and their addresses, in the plan's order."""
        return [
            (self.bindings.client_at(row), int(self.bindings.address[row])) for row in pool.bindings
        ]


def _named(network: Network, serving: Server | None) -> Named:
    """The ranges that a server has of the network, as they are written."""
    return serving.ranges if serving and serving.ranges is not None else network.ranges
