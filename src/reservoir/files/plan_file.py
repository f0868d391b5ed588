"""Loads a plan: its file, the files that it includes, and the tables beside it."""

from __future__ import annotations

import contextlib
import os
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any, TypeVar, cast

from pydantic import ValidationError

from reservoir.core.checks import rules
from reservoir.core.plan.demand import Arrival, Demand
from reservoir.core.plan.history import History
from reservoir.core.plan.hosts import HostTable, joined
from reservoir.core.plan.model import Device, Network, Plan, PlanFile, PlanPath
from reservoir.core.plan.references import dangling_references
from reservoir.core.problems import InputError, Place, Problem
from reservoir.core.subject import Subject
from reservoir.core.values.addresses import Prefix
from reservoir.files.demand_tables import read_history, read_timetable
from reservoir.files.kept import Kept
from reservoir.files.moments import ListNotation
from reservoir.files.plan_errors import described_errors
from reservoir.files.tables import BINDING_COLUMNS, STATIC_COLUMNS, TablePlaces, read_table
from reservoir.files.texts import STANDARD_INPUT, read_text, stamp_of
from reservoir.files.yaml_tree import YamlTree, parse_yaml

Table = TypeVar("Table", "Sequence[Arrival]", History)

MOST_FILES = 200
"""Files that a plan may consist of: each may include the next."""

_ONLY_IN_MAIN = ("name", "defaults", "checks", "anycast", "listeners", "accept")
"""Keys of the file that is named on the command line; an included file has none of them."""


class Places:
    """Where each part of a plan is: file, line and column for every plan path."""

    def __init__(self, main: YamlTree) -> None:
        """Begin with the plan's main file."""
        self._main = main
        self._owners: dict[tuple[str | int, ...], tuple[YamlTree, PlanPath]] = {}
        self._tables: dict[PlanPath, TablePlaces] = {}

    def add_owner(self, path: PlanPath, tree: YamlTree, path_there: PlanPath) -> None:
        """Note that a network, a device or a list's item comes from this file."""
        self._owners[path] = (tree, path_there)

    def add_table(self, path: PlanPath, places: TablePlaces) -> None:
        """Note that the rows below this path come from a table."""
        self._tables[path] = places

    def first_table(self, key: str) -> tuple[str, Mapping[str, int]] | None:
        """The file and the columns of the first table that a key names; None if it names none."""
        for path, table in self._tables.items():
            if path[0] == key:
                return table.file, table.columns
        return None

    def tree_of(self, path: PlanPath) -> tuple[YamlTree, PlanPath]:
        """The file that holds a path, and the path there."""
        tree, there = self._owners.get(path[:2], (self._main, path[:2]))
        return tree, (*there, *path[2:])

    def is_in_table(self, path: PlanPath) -> bool:
        """Whether a path is a cell of a table."""
        return path[:2] in self._tables and len(path) == 4

    def place(self, path: PlanPath) -> Place:
        """The place of a plan path, or of the nearest part above it."""
        table = self._tables.get(path[:2])
        if table is not None and len(path) > 2 and isinstance(path[2], int):
            return table.place(path[2], *map(str, path[3:4]))
        tree, there = self.tree_of(path)
        return tree.place(there)


@dataclass(frozen=True)
class LoadedPlan(Subject):
    """A plan and what is known of its files."""

    plan: Plan
    places: Places
    files: tuple[str, ...]
    """Every file that was read, the plan's own first."""

    def place(self, path: PlanPath) -> Place:
        """The place of a plan path, or of the nearest part above it."""
        return self.places.place(path)


def load_plan(
    file: str,
    instead: Mapping[str, str] | None = None,
    watch: Callable[[float], None] | None = None,
    kept: Kept | None = None,
) -> LoadedPlan:
    """Load a plan from its file, or from standard input for ``-``.

    Args:
        file: The plan's path.
        instead: Texts that count instead of what files of these names have.
        watch: Called with the share of a table that has been read, 0 to 1.
        kept: Has what was read before; of files that are the same it is taken.

    Raises:
        InputError: with every problem of every file that the plan consists of.
    """
    return _Loader(file, instead or {}, watch or (lambda share: None), kept or Kept()).load()


def named_files(file: str, instead: Mapping[str, str], kept: Kept) -> tuple[str, ...]:
    """The files that a plan consists of, its own first, as far as it can be read.

    Args:
        file: The plan's path.
        instead: Texts that count instead of what files of these names have.
        kept: Has what was read before.
    """
    loader = _Loader(file, instead, lambda share: None, kept)
    with contextlib.suppress(InputError):
        loader.load()
    return tuple(loader.named)


