"""Measures size on 1,000 networks: head-counts, groups, walk-ins; a third have too few addresses.

All in one process, one after the other, beside loading the plan and the check of it.
"""

from __future__ import annotations

import random
import time
from collections.abc import Callable

import reservoir
from reservoir.core.sizing import size as sizes

NETWORKS = 1_000


def demand(chance: random.Random) -> dict[str, object]:
    """A demand of one of four kinds."""
    group = {"at": f"{chance.randint(5, 20):02}:30", "devices": chance.randint(20, 150),
             "over": "20m", "stay": {"mean": "55m", "cv": "0.3"}}  # fmt: skip
    walk_in = {"rate": f"{chance.randint(10, 100)}/h", "between": "08:00-20:00",
               "stay": {"mean": "25m", "cv": "0.8"}}  # fmt: skip
    return chance.choice(
        [
            {"devices": chance.randint(5, 180), "growth": "10%", "horizon": "2 years"},
            {"arrivals": [group]},
            {"walk_in": walk_in},
            {"devices": 20, "arrivals": [group], "walk_in": walk_in},
        ]
    )


def plan(chance: random.Random) -> dict[str, object]:
    """Each network on an interface of one router, some with too short a range."""
    networks, interfaces = {}, {}
    for number in range(NETWORKS):
        front = f"10.{number >> 8}.{number & 255}"
        interfaces[f"p{number}"] = {"address": f"{front}.1/24"}
        networks[f"n{number}"] = {
            "subnet": f"{front}.0/24", "gateway": f"{front}.1", "served_by": "core", "dns": [],
            "ranges": [f"{front}.10-{front}.{chance.choice((99, 253, 253))}"],
            "lease": chance.choice(("45m", "1h", "4h")), "demand": demand(chance),
        }  # fmt: skip
    devices = {"core": {"interfaces": interfaces}}
    return {"reservoir": 1, "devices": devices, "networks": networks}


def timed(label: str, work: Callable[[], object]) -> None:
    """Run and print the seconds."""
    begun = time.perf_counter()
    work()
    print(f"{label:<32} {time.perf_counter() - begun:6.1f} s")


def every_figure(loaded: reservoir.OpenedPlan) -> None:
    """All that the table of ``size`` shows."""
    for one in reservoir.size(loaded).networks:
        size = one.size
        _ = (size.peak, size.risk, size.refused_per_day, size.needed(), size.longest_lease)
        _ = (size.prefix(one.kept), size.renewals_per_second)


def main() -> None:
    """Measure."""
    data = plan(random.Random(7))  # noqa: S311 - a sample
    loaded = reservoir.load(data)
    timed("loading 1,000 networks", lambda: reservoir.load(data))
    timed("sizing them", lambda: every_figure(loaded))
    for cache in (sizes._occupancy, sizes._needed, sizes._chance):
        cache.cache_clear()
    timed("checking the capacity family", lambda: reservoir.check(loaded, select=["capacity"]))


if __name__ == "__main__":
    main()
