"""One side of a comparison: its networks with all who serve them, and its devices."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property, reduce

from reservoir.core.behaviour import DeviceBehaviour
from reservoir.core.bindings import Bindings
from reservoir.core.compare.notice import NetworkSummary
from reservoir.core.compare.pairing import Described, as_planned, same_networks
from reservoir.core.hearing import Heard, Hearing
from reservoir.core.offers import Offer
from reservoir.core.plan.model import Network, Plan
from reservoir.core.pools import Pool, Pools
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import Prefix, format_address
from reservoir.core.values.clients import Client
from reservoir.core.values.durations import format_duration
from reservoir.core.wording import listed

Key = tuple[str, Prefix, int]
"""A network's VRF and subnet, and how many of the same came before it."""

NOTHING = AddressSet()


@dataclass(frozen=True)
class SidePart:
    """What some devices serve: those of a plan, or one whose configuration was read."""

    pools: Pools
    devices: Collection[str]
    """The devices of which it tells what they serve."""
    unfit: Collection[tuple[str, str]] = ()
    """The devices and networks that can't be served as planned, and so are not."""


@dataclass
class NetworkSide:
    """A network as one side has it."""

    name: str
    network: Network
    pools: dict[str, Pool] = field(default_factory=dict)
    """By the device that serves it."""
    origins: dict[str, Pools] = field(default_factory=dict)
    """By the device the pools that its pool is one of."""
    taken: AddressSet = NOTHING
    """Addresses that machines hold there: interfaces, gateways, static hosts."""
    own: dict[str, Mapping[Client, Offer]] = field(default_factory=dict, repr=False)
    """What :meth:`own_offers` has found."""

    @cached_property
    def assignable(self) -> AddressSet:
        """What any of the servers may assign."""
        return reduce(AddressSet.__or__, (p.assignable for p in self.pools.values()), NOTHING)

    @cached_property
    def bindings(self) -> Bindings:
        """Who is bound to what, at any of the servers."""
        return Bindings(
            [(self.origins[name].bindings, pool.bindings) for name, pool in self.pools.items()]
        )

    @property
    def pairs(self) -> Mapping[tuple[str, str], int | None]:
        """Those that keep their leases in step, the first foremost.

        With the time in seconds after which one takes over.
        """
        servings = {n: p.serving for n, p in self.pools.items() if p.serving is not None}
        return {
            (name, other) if its.leads else (other, name): its.after
            for name, its in servings.items()
            for other in [its.partner]
            if other is not None and other in servings and servings[other].partner == name
        }

    @property
    def paired_devices(self) -> Collection[str]:
        """The servers that are in a pair."""
        return {*(device for pair in self.pairs for device in pair), *self.half_known}

    @property
    def half_known(self) -> Mapping[str, int]:
        """The servers in a pair with what doesn't serve it as far as is known, and its address."""
        both = {device for pair in self.pairs for device in pair}
        return {
            name: pool.serving.partner_at
            for name, pool in self.pools.items()
            if pool.serving is not None and pool.serving.partner_at is not None
            if name not in both
        }

    @property
    def servers(self) -> str:
        """Who serves it, in words; those that keep their leases in step as a pair."""
        both = {device for pair in self.pairs for device in pair}
        alone = [self._in_words(name) for name in self.pools if name not in both]
        times = {
            pair: f", after {format_duration(s)}" if s else "" for pair, s in self.pairs.items()
        }
        return listed([*alone, *(f"the pair of {listed(p)}{time}" for p, time in times.items())])

    def _in_words(self, device: str) -> str:
        """A server, and where its partner is that doesn't serve it as far as is known."""
        partner = self.half_known.get(device)
        return device if partner is None else f"{device} in a pair with {format_address(partner)}"

    @cached_property
    def gateways(self) -> set[int]:
        """The gateways that clients are offered there."""
        offered = (pool.offer.gateway for pool in self.pools.values())
        return {gateway for gateway in offered if gateway is not None}

    def bindings_at(self, device: str) -> Bindings:
        """Who is bound to what at one of the servers."""
        return Bindings([(self.origins[device].bindings, self.pools[device].bindings)])

    def own_offers(self, device: str) -> Mapping[Client, Offer]:
        """What bound clients are offered by one of the servers that have values of their own."""
        if device not in self.own:
            self.own[device] = self.origins[device].own_offers(self.pools[device])
        return self.own[device]

    def without(self, devices: Collection[str]) -> NetworkSide:
        """The same as if these didn't serve it."""
        if not devices:
            return self
        left = {name: pool for name, pool in self.pools.items() if name not in devices}
        return NetworkSide(self.name, self.network, left, self.origins, self.taken)

    @property
    def summary(self) -> NetworkSummary:
        """What it is, in numbers."""
        counts = [len(pool.bindings) for pool in self.pools.values()]
        return NetworkSummary(
            self.name,
            self.network.subnet,
            tuple(self.pools),
            len(self.assignable),
            max(counts, default=0),
        )


