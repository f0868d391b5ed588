"""Fits a device's pools to its dialect: what it will really assign and offer, what it can't do."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace

import numpy as np
from numpy.typing import NDArray

from reservoir.core.findings import Obstacle, Witness
from reservoir.core.pairing import Pairing
from reservoir.core.plan.model import PlanPath
from reservoir.core.pools import Pool, Pools
from reservoir.core.topology import Attachment
from reservoir.core.values.address_set import EMPTY, AddressSet
from reservoir.core.values.by_subnet import BySubnet
from reservoir.core.wording import counted
from reservoir.dialects.behaviour.device import Behaviour
from reservoir.dialects.behaviour.fit_classes import ClassFitter, FittedClass
from reservoir.dialects.behaviour.inexpressible import inexpressible
from reservoir.dialects.behaviour.kept import faults_in_kept
from reservoir.dialects.behaviour.names import NameFitter
from reservoir.dialects.behaviour.offer import FittedOffer, fit_offer
from reservoir.dialects.behaviour.own_offer import Owner, fit_own
from reservoir.dialects.behaviour.pairs import fitted_pairing
from reservoir.dialects.sheet.model import Sheet

NOT_EXPRESSIBLE = "not-expressible"
"""The rule that reports what a device can't be given."""

ENDLESS = 10**6
"""Stands for a limit that a device doesn't have."""

_BY_ANOTHER = "let another device serve it"


@dataclass(frozen=True)
class FittedPool:
    """A pool as a device will have it."""

    pool: Pool
    attachment: Attachment | None
    """The device's own interface in the network, if it has one."""
    assignable: AddressSet
    """What the device will assign to clients of no class: what the plan has for them, less what the
    device never assigns."""
    ranges: AddressSet
    """Its ranges, if its pools have any."""
    excluded: AddressSet
    """Its exclusions."""
    bindings: NDArray[np.int64]
    """Rows of the table :attr:`Pools.bindings`, shape (n,)."""
    offered: FittedOffer
    own: Mapping[int, FittedOffer] = field(default_factory=dict)
    """What the clients of some bindings are offered otherwise, by their rows."""
    classes: tuple[FittedClass, ...] = ()
    """What members of classes get; the rest is for clients of none."""
    pairing: Pairing | None = None
    """With whom its leases are kept in step."""

    def with_bindings(self, rows: NDArray[np.int64]) -> FittedPool:
        """The same with some of its bindings."""
        own = {row: self.own[row] for row in rows.tolist() if row in self.own}
        return replace(self, bindings=rows, own=own)


@dataclass(frozen=True)
class FittedDevice:
    """All pools of a device, as it will have them."""

    pools: tuple[FittedPool, ...]
    obstacles: tuple[Obstacle, ...]


def fit_device(pools: Pools, device: str, sheet: Sheet) -> FittedDevice:
    """Fit a device's pools in the plan to its dialect."""
    fitter = _Fitter(pools, device, sheet)
    return FittedDevice(tuple(fitter.fit()), tuple(fitter.obstacles))