class _Loader:
    def __init__(
        self,
        file: str,
        instead: Mapping[str, str],
        watch: Callable[[float], None],
        kept: Kept,
    ) -> None:
        self.file = file
        self.kept = kept
        self.named: dict[str, None] = {}
        """The files that were looked for, readable or not, in their order."""
        self.watch = watch
        self.instead = instead
        self.trees: dict[str, YamlTree] = {}
        self._read_already: set[str] = set()
        """The files by their real paths: a file has many spellings."""
        self.parts: dict[str, PlanFile] = {}
        self.problems: list[Problem] = []
        self._demand_tables: dict[tuple[str, str | None], Sequence[Arrival] | History | None] = {}
        """The tables that demands name, each read once; None if it can't be."""

    def load(self) -> LoadedPlan:
        self._read(self.file, None)
        if self.file not in self.parts:
            raise InputError(self.problems)
        places = Places(self.trees[self.file])
        devices = self._merged("devices", places)
        classes = self._merged("classes", places)
        networks = self._with_demand_tables(self._merged("networks", places), places)
        tables = {
            key: self._tables(key, columns, networks, places)
            for key, columns in (
                ("bindings_from", BINDING_COLUMNS),
                ("static_from", STATIC_COLUMNS),
            )
        }
        main = self.parts[self.file]
        plan = Plan(
            name=main.name,
            defaults=main.defaults,
            devices=devices,
            networks=networks,
            classes=classes,
            checks=main.checks,
            anycast=main.anycast,
            listeners=main.listeners,
            accept=main.accept,
            bulk_bindings=joined([table for table, _ in tables["bindings_from"]]),
            bulk_static=joined([table for table, _ in tables["static_from"]]),
        )
        for path, message in dangling_references(plan, rules()):
            self.problems.append(Problem(places.place(path), message))
        if self.problems:
            raise InputError(self.problems)
        read_tables = [file for read in tables.values() for _, file in read]
        demand_files = (file for file, _ in self._demand_tables)
        return LoadedPlan(plan, places, (*self.parts, *read_tables, *dict.fromkeys(demand_files)))

    def _read(self, file: str, included_at: Place | None) -> None:
        """Read a plan file and, depth first, what it includes."""
        real = os.path.realpath(file)
        if included_at is not None and real in self._read_already:
            self.problems.append(Problem(included_at, f"{file} is already part of the plan"))
            return
        self._read_already.add(real)
        self.named[file] = None
        found = self._parsed(file, included_at)
        if found is None:
            return
        tree, part, problems = found
        if len(self.trees) >= MOST_FILES:
            self.problems.append(Problem(tree.place(()), f"a plan has {MOST_FILES} files at most"))
            return
        self.trees[file] = tree
        self.problems += problems
        self.parts[file] = part
        if included_at is not None:
            self.problems += [
                Problem(
                    tree.place((key,)), f"{key} belongs in {self.file}, which includes this file"
                )
                for key in _ONLY_IN_MAIN
                if key in part.model_fields_set
            ]
        for position, name in enumerate(part.include):
            self._read(_beside(file, name), tree.place(("include", position)))

    def _parsed(
        self, file: str, included_at: Place | None
    ) -> tuple[YamlTree, PlanFile, Sequence[Problem]] | None:
        try:
            text = self.instead[file] if file in self.instead else read_text(file)
            return self.kept.of(file, text, lambda: _part_of(text, file))
        except InputError as error:
            self.problems += error.problems
            if included_at is not None:
                self.problems.append(Problem(included_at, f"{file} can't be included"))
            return None

    def _merged(self, key: str, places: Places) -> Mapping[str, Any]:
        """All devices or networks of all files; a name that two files give is a problem."""
        merged: dict[str, Any] = {}
        for file, part in self.parts.items():
            tree = self.trees[file]
            for name, value in getattr(part, key).items():
                if name in merged:
                    first = places.place((key, name))
                    message = f"{name} is in two files; the first is {first}"
                    self.problems.append(Problem(tree.place((key, name)), message))
                    continue
                merged[name] = value
                places.add_owner((key, name), tree, (key, name))
        return merged

    def _with_demand_tables(
        self, networks: Mapping[str, Network], places: Places
    ) -> Mapping[str, Network]:
        """The networks with the timetables and histories that their demands name."""
        found = dict(networks)
        for name, network in networks.items():
            demand = network.demand
            if demand is None or not demand.names_tables:
                continue
            file = places.tree_of(("networks", name))[0].file
            timetables = {
                table.file: self._demand_table(_beside(file, table.file), read_timetable)
                for table in demand.timetables
            }
            history = demand.history and self._history(_beside(file, demand.history), demand)
            known = {each: table for each, table in timetables.items() if table is not None}
            if len(known) < len(timetables) or (demand.history and history is None):
                continue
            own = history.within(network.subnet.span) if history else None
            if own is not None and not len(own):
                place = places.place(("networks", name, "demand", "history"))
                message = f"{demand.history} has no lease of an address in {network.subnet.subnet}"
                self.problems.append(Problem(place, message))
                continue
            expected = demand.with_tables(known, own)
            found[name] = network.model_copy(update={"demand": expected})
        return found

    def _history(self, file: str, demand: Demand) -> History | None:
        """Leases of the past; times without an offset are those of the demand's own zone."""
        zone = demand.zone if "zone" in demand.model_fields_set else None

        def read(path: str, _instead: str | None) -> History:
            return read_history(path, ListNotation(zone=zone))

        return self._demand_table(file, read, zone)

    def _demand_table(
        self, file: str, read: Callable[[str, str | None], Table], zone: str | None = None
    ) -> Table | None:
        """A table that demands name; what is wrong with it is noted once."""
        key = file, zone
        if key not in self._demand_tables:
            self._demand_tables[key] = None
            self.named[file] = None
            instead = self.instead.get(file)
            content = stamp_of(file) if instead is None else instead
            try:
                self._demand_tables[key] = self.kept.of(key, content, lambda: read(file, instead))
            except InputError as error:
                self.problems += error.problems
        return cast("Table | None", self._demand_tables[key])

    def _tables(
        self, key: str, columns: tuple[str, ...], networks: Mapping[str, Any], places: Places
    ) -> list[tuple[HostTable, str]]:
        order = {name: number for number, name in enumerate(networks)}
        found = []
        number = 0
        for file, part in self.parts.items():
            for position, name in enumerate(getattr(part, key)):
                origin: PlanPath = (key, number)
                number += 1
                tree = self.trees[file]
                places.add_owner(origin, tree, (key, position))
                table_file = _beside(file, name)
                self.named[table_file] = None
                instead = self.instead.get(table_file)
                try:
                    table, spots = read_table(
                        table_file, columns, order, origin, self.watch, instead, self.kept
                    )
                except InputError as error:
                    self.problems += error.problems
                    continue
                places.add_table(origin, spots)
                found.append((table, table_file))
        return found


