"""What clients are offered where the plan writes it, each with the networks whose clients are."""

from __future__ import annotations

from collections.abc import Container, Iterator
from dataclasses import replace
from functools import lru_cache
from typing import Any, NamedTuple

from reservoir.core.checks.rule import Site
from reservoir.core.findings import Witness
from reservoir.core.plan.model import PlanPath
from reservoir.core.plan.offered import SHORT_FOR
from reservoir.core.plan.option_values import VENDOR_IDENTIFYING, VENDOR_INFORMATION
from reservoir.core.plan.own_values import VENDOR, OwnValues, options_of
from reservoir.core.values.clients import Client
from reservoir.core.values.options import name_of

INSIDE = (VENDOR_INFORMATION, VENDOR_IDENTIFYING)
"""The options that a vendor's are in."""


class Whose(NamedTuple):
    """Whom something is written for."""

    client: Client | None = None
    """The one client that it is for."""
    member_of: str = ""
    """The class whose members it is for."""

    def witness(self, witness: Witness) -> Witness:
        """The case of such a client."""
        if self == EVERYBODY:
            return witness
        return replace(witness, client=self.client, member_of=self.member_of)


EVERYBODY = Whose()
"""All clients of a network."""


class WrittenOption(NamedTuple):
    """An option as it is written: in a network, in the defaults, for some clients."""

    path: PlanPath
    code: int
    data: bytes
    networks: tuple[str, ...]
    """Whose clients are offered it."""
    whose: Whose = EVERYBODY

    def witness(
        self,
        network: str | None = None,
        address: int | None = None,
        *,
        option: str,
        value: str,
        because: str,
    ) -> Witness:
        """The case of a client that is offered it, in a network or the first, and its harm."""
        where = network or next(iter(self.networks), None)
        said = Witness("offered", where, address, option=option, value=value, because=because)
        return self.whose.witness(said)


class WrittenValue(NamedTuple):
    """The value of a key that clients are offered, as it is written."""

    path: PlanPath
    value: Any
    network: str
    """A network whose clients are offered it."""
    whose: Whose = EVERYBODY


class OwnWritten(NamedTuple):
    """What some clients of a network are offered alone, where it is written."""

    path: PlanPath
    own: OwnValues
    listed: Container[int]
    """The options that are listed, rather than named by keys."""
    network: str
    whose: Whose


def own_as_written(site: Site) -> Iterator[OwnWritten]:
    """What classes and bound clients are offered of their own."""
    for name, network in site.plan.networks.items():
        for kin, answers in network.by_class.items():
            own = answers.own_values
            if own is not None:
                path = ("networks", name, "by_class", kin)
                yield OwnWritten(path, own, answers.options, name, Whose(member_of=kin))
    table = site.pools.bindings
    for row, own in table.own.items():
        name = site.pools.names[int(table.network[row])]
        listed, whose = _listed_options(site, row), Whose(table.client_at(row))
        yield OwnWritten(table.path(row), own, listed, name, whose)


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
    for each in own_as_written(site):
        for code, data in each.own.options.items():
            if data:
                path = option_path(each.path, code, each.listed)
                yield WrittenOption(path, code, data, (each.network,), each.whose)


def option_path(path: PlanPath, code: int, listed: Container[int]) -> PlanPath:
    """Where an option is written: among the options, or under the key that is short for it."""
    keys = {**{number: key for key, number in SHORT_FOR.items()}, **dict.fromkeys(INSIDE, VENDOR)}
    if code in keys and code not in listed:
        return (*path, keys[code])
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
    for each in own_as_written(site):
        value = each.own.values.get(key)
        if value:
            yield WrittenValue((*each.path, key), value, each.network, each.whose)
