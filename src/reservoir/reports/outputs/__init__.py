"""The JSON of the commands, as types: what ``--format json`` prints, and what `schema` describes.

A module for each command, whose ``Output`` is all that it prints. Fields are only ever added.
Addresses and subnets are texts, durations seconds, shares fractions, times of day ``HH:MM``.
"""

from __future__ import annotations

import importlib
import pkgutil
from typing import Any

OUTPUTS = tuple(sorted(found.name for found in pkgutil.iter_modules(__path__)))
"""The commands that print JSON."""


def schema_of(command: str) -> dict[str, Any]:
    """The JSON Schema of a command's output.

    Args:
        command: One of ``OUTPUTS``.
    """
    from pydantic import TypeAdapter  # late: --help needs only the names

    module = importlib.import_module(f"{__name__}.{command}")
    return TypeAdapter(module.Output).json_schema()