def _part_of(text: str, file: str) -> tuple[YamlTree, PlanFile, Sequence[Problem]]:
    """A plan file's tree, what is right in it, and what is wrong.

    Raises:
        InputError: it is no YAML.
    """
    tree = parse_yaml(text, file)
    try:
        return tree, PlanFile.model_validate(tree.data), tree.problems
    except ValidationError as error:
        wrong = [
            Problem(tree.place(path, at_key), message)
            for path, message, at_key in described_errors(error)
        ]
        return tree, _salvaged(tree.data), [*tree.problems, *wrong]


def _salvaged(data: dict[str, Any]) -> PlanFile:
    """What is right in a file that isn't right as a whole: so that other problems are found too.

    Devices and networks that are wrong are there by name, without content.
    """

    def right(key: str, value: Any) -> Any:
        try:
            return getattr(PlanFile.model_validate({"reservoir": "1", key: value}), key)
        except ValidationError:
            return None

    kept: dict[str, Any] = {"devices": {}, "networks": {}}
    for key, value in data.items():
        if key in ("devices", "networks") and isinstance(value, dict):
            empty = {"devices": Device(), "networks": Network(subnet=Prefix(0, 0))}[key]
            for name, inner in value.items():
                kept[key][name] = (right(key, {name: inner}) or {}).get(name, empty)
        elif key in PlanFile.model_fields and (found := right(key, value)) is not None:
            kept[key] = found
    return PlanFile.model_construct(**kept)


def _beside(file: str, name: str) -> str:
    """A path as it is written in a file, seen from where the command runs."""
    if file == STANDARD_INPUT or Path(name).is_absolute():
        return name
    return os.path.normpath(Path(file).parent / name)
