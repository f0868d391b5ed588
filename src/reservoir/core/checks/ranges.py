"""Ranges and subnets: what is named must lie where it belongs, and belong to one network."""

from __future__ import annotations

from collections.abc import Iterator
from itertools import groupby

import numpy as np

from reservoir.core.address_set import AddressSet
from reservoir.core.addressing import Prefix, Span, format_address
from reservoir.core.checks.rule import Rule, Site
from reservoir.core.findings import Finding, Severity, Suggestion, Witness
from reservoir.core.lending import Pool
from reservoir.core.overlaps import overlaps
from reservoir.core.plan import PlanPath
from reservoir.core.typos import likely_range


def written_ranges(site: Site) -> Iterator[tuple[Pool, PlanPath, Span]]:
    """Each range as it is written, once, with its pool and its path."""
    seen: set[PlanPath] = set()
    for pool in site.lending.pools:
        if pool.ranges_path in seen or pool.named == "all":
            continue
        seen.add(pool.ranges_path)
        for position, span in enumerate(pool.named):
            yield pool, (*pool.ranges_path, position), span


def replaced(path: PlanPath, old: object, new: object | None) -> tuple[Suggestion, ...]:
    """The suggestion to write ``new`` for ``old``; none without a new value."""
    return () if new is None else (Suggestion(path, str(old), str(new)),)


class RangeReversed(Rule):
    """A range's first address is above its last.

    Why: Devices refuse such a range or lend nothing from it, and clients get no address.

    Remedy: Write the lower address first.
    """

    severity = Severity.ERROR
    failing = """
        networks:
          crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.200-10.84.30.20]}
    """
    passing = """
        networks:
          crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20-10.84.30.200]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for pool, path, span in written_ranges(site):
            if span.first > span.last:
                turned = Span(span.last, span.first)
                yield self.finding(
                    f"the range {span} runs backwards, so nothing is lent from it",
                    path,
                    Witness("unanswered", pool.name),
                    replaced(path, span, turned),
                )


class RangeOutsideSubnet(Rule):
    """A range has addresses that are not in the network's subnet.

    Why: A client that is lent such an address can reach nobody, and most devices refuse the range.

    Remedy: Correct the address, often a digit or an octet typed wrong, or the subnet.
    """

    severity = Severity.ERROR
    failing = """
        networks:
          crew: {subnet: 10.84.30.0/24, ranges: [10.84.31.20-10.84.31.200]}
    """
    passing = """
        networks:
          crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20-10.84.30.200]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for pool, path, span in written_ranges(site):
            subnet = pool.network.subnet
            if subnet.span.holds(span.first) and subnet.span.holds(span.last):
                continue
            outside = AddressSet([span]) - AddressSet([subnet.span])
            if not outside:
                continue
            meant = likely_range(span, subnet)
            also = f"; {meant} would be inside" if meant else ""
            relation = (
                f"is not in {subnet.subnet}"
                if len(outside) == span.size
                else f"reaches out of {subnet.subnet} with {len(outside):,} of its addresses"
            )
            yield self.finding(
                f"the range {span} {relation}{also}",
                path,
                Witness("named", pool.name, outside.first, also="which is not in its subnet"),
                replaced(path, span, meant),
            )


