"""Tells plans from devices' configuration."""

from __future__ import annotations

import re
from pathlib import Path

from reservoir.files.texts import STANDARD_INPUT

LOOKED_AT = 1 << 16
"""Bytes of a file in which the format's version must stand, if it is a plan."""

_FORMAT = re.compile(rb"""^\s*\{?\s*["']?reservoir["']?\s*:""", re.MULTILINE)


def is_plan(file: str) -> bool:
    """Whether a file is a plan: it is called one, or says of which format it is.

    A file that can't be read counts as what its name says; reading it tells the rest.
    """
    path = Path(file)
    if file == STANDARD_INPUT or path.suffix in (".yaml", ".yml"):
        return True
    try:
        with path.open("rb") as stream:
            return _FORMAT.search(stream.read(LOOKED_AT)) is not None
    except OSError:
        return False