class Side:
    """One side of a comparison."""

    def __init__(
        self,
        parts: Sequence[SidePart],
        plan: Plan,
        behaviours: Mapping[str, DeviceBehaviour],
        is_complete: bool,
    ) -> None:
        """Take what is served and by whom.

        Args:
            parts: Who serves what. A network that several have is one, with all who serve it.
            plan: The devices with their interfaces, routes and zones, and what addresses are held.
            behaviours: How each device behaves whose dialect is known.
            is_complete: Whether all devices that matter are known.
        """
        self.plan = plan
        self.behaviours = behaviours
        self.is_complete = is_complete
        self.networks = _networks(parts)
        self._pools = Pools(plan)
        self.topology = self._pools.topology
        self.hearing = Hearing(self._pools, behaviours, is_complete)
        self.routing = self.hearing.routing
        for there in self.networks.values():
            for name, pool in there.pools.items():
                there.pools[name] = self._with_partner(pool)
                if self.hearing.hears_bound_only(name, there.network):
                    there.pools[name] = replace(there.pools[name], assignable=NOTHING)

    def _with_partner(self, pool: Pool) -> Pool:
        """The pool, with the device of its pair where its server names only an address."""
        serving = pool.serving
        if serving is None or serving.partner_at is None:
            return pool
        holder = next(iter(self.topology.holders(serving.partner_at)), None)
        partner = holder.device if holder is not None else None
        return replace(pool, serving=serving._replace(partner=partner))

    def _unheard(self, there: NetworkSide, otherwise: Mapping[str, Heard]) -> dict[str, str]:
        """The servers of a network that don't hear its clients, each with the reason.

        Args:
            there: The network.
            otherwise: By whom they hear them on the other side. Where that device is known here,
                and no longer does it, it isn't assumed that somebody unknown does; where it needed
                no zone there, not that zones are listed elsewhere.
        """
        reasons = {name: self._refusing[name] for name in there.pools if name in self._refusing}
        for name, heard in self._heard(there).items():
            if name in reasons:
                continue
            other = otherwise.get(name, Heard())
            by, at = other.through, heard.in_zone
            if heard.why_not is not None:
                reasons[name] = heard.why_not
            elif heard.through is None and by is not None and by.device in self.plan.devices:
                reasons[name] = f"nothing in these files leads to {name}"
            elif at is None or self.plan.devices[at.device].zones:
                continue
            elif other.is_sure and other.in_zone is None:
                reasons[name] = f"{at} needs a zone that admits dhcp, and none is listed"
        return reasons

    def _heard(self, there: NetworkSide) -> dict[str, Heard]:
        return {name: self.hearing.heard(name, there.network) for name in there.pools}

    def devices_of(self, there: NetworkSide | None) -> set[str]:
        """The devices that serve a network or have an interface in it."""
        if there is None:
            return set()
        return {*there.pools, *(a.device for a in self.topology.attachments(there.network))}

    def described(self, networks: Mapping[Key, NetworkSide]) -> dict[Key, Described]:
        """Some of the networks, by what they can be known by on another side."""
        return {
            key: Described.of(there.name, there.network, there.pools, self.topology)
            for key, there in networks.items()
        }

    def answering(self, address: int, vrf: str) -> set[str | None]:
        """The devices that answer at an address, and None for a static host that does."""
        found: set[str | None] = {a.device for a in self.topology.answering_up(address, vrf)}
        if self._pools.static_by_address.at(self._pools.vrf_of.get(vrf, -1), address):
            found.add(None)
        return found

    def knows(self, who: str | None) -> bool:
        """Whether it is known where a device answers, or a static host."""
        return self.is_complete if who is None else who in self.plan.devices

    @cached_property
    def _refusing(self) -> dict[str, str]:
        """The devices that refuse their configuration as a whole, each with the reason."""
        served: dict[str, dict[str, Network]] = {}
        for there in self.networks.values():
            for name in there.pools:
                served.setdefault(name, {})[there.name] = there.network
        reasons = {name: self.hearing.why_refused(name, its) for name, its in served.items()}
        return {name: why for name, why in reasons.items() if why is not None}

    def lease_time(self, side: NetworkSide, device: str) -> int | None:
        """The lease time in seconds that a server gives in a network; None if it isn't known."""
        stated = side.pools[device].offer.lease
        if stated is not None:
            return stated
        behaviour = self.behaviours.get(device)
        return behaviour.default_lease if behaviour is not None else None


