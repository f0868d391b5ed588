"""Fits a device's pools to its dialect: what it will really lend and tell, what it can't hold."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from reservoir.core.findings import Obstacle
from reservoir.core.plan.model import PlanPath
from reservoir.core.pools import Lending, Pool
from reservoir.core.topology import Attachment
from reservoir.core.values.address_set import EMPTY, AddressSet
from reservoir.core.values.addresses import Span
from reservoir.dialects.behaviour.inexpressible import unsayable
from reservoir.dialects.behaviour.kept import faults_in_kept
from reservoir.dialects.behaviour.names import NameFitter
from reservoir.dialects.behaviour.offer import FittedWords, fit_words
from reservoir.dialects.sheet.model import Sheet

_BY_ANOTHER = "let another device serve it"


@dataclass(frozen=True)
class FittedPool:
    """A pool as a device will hold it."""

    pool: Pool
    attachment: Attachment | None
    """The device's own interface in the network, if it has one."""
    lendable: AddressSet
    """What the device will lend: the plan's lendable set, less what it never lends by itself."""
    ranges: AddressSet
    """What it is given as ranges, if its pools have such."""
    kept: AddressSet
    """What it is told to keep out."""
    bindings: NDArray[np.int64]
    """Rows of the lending's table of bindings, shape (n,)."""
    words: FittedWords


@dataclass(frozen=True)
class FittedDevice:
    """All pools of a device, as it will hold them."""

    pools: tuple[FittedPool, ...]
    obstacles: tuple[Obstacle, ...]


def fit_device(lending: Lending, device: str, sheet: Sheet) -> FittedDevice:
    """Fit what a device lends in the plan to its dialect."""
    fitter = _Fitter(lending, device, sheet)
    return FittedDevice(tuple(fitter.fit()), tuple(fitter.obstacles))


def obstacles_to(lending: Lending, sheets: Mapping[str, Sheet]) -> list[Obstacle]:
    """What the plan's devices can't hold; ``sheets`` has the sheet of each device by name."""
    return [
        obstacle
        for device, sheet in sheets.items()
        for obstacle in fit_device(lending, device, sheet).obstacles
    ]