class RangeTakesEdgeAddress(Rule):
    """A range includes the subnet's network or broadcast address.

    Why: Neither can be a client's address; some devices lend them nevertheless, others refuse.

    Remedy: Begin the range after the network address and end it before the broadcast address.
    """

    severity = Severity.ERROR
    follows_here = ("range-outside-subnet",)
    failing = """
        networks:
          crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20-10.84.30.255]}
    """
    passing = """
        networks:
          crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20-10.84.30.254]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for pool, path, span in written_ranges(site):
            subnet = pool.network.subnet
            if subnet.hosts.holds(span.first) and subnet.hosts.holds(span.last):
                continue
            for edge, kind in ((subnet.network, "network"), (subnet.broadcast, "broadcast")):
                if subnet.is_edge(edge) and span.holds(edge):
                    inside = Span(
                        max(span.first, subnet.hosts.first), min(span.last, subnet.hosts.last)
                    )
                    fits = AddressSet([span]) <= AddressSet([subnet.span]) and inside.size
                    yield self.finding(
                        f"the range {span} includes {format_address(edge)}, "
                        f"the {kind} address of {subnet.subnet}",
                        path,
                        Witness("named", pool.name, edge, also=f"its {kind} address"),
                        replaced(path, span, inside if fits else None),
                    )


class RangesOverlap(Rule):
    """Two ranges of one network have addresses in common.

    Why: Many devices refuse the second range; one of the two was meant to be another.

    Remedy: Shorten one of them, or write one range for both.
    """

    severity = Severity.ERROR
    failing = """
        networks:
          crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20-10.84.30.90, 10.84.30.80-10.84.30.99]}
    """
    passing = """
        networks:
          crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20-10.84.30.79, 10.84.30.80-10.84.30.99]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        by_list = groupby(written_ranges(site), key=lambda written: written[1][:-1])
        for _, group in by_list:
            written = list(group)
            spans = [span for _, _, span in written]
            pairs = overlaps([s.first for s in spans], [s.last + 1 for s in spans])
            for earlier, later, first in sorted(pairs):
                _, path, span = written[later]
                rest = list(AddressSet([span]) - AddressSet([spans[earlier]]))
                suggestion = Suggestion(path, str(span), str(rest[0]) if len(rest) == 1 else None)
                yield self.finding(
                    f"the ranges {spans[earlier]} and {span} overlap "
                    f"from {format_address(first)} on",
                    path,
                    Witness("claimed", f"the range {span}", first, also=str(spans[earlier])),
                    (suggestion,) if len(rest) < 2 else (),
                )


