"""``reservoir dialect``: the dialects, what each can do, whether a sheet works."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from reservoir.cli.learn import learn_sheet
from reservoir.cli.output import complain, show, talk, talkative, width
from reservoir.cli.trying import try_lease_table, try_parts, try_sample

if TYPE_CHECKING:
    from reservoir.dialects.sheet.library import Library
    from reservoir.dialects.sheet.model import Sheet


@click.group("dialect", short_help="List dialects, describe one, try a sheet, draft one.")
def command() -> None:
    """List dialects, describe one, try your own sheet, draft one from an example.

    \b
    Examples:
      reservoir dialect list
      reservoir dialect show larkspur
      reservoir dialect try dialects/gannet.sheet --sample running.txt
      reservoir dialect learn running.txt --plan entered.yaml
    """


command.add_command(learn_sheet)


def _library() -> Library:
    from reservoir.dialects.sheet.library import Library  # late: --help needs none of it

    return Library(Path())


@command.command("list", short_help="List the available dialects.")
@talkative
def list_dialects() -> None:
    """List the available dialects: built in, here, and in your configuration folder.

    Sheets are looked for here, in dialects/ here and upward to the repository's root, in your
    configuration folder and in installed packages. One with mistakes is left out, and named.
    """
    sheets, broken = _library().usable
    for sheet in sheets:
        show([f"{sheet.name:<14} {sheet.about}"])
    for problem in broken:
        complain(str(problem))


@command.command("show", short_help="Describe a dialect, with a sample.")
@click.argument("dialect", metavar="NAME")
@talkative
def show_dialect(dialect: str) -> None:
    """Describe how devices of the dialect NAME behave, with a sample of their configuration."""
    from reservoir.reports.theme import styled, wrapped

    sheet = _library().sheet(dialect)
    show([f"{styled(sheet.name, 'name')}  {sheet.about}", ""])
    for name, text in [*_traits_in_words(sheet), *_forms_in_words(sheet)]:
        show(wrapped(text, width(), " " * 18, f"{name:<17} "))
    _show_sample(sheet)


def _traits_in_words(sheet: Sheet) -> list[tuple[str, str]]:
    from reservoir.dialects.sheet.traits import TRAITS

    return [
        (
            name,
            f"{trait.sentence} {trait.values.get(sheet.trait(name), f'{sheet.trait(name)}.')}"
            + (f" ({sheet.trait(name)})" if trait.values else ""),
        )
        for name, trait in TRAITS.items()
    ]


def _forms_in_words(sheet: Sheet) -> list[tuple[str, str]]:
    from reservoir.core.values.durations import format_duration
    from reservoir.dialects.sheet.traits import LIMITS
    from reservoir.dialects.trial import mac_examples

    duration = sheet.duration
    example = 95_400 - 95_400 % duration.step
    infinite = f", infinite as {duration.infinite}" if duration.infinite else "; no infinite lease"
    lease = (
        f"{format_duration(example)} is written {duration.write(example)}{infinite}; "
        f"rounded to {format_duration(duration.step)}."
    )
    said = [("lease form", lease), ("MAC form", f"Like {' or '.join(mac_examples(sheet))}.")]
    said += [("limit", f"{LIMITS[what]}: {most:,} at most.") for what, most in sheet.limits.items()]
    if sheet.notation.comments:
        said.append(("remarks", f"Begin with {' or '.join(sheet.notation.comments)}"))
    if sheet.naming.longest:
        said.append(("names", f"At most {sheet.naming.longest} characters."))
    return said


def _show_sample(sheet: Sheet) -> None:
    from reservoir.dialects.lease_trial import try_leases
    from reservoir.dialects.render.withdrawal import withdrawal
    from reservoir.dialects.trial import without_what_is_refused

    show(["", "A sample:", ""])
    text = without_what_is_refused(sheet).text
    show(f"    {line}".rstrip() for line in text.splitlines())
    taken_back = withdrawal(text, sheet)
    if taken_back:
        show(["", "The lines that undo all of its DHCP configuration:", ""])
        show(f"    {line}".rstrip() for line in taken_back.splitlines())
    for part in sheet.leases:
        show(["", "A table of leases:", ""])
        show(f"    {line}".rstrip() for line in try_leases(part).text.splitlines())


@command.command("try", short_help="Try a sheet on a sample plan and on your files.")
@click.argument("sheet")
@click.option(
    "--sample", metavar="FILE", help="Configuration of such a device, to read and write back."
)
@click.option("--leases", metavar="FILE", help="A table of leases as such a device prints it.")
@talkative
def try_sheet(sheet: str, sample: str | None, leases: str | None) -> None:
    """Try SHEET: write a sample plan with it, read that back, list what it doesn't cover.

    With --sample, also read your device's configuration, make a plan of it and write that into
    it: each line that no row is for is named, and each that this would change. A part leases is
    tried with a sample of its own, and with --leases on your device's table.

    Exit status: 0 the sheet works, 1 a line has no row or something reads back differently, 2 the
    sheet has mistakes.
    """
    from reservoir.dialects.sheet.lint import too_strict
    from reservoir.dialects.sheet.loader import load_sheet
    from reservoir.dialects.trial import faults, uncovered, without_what_is_refused, write_sample
    from reservoir.files.texts import read_text

    loaded = load_sheet(read_text(sheet), sheet)
    result = without_what_is_refused(loaded)
    show(result.text.splitlines())
    talk()
    for obstacle in result.obstacles:
        talk(f"can't do all of the sample: {obstacle.message}")
    wrong = faults(loaded)
    sample_written = write_sample(loaded)
    for refusal in (*sample_written.losses, *sample_written.remarks):
        what = (
            f"the {refusal.field} of {refusal.fact.label}" if refusal.field else refusal.fact.label
        )
        talk(f"left out: {what}: {refusal.reason}")
    for kind, fields in uncovered(loaded).items():
        talk(f"not covered by any row: {kind} {', '.join(fields)}")
    for row, text in too_strict(loaded):
        talk(f"{sheet}:{row.number}:1: {text}")
    for text in wrong:
        complain(f"{sheet}: the sample reads back differently: {text}")
    if not wrong:
        talk(f"{sheet}: the sample reads back correctly.")
    if sample is not None:
        wrong += try_sample(loaded, sample)
    wrong += try_parts(loaded)
    if leases is not None:
        wrong += try_lease_table(loaded, leases)
    if wrong:
        raise click.exceptions.Exit(1)
