"""``reservoir report``: everything about a plan in one document, for the change request."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from reservoir.cli.inputs import lease_options, leases_of, subject_of
from reservoir.cli.output import format_option, progress, save_or_show, talk, talkative

if TYPE_CHECKING:
    from reservoir import DeviceConfiguration, Report
    from reservoir.core.subject import Subject
    from reservoir.reports.document.building import Contents


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
@format_option("html", "markdown")
@click.option("-o", "--out", metavar="FILE", help="Write the document to a file.")
@talkative
def command(
    plan: str,
    running: tuple[str, ...],
    dialect: str | None,
    leases: str | None,
    columns: dict[str, str] | None,
    now: float | None,
    form: str,
    out: str | None,
) -> None:
    """Write one document about PLAN: what was checked and found, and what will be done.

    It has a summary, the findings with their remedies, the map of the address space, the sizes,
    the rehearsal, and each device's configuration as it will be written; with --running, what
    changes and what clients notice, and with --leases, which of them. The HTML page needs no
    network and no script. Nothing is deployed, and no other file is written.

    \b
    Examples:
      reservoir report ferry-line.yaml -o change.html
      reservoir report ferry-line.yaml --running running/ --leases leases.csv -o change.html
      reservoir report ferry-line.yaml --format markdown

    Exit status: 0 written, 2 unusable input.
    """
    import importlib

    from reservoir.reports.document.building import document

    contents = _contents(plan, running, dialect, leases, columns, now)
    with progress("drawing"):
        made = document(contents)
    writer = importlib.import_module(f"reservoir.reports.document.{form}")
    save_or_show(writer.pieces(made), out)
    if out not in (None, "-"):
        talk(f"Wrote {out}.")


def _contents(
    plan: str,
    running: tuple[str, ...],
    dialect: str | None,
    leases: str | None,
    columns: dict[str, str] | None,
    now: float | None,
) -> Contents:
    """Do all that the document tells of."""
    import reservoir  # late: --help needs none of it
    from reservoir.files.recognising import is_plan
    from reservoir.reports.comparison import Clients
    from reservoir.reports.document.building import Contents
    from reservoir.reports.leases import LeasesSeen

    if not is_plan(plan):
        raise click.UsageError(f"{plan} is not a plan; for configuration there is check.")
    subject = subject_of((plan,), None)
    before = subject_of(running, dialect) if running else None
    table = leases_of(leases, columns) if leases is not None else None
    with progress("checking") as watch:
        report = reservoir.check(subject, watch=watch)
    with progress("rehearsing") as watch:
        rehearsal = reservoir.rehearse(subject, watch=watch)
    comparison = reservoir.compare(before, subject) if before is not None else None
    clients = seen = None
    if table is not None and leases is not None:
        checked = reservoir.check_leases(subject, table, now=now)
        seen = LeasesSeen(table, leases, checked)
        if before is not None:
            clients = Clients(table, reservoir.notices(before, subject, table, now=now))
    return Contents(
        subject=subject,
        report=report,
        space=reservoir.space(subject),
        sizing=reservoir.size(subject),
        rehearsal=rehearsal,
        configurations=_configurations(subject, report),
        comparison=comparison,
        clients=clients,
        leases=seen,
    )


def _configurations(subject: Subject, report: Report) -> list[DeviceConfiguration]:
    """What will be written; nothing of a plan with errors, as `write` has it."""
    import reservoir
    from reservoir.core.findings import Severity

    if report.of_severity(Severity.ERROR) or not isinstance(subject, reservoir.Plan):
        return []
    written = reservoir.write(subject)
    return [] if any(one.losses or one.faults for one in written) else written
