"""Edits to a plan, and the plan in memory as each would leave it."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any, TypeVar

import numpy as np
from pydantic import ValidationError

from reservoir.core.plan.hosts import HostTable
from reservoir.core.plan.model import Device, Network, Plan, PlanPath
from reservoir.core.plan.offering import Defaults
from reservoir.core.plan.part import Part
from reservoir.core.values.addresses import MalformedValueError, parse_address

Model = TypeVar("Model", bound=Part)


@dataclass(frozen=True, slots=True)
class Edit:
    """One change to a plan.

    ``old`` and ``new`` are texts as the plan file has them. Without ``old`` something is added
    (at a list position one past its end: appended); without ``new`` something is removed.
    """

    path: PlanPath
    old: str | None
    new: str | None

    @property
    def words(self) -> str:
        """What it does: ``10.84.30.255 becomes 10.84.30.254``."""
        if self.new is None:
            return f"remove {self.old}"
        return f"{self.old} becomes {self.new}" if self.old else f"add {self.new}"


class NotApplicableError(Exception):
    """The plan has no place for an edit, or the new value isn't one."""


def with_edit(plan: Plan, edit: Edit) -> Plan:
    """The plan as it is once the edit is made.

    Raises:
        NotApplicableError: it can't be made.
    """
    kind, *rest = edit.path
    try:
        if kind == "defaults":
            return replace(plan, defaults=_changed(plan.defaults, Defaults, rest, edit))
        name = str(rest[0])
        if kind == "networks":
            network = _changed(plan.networks[name], Network, rest[1:], edit)
            return replace(plan, networks={**plan.networks, name: network})
        if kind == "devices":
            device = _changed(plan.devices[name], Device, rest[1:], edit)
            return replace(plan, devices={**plan.devices, name: device})
        if kind == "bindings_from":
            return replace(plan, bulk_bindings=_with_address(plan.bulk_bindings, edit))
        if kind == "static_from":
            return replace(plan, bulk_static=_with_address(plan.bulk_static, edit))
    except (KeyError, IndexError, TypeError, ValidationError, MalformedValueError) as error:
        raise NotApplicableError(str(error)) from None
    raise NotApplicableError(f"{kind} can't be edited")


def _changed(part: Model, model: type[Model], path: list[Any], edit: Edit) -> Model:
    data = part.model_dump(mode="json", by_alias=True, exclude_unset=True)
    inner: Any = data
    for number, step in enumerate(path[:-1]):
        if isinstance(inner, dict) and step not in inner:
            inner[step] = [] if isinstance(path[number + 1], int) else {}
        inner = inner[step]
    last = path[-1]
    if edit.new is None:
        del inner[last]
    elif isinstance(inner, list) and last == len(inner):
        inner.append(_value(edit.new))
    else:
        inner[last] = _value(edit.new)
    return model.model_validate(data)


def _value(text: str) -> Any:
    """A value as the plan file has it; a block in braces holds plain texts."""
    if text.startswith("{"):
        return dict(pair.split(": ", 1) for pair in text.strip("{}").split(", "))
    return text


def _with_address(table: HostTable, edit: Edit) -> HostTable:
    """The table with another address in one of its rows."""
    origin: PlanPath = edit.path[:2]
    row, column = edit.path[2:4]
    if column != "address" or edit.new is None:
        raise NotApplicableError(f"{column} of a row can't be edited")
    at = np.flatnonzero((table.origin == list(table.origins).index(origin)) & (table.row == row))
    address = table.address.copy()
    address[at] = parse_address(edit.new)
    return replace(table, address=address)