class _Fitter:
    def __init__(self, lending: Lending, device: str, sheet: Sheet) -> None:
        self.lending = lending
        self.device = device
        self.sheet = sheet
        self.obstacles: list[Obstacle] = []
        self.pools = lending.pools_served_by(device)
        self.lends_ranges = sheet.trait("lends") == "ranges"
        self.keeps_out = self.lends_ranges and sheet.trait("exclusions") != "none"
        self.splits = self.lends_ranges and not self.keeps_out

    def fit(self) -> list[FittedPool]:
        self._whole()
        self._names()
        self._reachable()
        if self.keeps_out and self._too_many_exclusions():
            self.splits = True
        fitted = [self._pool(pool) for pool in self.pools]
        return list(self._within_binding_limit(self._within_range_limit(fitted)))

    def _obstacle(self, rule: str, pool: Pool, message: str, harm: str) -> None:
        self.obstacles.append(Obstacle(rule, message, pool.path, pool.name, harm))

    def _attachment(self, pool: Pool) -> Attachment | None:
        attachments = self.lending.topology.attachments(pool.network)
        return next((a for a in attachments if a.device == self.device), None)

    def _whole(self) -> None:
        """What concerns the device as a whole: what is kept for it, what it has no line for."""
        device = self.lending.plan.devices[self.device]
        names = [pool.name for pool in self.pools]
        for fault in faults_in_kept(device.kept, device.interfaces, names):
            message = f"what is kept for {self.device} can't be put back: {fault}"
            self._at(("devices", self.device, "kept"), message, "is served without what was kept")
        for at, what, nearest in unsayable(self.lending, self.device, self.sheet):
            why = f"{self.sheet.name} has no line for it; {nearest}"
            message = f"{self.device} can't be told the {what}: {why}"
            self._at(at, message, f"is served without the {what}")

    def _names(self) -> None:
        """The names that the device doesn't take as they are, and what is made of them."""
        naming, table = self.sheet.naming, self.lending.bindings
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
                message = f"{self.device} doesn't take the name {name!r}; it becomes {fitted!r}"
                harm = f"goes by the name {fitted} on {self.device}"
                self.obstacles.append(Obstacle("name-unfit", message, path, network, harm))

    def _at(self, path: PlanPath, message: str, harm: str) -> None:
        """An obstacle somewhere in the plan; the client that shows it is one of the first pool."""
        own = str(path[1]) if path[0] == "networks" else ""
        network = own or (self.pools[0].name if self.pools else "")
        harm = harm if network else ""
        self.obstacles.append(Obstacle("not-expressible", message, path, network, harm))

    # Which pools the device can have at all.

    def _reachable(self) -> None:
        """Leave only the pools that the device can have where they are."""
        kept: list[Pool] = []
        at_interface: Counter[str] = Counter()
        for pool in self.pools:
            attachment = self._attachment(pool)
            why_not = self._why_not(pool, attachment, kept, at_interface)
            if why_not:
                rule, message = why_not
                shares = kept and self.sheet.trait("pool-found-by") == "order" and attachment
                harm = f"is lent an address of {kept[0].name}" if shares else "is lent nothing"
                self._obstacle(rule, pool, message, harm)
                continue
            if attachment is not None:
                at_interface[attachment.interface] += 1
            kept.append(pool)
        self.pools = kept

    def _why_not(
        self,
        pool: Pool,
        attachment: Attachment | None,
        kept: Sequence[Pool],
        at_interface: Mapping[str, int],
    ) -> tuple[str, str] | None:
        """The rule and the sentence if the device can't have this pool besides those before."""
        limit = self.sheet.limits
        found_by = self.sheet.trait("pool-found-by")
        if attachment is None and found_by in ("interface", "order"):
            what = "lends only at interfaces of its own, and none of them is in"
            return (
                "not-expressible",
                f"{self.device} {what} {pool.name}; let the router that relays lend there",
            )
        if found_by == "order" and kept:
            return "pool-shadowed", (
                f"{self.device} takes whichever pool has an address left, so clients of "
                f"{pool.name} are lent addresses of {kept[0].name}; {_BY_ANOTHER}"
            )
        own_subnet = self.sheet.trait("lends") == "interface-subnet-less-exclusions"
        if own_subnet and attachment is not None:
            prefix = self.lending.plan.devices[self.device].interfaces[attachment.interface].address
            if prefix is not None and prefix.subnet != pool.network.subnet:
                return "not-expressible", (
                    f"{self.device} lends the subnet of its interface {attachment.interface}, "
                    f"{prefix.subnet}, and {pool.name} is {pool.network.subnet}; "
                    "give both one subnet"
                )
        most = limit.get("interface.pool")
        if most is not None and attachment and at_interface[attachment.interface] >= most:
            return "too-many", (
                f"{self.device} has room for {most} {_pools(most)} at an interface, and "
                f"{pool.name} comes after that at {attachment.interface}; {_BY_ANOTHER}"
            )
        most = limit.get("device.pool")
        if most is not None and len(kept) >= most:
            room = f"{self.device} has room for {most} {_pools(most)}"
            return "too-many", f"{room}, and {pool.name} comes after them; {_BY_ANOTHER}"
        return None

    # What each of them lends.

    def _pool(self, pool: Pool) -> FittedPool:
        attachment = self._attachment(pool)
        words = fit_words(pool, self.device, attachment, self.sheet)
        self.obstacles += words.obstacles
        lendable = pool.lendable - self._own(pool)
        if self.lends_ranges:
            ranges = self._ranges(pool)
            kept = ranges - lendable - self._left_alone(pool)
        else:
            ranges = EMPTY
            kept = AddressSet([pool.network.subnet.hosts]) - lendable - self._left_alone(pool)
        return FittedPool(pool, attachment, lendable, ranges, kept, pool.bindings, words)

    def _own(self, pool: Pool) -> AddressSet:
        """Addresses in the subnet that the device holds, if it never lends them."""
        if self.sheet.trait("own-address") != "skipped":
            return EMPTY
        attachments = self.lending.topology.attachments(pool.network)
        return AddressSet.of_addresses([a.address for a in attachments if a.device == self.device])

    def _bound(self, pool: Pool) -> AddressSet:
        return AddressSet.of_addresses(self.lending.bindings.address[pool.bindings])

    def _left_alone(self, pool: Pool) -> AddressSet:
        """What needs no exclusion, or must have none: the device itself keeps it from others."""
        own = self._own(pool)
        if self.sheet.trait("bound-address") in ("anywhere", "inside"):
            return own | self._bound(pool)
        return own

    def _ranges(self, pool: Pool) -> AddressSet:
        """The spans that a device of ranges is given."""
        named = pool.ranges.clipped(pool.network.subnet.hosts)
        placement = self.sheet.trait("bound-address")
        if self.splits:
            named = _bridged(pool.lendable - self._own(pool), self._left_alone(pool))
        if placement == "outside-ranges":
            named = named - self._bound(pool)
        if placement == "inside":
            named = named | self._bound(pool)
        return named

    def _too_many_exclusions(self) -> bool:
        needed = [
            (self._ranges(pool) - pool.lendable - self._left_alone(pool)).span_count
            for pool in self.pools
        ]
        in_pool = self.sheet.limits.get("pool.exclusion")
        if in_pool is not None and max(needed, default=0) > in_pool:
            return True
        on_device = self.sheet.limits.get("device.exclusion")
        return on_device is not None and sum(needed) > on_device

    # How much of that it has room for.

    def _within_range_limit(self, fitted: Sequence[FittedPool]) -> Iterator[FittedPool]:
        in_a_pool = self.sheet.limits.get("pool.range")
        more = 0
        if self.sheet.trait("more-ranges") == "more-pools":
            more = self.sheet.limits.get("device.pool", 10**6) - len(fitted)
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
        room = f"{most} {'range' if most == 1 else 'ranges'}"
        if most > in_a_pool:
            room = f"{room} in {-(-most // in_a_pool)} pools"
        largest = sorted(fitted.ranges, key=lambda span: -span.size)[:most]
        ranges = AddressSet(largest)
        left_out = fitted.lendable - ranges
        nearest = f"the nearest that it can hold is {ranges}" if most == 1 else "leave fewer gaps"
        self._obstacle(
            "too-many",
            pool,
            f"{pool.name} needs {needed} ranges on {self.device}, which has room for {room}; "
            f"{nearest}, or let another device serve",
            f"is never lent {left_out}",
        )
        return replace(fitted, ranges=ranges, lendable=fitted.lendable & ranges)

    def _within_binding_limit(self, fitted: Iterable[FittedPool]) -> Iterator[FittedPool]:
        most = self.sheet.limits.get("device.binding")
        left = most
        for pool in fitted:
            if left is None or len(pool.bindings) <= left:
                left = None if left is None else left - len(pool.bindings)
                yield pool
                continue
            self._obstacle(
                "too-many",
                pool.pool,
                f"{self.device} has room for {most} bindings; the last "
                f"{len(pool.bindings) - left} of {pool.pool.name} come after them; {_BY_ANOTHER}",
                "that is bound is not known there",
            )
            yield replace(pool, bindings=pool.bindings[:left])
            left = 0


def _bridged(lendable: AddressSet, left_alone: AddressSet) -> AddressSet:
    """What is lent, with the holes closed that the device itself would leave."""
    if not lendable:
        return lendable
    holes = AddressSet([Span(lendable.first, lendable.last)]) - lendable
    return lendable | AddressSet(s for s in holes if AddressSet([s]) <= left_alone)


def _pools(number: int) -> str:
    return "pool" if number == 1 else "pools"
