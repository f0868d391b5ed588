"""Puts new bindings into a plan's files: into its table where it has one, else into networks."""

from __future__ import annotations

import csv
import io
import json
import re
from collections.abc import Mapping, Sequence
from typing import NamedTuple

from reservoir.core.plan.model import PlanPath
from reservoir.core.values.addresses import format_address
from reservoir.core.values.clients import Client, Mac, format_client
from reservoir.files.lease_list import is_formula
from reservoir.files.plan_edits import TextEdits
from reservoir.files.plan_file import LoadedPlan
from reservoir.files.texts import read_text

_PLAIN_WORD = re.compile(r"[A-Za-z][\w./-]*(?: [\w./-]+)*", re.ASCII)
"""A text that YAML takes for one without quotes; in doubt a text is quoted."""

_NOT_TEXT = ("y", "n", "yes", "no", "on", "off", "true", "false", "null")


class NewBinding(NamedTuple):
    """A binding that a plan is to have."""

    network: str
    name: str
    client: Client
    address: int
    hostname: str = ""


def with_bindings(
    loaded: LoadedPlan, bindings: Sequence[NewBinding]
) -> tuple[Mapping[str, str], Mapping[str, str]]:
    """The texts of a plan's files without and with new bindings, as far as they differ.

    Raises:
        NotEditableError: a network has no place for them.
        InputError: a file can't be read.
    """
    before: dict[str, str] = {}
    after: dict[str, str] = {}
    table = loaded.places.first_table("bindings_from")
    is_row = [table is not None and _fits_table(binding) for binding in bindings]
    rows = [binding for binding, fits in zip(bindings, is_row, strict=True) if fits]
    if table is not None and rows:
        file, columns = table
        before[file] = read_text(file)
        after[file] = _with_rows(before[file], columns, rows)
    inline: dict[str, list[NewBinding]] = {}
    for binding, fits in zip(bindings, is_row, strict=True):
        if not fits:
            inline.setdefault(binding.network, []).append(binding)
    edits: dict[str, TextEdits] = {}
    for network, some in inline.items():
        path: PlanPath = ("networks", network, "bindings")
        tree, there = loaded.places.tree_of(path)
        if tree.file not in edits:
            before[tree.file] = read_text(tree.file)
            edits[tree.file] = TextEdits(before[tree.file])
        edits[tree.file].append(there, [_item(binding) for binding in some])
    return before, after | {file: one.result() for file, one in edits.items()}


def _fits_table(binding: NewBinding) -> bool:
    """Whether a row can hold it: one of a MAC address, with names that no spreadsheet runs."""
    return isinstance(binding.client, Mac) and not any(
        map(is_formula, (binding.name, binding.network))
    )


def _with_rows(text: str, columns: Mapping[str, int], bindings: Sequence[NewBinding]) -> str:
    """A table with more rows at its end, with its line ends."""
    end = "\r\n" if "\r\n" in text else "\n"
    out = io.StringIO()
    writer = csv.writer(out, lineterminator=end)
    for binding in bindings:
        cells = {
            "network": binding.network,
            "name": binding.name,
            "mac": format_client(binding.client),
            "address": format_address(binding.address),
            "hostname": binding.hostname,
        }
        writer.writerow([cells.get(name, "") for name in sorted(columns, key=columns.__getitem__)])
    return text + ("" if text.endswith("\n") else end) + out.getvalue()


def _item(binding: NewBinding) -> str:
    """A binding as an item of a plan's list."""
    name = binding.name
    key = "mac" if isinstance(binding.client, Mac) else "client_id"
    values = [
        f"{key}: {format_client(binding.client)}",
        f"address: {format_address(binding.address)}",
    ]
    if name:
        values.insert(0, f"name: {_written(name)}")
    if binding.hostname:
        values.append(f"hostname: {_written(binding.hostname)}")
    return f"{{{', '.join(values)}}}"


def _written(name: str) -> str:
    """A name as YAML takes it for a text."""
    is_plain = _PLAIN_WORD.fullmatch(name) and name.lower() not in _NOT_TEXT
    return name if is_plain else json.dumps(name, ensure_ascii=False)
