"""Where a name is defined and where it is used."""

from __future__ import annotations

import contextlib
import os
import re
from collections.abc import Iterator
from pathlib import Path

import numpy as np

from reservoir.core.plan.model import PlanPath, format_path
from reservoir.core.plan.references import Reference, kind_named_at, references
from reservoir.core.plan.scalars import READERS
from reservoir.core.problems import Place
from reservoir.core.values.addresses import MalformedValueError, Prefix, format_address
from reservoir.core.values.clients import is_mac_text, printed_client
from reservoir.files.cursor import Written
from reservoir.lsp.state import State

_FILES = ("include", "bindings_from", "static_from")
"""Keys of a plan that name files."""

_DEFINING = ("network", "device", "interface", "virtual", "static", "bound", "class", "zone", "vrf")
"""What a name is of where it is defined; of an address, whose it is."""


def definition(written: Written, file: str, state: State) -> list[Place]:
    """Where what a key or a value of a plan names is defined.

    Args:
        written: The key or the value.
        file: The file that it is in.
        state: The plan.
    """
    if written.path[:1] and written.path[0] in _FILES and not written.is_key:
        named = os.path.normpath(Path(file).parent / written.text)
        return [Place(named)] if Path(named).is_file() else []
    target = _target(written, state)
    if target is not None and state.subject is not None:
        return [state.subject.place(target)]
    if kind_named_at(written.path) is not None or is_number(written.text):
        return definition_of_word(written.text, state)  # a machine, whoever has an address
    return []


def definition_of_word(word: str, state: State) -> list[Place]:
    """Where what a word of a table or of configuration names is defined."""
    if state.index is None or state.subject is None or not word:
        return []
    try:
        things = state.index.find(asked_of(word)).things
    except MalformedValueError:
        return []
    defining = [thing.path for thing in things if thing.role in _DEFINING]
    return list(dict.fromkeys(map(state.subject.place, defining)))


def is_number(text: str) -> bool:
    """Whether a text is an address, a range, a subnet or a client."""
    is_address = re.match(r"[0-9]+(\.[0-9]+){2,}", text) is not None
    is_client = is_mac_text(text) or printed_client(text) or text.startswith(("hex:", "text:"))
    return is_address or bool(is_client)


def asked_of(word: str) -> str:
    """What is asked about a word: of an address with its prefix length, the address."""
    with contextlib.suppress(MalformedValueError):
        prefix: Prefix = READERS["subnet"](word)
        if prefix.address != prefix.network:
            return format_address(prefix.address)
    return word


def uses(written: Written, state: State, with_definition: bool) -> list[Place]:
    """Where what a key or a value of a plan names is used.

    Args:
        written: The key or the value.
        state: The plan.
        with_definition: Whether its definition counts as a use.
    """
    target = _target(written, state)
    if target is None or state.subject is None:
        return []
    return uses_of(target, state, with_definition)


def uses_of(target: PlanPath, state: State, with_definition: bool) -> list[Place]:
    """Where a network, a device, an interface, a zone or a class is used."""
    subject = state.subject
    assert subject is not None  # who asks has one
    paths = [target] if with_definition else []
    paths += [each.path for each in references(subject.plan) if each.defined_at == target]
    paths += _accepted(target, state)
    if target[0] == "networks" and len(target) == 2:
        paths += _rows(str(target[1]), state)
    return list(dict.fromkeys(map(subject.place, paths)))


def _target(written: Written, state: State) -> PlanPath | None:
    """The path of what is named: defined here, or named here."""
    if state.subject is None:
        return None
    plan, path = state.subject.plan, written.path
    kind = kind_named_at(path)
    if kind is not None:
        target = Reference(path, kind, written.text).defined_at
    elif path[:1] == ("accept",) and path[2:] == ("at",):
        every = [("networks", name) for name in plan.networks]
        every += [("devices", name) for name in plan.devices]
        return next((each for each in every if format_path(each) == written.text), None)
    else:
        target = path if written.is_key else ()
    return target if _is_defined(target, state) else None


def _is_defined(target: PlanPath, state: State) -> bool:
    """Whether a path is that of something that has a name, and the plan has it."""
    assert state.subject is not None  # who asks has one
    plan = state.subject.plan
    match target:
        case ("networks", str(name)):
            return name in plan.networks
        case ("classes", str(name)):
            return name in plan.classes
        case ("devices", str(name)) | ("devices", str(name), "interfaces" | "zones", _):
            return name in plan.devices
    return False


def _accepted(target: PlanPath, state: State) -> Iterator[PlanPath]:
    """The acceptances that name it."""
    assert state.subject is not None
    for position, acceptance in enumerate(state.subject.plan.accept):
        if acceptance.at == format_path(target):
            yield "accept", position, "at"


def _rows(network: str, state: State) -> Iterator[PlanPath]:
    """The rows of tables that name a network."""
    assert state.subject is not None
    plan = state.subject.plan
    place = list(plan.networks).index(network)
    for table in (plan.bulk_bindings, plan.bulk_static):
        for row in np.flatnonzero(table.network == place).tolist():
            yield *table.path(row)[:3], "network"
