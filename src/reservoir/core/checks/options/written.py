"""Options where the plan writes them, each with the networks whose clients are offered it."""

from __future__ import annotations

from collections.abc import Iterator
from functools import lru_cache
from typing import NamedTuple

from reservoir.core.checks.rule import Site
from reservoir.core.plan.model import PlanPath
from reservoir.core.values.options import name_of


class WrittenOption(NamedTuple):
    """An option as it is written: in a network, or in the defaults."""

    path: PlanPath
    code: int
    data: bytes
    networks: tuple[str, ...]
    """Whose clients are offered it."""


@lru_cache(maxsize=1)
def options_as_written(site: Site) -> list[WrittenOption]:
    """Every option of the plan, those of the defaults first."""
    return list(_written(site))


def _written(site: Site) -> Iterator[WrittenOption]:
    networks = site.plan.networks.items()
    for code, data in site.plan.defaults.options.items():
        using = tuple(name for name, network in networks if code not in network.options)
        yield WrittenOption(("defaults", "options", name_of(code)), code, data, using)
    for name, network in networks:
        for code, data in network.options.items():
            if not data:  # none, though the defaults have it
                continue
            path: PlanPath = ("networks", name, "options", name_of(code))
            yield WrittenOption(path, code, data, (name,))
