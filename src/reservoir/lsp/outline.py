"""What a file has, for an editor's outline: networks, devices with their interfaces, classes."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

import yaml
from lsprotocol import types

from reservoir.core.plan.model import PlanPath
from reservoir.files.cursor import Written, written
from reservoir.lsp.positions import Positions
from reservoir.lsp.state import State

_KINDS = {
    "networks": types.SymbolKind.Namespace,
    "devices": types.SymbolKind.Module,
    "classes": types.SymbolKind.Class,
    "interfaces": types.SymbolKind.Interface,
    "zones": types.SymbolKind.Package,
}
"""What the protocol has for the names below each key."""

_DETAILS = ("subnet", "vlan", "address", "dialect")
"""The keys whose values are shown beside a name."""


class _Entry(NamedTuple):
    """A name, and all that stands below it."""

    written: Written
    inner: list[Written]


def outline_of_plan(text: str, positions: Positions) -> list[types.DocumentSymbol] | None:
    """The outline of a plan's file; None if it can't be read to its end."""
    try:
        every = list(written(text))
    except yaml.YAMLError:
        return None
    return [
        _symbol(entry, types.SymbolKind.Key, positions, 1, _KINDS.get(str(entry.written.path[0])))
        for entry in _entries(every, 1, ())
        if any(len(one.path) > 1 for one in entry.inner)
    ]


def outline_of_configuration(
    state: State, positions: Positions, file: str
) -> list[types.DocumentSymbol]:
    """The outline of a device's configuration: its networks and interfaces, where they begin."""
    if state.subject is None:
        return []
    plan = state.subject.plan
    named: list[tuple[PlanPath, str, types.SymbolKind]] = [
        (("networks", name), str(network.subnet), _KINDS["networks"])
        for name, network in plan.networks.items()
    ]
    for device, its in plan.devices.items():
        for name, interface in its.interfaces.items():
            addresses = ", ".join(map(str, interface.addresses))
            path: PlanPath = ("devices", device, "interfaces", name)
            named.append((path, addresses, _KINDS["interfaces"]))
    found = []
    for path, detail, kind in named:
        place = state.subject.place(path)
        if place.file == file:
            spot = positions.at(place.line, place.column)
            found.append(types.DocumentSymbol(str(path[-1]), kind, spot, spot, detail))
    return sorted(found, key=lambda symbol: symbol.range.start.line)


def _entries(every: Sequence[Written], depth: int, above: PlanPath) -> Iterator[_Entry]:
    """The keys of a depth, each with what stands below it."""
    entry: _Entry | None = None
    for one in every:
        if one.is_key and len(one.path) == depth and one.path[:-1] == above:
            if entry is not None:
                yield entry
            entry = _Entry(one, [])
        elif entry is not None and one.path[:depth] == entry.written.path:
            entry.inner.append(one)
    if entry is not None:
        yield entry


def _symbol(
    entry: _Entry,
    kind: types.SymbolKind,
    positions: Positions,
    depth: int,
    below: types.SymbolKind | None,
) -> types.DocumentSymbol:
    """A key and what is below it; names only below keys that have some."""
    key, inner = entry
    end = inner[-1].end if inner else key.end
    own = [one for one in inner if not one.is_key and len(one.path) == depth + 1]
    values = {one.path[-1]: one.text for one in own}
    detail = ", ".join(str(values[name]) for name in _DETAILS if name in values)
    children: list[types.DocumentSymbol] = []
    if below is not None:
        children = [
            _symbol(each, below, positions, depth + 1, None)
            for each in _entries(inner, depth + 1, key.path)
        ]
    elif depth == 2 and key.path[0] == "devices":
        for part in _entries(inner, depth + 1, key.path):
            name = str(part.written.path[-1])
            if name in _KINDS:
                children.append(
                    _symbol(part, types.SymbolKind.Key, positions, depth + 1, _KINDS[name])
                )
    return types.DocumentSymbol(
        name=key.text or "(no name)",
        kind=kind,
        range=positions.between(key.begin, end),
        selection_range=positions.between(key.begin, key.end),
        detail=detail or None,
        children=children,
    )
