"""Where in a device's configuration a part of the plan made of it is."""

from __future__ import annotations

from reservoir.core.plan.model import Network, PlanPath
from reservoir.core.values.addresses import Prefix
from reservoir.dialects.behaviour.lifted import Lifted, Origin
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.facts.spans import each_span

Spot = tuple[int, int]
"""Line and column, from 1."""


def origin_of(lifted: Lifted, name: str, subnet: Prefix) -> Origin | None:
    """What a network was made of: by its name, or by its subnet where it was merged."""
    origin = lifted.origins.get(name)
    if origin is not None and origin.subnet == subnet:
        return origin
    return next((o for o in lifted.origins.values() if o.subnet == subnet), None)


def spot_in_device(lifted: Lifted, path: PlanPath) -> Spot:
    """The line of an interface, a zone or a route, of one of its fields, or the first of all."""
    fact = _fact(lifted, path)
    if fact is None:
        return 1, 1
    return _spot(fact, str(path[4]) if len(path) > 4 else None)


def _fact(lifted: Lifted, path: PlanPath) -> Fact | None:
    """What an interface, a zone or a route of a device was made of."""
    if len(path) < 4:
        return None
    kind, key = path[2:4]
    if kind == "routes" and isinstance(key, int):
        return lifted.routes[key] if key < len(lifted.routes) else None
    return {"interfaces": lifted.interfaces, "zones": lifted.zones}.get(str(kind), {}).get(str(key))


def spot_in_network(origin: Origin, path: PlanPath, network: Network) -> Spot:
    """The line of a network's pool, of what the pool states, or of one of its bindings."""
    pool = origin.pools[0]
    key = path[2] if len(path) > 2 else None
    position = path[3] if len(path) > 3 else None
    if key == "bindings" and isinstance(position, int) and position < len(origin.bindings):
        return _spot(origin.bindings[position], str(path[4]) if len(path) > 4 else None)
    if key in ("ranges", "exclusions") and isinstance(position, int):
        return _spot(_stating(origin, network, str(key), position) or pool, None)
    return _spot(pool, str(key) if key is not None else None)


def _stating(origin: Origin, network: Network, key: str, position: int) -> Fact | None:
    """The fact that names the first address of a range or an exclusion."""
    if key == "exclusions":
        first = network.exclusions[position].range.first
    else:
        assert network.ranges != "all"  # what is read of a device has ranges
        first = network.ranges[position].first
    base = origin.subnet.span.first
    for pool in origin.pools:
        for fact in pool.of_kind("exclusion" if key == "exclusions" else "range"):
            if any(span.first == first or span.holds(first) for span in each_span([fact], base)):
                return fact
    return None


def _spot(fact: Fact, field: str | None) -> Spot:
    line = fact.line if field is None else fact.line_of(field)
    return line, fact.column if line == fact.line else 1
