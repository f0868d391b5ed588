"""Tells plans, tables and devices' configuration apart."""

from __future__ import annotations

import re
from pathlib import Path

from reservoir.core.problems import InputError, Place, Problem
from reservoir.files.texts import STANDARD_INPUT, beginning

LOOKED_AT = 1 << 16
"""Bytes of a file in which the format's version must stand, if it is a plan."""

_FORMAT = re.compile(rb"""^[ \t]*(?:\{\s*)?["']?reservoir["']?[ \t]*:""", re.MULTILINE)
"""No two neighbours that match the same: thousands of blank lines would keep it busy for hours."""


def is_plan(file: str) -> bool:
    """Whether a file is a plan: it is called one, or says of which format it is.

    A file that can't be read counts as what its name says; reading it tells the rest.
    """
    path = Path(file)
    return file == STANDARD_INPUT or path.suffix in (".yaml", ".yml") or _says_so(path)


def is_plan_text(text: str) -> bool:
    """Whether a text says of which format of plans it is."""
    return _FORMAT.search(text[:LOOKED_AT].encode()) is not None


def _says_so(path: Path) -> bool:
    """Whether a file says of which format of plans it is."""
    return _FORMAT.search(beginning(str(path), LOOKED_AT)) is not None


def require_no_plan(file: str) -> None:
    """Refuse what may be taken for configuration and belongs to a plan.

    Raises:
        InputError: a plan, a folder with one in it, or a table of bindings or static hosts.
    """
    if file == STANDARD_INPUT:
        return  # reading it tells
    path = Path(file)
    if _says_so(path):
        raise InputError([Problem(Place(file), "this is a plan, not a device's configuration")])
    if path.is_dir():
        within = (inner for inner in sorted(path.glob("*")) if inner.is_file())
        plan = next((inner for inner in within if is_plan(str(inner))), None)
        if plan is not None:
            message = f"this folder holds a plan, not a device's configuration; give {plan} instead"
            raise InputError([Problem(Place(file), message)])
    elif (key := _table_key(path)) is not None:
        message = f"this is a table; name it in a plan: {key}: [{path.name}]"
        raise InputError([Problem(Place(file), message)])


def _table_key(path: Path) -> str | None:
    """The plan's key for tables with such a first line."""
    from reservoir.files.tables import BINDING_COLUMNS, STATIC_COLUMNS  # late: costs NumPy

    first = beginning(str(path), LOOKED_AT).partition(b"\n")[0]
    header = sorted(cell.strip() for cell in first.decode(errors="replace").split(","))
    keys = {"bindings_from": BINDING_COLUMNS, "static_from": STATIC_COLUMNS}
    return next((key for key, columns in keys.items() if header == sorted(columns)), None)
