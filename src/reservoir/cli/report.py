"""``reservoir report``: everything about a plan in one document, for the change request."""

from __future__ import annotations

from typing import TYPE_CHECKING, Literal

import click

from reservoir.cli.inputs import lease_options, leases_of, subject_of
from reservoir.cli.output import format_option, progress, save_or_show, talk, talkative

if TYPE_CHECKING:
    from reservoir.files.moments import ListNotation


@click.command("report", short_help="Document a plan for the change request.")
@click.argument("plan")
@click.option(
    "--running",
    multiple=True,
    metavar="FILE",
    help="Compare with what runs: a device's configuration, or a folder of several.",
)
@click.option(
    "--dialect", metavar="NAME", help="The running configuration's dialect (default: recognised)."
)
@click.option("--leases", metavar="FILE", help="Say which of these clients notice.")
@lease_options
@click.option(
    "--verified",
    "verified",
    multiple=True,
    metavar="FILE",
    help="What `verify --format json` saved of a network that was asked.",
)
@format_option("html", "markdown")
@click.option("-o", "--out", metavar="FILE", help="Write the document to a file.")
@talkative
def command(
    plan: str,
    running: tuple[str, ...],
    dialect: str | None,
    leases: str | None,
    notation: ListNotation,
    now: float | None,
    verified: tuple[str, ...],
    form: Literal["html", "markdown"],
    out: str | None,
) -> None:
    """Write one document about PLAN: what was checked and found, and what will be done.

    It has a summary, the findings with their remedies, the map of the address space, the sizes,
    the rehearsal, and each device's configuration as it will be written; with --running, what
    changes and what clients notice, and with --leases, which of them; with --verified, what the
    real servers answered. The HTML page needs no
    network and no script. Nothing is deployed, and no other file is written.

    \b
    Examples:
      reservoir report ferry-line.yaml -o change.html
      reservoir report ferry-line.yaml --running running/ --leases leases.csv -o change.html
      reservoir report ferry-line.yaml --format markdown

    Exit status: 0 written, 2 unusable input.
    """
    import reservoir  # late: --help needs none of it
    from reservoir.files.recognising import is_plan

    if not is_plan(plan):
        raise click.UsageError(f"{plan} is not a plan; for configuration there is check.")
    with progress("reading") as watch:
        loaded = reservoir.load(plan, watch)
    before = subject_of(running, dialect) if running else None
    table = leases_of(leases, notation, now) if leases is not None else None
    text = reservoir.report(
        loaded,
        before,
        table,
        leases_name=leases or "",
        now=now,
        verified=verified,
        form=form,
        stage=progress,
    )
    save_or_show(text, out)
    if out not in (None, "-"):
        talk(f"Wrote {out}.")
