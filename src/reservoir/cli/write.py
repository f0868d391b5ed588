"""``reservoir write``: each device's configuration, verified before any file is written."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING, NamedTuple

import click

from reservoir.cli.completion import network_names
from reservoir.cli.output import complain, finish_what_was_cut_off, talk, talkative

if TYPE_CHECKING:
    from collections.abc import Sequence

    from reservoir import OpenedPlan
    from reservoir.dialects.writing import DeviceConfiguration
    from reservoir.files.deliveries import Delivery
    from reservoir.files.plan_file import LoadedPlan

FOLDER = "configuration"

SHOWN = 3
"""Details that were left out and are listed before the rest is counted."""


@click.command("write", short_help="Write each device's configuration.")
@click.argument("plan")
@click.option(
    "-o",
    "--out",
    metavar="FOLDER",
    help=f"Folder for the files (default: {FOLDER}/ next to the plan); - prints them.",
)
@click.option(
    "--into",
    "existing",
    multiple=True,
    metavar="FILE",
    help="Show what putting the plan into this device configuration changes; the rest stays.",
)
@click.option("--in-place", is_flag=True, help="Change the files of --into.")
@click.option(
    "--no-backup", is_flag=True, help="Keep no copy (FILE.before) of a file that is changed."
)
@click.option(
    "--only",
    multiple=True,
    metavar="NETWORK",
    shell_complete=network_names,
    help="With --into, touch this network alone.",
)
@click.option(
    "--remove-others", is_flag=True, help="Remove the networks that the plan doesn't have."
)
@click.option("--device", "devices", multiple=True, metavar="NAME", help="Write only this device.")
@click.option(
    "--force", is_flag=True, help="Overwrite files that were edited since they were written."
)
@click.option("--despite-errors", is_flag=True, help="Write even if the plan has errors.")
@talkative
def command(
    plan: str,
    out: str | None,
    existing: tuple[str, ...],
    in_place: bool,
    no_backup: bool,
    only: tuple[str, ...],
    remove_others: bool,
    devices: tuple[str, ...],
    force: bool,
    despite_errors: bool,
) -> None:
    """Write the configuration of each device in PLAN, one file each, in the device's dialect.

    Each configuration is read back and compared with the plan, network by network, before any
    file is written.

    With --into, the networks that the device serves in the plan become what the plan says, in its
    present configuration. Its other networks, lines that are not understood and everything not
    about DHCP stay byte for byte; interfaces and zones that the networks need are added. That is
    shown as a difference, with what clients notice; --in-place makes the change and keeps each file
    as FILE.before, --out writes the result elsewhere. The result is checked by itself first: a new
    error refuses it. A folder is one device's configuration in several files.

    \b
    Examples:
      reservoir write ferry-line.yaml
      reservoir write ferry-line.yaml --device pier-router --out -
      reservoir write ferry-line.yaml --into running/pier-router.cfg
      reservoir write ferry-line.yaml --into running/pier-router.cfg --in-place
      reservoir write ferry-line.yaml --into running/pier-router.cfg --only crew

    Exit status: 0 written or shown, 1 the plan has errors or a device can't do what it says, 2
    unusable input, or a file in the way.
    """
    import reservoir  # late: --help needs none of it

    if (in_place or remove_others or only) and not existing:
        raise click.UsageError("--in-place, --only and --remove-others go with --into.")
    if only and remove_others:
        raise click.UsageError("Give --only or --remove-others, not both.")
    if in_place and out is not None:
        raise click.UsageError("Give --in-place or --out, not both.")
    loaded = reservoir.load(plan)
    if existing:
        if not despite_errors:
            _require_no_errors(loaded, plan)
        how = Into(out, in_place, only, remove_others, has_backup=not no_backup)
        _write_into(existing, loaded, devices, how)
        return
    written = reservoir.write(loaded, devices)
    if not despite_errors:
        _require_no_errors(loaded, plan, written)
    for device in loaded.plan.devices:
        if loaded.plan.devices[device].dialect is None and (not devices or device in devices):
            talk(f"{device}: skipped, since it has no dialect")
    if not written:
        raise click.UsageError(
            "No device in this plan has a dialect, so there is nothing to write."
        )
    _require_held(written, loaded)
    if out == "-":
        click.echo("\n".join(configuration.text for configuration in written), nl=False)
        return
    _put_in_place(written, loaded, Path(out) if out else Path(plan).parent / FOLDER, force)


class Into(NamedTuple):
    """How a plan is put into configuration that is there."""

    out: str | None
    in_place: bool
    only: tuple[str, ...]
    remove_others: bool
    has_backup: bool


def _write_into(
    files: tuple[str, ...], loaded: OpenedPlan, devices: tuple[str, ...], how: Into
) -> None:
    """Change configuration that is there, or show what would be changed."""
    import reservoir
    from reservoir.cli.into import put_into, require_no_new_errors, require_placed, show_changes
    from reservoir.core.wording import shown
    from reservoir.files.texts import STANDARD_INPUT

    if how.in_place:
        finish_what_was_cut_off(*(f if f.is_dir() else f.parent for f in map(Path, files)))
    try:
        written = reservoir.write_into(
            loaded, files, devices, remove_others=how.remove_others, only=how.only
        )
    except reservoir.UnclearDeviceError as error:
        raise click.UsageError(str(error)) from None
    require_placed(written)
    _require_held([one.configuration for one in written], loaded)
    require_no_new_errors(written)
    if how.out == "-" or (how.out is None and STANDARD_INPUT in files):
        # Into a pipe it goes as it is; on a terminal, escapes in the file are removed.
        text = "\n".join(one.configuration.text for one in written)
        if sys.stdout.isatty():
            click.echo(shown(text), nl=False)
        else:
            click.echo(text, nl=False, color=True)  # byte for byte
    elif how.out is not None or how.in_place:
        put_into(written, how.out, has_backup=how.has_backup)
    else:
        show_changes(written)


def _require_no_errors(
    loaded: LoadedPlan, plan: str, written: Sequence[DeviceConfiguration] = ()
) -> None:
    import reservoir
    from reservoir.core.findings import Severity
    from reservoir.reports.summary import summary_line

    report = reservoir.check(loaded, written=written)
    if report.of_severity(Severity.ERROR):
        for finding in report.findings:
            if finding.severity is Severity.ERROR and finding.accepted is None:
                complain(f"{loaded.places.place(finding.at)}: {finding.rule}: {finding.message}")
        talk(f"\n{summary_line(report)}")
        talk("Nothing was written. For details run: reservoir check " + plan)
        raise click.exceptions.Exit(1)


def _require_held(written: list[DeviceConfiguration], loaded: LoadedPlan) -> None:
    """Stop if a device can't do what the plan wants, or would do something else."""
    failed = False
    for configuration in written:
        for refusal in configuration.losses:
            failed = True
            place = loaded.places.place(refusal.fact.origin)
            prefix = f"{place}: not-expressible: {configuration.device}"
            complain(f"{prefix}: {refusal.what} can't be written: {refusal.reason}")
        for difference in configuration.faults if not configuration.losses else ():
            failed = True
            complain(f"{configuration.device}: reads back differently: {difference}")
    if failed:
        talk("\nNothing was written: the devices would not do what the plan says.")
        raise click.exceptions.Exit(1)


