"""The group of all commands, loaded when they are asked for, and the exit status of each run."""

from __future__ import annotations

import gc
import importlib
import os
import sys
from pathlib import Path

import click

from reservoir.files.noted import noted
from reservoir.version import __version__

COMMANDS = (
    "new",
    "check",
    "explain",
    "mend",
    "write",
    "read",
    "convert",
    "compare",
    "leases",
    "adopt",
    "rehearse",
    "verify",
    "stand-in",
    "size",
    "map",
    "find",
    "lsp",
    "report",
    "dialect",
    "schema",
    "demo",
)
"""The commands in the order of the job; each is the module of that name in this folder."""

UNUSABLE = 2
DEFECT = 70


class JobGroup(click.Group):
    """Imports a command's module only when it is wanted."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """The commands in the order of the job."""
        return list(COMMANDS)

    def get_command(self, ctx: click.Context, name: str) -> click.Command | None:
        """The command of a name; None if there is none."""
        if name not in COMMANDS:
            return None
        command: click.Command = importlib.import_module(
            f"reservoir.cli.{name.replace('-', '_')}"
        ).command
        return command

    def resolve_command(
        self, ctx: click.Context, args: list[str]
    ) -> tuple[str | None, click.Command | None, list[str]]:
        """Find the command; for an unknown one, name the nearest."""
        if args and args[0] not in COMMANDS and not args[0].startswith("-"):
            import difflib  # late: only for a mistyped command

            near = difflib.get_close_matches(args[0], COMMANDS, n=1)
            meant = f" Did you mean {near[0]}?" if near else f" Commands: {', '.join(COMMANDS)}."
            raise click.UsageError(f"There is no command {args[0]!r}.{meant}", ctx)
        return super().resolve_command(ctx, args)


@click.group(cls=JobGroup, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(__version__, message="reservoir %(version)s")
@click.option("--debug", is_flag=True, help="Show the full traceback of a defect.")
def reservoir(debug: bool) -> None:
    """Plan DHCP once, check it, and write it for every maker's device.

    A plan is one YAML file: networks, devices, ranges, exclusions, bindings. Start with
    `reservoir new`, which asks for a first network, or `reservoir demo`, which creates an example
    and walks through it.
    """


def run() -> None:
    """Run the command line and leave with its exit status."""
    # A run builds one large structure and ends: looking for garbage in it again and again while it
    # grows would cost a third of the time.
    gc.disable()
    # Nothing here multiplies large matrices; the threads that NumPy would start for that spin.
    os.environ.setdefault("OPENBLAS_NUM_THREADS", "1")
    changed: list[Path] = []
    noted.set(changed)
    try:
        # Not standalone, Click returns a command's exit status instead of leaving with it.
        status = reservoir.main(prog_name="reservoir", standalone_mode=False)
        sys.exit(status if isinstance(status, int) else 0)
    except click.Abort:
        from reservoir.core.wording import shown  # late: not for --help

        files = ", ".join(map(shown, map(str, changed)))
        done = f"changed before that: {files}" if files else "no file was changed"
        click.echo(f"Interrupted; {done}.", err=True)
        sys.exit(130)
    except click.ClickException as error:
        error.show()
        sys.exit(error.exit_code)
    except BrokenPipeError:
        os.dup2(os.open(os.devnull, os.O_WRONLY), sys.stdout.fileno())
        sys.exit(1)
    except Exception as error:
        _report_unusable_or_defect(error)


def _done(error: Exception) -> str:
    """What had been done when an input turned out to be unusable."""
    from reservoir.core.wording import counted, listed
    from reservoir.files.changing import UnfinishedChangeError

    if not isinstance(error, UnfinishedChangeError):
        return "nothing was done"
    done = f"{counted(len(error.done), 'file')} had been changed: {listed(error.done)}"
    return f"{done}; run the command again"


def _report_unusable_or_defect(error: Exception) -> None:
    from reservoir.core.problems import InputError, UnknownNameError  # late: not for --help
    from reservoir.core.wording import counted

    if isinstance(error, InputError):
        for problem in error.problems:
            click.echo(str(problem), err=True)
        click.echo(f"\n{counted(len(error.problems), 'problem')}; {_done(error)}.", err=True)
        sys.exit(UNUSABLE)
    if isinstance(error, UnknownNameError):
        click.echo(f"Error: {error}", err=True)
        sys.exit(UNUSABLE)
    if isinstance(error, OSError) and error.strerror and "--debug" not in sys.argv:
        what = f"{error.filename}: " if error.filename is not None else ""
        click.echo(f"Error: {what}{error.strerror}.", err=True)
        sys.exit(UNUSABLE)
    if "--debug" in sys.argv:
        raise error
    frame = _innermost(error)
    click.echo(
        f"This is a defect in Reservoir {__version__}, not in your input: "
        f"{type(error).__name__} in {frame}: {error}\n"
        "Please report it with the command and, if possible, the input; "
        "`reservoir --debug COMMAND …` shows the full traceback.",
        err=True,
    )
    sys.exit(DEFECT)


def _innermost(error: Exception) -> str:
    trace = error.__traceback__
    while trace is not None and trace.tb_next is not None:
        trace = trace.tb_next
    if trace is None:
        return "an unknown place"
    return f"{Path(trace.tb_frame.f_code.co_filename).name}:{trace.tb_lineno}"
