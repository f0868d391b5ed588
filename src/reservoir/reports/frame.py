"""The frame that the JSON of all commands has."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence

from pydantic import ConfigDict, with_config
from typing_extensions import TypedDict

from reservoir.version import __version__

described = with_config(ConfigDict(use_attribute_docstrings=True))
"""Takes what is said of the fields of a type into its schema."""


@described
class Frame(TypedDict):
    """What the output of every command begins with."""

    reservoir: str
    """The version of Reservoir."""
    command: str
    inputs: list[str]
    """The files that were read."""


@described
class LeftOut(TypedDict):
    """A network that is left out."""

    network: str
    because: str


def frame(command: str, inputs: Sequence[str]) -> Frame:
    """What a command's output begins with.

    Args:
        command: The command that says it.
        inputs: The files that were read.
    """
    return {"reservoir": __version__, "command": command, "inputs": list(inputs)}


def as_text(output: Mapping[str, object]) -> str:
    """A command's output as the text of one JSON object."""
    return json.dumps(output, indent=2) + "\n"
