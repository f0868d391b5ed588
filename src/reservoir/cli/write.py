"""``reservoir write``: each device's configuration, proved before it is put in place."""

from __future__ import annotations

import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

from reservoir.cli.output import talk, talkative

if TYPE_CHECKING:
    from reservoir.dialects.writing import DeviceConfiguration
    from reservoir.files.deliveries import Delivery
    from reservoir.files.plan_file import LoadedPlan

FOLDER = "configuration"

SHOWN = 3
"""How many details that were left out are named before the rest is counted."""


@click.command("write", short_help="Write each device's configuration.")
@click.argument("plan")
@click.option(
    "-o",
    "--out",
    metavar="FOLDER",
    help=f"Where the files go; by default {FOLDER}/ beside the plan; - prints them.",
)
@click.option(
    "--into",
    "existing",
    multiple=True,
    metavar="FILE",
    help="Put what is lent into this configuration of a device; the rest of it stays.",
)
@click.option("--device", "devices", multiple=True, metavar="NAME", help="Only this device.")
@click.option("--force", is_flag=True, help="Overwrite files that were edited since.")
@click.option("--despite-errors", is_flag=True, help="Write a plan that has errors.")
@talkative
def command(
    plan: str,
    out: str | None,
    existing: tuple[str, ...],
    devices: tuple[str, ...],
    force: bool,
    despite_errors: bool,
) -> None:
    """Write the configuration of the devices in PLAN, one file each, in each device's dialect.

    Every text is read back and compared with the plan, network by network, before any file is
    put in place.

    With --into, a device's present configuration is changed where it is, or put with --out
    elsewhere: pools, bindings and all that is about lending become those of the plan; whatever
    else is in the file stays byte for byte. A folder is one device's configuration in several
    files.

    \b
    reservoir write ferry-line.yaml
    reservoir write ferry-line.yaml --device pier-router --out -
    reservoir write ferry-line.yaml --into running/pier-router.cfg

    Exit status: 0 written, 1 the plan has errors or a device can't hold it, 2 the input or a
    file in the way can't be used.
    """
    import reservoir  # late: --help needs none of it

    loaded = reservoir.load(plan)
    _require_devices(loaded, devices)
    if not despite_errors:
        _require_no_errors(loaded, plan)
    if existing:
        _write_into(existing, loaded, devices, out)
        return
    written = reservoir.write(loaded, devices)
    for device in loaded.plan.devices:
        if loaded.plan.devices[device].dialect is None and (not devices or device in devices):
            talk(f"{device}: left out, since it has no dialect")
    if not written:
        raise click.UsageError(
            "No device of this plan has a dialect, so there is nothing to write."
        )
    _require_held(written, loaded)
    if out == "-":
        click.echo("\n".join(configuration.text for configuration in written), nl=False)
        return
    _put_in_place(written, loaded, Path(out) if out else Path(plan).parent / FOLDER, force)


def _write_into(
    files: tuple[str, ...], loaded: LoadedPlan, devices: tuple[str, ...], out: str | None
) -> None:
    """Change configuration that is there."""
    import reservoir
    from reservoir.cli.into import present_configurations, put_into, require_placed
    from reservoir.files.texts import STANDARD_INPUT

    present = present_configurations(files, loaded, devices)
    texts = {device: there.read.text for device, there in present.items()}
    written = reservoir.write(loaded, list(present), texts)
    require_placed(written, present)
    _require_held(written, loaded)
    if out == "-" or (out is None and STANDARD_INPUT in files):
        # What somebody else wrote goes into a pipe as it is; a terminal is spared its escapes.
        text = "\n".join(configuration.text for configuration in written)
        click.echo(text, nl=False, color=not sys.stdout.isatty())
        return
    put_into(written, present, out)


def _require_devices(loaded: LoadedPlan, devices: tuple[str, ...]) -> None:
    from reservoir.core.wording import hint

    for device in devices:
        if device not in loaded.plan.devices:
            near = hint(device, loaded.plan.devices)
            raise click.UsageError(f"The plan has no device {device!r}{near}.")


def _require_no_errors(loaded: LoadedPlan, plan: str) -> None:
    import reservoir
    from reservoir.core.findings import Severity
    from reservoir.reports.summary import summary_line

    report = reservoir.check(loaded)
    if report.of_severity(Severity.ERROR):
        for finding in report.findings:
            if finding.severity is Severity.ERROR and finding.accepted is None:
                click.echo(
                    f"{loaded.places.place(finding.at)}: {finding.rule}: {finding.message}",
                    err=True,
                )
        talk(f"\n{summary_line(report)}")
        talk("Nothing was written. See them whole with: reservoir check " + plan)
        raise click.exceptions.Exit(1)


def _require_held(written: list[DeviceConfiguration], loaded: LoadedPlan) -> None:
    """Stop if a device can't hold what the plan wants of it, or would do something else."""
    failed = False
    for configuration in written:
        for refusal in configuration.losses:
            failed = True
            place = loaded.places.place(refusal.fact.origin)
            prefix = f"{place}: not-expressible: {configuration.device}"
            click.echo(
                f"{prefix}: {refusal.what} can't be written: {refusal.reason}",
                err=True,
            )
        for difference in configuration.differences if not configuration.losses else ():
            failed = True
            click.echo(f"{configuration.device}: reads back differently: {difference}", err=True)
    if failed:
        talk("\nNothing was written: the devices would not do what the plan says.")
        raise click.exceptions.Exit(1)


def _put_in_place(
    written: list[DeviceConfiguration], loaded: LoadedPlan, folder: Path, force: bool
) -> None:
    from reservoir.files.deliveries import deliver

    files = {c.device: _files(c) for c in written}
    deliveries = [delivery for found in files.values() for delivery in found]
    outcomes = deliver(folder, deliveries, force)
    longest = max(len(c.device) for c in written)
    for configuration in written:
        pools, bindings = configuration.pools, configuration.bindings
        held = f"{_counted(pools, 'pool')}, {_counted(bindings, 'binding')}"
        for name in (delivery.name for delivery in files[configuration.device]):
            talk(
                f"{configuration.device:<{longest}}  {configuration.dialect:<10} {held:<24} "
                f"{folder / name}  {outcomes[name]}"
            )
            held = ""
        for name, fitted in configuration.renamed.items():
            talk(f"{'':<{longest}}  {name!r} is called {fitted!r} there")
        left_out = [refusal.what for refusal in configuration.refusals if refusal.is_remark]
        if left_out:
            more = f" and {len(left_out) - SHOWN:,} more" if len(left_out) > SHOWN else ""
            named = f"{', '.join(left_out[:SHOWN])}{more}"
            talk(f"{'':<{longest}}  left out, since nothing there depends on it: {named}")
    talk("Each was read back and lends, binds and tells what the plan says.")


def _files(configuration: DeviceConfiguration) -> list[Delivery]:
    """The files that a device's configuration goes into."""
    from reservoir.dialects.notations.files import FILE_MARK, in_files
    from reservoir.files.deliveries import Delivery

    name = f"{configuration.device}.{configuration.dialect}"
    if not configuration.text.startswith(FILE_MARK):
        return [Delivery(name, configuration.text)]
    return [Delivery(file, text, name) for file, text in in_files(configuration.text)]


def _counted(number: int, noun: str) -> str:
    return f"{number:,} {noun}" + ("" if number == 1 else "s")
