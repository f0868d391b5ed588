"""What clients are offered where the plan writes it, each with the networks whose clients are."""

from __future__ import annotations

from collections.abc import Container, Iterator
from functools import lru_cache
from typing import Any, NamedTuple

from reservoir.core.checks.rule import Site
from reservoir.core.plan.model import PlanPath
from reservoir.core.plan.offered import SHORT_FOR
from reservoir.core.plan.own_values import options_of
from reservoir.core.values.clients import Client
from reservoir.core.values.options import name_of


class WrittenOption(NamedTuple):
    """An option as it is written: in a network, in the defaults, for one client."""

    path: PlanPath
    code: int
    data: bytes
    networks: tuple[str, ...]
    """Whose clients are offered it."""
    client: Client | None = None
    """The one client that is; all if None."""


class WrittenValue(NamedTuple):
    """The value of a key that clients are offered, as it is written."""

    path: PlanPath
    value: Any
    network: str
    """A network whose clients are offered it."""
    client: Client | None = None
    """The one client that is; all if None."""


@lru_cache(maxsize=1)
def options_as_written(site: Site) -> list[WrittenOption]:
    """Every option of the plan, those of the defaults first."""
    return list(_written(site))


def _written(site: Site) -> Iterator[WrittenOption]:
    networks = site.plan.networks.items()
    said = {name: options_of(network) for name, network in networks}
    defaults = site.plan.defaults
    for code, data in options_of(defaults).items():
        using = tuple(name for name, options in said.items() if code not in options)
        yield WrittenOption(option_path(("defaults",), code, defaults.options), code, data, using)
    for name, network in networks:
        for code, data in said[name].items():
            if data:  # else there is none, though the defaults have it
                path = option_path(("networks", name), code, network.options)
                yield WrittenOption(path, code, data, (name,))
    for row, own in site.pools.bindings.own.items():
        table = site.pools.bindings
        whose = (site.pools.names[int(table.network[row])],), table.client_at(row)
        for code, data in own.options.items():
            if data:
                path = option_path(table.path(row), code, _listed_options(site, row))
                yield WrittenOption(path, code, data, *whose)


def option_path(path: PlanPath, code: int, listed: Container[int]) -> PlanPath:
    """Where an option is written: among the options, or under the key that is short for it."""
    short = next((key for key, number in SHORT_FOR.items() if number == code), None)
    if short is not None and code not in listed:
        return (*path, short)
    return (*path, "options", name_of(code))


def _listed_options(site: Site, row: int) -> Container[int]:
    """The options that a binding lists, rather than naming them by keys."""
    path = site.pools.bindings.path(row)
    if path[0] != "networks":
        return ()
    return site.plan.networks[str(path[1])].bindings[int(path[-1])].options


def values_as_written(site: Site, key: str) -> Iterator[WrittenValue]:
    """Every value of a key that some clients are offered, that of the defaults first."""
    default = getattr(site.plan.defaults, key, None)
    networks = site.plan.networks.items()
    if default:
        using = (name for name, network in networks if getattr(network, key) is None)
        name = next(using, None)
        if name is not None:
            yield WrittenValue(("defaults", key), default, name)
    for name, network in networks:
        value = getattr(network, key)
        if value:
            yield WrittenValue(("networks", name, key), value, name)
    table = site.pools.bindings
    for row, own in table.own.items():
        value = own.values.get(key)
        if value:
            name = site.pools.names[int(table.network[row])]
            yield WrittenValue((*table.path(row), key), value, name, table.client_at(row))
