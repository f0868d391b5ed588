"""``reservoir compare``: what changes for clients, network by network, who notices and when."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from reservoir.cli.completion import network_names
from reservoir.cli.inputs import dialect_option, lease_options, leases_of, subject_of
from reservoir.cli.output import (
    complain,
    finish_what_was_cut_off,
    format_option,
    progress,
    save_or_show,
    talk,
    talkative,
    width,
)

if TYPE_CHECKING:
    from collections.abc import Iterator, Sequence
    from pathlib import Path

    from reservoir import Stage
    from reservoir.core.compare.notice import Comparison
    from reservoir.core.leases.table import LeaseTable
    from reservoir.core.subject import Subject
    from reservoir.files.deliveries import Delivery
    from reservoir.files.moments import ListNotation
    from reservoir.reports.comparison import Clients


@click.command("compare", short_help="Show what changes for clients, and who notices.")
@click.argument("sides", nargs=-1, metavar="[OLD NEW]")
@click.option("--old", multiple=True, metavar="FILE", help="A file of the old side, if several.")
@click.option("--new", multiple=True, metavar="FILE", help="A file of the new side, if several.")
@dialect_option
@click.option("--leases", metavar="FILE", help="A lease list: what each present client notices.")
@lease_options
@click.option(
    "--at",
    multiple=True,
    metavar="NETWORK",
    shell_complete=network_names,
    help="Show only this network.",
)
@click.option(
    "--script",
    "folder",
    metavar="FOLDER",
    help="Write the statements that lead each device from OLD to NEW, and the way back.",
)
@click.option("--force", is_flag=True, help="Overwrite scripts that were edited.")
@click.option("--exit-code", is_flag=True, help="Exit with status 1 where anything differs.")
@format_option("text", "json", "markdown")
@click.option("-o", "--out", metavar="FILE", help="Write the comparison to a file.")
@talkative
def command(
    sides: tuple[str, ...],
    old: tuple[str, ...],
    new: tuple[str, ...],
    dialect: str | None,
    leases: str | None,
    notation: ListNotation,
    now: float | None,
    at: tuple[str, ...],
    folder: str | None,
    force: bool,
    exit_code: bool,
    form: str,
    out: str | None,
) -> None:
    """Compare OLD with NEW by what they do for clients, network by network.

    Each side is a plan, a device's configuration, or a folder of several. Where only one is a plan,
    the devices whose configuration is the other are compared. Every difference says what clients
    who are there now notice: nothing, new settings when they renew, a new address, no server any
    more, or that somebody else may have their address.

    --script writes, for each device that changes, the statements in an order in which it is safe to
    stop after each: no address is assignable that neither side assigns, and networks that both
    serve are served throughout where the dialect allows. Each statement was applied to OLD and the
    result checked. Dialects whose files are replaced as a whole get the new file and the old one.
    Where a network moves to a server that knows no leases, there are steps over several devices,
    with what to wait for in between; --leases keeps only the addresses back that somebody has.

    \b
    Examples:
      reservoir compare ferry-line.yaml running/
      reservoir compare running/pier-router.cfg ferry-line.yaml
      reservoir compare old.yaml new.yaml --leases leases.csv
      reservoir compare ferry-line.yaml running/ --exit-code --format json
      reservoir compare running/pier-router.cfg ferry-line.yaml --script change/

    Exit status: 0 compared, 1 something differs and --exit-code was given, or there is no safe
    script, 2 unusable input.
    """
    import reservoir  # late: --help needs none of it

    before, after = _subjects(sides, old, new, dialect)
    with progress("comparing") as watch:
        comparison = reservoir.compare(before, after, watch=watch)
    clients = None
    if leases is not None:
        from reservoir.reports.comparison import Clients

        table = leases_of(leases, notation, now)
        with progress("looking up leases") as watch:
            clients = Clients(table, reservoir.notices(before, after, table, now=now, watch=watch))
    _require_networks(at, comparison)
    _show(comparison, clients, at, (*before.files, *after.files), form, out)
    if folder is not None:
        _say_who_is_cut_off(comparison)
        _write_scripts(before, after, clients.leases if clients else None, folder, force)
    elif form == "text":
        _say_next(comparison, sides)
    if exit_code and not comparison.is_same:
        raise click.exceptions.Exit(1)


def _subjects(
    sides: tuple[str, ...], old: tuple[str, ...], new: tuple[str, ...], dialect: str | None
) -> tuple[Subject, Subject]:
    given = [*sides]
    if not old and given:
        old = (given.pop(0),)
    if not new and given:
        new = (given.pop(0),)
    if given or not old or not new:
        raise click.UsageError(
            "Give two sides, OLD and NEW; where a side is several files, --old or --new for each."
        )
    return _side(old, dialect), _side(new, dialect)


def _side(files: tuple[str, ...], dialect: str | None) -> Subject:
    from reservoir.files.recognising import is_plan

    plans = [file for file in files if is_plan(file)]
    if plans and len(files) > 1:
        raise click.UsageError(f"{plans[0]} is a plan; it is a side by itself.")
    return subject_of(files, dialect)


def _require_networks(at: tuple[str, ...], comparison: Comparison) -> None:
    """A mistyped name must not look like a network without differences."""
    from reservoir.core.problems import UnknownNameError

    known = {
        side.name for network in comparison.networks for side in (network.old, network.new) if side
    }
    for name in at:
        if name not in known:
            raise UnknownNameError("network", name, known)


def _show(
    comparison: Comparison,
    clients: Clients | None,
    at: tuple[str, ...],
    files: tuple[str, ...],
    form: str,
    out: str | None,
) -> None:
    from reservoir.reports.comparison import as_json, as_markdown, lines

    if form == "json":
        save_or_show(as_json(comparison, clients, at, files), out)
    elif form == "markdown":
        save_or_show(as_markdown(comparison, clients, at), out)
    else:
        save_or_show((f"{line}\n" for line in lines(comparison, clients, at, width())), out)


def _say_who_is_cut_off(comparison: Comparison) -> None:
    """A script that is safe at each step may still lead where clients get no answer."""
    from reservoir.core.compare.notice import Notice
    from reservoir.core.wording import listed

    lost = [network.name for network in comparison.networks if network.worst is Notice.CUT_OFF]
    if lost:
        complain(f"On the new side, clients of {listed(lost)} are cut off.")


def _write_scripts(
    before: Subject, after: Subject, leases: LeaseTable | None, folder: str, force: bool
) -> None:
    """Write what leads each device from old to new, as far as there are safe scripts."""
    from pathlib import Path

    import reservoir
    from reservoir.dialects.scripting.ordering import UnsafeError

    try:
        stages = reservoir.stages(before, after, leases)
    except UnsafeError as error:
        complain(f"No script is safe at every step: {error}.")
        talk("No script was written.")
        raise click.exceptions.Exit(1) from None
    told = {device for stage in stages for device in stage.devices}
    for sentence in reservoir.unscripted(before, after, told):
        talk(f"Without a script: {sentence}.")
    kept_back = {device: why for stage in stages for device, why in stage.kept_back.items()}
    for device, why in kept_back.items():
        complain(f"No script for {device}: {why}.")
    deliveries = [d for number, _ in enumerate(stages) for d in _delivered(stages, number)]
    if not deliveries:
        none = (
            "No script was written."
            if kept_back
            else ("No device's configuration changes, so there is no script.")
        )
        talk(none)
    else:
        _deliver_scripts(stages, deliveries, Path(folder), force)
    if kept_back:
        raise click.exceptions.Exit(1)


def _deliver_scripts(
    stages: Sequence[Stage], deliveries: list[Delivery], root: Path, force: bool
) -> None:
    from reservoir.files.deliveries import Delivery, deliver
    from reservoir.reports.scripts import STEPS, steps_text

    text = steps_text(stages)
    if len(stages) > 1:
        deliveries.append(Delivery(STEPS, text))
    finish_what_was_cut_off(*dict.fromkeys([root, *(root / d.folder for d in deliveries)]))
    deliver(root, deliveries, force)
    talk(text.rstrip("\n"))
    talk(f"The scripts are in {root}.")


def _delivered(stages: Sequence[Stage], number: int) -> Iterator[Delivery]:
    """The files of a stage: in a folder of its own, if there are several stages."""
    from reservoir.dialects.notations.files import FILE_MARK, in_files
    from reservoir.files.deliveries import Delivery
    from reservoir.reports.scripts import folder_of, texts

    folder = folder_of(stages, number)
    for made in stages[number].scripts:
        for name, text in texts(made).items():
            if text.startswith(FILE_MARK):
                inner = "/".join(filter(None, (folder, name)))
                yield from (Delivery(file, part, inner) for file, part in in_files(text))
            else:
                yield Delivery(name, text, folder)


def _say_next(comparison: Comparison, sides: tuple[str, ...]) -> None:
    """The next command to run."""
    from reservoir.files.recognising import is_plan

    plans = [file for file in sides if is_plan(file)]
    others = [file for file in sides if not is_plan(file)]
    if not comparison.is_same and len(plans) == 1 and len(others) == 1:
        talk(f"Next: reservoir check {plans[0]} {others[0]}")
