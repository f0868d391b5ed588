"""A configuration on the way from one to another, and what the device then does."""

from __future__ import annotations

import datetime
from bisect import bisect_left
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from functools import cached_property, lru_cache

from reservoir.core.checks.engine import errors_of
from reservoir.core.checks.rule import Site
from reservoir.core.compare.differences import Difference, Served
from reservoir.core.compare.differences import differences as compare
from reservoir.core.pairing import Pairing, pairing_of
from reservoir.core.plan.model import Device
from reservoir.core.pools import Pools
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import Prefix
from reservoir.dialects.behaviour.device import Behaviour
from reservoir.dialects.behaviour.effect import lift_effect
from reservoir.dialects.behaviour.lift import lift
from reservoir.dialects.reading import ConfigurationRead
from reservoir.dialects.render.present_text import PresentText
from reservoir.dialects.running.subject import ReadSubject
from reservoir.dialects.sheet.model import Sheet

Subnet = tuple[str, Prefix]
"""A network's VRF and subnet."""

_TOLD_OTHERWISE = ("line-not-understood", "goes-live-before-exclusions", "pool-empty")
"""A block that isn't finished and the order of lines are a text's, not a device's; that a pool is
empty for a while is told as a gap."""

Wrong = tuple[str, str]
"""A rule that reports an error, and the network that it is in; empty for none."""


@dataclass(frozen=True)
class State:
    """A configuration, and what a device does with it."""

    present: PresentText
    sheet: Sheet
    pools: Pools
    assignable: Mapping[str, AddressSet]
    """By VRF, of all pools: what hears nobody on its own link may still hear a relay."""
    by_subnet: Mapping[Subnet, AddressSet]
    """What is assigned in each network that is served."""
    pairings: Mapping[Subnet, Pairing]
    """With whom leases are kept in step."""
    served: Mapping[str, Served]
    """By subnet and name: a network may have two pools for a while."""
    names: Mapping[Subnet, str]
    """What the networks are called."""
    overlaps: bool
    """Whether an address is in two pools."""
    device: Device

    @classmethod
    def of(cls, text: str, sheet: Sheet, device: str) -> State:
        """Read a text of a device's configuration."""
        present = PresentText.of(text, sheet)
        stated = lift(present.reading.device, sheet, device)
        lifted = lift_effect(present.reading.device, sheet, device, stated)
        pools = Pools(lifted.plan())
        assignable = _assignable(pools if lifted is stated else Pools(stated.plan()))
        seen: dict[str, AddressSet] = {}
        by_subnet: dict[Subnet, AddressSet] = {}
        pairings, served = dict[Subnet, Pairing](), {}
        overlaps = False
        for pool in pools:
            if pool.server is not None:
                vrf, subnet = pool.network.vrf, pool.network.subnet.subnet
                known = seen.get(vrf, AddressSet())
                overlaps |= not known.isdisjoint(pool.assignable)
                seen[vrf] = known | pool.assignable
                there = by_subnet.get((vrf, subnet), AddressSet())
                by_subnet[vrf, subnet] = there | pool.assignable
                pairing = pairing_of(pool, pools.topology)
                if pairing is not None:
                    pairings[vrf, subnet] = pairing
                served[f"{vrf} {subnet} {pool.name}"] = Served.of(pool, pools)
        names = {(pool.network.vrf, pool.network.subnet.subnet): pool.name for pool in pools}
        lines = _in_one_order(lifted.device)
        return cls(
            present, sheet, pools, assignable, by_subnet, pairings, served, names, overlaps, lines
        )

    @cached_property
    def served_names(self) -> frozenset[str]:
        """What the networks that are served are called; for a while, one may have two names."""
        return frozenset(pool.name for pool in self.pools if pool.server is not None)

    def is_in(self, subnet: Prefix) -> bool:
        """Whether an interface has an address in a subnet, and is enabled."""
        place = bisect_left(self._held, subnet.span.first)
        return place < len(self._held) and self._held[place] <= subnet.span.last

    @cached_property
    def _held(self) -> Sequence[int]:
        """The addresses of the interfaces that are enabled, ascending."""
        enabled = (there for there in self.device.interfaces.values() if there.enabled)
        return sorted(prefix.address for there in enabled for prefix in there.addresses)

    @cached_property
    def wrong(self) -> frozenset[Wrong]:
        """The errors that a check of this configuration finds in what the device does."""
        text, reading = self.present.text, self.present.reading
        subject = ReadSubject([ConfigurationRead("", text, self.sheet, 1.0, reading)])
        behaviours = dict.fromkeys(subject.plan.devices, Behaviour(self.sheet))
        obstacles = tuple(subject.obstacles)
        today = datetime.date.min  # configuration accepts nothing, until whatever day
        site = Site(Pools(subject.plan), today, obstacles, behaviours, complete=False)
        return frozenset(
            (found.rule, found.network or "")
            for found in errors_of(site)
            if found.rule not in _TOLD_OTHERWISE
        )

    @cached_property
    def relaying(self) -> frozenset[str]:
        """The interfaces that relay."""
        interfaces = self.device.interfaces.items()
        return frozenset(name for name, there in interfaces if there.relay_to and there.addresses)

    def differs_from(self, other: State) -> list[str]:
        """What this does otherwise than another."""
        found: list[Difference] = list(compare(other.served, self.served))
        texts = [f"{getattr(each, 'network', '')}: {each}" for each in found]
        if self.device != other.device:
            texts.append("the device's interfaces, zones or routes differ")
        return texts


def _assignable(pools: Pools) -> dict[str, AddressSet]:
    """What pools assign, by VRF."""
    found: dict[str, AddressSet] = {}
    for pool in pools:
        if pool.server is not None:
            found[pool.network.vrf] = found.get(pool.network.vrf, AddressSet()) | pool.assignable
    return found


def _in_one_order(device: Device) -> Device:
    """The device with its lists sorted whose order means nothing."""
    interfaces = {
        name: there.model_copy(
            update={
                "addresses": (*there.addresses[:1], *sorted(there.addresses[1:])),
                "relay_to": tuple(sorted(there.relay_to)),
                "members": tuple(sorted(there.members)),
                "virtual": tuple(sorted(there.virtual)),
            }
        )
        for name, there in device.interfaces.items()
    }
    routes = tuple(sorted(device.routes, key=lambda route: (route.to, route.via)))
    return device.model_copy(update={"interfaces": interfaces, "routes": routes})


class States:
    """The states of a device; of the last few texts each is worked out once."""

    def __init__(self, sheet: Sheet, device: str) -> None:
        """Know nothing yet of the texts of a device."""
        self.sheet, self.device = sheet, device
        self.of = lru_cache(maxsize=8)(self._of)  # the way back from a text leads to those before

    def _of(self, text: str) -> State:
        return State.of(text, self.sheet, self.device)
