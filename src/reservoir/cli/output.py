"""What the commands share: colour, width, messages, and options that several of them have."""

from __future__ import annotations

import os
import shutil
import sys
import time
from collections.abc import Callable, Iterable, Iterator
from contextlib import contextmanager
from itertools import islice
from pathlib import Path
from typing import TYPE_CHECKING, TypeVar

import click

if TYPE_CHECKING:
    from matplotlib.figure import Figure

BAR = 40
"""Characters in a full progress bar."""

AT_ONCE = 1_000
"""Pieces that are printed together."""

PIPE_WIDTH = 100
"""Columns where there is no terminal, so that output in a pipe is always the same."""

Command = TypeVar("Command", bound=Callable[..., object])


def talkative(command: Command) -> Command:
    """Give a command ``--color`` and ``--quiet``."""
    color = click.option(
        "--color",
        type=click.Choice(["auto", "always", "never"]),
        default="auto",
        expose_value=False,
        callback=_set_color,
        help="Colour output (auto: on a terminal, unless NO_COLOR is set).",
    )
    quiet = click.option(
        "-q",
        "--quiet",
        is_flag=True,
        expose_value=False,
        callback=_set_quiet,
        help="Print results only, no messages.",
    )
    return color(quiet(command))


def format_option(*forms: str) -> Callable[[Command], Command]:
    """Give a command ``--format``; the first of the formats is meant if none is named."""
    return click.option(
        "--format", "form", type=click.Choice(forms), default=forms[0], help="Output format."
    )


out_option = click.option("-o", "--out", metavar="FILE", help="Write the results to a file.")
"""The option of commands whose results can go into a file."""


def _set_color(ctx: click.Context, _parameter: click.Parameter, choice: str) -> None:
    never = choice == "never" or (choice == "auto" and bool(os.environ.get("NO_COLOR")))
    ctx.color = False if never else (True if choice == "always" else None)


def _set_quiet(ctx: click.Context, _parameter: click.Parameter, quiet: bool) -> None:
    ctx.meta["reservoir.quiet"] = quiet


def width() -> int:
    """Columns of the terminal; in a pipe always the same."""
    if not sys.stdout.isatty():
        return PIPE_WIDTH
    return max(40, min(shutil.get_terminal_size().columns, 120))


def talk(text: str = "") -> None:
    """Print a message on standard error, unless ``--quiet``."""
    if not click.get_current_context().meta.get("reservoir.quiet"):
        complain(text)


def complain(text: str) -> None:
    """Print a message on standard error, whether ``--quiet`` or not."""
    from reservoir.core.wording import shown  # late: not for --help

    click.echo(shown(text), err=True)


@contextmanager
def progress(label: str) -> Iterator[Callable[[float], None]]:
    """A bar on a terminal for work that takes longer than a second; nothing in a pipe.

    Gives a function to call with the share of the work that is done, 0 to 1.
    """
    quiet = click.get_current_context().meta.get("reservoir.quiet")
    if quiet or not sys.stderr.isatty():
        yield lambda share: None
        return
    begun, drawn = time.monotonic(), False

    def draw(share: float) -> None:
        nonlocal drawn
        if time.monotonic() - begun > 1:
            drawn = True
            filled = round(share * BAR)
            click.echo(f"\r{label}  {'#' * filled}{'.' * (BAR - filled)}", nl=False, err=True)

    try:
        yield draw
    finally:
        if drawn:
            click.echo(f"\r{' ' * (len(label) + 2 + BAR)}\r", nl=False, err=True)


def show(lines: Iterable[str]) -> None:
    """Print lines of data on standard output."""
    for line in lines:
        click.echo(line)


def show_difference(lines: Iterable[str]) -> None:
    """Print the lines of a unified difference, in colours where there are some."""
    from reservoir.core.wording import shown  # late: --help needs none of it
    from reservoir.reports.theme import styled

    lines = map(shown, lines)
    meanings = {"+": "added", "-": "removed", "@": "place"}
    show(styled(line, meanings[line[0]]) if line[:1] in meanings else line for line in lines)


def finish_what_was_cut_off(*folders: Path) -> None:
    """Finish changes of files that something cut off, and say so."""
    from reservoir.files.journal import finish_cut_off  # late: not for --help

    for folder in dict.fromkeys(folders):
        for path in finish_cut_off(folder):
            shown = folder / path.name if path.parent == folder.resolve() else path
            talk(f"{shown}: an earlier change was cut off; it is finished now")


def save_or_show(text: str | Iterable[str], out: str | None) -> None:
    """Put data into the file named by ``--out``, or on standard output, piece by piece."""
    pieces = iter([text] if isinstance(text, str) else text)
    if out in (None, "-"):
        while some := "".join(islice(pieces, AT_ONCE)):
            click.echo(some, nl=False)
        return
    from reservoir.files.changing import write_whole  # late: not for --help

    write_whole(Path(str(out)), click.unstyle("".join(pieces)))


def require_figure(file: str | None) -> None:
    """Require that a file can hold a figure, before anything is said.

    Raises:
        UsageError: its ending is none of .png, .svg and .pdf.
    """
    if file is not None and Path(file).suffix.lower() not in (".png", ".svg", ".pdf"):
        raise click.UsageError(f"{file}: a figure is a .png, .svg or .pdf file.")


def save_figure(figure: Figure, file: str) -> None:
    """Put a figure into a file, as its name's ending says."""
    import io  # late: only for a figure

    from reservoir.files.changing import write_whole
    from reservoir.reports.figures.style import drawn

    out = io.BytesIO()
    drawn(figure, out, Path(file).suffix.lower().removeprefix("."))
    write_whole(Path(file), out.getvalue())
    talk(f"Wrote {file}.")