def _put_in_place(
    written: list[DeviceConfiguration], loaded: LoadedPlan, folder: Path, force: bool
) -> None:
    from reservoir.cli.into import tell_what_matches
    from reservoir.core.wording import counted
    from reservoir.files.deliveries import deliver

    files = {c.device: _files(c) for c in written}
    deliveries = [delivery for found in files.values() for delivery in found]
    finish_what_was_cut_off(folder, *((folder / d.name).parent for d in deliveries))
    outcomes = deliver(folder, deliveries, force)
    longest = max(len(c.device) for c in written)
    for configuration in written:
        pools, bindings = configuration.pools, configuration.bindings
        held = f"{counted(pools, 'pool')}, {counted(bindings, 'binding')}"
        for name in (delivery.name for delivery in files[configuration.device]):
            talk(
                f"{configuration.device:<{longest}}  {configuration.dialect:<10} {held:<24} "
                f"{folder / name}  {outcomes[name]}"
            )
            held = ""
        for name, fitted in configuration.renamed.items():
            talk(f"{'':<{longest}}  {name!r} becomes {fitted!r} there")
        left_out = [refusal.what for refusal in configuration.remarks]
        if left_out:
            more = f" and {len(left_out) - SHOWN:,} more" if len(left_out) > SHOWN else ""
            named = f"{', '.join(left_out[:SHOWN])}{more}"
            talk(f"{'':<{longest}}  left out, since it changes nothing for clients: {named}")
    tell_what_matches(written, "Each file")


def _files(configuration: DeviceConfiguration) -> list[Delivery]:
    """The files that a device's configuration goes into."""
    from reservoir.dialects.notations.files import FILE_MARK, in_files
    from reservoir.files.deliveries import Delivery

    name = f"{configuration.device}.{configuration.dialect}"
    if not configuration.text.startswith(FILE_MARK):
        return [Delivery(name, configuration.text)]
    return [Delivery(file, text, name) for file, text in in_files(configuration.text)]
