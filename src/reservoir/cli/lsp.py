"""``reservoir lsp``: what an editor asks while a plan is typed."""

from __future__ import annotations

import gc
import sys

import click


@click.command("lsp", short_help="Serve an editor while a plan is typed in it.")
def command() -> None:
    """Serve an editor: findings while typing, what is free, fixes, where names are.

    An editor starts this command and speaks the Language Server Protocol with it on standard input
    and output, for plans, the files and tables that they include, and configuration of devices.
    docs/editor.md says how an editor is set up.

    \b
    Examples:
      reservoir lsp

    Exit status: 0 the editor has ended it, 2 there is no editor but a terminal.
    """
    if sys.stdin.isatty():
        message = "An editor starts this command and speaks with it; docs/editor.md says how."
        raise click.UsageError(message)
    from reservoir.lsp.serving import serve  # late: --help needs none of it

    gc.enable()  # other commands build one structure and end; this one runs for days
    serve()