def name_in(plan: Plan, there: NetworkSide) -> str | None:
    """What a plan calls a network: a device's configuration may have another name for it."""
    place = there.network.vrf, there.network.subnet.subnet
    found = [n for n, net in plan.networks.items() if (net.vrf, net.subnet.subnet) == place]
    if there.name in found or (not found and there.name in plan.networks):
        return there.name
    return found[0] if found else None


def unheard(
    before: NetworkSide, after: NetworkSide, old: Side, new: Side
) -> tuple[dict[str, str], dict[str, str]]:
    """The servers of a network that don't hear its clients on each side, with the reasons."""
    heard = old._heard(before), new._heard(after)
    return old._unheard(before, heard[1]), new._unheard(after, heard[0])


def _networks(parts: Sequence[SidePart]) -> dict[Key, NetworkSide]:
    """The networks of several parts, in the order in which they come."""
    found: dict[Key, NetworkSide] = {}
    for part in parts:
        keys = _keys(part, found)
        keys = _as_planned(part, keys, parts[0], found) if part is not parts[0] else keys
        for place, (key, pools) in enumerate(zip(keys, part.pools.by_network, strict=True)):
            network, side = pools[0].network, found.get(key)
            if side is None or (
                side.network.subnet.subnet != network.subnet.subnet and not side.pools
            ):
                name = pools[0].name if side is None else side.name
                side = found[key] = NetworkSide(name, network)
            side.taken |= part.pools.taken(place)
            for pool in pools:
                is_fit = (pool.server, pool.name) not in part.unfit
                if pool.server is not None and pool.server in part.devices and is_fit:
                    side.pools[pool.server] = pool
                    side.origins[pool.server] = part.pools
    return found


def _keys(part: SidePart, known: Mapping[Key, NetworkSide]) -> list[Key]:
    """The keys of a part's networks; one that only another VRF has, as that, if it is alone."""
    by_subnet: dict[Prefix, list[Key]] = {}
    for key in known:
        by_subnet.setdefault(key[1], []).append(key)
    seen: dict[tuple[str, Prefix], int] = {}
    keys: list[Key] = []
    for pools in part.pools.by_network:
        vrf, subnet = pools[0].network.vrf, pools[0].network.subnet.subnet
        number = seen[vrf, subnet] = seen.get((vrf, subnet), -1) + 1
        key = (vrf, subnet, number)
        if key not in known and len(by_subnet.get(subnet, ())) == 1:
            key = by_subnet[subnet][0]  # most devices' configuration names no VRF
        keys.append(key)
    return keys


def _as_planned(
    part: SidePart, keys: Sequence[Key], planned: SidePart, known: Mapping[Key, NetworkSide]
) -> list[Key]:
    """The keys of a part's networks, where one is a planned one with another subnet as that."""
    free = {known[key].name: key for key in known if key not in keys}
    if not free or all(key in known for key in keys):
        return list(keys)
    same = as_planned(planned.pools, part.pools)
    names = [pools[0].name for pools in part.pools.by_network]
    return [
        key if key in known else free.get(same.get(name, ""), key)
        for name, key in zip(names, keys, strict=True)
    ]


def paired(old: Side, new: Side) -> list[tuple[NetworkSide | None, NetworkSide | None]]:
    """The networks of two sides that are the same, in the order of the new side.

    Those that only the old side has come last.
    """
    before = {key: side for key, side in old.networks.items() if key not in new.networks}
    after = {key: side for key, side in new.networks.items() if key not in old.networks}
    same = same_networks(old.described(before), new.described(after))
    pairs: list[tuple[NetworkSide | None, NetworkSide | None]] = [
        (before.pop(same[key]) if key in same else old.networks.get(key), side)
        for key, side in new.networks.items()
    ]
    return [*pairs, *((side, None) for side in before.values())]
