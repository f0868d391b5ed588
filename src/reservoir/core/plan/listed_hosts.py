"""The bindings and static hosts that a plan's networks list, as tables."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from reservoir.core.plan.hosts import HostTable, client_numbers
from reservoir.core.plan.model import Plan, PlanPath
from reservoir.core.values.text_column import TextColumn


def listed_bindings(plan: Plan) -> HostTable:
    """The bindings that networks list, in the plan's order."""
    found = [
        (number, name, row, binding)
        for number, (name, network) in enumerate(plan.networks.items())
        for row, binding in enumerate(network.bindings)
    ]
    clients, identifiers = client_numbers([binding.client for *_, binding in found])
    own = ((place, binding.own_values) for place, (*_, binding) in enumerate(found))
    table = _table(
        [
            (number, name, row, binding.name, binding.address)
            for number, name, row, binding in found
        ],
        "bindings",
        clients,
        identifiers,
    )
    return replace(table, own={place: values for place, values in own if values is not None})


def listed_static(plan: Plan) -> HostTable:
    """The static hosts that networks list, in the plan's order."""
    found = [
        (number, name, row, host.name, host.address)
        for number, (name, network) in enumerate(plan.networks.items())
        for row, host in enumerate(network.static)
    ]
    return _table(found, "static", np.zeros(len(found), dtype=np.int64), [])


def _table(
    found: list[tuple[int, str, int, str, int]],
    key: str,
    clients: NDArray[np.int64],
    identifiers: list[bytes],
) -> HostTable:
    origins: dict[PlanPath, int] = {}
    origin = [origins.setdefault(("networks", name, key), len(origins)) for _, name, *_ in found]
    return HostTable(
        network=np.array([number for number, *_ in found], dtype=np.int64),
        address=np.array([address for *_, address in found], dtype=np.int64),
        client=clients,
        name=TextColumn.of(name for *_, name, _ in found),
        origin=np.array(origin, dtype=np.int64),
        row=np.array([row for _, _, row, *_ in found], dtype=np.int64),
        origins=list(origins),
        identifiers=identifiers,
    )
