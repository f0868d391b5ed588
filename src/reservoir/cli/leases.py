"""``reservoir leases``: how full each network is, and which leases contradict the plan."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from reservoir.cli.inputs import lease_options, leases_read, subject_of
from reservoir.cli.output import format_option, out_option, save_or_show, talkative, width

if TYPE_CHECKING:
    from reservoir.files.moments import ListNotation

FAIL_ON = ("error", "warning")


@click.command("leases", short_help="Compare leases with the plan.")
@click.argument("file")
@click.option("--plan", required=True, metavar="PLAN", help="The plan, or running configuration.")
@lease_options
@click.option(
    "--fail-on",
    type=click.Choice([*FAIL_ON, "never"]),
    default="error",
    show_default=True,
    help="Exit with status 1 on findings this severe.",
)
@format_option("text", "json")
@out_option
@talkative
def command(
    file: str,
    plan: str,
    notation: ListNotation,
    now: float | None,
    fail_on: str,
    form: str,
    out: str | None,
) -> None:
    """Show how full each network is by the leases in FILE, and what contradicts the plan.

    FILE is a table of leases as a device prints it, whose dialect is recognised; what a DHCP client
    has kept of its own lease; or a list with the columns mac or client_id, and address; name,
    network, server, starts and expires if it has them. Times in a list are like
    2027-03-31T12:00:00+00:00, or in seconds since 1970.
    Bound clients with another address, addresses that somebody else is bound to, that a machine
    has, or that no pool assigns, are listed with their line, and so are clients and addresses
    that are listed twice.

    \b
    Examples:
      reservoir leases leases.csv --plan ferry-line.yaml
      reservoir leases shop-box.txt --plan ferry-line.yaml --zone Europe/Lisbon
      reservoir leases leases.csv --plan ferry-line.yaml --columns mac=HW,address=IP
      reservoir leases leases.csv --plan ferry-line.yaml --format json

    Exit status: 0 no findings at or above --fail-on, 1 findings, 2 unusable input.
    """
    import reservoir  # late: --help needs none of it
    from reservoir.reports.leases import as_json, lines

    subject = subject_of((plan,), None)
    leases, notes = leases_read(file, notation, now)
    checked = reservoir.check_leases(subject, leases, now=now)
    if form == "json":
        save_or_show(as_json(checked, leases, file, (file, *subject.files), notes), out)
    else:
        save_or_show((f"{line}\n" for line in lines(checked, leases, file, width())), out)
    found = {each.severity.word for each in checked.contradictions}
    if fail_on != "never" and found & set(FAIL_ON[: FAIL_ON.index(fail_on) + 1]):
        raise click.exceptions.Exit(1)
