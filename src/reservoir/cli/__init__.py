"""The command line: a command a file; each parses, calls and prints, nothing else."""

from __future__ import annotations

import sys


def main() -> None:
    """Run ``reservoir``."""
    if sys.argv[1:] == ["--version"]:  # asked by scripts at every start; needs no parser
        from reservoir.version import __version__

        print(f"reservoir {__version__}")
        return
    from reservoir.cli.commands import run

    run()
