"""The frame that the JSON of all commands has."""

from __future__ import annotations

import json
from collections.abc import Sequence

from reservoir.version import __version__


def framed(command: str, inputs: Sequence[str], **parts: object) -> str:
    """One JSON object, whose fields are only ever added to.

    Args:
        command: The command that says it.
        inputs: The files that were read.
        parts: What it says, by the names of the fields.
    """
    frame = {"reservoir": __version__, "command": command, "inputs": list(inputs)}
    return json.dumps({**frame, **parts}, indent=2) + "\n"
