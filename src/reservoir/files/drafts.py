"""Puts drafted networks into a plan's text, or makes a new plan of them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from reservoir.core.drafting.site import Addition
from reservoir.core.plan.model import PLAN_FORMAT, PlanPath
from reservoir.files.plan_edits import TextEdits
from reservoir.files.plan_file import LoadedPlan
from reservoir.files.plan_text import Remarked, data_text, in_braces
from reservoir.files.texts import read_text

ORDER = ("dialect", "interfaces", "zones", "routes")
"""The keys of a device in the order in which they are written."""


def new_plan(additions: Sequence[Addition]) -> str:
    """The text of a new plan: what networks have in common becomes its defaults."""
    parts = _as_tree(additions)
    networks = parts["networks"]
    defaults = {}
    for key in ("dns", "domain", "lease"):
        values = [network.get(key) for network in networks.values()]
        if values[0] is not None and all(value == values[0] for value in values):
            defaults[key] = values[0]
            for network in networks.values():
                del network[key]
    head = {"reservoir": PLAN_FORMAT, **({"defaults": defaults} if defaults else {})}
    return data_text({**head, "devices": parts["devices"], "networks": networks})


def with_additions(
    loaded: LoadedPlan, additions: Sequence[Addition]
) -> tuple[Mapping[str, str], Mapping[str, str]]:
    """The texts of a plan's files without and with drafted networks, as far as they differ.

    New devices and networks go into the plan's main file; what a device gets goes where it is.

    Raises:
        NotEditableError: there is no place for one of them.
        InputError: a file can't be read.
    """
    before: dict[str, str] = {}
    edits: dict[str, TextEdits] = {}
    entries: dict[tuple[str, PlanPath], dict[str, Any]] = {}
    for path, added in _insertions(loaded, _as_tree(additions)):
        tree, there = loaded.places.tree_of(path)
        if tree.file not in edits:
            before[tree.file] = read_text(tree.file)
            edits[tree.file] = TextEdits(before[tree.file])
        if isinstance(added, list):
            edits[tree.file].append(there, list(map(in_braces, added)))
            continue
        inner: dict[str, Any] = dict(added)
        while not edits[tree.file].has(there):  # what is missing is added to what is above it
            *above, key = there
            there, inner = tuple(above), {str(key): inner}
        entries.setdefault((tree.file, there), {}).update(inner)
    # What is deeper comes first where both end at one line.
    for (file, there), inner in sorted(entries.items(), key=lambda item: -len(item[0][1])):
        edits[file].add(there, inner)
    return before, {file: one.result() for file, one in edits.items()}


def _as_tree(additions: Sequence[Addition]) -> dict[str, Any]:
    """Everything that is added, in one tree."""
    tree: dict[str, Any] = {}
    for path, value, remark in additions:
        node = tree
        for step in path[:-1]:
            node = node.setdefault(str(step), {})
        present = node.get(str(path[-1]))
        if isinstance(present, dict):
            present.update(value)
        elif isinstance(present, list):
            present.extend(value)
        else:
            node[str(path[-1])] = Remarked(value, remark) if remark else value.copy()
    for device in tree.get("devices", {}).values():
        for key in ORDER:
            if key in device:
                device[key] = device.pop(key)
    return tree


def _insertions(loaded: LoadedPlan, tree: Mapping[str, Any]) -> list[tuple[PlanPath, Any]]:
    """The mappings and lists that get new entries, with these."""
    devices = tree.get("devices", {})
    known = loaded.plan.devices
    found: list[tuple[PlanPath, Any]] = []
    for name in devices.keys() & known.keys():
        for key, entries in devices[name].items():
            found.append((("devices", name, key), entries))
    new = {name: device for name, device in devices.items() if name not in known}
    for key, entries in (("devices", new), ("networks", tree.get("networks", {}))):
        if entries:
            found.append(((key,), dict(entries)))
    return sorted(found, key=lambda item: [str(step) for step in item[0]])
