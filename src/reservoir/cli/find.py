"""``reservoir find``: what anything is, where it stands, and who has it."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from reservoir.cli.inputs import dialect_option, leases_of, notation_options, subject_of
from reservoir.cli.output import format_option, out_option, save_or_show, talkative, width

if TYPE_CHECKING:
    from reservoir.files.moments import ListNotation

STANDARD_INPUT = "-"


@click.command("find", short_help="Say what an address, a client, a tag or a name is.")
@click.argument("arguments", nargs=-1, required=True, metavar="WHAT... FILE...")
@dialect_option
@click.option("--leases", metavar="FILE", help="Say who has it by this lease list, too.")
@notation_options("the lease list", "mac=HW,address=IP")
@format_option("text", "json")
@out_option
@talkative
def command(
    arguments: tuple[str, ...],
    dialect: str | None,
    leases: str | None,
    notation: ListNotation,
    form: str,
    out: str | None,
) -> None:
    """Say what each WHAT is in a plan or in devices' configuration, and where that stands.

    WHAT is an address, a subnet, a range, a MAC address in any notation, a client identifier
    (0100.005e.0053.01, hex:01a2b3c4, text:name), a VLAN tag, or the name of a network, device,
    interface, class, zone or machine, in which * stands for anything. FILE is a plan, or
    configuration of devices: an argument that is a file's name. Of an address it says the network,
    what it is for, who serves it, who has a lease of it, and the findings about it; of one that
    nothing names, the nearest network and what is free around it.

    \b
    Examples:
      reservoir find 10.84.20.30 ferry-line.yaml
      reservoir find 0000.5e00.5301 'kiosk-*' ferry-line.yaml --leases leases.csv
      reservoir find 10.84.30.0/24 running/*

    Exit status: 0 each is known, 1 nothing is known of one, 2 unusable input.
    """
    import reservoir  # late: --help needs none of it
    from reservoir.core.values.addresses import MalformedValueError
    from reservoir.reports.whereabouts import LeaseList, as_json, lines

    files = tuple(filter(_is_file, arguments))
    asked = [a for a in arguments if a not in files]
    if not files:
        raise click.UsageError(f"None of these is a file: {', '.join(arguments)}. {_EXAMPLE}")
    if not asked:
        raise click.UsageError(f"Say what to find, too. {_EXAMPLE}")
    subject = subject_of(files, dialect)
    listed = None
    if leases is not None:
        listed = LeaseList(leases_of(leases, notation), leases)
    try:
        answers = reservoir.find(subject, asked, listed.leases if listed else None)
    except MalformedValueError as error:
        raise click.UsageError(f"{error}.") from None
    if form == "json":
        inputs = (*subject.files, *((leases,) if leases is not None else ()))
        save_or_show(as_json(answers, subject, listed, inputs), out)
    else:
        save_or_show((f"{line}\n" for line in lines(answers, subject, listed, width())), out)
    if not all(answer.is_known for answer in answers):
        raise click.exceptions.Exit(1)


def _is_file(argument: str) -> bool:
    """Whether an argument is a file or folder, or can't be meant for anything but a plan's file."""
    if argument == STANDARD_INPUT or argument.endswith((".yaml", ".yml")):
        return True
    try:
        return bool(argument.strip()) and Path(argument).exists()
    except (OSError, ValueError):  # longer than any name, or no name at all
        return False


_EXAMPLE = "For example: reservoir find 10.84.20.30 ferry-line.yaml"