class _Fitter:
    def __init__(self, pools: Pools, device: str, sheet: Sheet) -> None:
        self.all_pools = pools
        self.device = device
        self.sheet = sheet
        self.behaviour = Behaviour(sheet)
        self.obstacles: list[Obstacle] = []
        self.pools = pools.served_by(device)
        ranges, exclusions = self.behaviour.assigns_ranges, self.behaviour.has_exclusions
        self.excludes_from_ranges = ranges and exclusions
        self.splits = ranges and not exclusions

    def fit(self) -> list[FittedPool]:
        self._whole()
        self._names()
        self._reachable()
        if self.excludes_from_ranges and self._too_many_exclusions():
            self.splits = True
        fitted = [self._pool(pool) for pool in self.pools]
        return list(self._within_binding_limit(self._within_range_limit(fitted)))

    def _obstacle(self, rule: str, pool: Pool, message: str, witness: Witness) -> None:
        self.obstacles.append(Obstacle(rule, message, pool.path, witness))

    def _attachment(self, pool: Pool) -> Attachment | None:
        reach = self.all_pools.topology.reach(self.device, pool.network)
        return reach.own if reach else None

    def _whole(self) -> None:
        """What concerns the device as a whole: what is kept for it, what it can't express."""
        device = self.all_pools.plan.devices[self.device]
        names = [pool.name for pool in self.pools]
        for fault in faults_in_kept(device.kept, device.interfaces, names):
            message = f"what is kept for {self.device} can't be restored: {fault}"
            self._at(("devices", self.device, "kept"), message, f"what is kept for {self.device}")
        for each in inexpressible(self.all_pools, self.device, self.behaviour):
            why = f"{each.because or f'{self.sheet.name} has no line for it'}; {each.nearest}"
            message = f"{self.device} can't be given the {each.what}: {why}"
            self._at(each.at, message, f"the {each.what}", each.witness)

    def _names(self) -> None:
        """The names that the device doesn't accept as they are, and what becomes of them."""
        naming, table = self.sheet.naming, self.all_pools.bindings
        named: list[tuple[str, PlanPath, str]] = []
        if self.sheet.mentions("pool", "name"):
            named += [(pool.name, pool.path, pool.name) for pool in self.pools]
        if self.sheet.mentions("binding", "name"):
            for pool in self.pools:
                names = table.name.rows(pool.bindings)
                unfit = {*np.flatnonzero(names.lengths > (naming.longest or np.inf)).tolist()}
                unfit |= {*(names.unlike(naming.characters) if naming.characters else ())}
                for place in sorted(unfit):
                    row = int(pool.bindings[place])
                    named.append((table.name[row], table.path(row), pool.name))
        for name, path, network in named:
            fitted = NameFitter(naming).fit(name)
            if fitted != name:
                message = f"{self.device} doesn't accept the name {name!r}; it becomes {fitted!r}"
                witness = Witness("not-served", network, value=f"the name {name}")
                self.obstacles.append(Obstacle("name-unfit", message, path, witness))

    def _at(
        self, path: PlanPath, message: str, missing: str, witness: Witness | None = None
    ) -> None:
        """Something that the device can't be given; a client of the first pool shows it."""
        own = str(path[1]) if path[0] == "networks" else ""
        network = own or (self.pools[0].name if self.pools else None)
        if witness is None and network:
            witness = Witness("not-served", network, value=missing)
        self.obstacles.append(Obstacle(NOT_EXPRESSIBLE, message, path, witness))

    # Which pools the device can have at all.

    def _reachable(self) -> None:
        """Leave only the pools that the device can have where they are."""
        kept: list[Pool] = []
        by_vrf: dict[str, BySubnet[Pool]] = {}
        at_interface: Counter[str] = Counter()
        for pool in self.pools:
            attachment = self._attachment(pool)
            why_not = self._why_not(pool, attachment, kept, by_vrf, at_interface)
            if why_not:
                rule, message = why_not
                shares = kept and self.behaviour.uses_pools_in_order and attachment
                witness = Witness("unanswered", pool.name)
                if shares:
                    witness = Witness("answered-for", pool.name, also=kept[0].name)
                self._obstacle(rule, pool, message, witness)
                continue
            if attachment is not None:
                at_interface[attachment.interface] += 1
            kept.append(pool)
            network = pool.network
            by_vrf.setdefault(network.vrf, BySubnet()).add(network.subnet, pool)
        self.pools = kept

    def _why_not(
        self,
        pool: Pool,
        attachment: Attachment | None,
        kept: Sequence[Pool],
        by_vrf: Mapping[str, BySubnet[Pool]],
        at_interface: Mapping[str, int],
    ) -> tuple[str, str] | None:
        """The rule and the sentence if the device can't have this pool besides those before."""
        if attachment is None and not self.behaviour.answers_relays:
            what = "serves DHCP only on its own interfaces, none of which is in"
            return (
                NOT_EXPRESSIBLE,
                f"{self.device} {what} {pool.name}; let the relaying router serve it",
            )
        if attachment is not None and attachment.is_secondary:
            unserved = self._unserved_on_secondary(pool, attachment)
            if unserved:
                return "secondary-unserved", unserved
        if self.behaviour.uses_pools_in_order and kept:
            return "pool-shadowed", (
                f"{self.device} assigns from whichever pool has a free address, so clients of "
                f"{pool.name} get addresses of {kept[0].name}; {_BY_ANOTHER}"
            )
        twin = self._twin(pool, by_vrf)
        if twin is not None:
            return NOT_EXPRESSIBLE, (
                f"{self.device} finds a pool by its subnet, so it can't tell {pool.name} from "
                f"{twin.name}, which is in another VRF; {_BY_ANOTHER}"
            )
        if self.behaviour.assigns_interface_subnet and attachment is not None:
            prefix = attachment.prefix
            if prefix.subnet != pool.network.subnet:
                return NOT_EXPRESSIBLE, (
                    f"{self.device} assigns the subnet of its interface {attachment.interface}, "
                    f"{prefix.subnet}, but {pool.name} is {pool.network.subnet}; "
                    "make both the same"
                )
        return self._beyond_limit(pool, attachment, len(kept), at_interface)

    def _twin(self, pool: Pool, by_vrf: Mapping[str, BySubnet[Pool]]) -> Pool | None:
        """A pool before it with addresses of the same subnet in another VRF, if that matters."""
        if self.behaviour.joins_pools_to_interfaces:
            return None
        vrf, subnet = pool.network.vrf, pool.network.subnet
        others = (kept.meeting(subnet) for other, kept in by_vrf.items() if other != vrf)
        return next((meeting[0] for meeting in others if meeting), None)

    def _beyond_limit(
        self,
        pool: Pool,
        attachment: Attachment | None,
        before: int,
        at_interface: Mapping[str, int],
    ) -> tuple[str, str] | None:
        """The rule and the sentence if there is no room for one more pool there."""
        most = self.behaviour.limit("interface.pool")
        if most is not None and attachment and at_interface[attachment.interface] >= most:
            return "too-many", (
                f"{self.device} holds {counted(most, 'pool')} per interface, and {pool.name} "
                f"exceeds that on {attachment.interface}; {_BY_ANOTHER}"
            )
        most = self.behaviour.limit("device.pool")
        if most is not None and before >= most:
            room = f"{self.device} holds {counted(most, 'pool')}"
            return "too-many", f"{room}, and {pool.name} exceeds that; {_BY_ANOTHER}"
        return None

    def _unserved_on_secondary(self, pool: Pool, attachment: Attachment) -> str:
        """What clients miss whose network is that of a secondary address; nothing if nothing."""
        where = f"{attachment.prefix} is a secondary address of {attachment}"
        if not self.behaviour.binds_by_secondary:
            return f"{where}; {self.device} serves only the primary address's subnet there"
        if pool.assignable and not self.behaviour.assigns_by_secondary:
            return (
                f"{where}, where {self.device} serves only bound clients; {pool.name} has "
                f"{counted(len(pool.assignable), 'address')} to assign"
            )
        return ""

    # What each of them assigns.

    def _pool(self, pool: Pool) -> FittedPool:
        attachment = self._attachment(pool)
        offered = fit_offer(pool, self.device, attachment, self.sheet)
        self.obstacles += offered.obstacles
        fitter = ClassFitter(pool, self.device, attachment, self.sheet, offered, self._own(pool))
        classes = fitter.fit()
        self.obstacles += fitter.obstacles
        assigned = pool.shared - self._own(pool)
        if self.behaviour.assigns_ranges:
            ranges = self._ranges(pool)
            excluded = ranges - assigned - self._left_alone(pool)
        else:
            ranges = EMPTY
            hosts = AddressSet([pool.network.subnet.hosts])
            excluded = hosts - assigned - self._left_alone(pool)
        own = dict(self._own_offers(pool, attachment, offered))
        return FittedPool(
            pool,
            attachment,
            pool.common - self._own(pool),
            ranges,
            excluded,
            pool.bindings,
            offered,
            own,
            classes,
            fitted_pairing(pool, self.all_pools, self.behaviour),
        )

    def _own_offers(
        self, pool: Pool, attachment: Attachment | None, common: FittedOffer
    ) -> Iterator[tuple[int, FittedOffer]]:
        """What the clients of bindings are offered otherwise, by their rows."""
        table = self.all_pools.bindings
        for row, own in self.all_pools.own_in(self.all_pools.place_of(pool.name)).items():
            owner = Owner(table.label(row), table.path(row), own, table.client_at(row))
            fitted = fit_own(owner, pool, self.device, attachment, self.sheet, common)
            self.obstacles += fitted.obstacles
            yield row, fitted

    def _own(self, pool: Pool) -> AddressSet:
        """Addresses in the subnet that the device holds, if it never assigns them."""
        if not self.behaviour.skips_own_address:
            return EMPTY
        attachments = self.all_pools.topology.attachments(pool.network)
        return AddressSet.of_addresses([a.address for a in attachments if a.device == self.device])

    def _bound(self, pool: Pool) -> AddressSet:
        return AddressSet.of_addresses(self.all_pools.bindings.address[pool.bindings])

    def _left_alone(self, pool: Pool) -> AddressSet:
        """What needs no exclusion, or must have none: the device itself reserves it."""
        own = self._own(pool)
        if self.behaviour.reserves_bound_addresses:
            return own | self._bound(pool)
        return own

    def _ranges(self, pool: Pool) -> AddressSet:
        """The ranges of a pool, on a device that has them."""
        named = pool.ranges.clipped(pool.network.subnet.hosts)
        if pool.by_class is not None:
            named = named - pool.by_class.ranges if pool.shared else EMPTY
        if self.splits:
            named = _bridged(pool.shared - self._own(pool), self._left_alone(pool))
        if self.behaviour.binds_outside_only:
            named = named - self._bound(pool)
        if self.behaviour.binds_inside_only:
            named = named | self._bound(pool)
        if not named and self.behaviour.assigns_whole_subnets:
            return self._of_nothing(pool)
        return named

    def _of_nothing(self, pool: Pool) -> AddressSet:
        """A range from which nothing is assigned, where none at all would be the whole subnet."""
        reserved = self._left_alone(pool).clipped(pool.network.subnet.hosts)
        return AddressSet.of_addresses([reserved.first]) if reserved else reserved

    def _too_many_exclusions(self) -> bool:
        needed = [
            (self._ranges(pool) - pool.shared - self._left_alone(pool)).span_count
            for pool in self.pools
        ]
        in_pool = self.behaviour.limit("pool.exclusion")
        if in_pool is not None and max(needed, default=0) > in_pool:
            return True
        on_device = self.behaviour.limit("device.exclusion")
        return on_device is not None and sum(needed) > on_device

    # How much of that it has room for.

    def _within_range_limit(self, fitted: Sequence[FittedPool]) -> Iterator[FittedPool]:
        in_a_pool = self.behaviour.limit("pool.range")
        more = 0
        if self.behaviour.spreads_ranges_over_pools:
            most = self.behaviour.limit("device.pool")
            more = (ENDLESS if most is None else most) - len(fitted)
        for pool in fitted:
            if in_a_pool is None:
                yield pool
                continue
            yield self._first_ranges(pool, in_a_pool * (1 + more), in_a_pool)
            more -= min(more, (pool.ranges.span_count - 1) // in_a_pool)

    def _first_ranges(self, fitted: FittedPool, most: int, in_a_pool: int) -> FittedPool:
        if fitted.ranges.span_count <= most:
            return fitted
        pool, needed = fitted.pool, fitted.ranges.span_count
        room = counted(most, "range")
        if most > in_a_pool:
            room = f"{room} in {counted(-(-most // in_a_pool), 'pool')}"
        largest = sorted(fitted.ranges.spans(), key=lambda span: -span.size)[:most]
        ranges = AddressSet(largest)
        left_out = pool.shared - self._own(pool) - ranges
        nearest = f"the nearest it can hold is {ranges}" if most == 1 else "leave fewer gaps"
        self._obstacle(
            "too-many",
            pool,
            f"{pool.name} needs {needed} ranges on {self.device}, which holds {room}; {nearest}, "
            "or let another device serve",
            Witness("never-assigned", pool.name, left_out.first, value=str(left_out)),
        )
        return replace(fitted, ranges=ranges, assignable=fitted.assignable & ranges)

    def _within_binding_limit(self, fitted: Iterable[FittedPool]) -> Iterator[FittedPool]:
        most = self.behaviour.limit("device.binding")
        left = most
        for pool in fitted:
            if left is None or len(pool.bindings) <= left:
                left = None if left is None else left - len(pool.bindings)
                yield pool
                continue
            self._obstacle(
                "too-many",
                pool.pool,
                f"{self.device} holds {counted(most or 0, 'binding')}; the last "
                f"{len(pool.bindings) - left} of {pool.pool.name} exceed that; {_BY_ANOTHER}",
                self._ignored(pool, left),
            )
            yield pool.with_bindings(pool.bindings[:left])
            left = 0

    def _ignored(self, fitted: FittedPool, left: int) -> Witness:
        """The first client whose binding the device has no room for."""
        table, row = self.all_pools.bindings, int(fitted.bindings[left])
        address = int(table.address[row])
        return Witness("binding-ignored", fitted.pool.name, address, **table.who(row))


def _bridged(assignable: AddressSet, left_alone: AddressSet) -> AddressSet:
    """What is assigned, with the gaps closed that the device itself would leave."""
    if not assignable:
        return assignable
    holes = AddressSet([assignable.hull]) - assignable
    return assignable | AddressSet(s for s in holes.spans() if AddressSet([s]) <= left_alone)
