"""What a device assigns of its own accord, where its configuration leaves out the range or pool."""

from __future__ import annotations

from dataclasses import replace
from operator import is_

from reservoir.core.values.addresses import Span
from reservoir.dialects.behaviour.device import Behaviour
from reservoir.dialects.facts.by_address import addresses_of
from reservoir.dialects.facts.fact import Fact


def with_own_ranges(device: Fact, behaviour: Behaviour) -> Fact:
    """A device's facts with the ranges that it takes for granted: the subnets of its interfaces.

    The same facts, where its family takes none for granted, or all are stated.
    """
    if not behaviour.assigns_whole_subnets:
        return device
    children = [_filled_in(child) for child in device.children]
    return (
        device if all(map(is_, children, device.children)) else replace(device, children=children)
    )


def _filled_in(fact: Fact) -> Fact:
    """An interface with a pool and a range, where it serves."""
    addresses = addresses_of(fact) if fact.kind == "interface" else ()
    if not addresses or not fact.get("service"):
        return fact
    hosts, base = addresses[0].hosts, addresses[0].subnet.span.first
    pools = list(fact.of_kind("pool"))
    if any(any(pool.of_kind("range")) for pool in pools):
        parts = [_in_whole(child, hosts, base) for child in fact.children]
        return fact if all(map(is_, parts, fact.children)) else replace(fact, children=parts)
    whole = {"first": hosts.first, "last": hosts.last}
    if not pools:
        place = fact.line_of("service"), fact.column
        pool = Fact("pool", {}, [Fact("range", whole, [], *place)], *place)
        return replace(fact, children=[*fact.children, pool])
    filled = replace(
        pools[0], children=[*pools[0].children, Fact("range", whole, [], pools[0].line, 1)]
    )
    return replace(fact, children=[filled if c is pools[0] else c for c in fact.children])


def _in_whole(pool: Fact, hosts: Span, base: int) -> Fact:
    """A pool whose range has what it leaves out, or states as 0: from the first, to the last."""
    if pool.kind != "pool":
        return pool
    children = [_whole_range(child, hosts, base) for child in pool.children]
    is_same = all(map(is_, children, pool.children))
    return pool if is_same else replace(pool, children=children)


def _whole_range(fact: Fact, hosts: Span, base: int) -> Fact:
    offset, count = fact.get("offset"), fact.get("count")
    if fact.kind != "range" or "first" in fact.fields or (offset and count):
        return fact
    begin = offset or hosts.first - base
    rest = max(hosts.last - base - begin + 1, 0)
    return replace(fact, fields={**fact.fields, "offset": begin, "count": count or rest})
