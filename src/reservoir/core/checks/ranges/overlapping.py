"""Ranges, networks and pools that share addresses."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import groupby

import numpy as np

from reservoir.core.checks.ranges.within import written_ranges
from reservoir.core.checks.rule import Obstructed, Rule, Site
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.plan.edits import Edit
from reservoir.core.pools import Pool
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import LAST_ADDRESS, Prefix, format_address
from reservoir.core.values.overlaps import overlaps
from reservoir.core.wording import in_more


class RangesOverlap(Obstructed):
    """Two ranges of one network have addresses in common.

    Why: Many devices refuse the second range; one of the two may be mistyped.

    Remedy: Shorten one of them, or merge both into one range.
    """

    severity = Severity.ERROR
    follows = ("range-outside-subnet",)
    example = """
          networks:
            crew:
              subnet: 10.84.30.0/24
        -     ranges: [10.84.30.20-10.84.30.90, 10.84.30.80-10.84.30.99]
        +     ranges: [10.84.30.20-10.84.30.79, 10.84.30.80-10.84.30.99]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        yield from super().check(site)
        by_list = groupby(written_ranges(site), key=lambda written: written[1][:-1])
        for _, group in by_list:
            written = list(group)
            if len(written) == 1:
                continue
            spans = [span for _, _, span in written]
            pairs = overlaps([s.first for s in spans], [s.last + 1 for s in spans])
            for earlier, later, first, unlisted in sorted(pairs):
                pool, path, span = written[later]
                rest = list((AddressSet([span]) - AddressSet([spans[earlier]])).spans())
                suggestion = Edit(path, str(span), str(rest[0]) if len(rest) == 1 else None)
                yield self.finding(
                    f"the ranges {spans[earlier]} and {span} overlap, "
                    f"starting at {format_address(first)}{in_more(unlisted, 'range', ', which')}",
                    path,
                    Witness("in-both", pool.name, first, name=str(span), also=str(spans[earlier])),
                    (suggestion,) if len(rest) < 2 else (),
                )


class NetworksOverlap(Rule):
    """Two networks in one VRF have addresses in common.

    Why: Routers send traffic for the shared addresses to one of the two, and clients of the other
    are cut off.

    Remedy: Give one of them another subnet. If the same addresses are used twice on purpose, put
    the networks in different VRFs.
    """

    severity = Severity.ERROR
    blames = ("networks",)
    rests_on = ("subnet",)
    example = """
          networks:
        -   crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20-10.84.30.99]}
        +   crew: {subnet: 10.84.30.0/25, ranges: [10.84.30.20-10.84.30.99]}
            shop: {subnet: 10.84.30.128/25, ranges: [10.84.30.140-10.84.30.200]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        pools = site.pools
        spans = pools.subnet_spans
        shift = pools.vrf_numbers << 33  # VRFs side by side in one line of numbers
        for overlap in overlaps(spans[:, 0] + shift, spans[:, 1] + 1 + shift):
            also, name = pools.names[overlap.earlier], pools.names[overlap.later]
            one = pools.networks[overlap.earlier].subnet
            other = pools.networks[overlap.later].subnet
            address = overlap.first & LAST_ADDRESS
            more = in_more(overlap.unlisted, "network", f"; {format_address(address)}")
            # What clients of both may get shows it best.
            both = pools.assignable_in(overlap.earlier) & pools.assignable_in(overlap.later)
            case = both.first if both else address
            yield self.finding(
                f"{other} of {name} {_relation(other, one)} {one} of {also}{more}",
                ("networks", name, "subnet"),
                Witness("in-both", name, case, name=name, also=also),
                concerns=(also,),
            )


def _relation(subnet: Prefix, other: Prefix) -> str:
    if subnet.bits == other.bits:
        return "is the same as"
    return "is inside" if subnet.bits > other.bits else "contains"


class PoolsOverlap(Rule):
    """Two servers may assign the same address, or two networks' pools share one.

    Why: Neither server knows the other's leases; sooner or later two clients get the same address.

    Remedy: Give each server its own ranges, or let only one of them serve.
    """

    severity = Severity.ERROR
    rests_on = ("networks", "subnet")
    follows = ("two-servers", "range-outside-subnet", "pair-not-mutual")
    example = """
          devices: {pier: {}, depot: {}}
          networks:
            crew:
              subnet: 10.84.30.0/24
              served_by:
        -       - {device: pier, ranges: [10.84.30.20-10.84.30.69]}
        +       - {device: pier, ranges: [10.84.30.20-10.84.30.59]}
                - {device: depot, ranges: [10.84.30.60-10.84.30.99]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        pools = site.pools
        vrfs: dict[str, int] = {}
        shifts = [vrfs.setdefault(pool.network.vrf, len(vrfs)) << 33 for pool in pools]
        counts = [pool.assignable.span_count for pool in pools]
        owner = np.repeat(np.arange(len(pools)), counts)
        shift = np.repeat(np.array(shifts, dtype=np.int64), counts)
        starts = np.concatenate([[], *(pool.assignable.starts for pool in pools)]).astype(np.int64)
        stops = np.concatenate([[], *(pool.assignable.stops for pool in pools)]).astype(np.int64)
        seen: set[tuple[int, int]] = set()
        for overlap in overlaps(starts + shift, stops + shift):
            pair = int(owner[overlap.earlier]), int(owner[overlap.later])
            one, other = pools[pair[0]], pools[pair[1]]
            if pair not in seen and not one.keeps_in_step_with(other):
                seen.add(pair)
                yield self._shared(one, other, overlap.unlisted)

    def _shared(self, one: Pool, other: Pool, unlisted: int) -> Finding:
        shared = one.assignable & other.assignable
        if one.name == other.name:
            both = f"{one.server} and {other.server} may both assign"
            if one.server == other.server:
                both = f"two pools of {one.server} assign"
            message = f"{both} {_some(shared)}"
        else:
            message = f"the pools of {one.name} and {other.name} share {_some(shared)}"
        message += in_more(unlisted, "pool", f"; {format_address(shared.first)}")
        path = (*other.path, "served_by") if one.name == other.name else other.ranges_path
        who = str(one.server) if one.name == other.name else one.name
        mine = str(other.server) if one.name == other.name else other.name
        witness = Witness(
            "in-both",
            other.name,
            shared.first,
            name=f"the pool of {mine}",
            also=f"the pool of {who}",
        )
        return self.finding(message, path, witness, concerns=tuple({one.name} - {other.name}))


def _some(addresses: AddressSet) -> str:
    """The addresses of a set, in short."""
    first = next(addresses.spans())
    more = len(addresses) - first.size
    return f"{first}" + (f" and {more:,} more" if more else "")
