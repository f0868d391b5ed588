"""What may be written at a place of a plan that is being typed: keys, names, what is free."""

from __future__ import annotations

import csv
from collections.abc import Collection, Iterator
from typing import Literal, NamedTuple

from reservoir.api.plans import OpenedPlan
from reservoir.api.whereabouts import Index
from reservoir.core.checks import rules
from reservoir.core.plan.model import Plan, PlanPath, format_path
from reservoir.core.plan.references import kind_named_at, names_of
from reservoir.dialects.sheet.library import beside as library_beside
from reservoir.files.cursor import Typed, typed_at
from reservoir.files.plan_schema import expected_at
from reservoir.files.plan_text import scalar_text

Kind = Literal["key", "name", "word", "value"]


class Completion(NamedTuple):
    """Something that may be written."""

    text: str
    kind: Kind
    """A key; the name of something; a word of the plan's language; or an address, a tag."""
    about: str
    """What it is, or why it is suggested."""
    column: int
    """Where what was typed of it begins, from 1."""


def completions(
    text: str,
    line: int,
    column: int,
    *,
    file: str,
    plan: OpenedPlan | None = None,
    index: Index | None = None,
) -> list[Completion]:
    """What may be written at a place of a plan file, the likeliest first.

    Args:
        text: The file's text, be it half typed.
        line: From 1.
        column: From 1, behind what was typed.
        file: The file's path: sheets are looked for beside it.
        plan: The plan as it last was whole; without one there are no names and nothing is free.
        index: Its index; without one nothing is free.
    """
    found: dict[str, Completion] = {}
    for typed in typed_at(text, line, column):
        for written, kind, about in _offered(typed, file, plan, index):
            found.setdefault(written, Completion(written, kind, about, typed.column))
    return list(found.values())


def table_completions(
    text: str, line: int, column: int, *, plan: OpenedPlan, index: Index
) -> list[Completion]:
    """What may be written at a place of a table of bindings or static hosts.

    Args:
        text: The table.
        line: From 1.
        column: From 1, behind what was typed.
        plan: The plan that names the table, as it last was whole.
        index: Its index.
    """
    lines = text.split("\n")
    if not 1 < line <= len(lines):
        return []
    header = [cell.strip() for cell in next(csv.reader(lines[:1]), [])]
    cells = lines[line - 1][: column - 1].split(",")
    name = header[len(cells) - 1] if len(cells) <= len(header) else ""
    begins = column - len(cells[-1].lstrip())
    if name == "network":
        return [
            Completion(network, "name", str(its.subnet), begins)
            for network, its in plan.plan.networks.items()
        ]
    if name != "address" or "network" not in header:
        return []
    row = next(csv.reader([lines[line - 1]]), [])
    place = header.index("network")
    network = row[place].strip() if place < len(row) else ""
    free = index.next_free.addresses_of(network)
    return [Completion(each.text, "value", each.because, begins) for each in free]


def _offered(
    typed: Typed, file: str, plan: OpenedPlan | None, index: Index | None
) -> Iterator[tuple[str, Kind, str]]:
    """What may be written, of what kind it is, and what it is about."""
    if typed.is_key:
        yield from _keys(typed, plan)
        return
    path = typed.path
    if plan is not None:
        yield from _names(path, plan)
    if path[:1] == ("devices",) and path[2:] == ("dialect",):
        library = library_beside(file)
        yield from ((name, "name", "a dialect") for name in library.names)
    if path[:1] == ("accept",) and path[2:] == ("at",) and plan is not None:
        parts = [("networks", plan.plan.networks), ("devices", plan.plan.devices)]
        for kind, names in parts:
            for name in names:
                yield format_path((kind, name)), "name", f"what is found of this {kind[:-1]}"
    if index is not None:
        for each in index.next_free.at(path, typed.beside):
            yield each.text, "value", each.because
    expected = expected_at(path)
    words = [*expected.words, *(["none"] if ", or none" in expected.what else [])]
    yield from ((word, "word", "") for word in words)


def _keys(typed: Typed, plan: OpenedPlan | None) -> Iterator[tuple[str, Kind, str]]:
    """The keys that a block may have and hasn't yet, those first that it must have."""
    expected = expected_at(typed.path)
    left = [key for key in expected.keys if key not in typed.beside]
    for key in sorted(left, key=lambda key: key not in expected.required):
        yield key, "key", expected.keys[key]
    if plan is not None:  # some keys are names
        yield from _names((*typed.path, ""), plan, typed.beside)


def _names(
    path: PlanPath, plan: OpenedPlan, there: Collection[str] = ()
) -> Iterator[tuple[str, Kind, str]]:
    """The names of what may be named at a path, but for those that are there."""
    kind = kind_named_at(path)
    if kind is None:
        return
    for name in names_of(plan.plan, kind, path, rules()):
        if name and name not in there:
            yield scalar_text(name), "name", _about(plan.plan, kind, name)


def _about(plan: Plan, kind: str, name: str) -> str:
    """What something is that has a name."""
    if kind == "rule":
        return rules()[name].manual["summary"]
    if name in plan.devices and kind.startswith("device"):
        dialect = plan.devices[name].dialect
        return f"a device, {dialect}" if dialect else "a device"
    return f"a {kind.rpartition(' ')[2]}" if kind != "interface" else "an interface"