class SubnetHasHostBits(Rule):
    """A network's subnet is written with an address that is not the subnet's first.

    Why: It is not clear which subnet is meant, and most devices refuse such a line.

    Remedy: Write the network address, or the prefix length that was meant.
    """

    severity = Severity.ERROR
    failing = """
        networks:
          crew: {subnet: 10.84.30.1/24, ranges: [10.84.30.20-10.84.30.200]}
    """
    passing = """
        networks:
          crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20-10.84.30.200]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for name, network in site.plan.networks.items():
            written = network.subnet
            if written != written.subnet:
                path = ("networks", name, "subnet")
                yield self.finding(
                    f"{written} is an address inside {written.subnet}, not a subnet",
                    path,
                    Witness("claimed", str(written), written.address, also=str(written.subnet)),
                    replaced(path, written, written.subnet),
                )


class NetworksOverlap(Rule):
    """Two networks of one VRF have addresses in common.

    Why: Routers send the shared addresses to one of the two, and clients of the other are cut off.

    Remedy: Give one of them another subnet. Where the same addresses are meant to be used twice,
    put the networks in different VRFs.
    """

    severity = Severity.ERROR
    failing = """
        networks:
          crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20-10.84.30.99]}
          shop: {subnet: 10.84.30.128/25, ranges: [10.84.30.140-10.84.30.200]}
    """
    passing = """
        networks:
          crew: {subnet: 10.84.30.0/25, ranges: [10.84.30.20-10.84.30.99]}
          shop: {subnet: 10.84.30.128/25, ranges: [10.84.30.140-10.84.30.200]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        lending = site.lending
        spans = np.array([n.subnet.span for n in lending.networks], dtype=np.int64).reshape(-1, 2)
        shift = lending.vrf_numbers << 33  # VRFs side by side in one line of numbers
        for earlier, later, first in overlaps(spans[:, 0] + shift, spans[:, 1] + 1 + shift):
            names = lending.names[earlier], lending.names[later]
            one, other = lending.networks[earlier].subnet, lending.networks[later].subnet
            path = ("networks", names[1], "subnet")
            relation = _relation(other, one)
            yield self.finding(
                f"{other} of {names[1]} {relation} {one} of {names[0]}",
                path,
                Witness("claimed", names[1], first & 0xFFFFFFFF, also=names[0]),
            )


def _relation(subnet: Prefix, other: Prefix) -> str:
    if subnet.bits == other.bits:
        return "is the same as"
    return "lies inside" if subnet.bits > other.bits else "swallows"


class PoolsOverlap(Rule):
    """Two servers may lend the same address, or two networks' pools share one.

    Why: Neither server knows the other's leases; sooner or later two machines have one address.

    Remedy: Give each server ranges of its own, or let one of them serve alone.
    """

    severity = Severity.ERROR
    follows = ("networks-overlap", "subnet-has-host-bits")
    failing = """
        devices: {pier: {}, depot: {}}
        networks:
          crew:
            subnet: 10.84.30.0/24
            served_by: [pier, depot]
            ranges: [10.84.30.20-10.84.30.99]
    """
    passing = """
        devices: {pier: {}, depot: {}}
        networks:
          crew:
            subnet: 10.84.30.0/24
            served_by:
              - {device: pier, ranges: [10.84.30.20-10.84.30.59]}
              - {device: depot, ranges: [10.84.30.60-10.84.30.99]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        pools = site.lending.pools
        vrfs: dict[str, int] = {}
        shifts = [vrfs.setdefault(pool.network.vrf, len(vrfs)) << 33 for pool in pools]
        counts = [pool.lendable.span_count for pool in pools]
        owner = np.repeat(np.arange(len(pools)), counts)
        shift = np.repeat(np.array(shifts, dtype=np.int64), counts)
        starts = np.concatenate([[], *(pool.lendable.starts for pool in pools)]).astype(np.int64)
        stops = np.concatenate([[], *(pool.lendable.stops for pool in pools)]).astype(np.int64)
        seen: set[tuple[int, int]] = set()
        for overlap in overlaps(starts + shift, stops + shift):
            pair = int(owner[overlap.earlier]), int(owner[overlap.later])
            if pair not in seen:
                seen.add(pair)
                yield self._shared(pools[pair[0]], pools[pair[1]])

    def _shared(self, one: Pool, other: Pool) -> Finding:
        shared = one.lendable & other.lendable
        if one.name == other.name:
            message = f"{one.server} and {other.server} may both lend {_some(shared)}"
        else:
            message = f"{one.name} and {other.name} may both lend {_some(shared)}"
        path = (*other.path, "served_by") if one.name == other.name else other.ranges_path
        who = str(one.server) if one.name == other.name else one.name
        mine = str(other.server) if one.name == other.name else other.name
        return self.finding(message, path, Witness("claimed", mine, shared.first, also=who))


def _some(addresses: AddressSet) -> str:
    """Name the addresses of a set, shortly."""
    first = next(iter(addresses))
    more = len(addresses) - first.size
    return f"{first}" + (f" and {more:,} more" if more else "")


class PoolEmpty(Rule):
    """Nothing is left to lend to a network.

    Why: The server has a pool, and every client that is not bound is refused.

    Remedy: Give the network ranges, or fewer exclusions.
    """

    severity = Severity.ERROR
    follows = ("range-outside-subnet", "range-reversed", "subnet-has-host-bits")
    failing = """
        devices: {pier: {interfaces: {deck: {address: 10.84.30.1/24}}}}
        networks:
          crew:
            subnet: 10.84.30.0/24
            served_by: pier
            ranges: [10.84.30.20-10.84.30.99]
            exclusions: [10.84.30.0/25]
    """
    passing = """
        devices: {pier: {interfaces: {deck: {address: 10.84.30.1/24}}}}
        networks:
          crew:
            subnet: 10.84.30.0/24
            served_by: pier
            ranges: [10.84.30.20-10.84.30.99]
            exclusions: [10.84.30.0/27]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for pool in site.lending.pools:
            meant = bool(pool.named) or (pool.server and not len(pool.bindings))
            if pool.lendable or not meant:
                continue
            by = f" by {pool.server}" if pool.server else ""
            reason = (
                "every address of its ranges is excluded, bound or outside the subnet"
                if pool.named
                else "it has no ranges and no bindings"
            )
            yield self.finding(
                f"nothing can be lent to {pool.name}{by}: {reason}",
                pool.ranges_path if pool.named else pool.path,
                Witness("refused", pool.name, count=1),
            )
