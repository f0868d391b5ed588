"""The command line: a command a file; each parses, calls and prints, nothing else."""

from __future__ import annotations

import os
import sys


def main() -> None:
    """Run ``reservoir``."""
    for name in ("stdout", "stderr"):  # closed by whoever started the program
        if getattr(sys, name) is None:
            from pathlib import Path

            setattr(sys, name, Path(os.devnull).open("w"))  # noqa: SIM115 - to the end
    if sys.argv[1:] == ["--version"]:  # asked by scripts at every start; needs no parser
        from reservoir.version import __version__

        print(f"reservoir {__version__}")
        return
    # Looking for plug-ins of the validation takes a twentieth of a short run.
    os.environ.setdefault("PYDANTIC_DISABLE_PLUGINS", "__all__")
    try:
        from reservoir.cli.commands import run

        run()
    except KeyboardInterrupt:  # before or after the command itself
        sys.exit(130)
