"""``reservoir read``: a plan of devices' configuration."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from reservoir.cli.output import save_or_show, talk, talkative

if TYPE_CHECKING:
    from reservoir.dialects.reading import ConfigurationRead


DOUBTFUL = 0.5
"""The next best dialect's share, as a part of the best one's, from which it might be the other."""

SHOWN = 3
"""How many pools or bindings a note names before it counts the rest."""


@click.command("read", short_help="Make a plan of devices' configuration.")
@click.argument("configurations", nargs=-1, required=True, metavar="FILE...")
@click.option("--dialect", metavar="NAME", help="The files' dialect; recognised if not given.")
@click.option("-o", "--out", metavar="FILE", help="Put the plan into a file.")
@talkative
def command(configurations: tuple[str, ...], dialect: str | None, out: str | None) -> None:
    """Make a plan of the configuration in each FILE, and list the lines not understood.

    Lines that have nothing to do with lending addresses are counted, not listed.

    \b
    reservoir read configuration/pier-router.larkspur
    reservoir read configuration/* --out as-deployed.yaml

    Exit status: 0 every line about lending was understood, 1 some were not, 2 a file can't be
    used.
    """
    import reservoir  # late: --help needs none of it
    from reservoir.dialects.running.devices import merged_plan
    from reservoir.files.plan_text import plan_text

    results = reservoir.read(configurations, dialect)
    save_or_show(plan_text(merged_plan([result.lifted for result in results])), out)
    for result in results:
        _say(result)
    if any(result.reading.unread for result in results):
        raise click.exceptions.Exit(1)


def _say(result: ConfigurationRead) -> None:
    reading = result.reading
    for unread in reading.unread:
        click.echo(f"{result.place(unread.line, unread.column)}: {unread.message}", err=True)
    networks = len(result.lifted.networks)
    talk(
        f"{result.file}: {result.lifted.name}, {result.dialect}{_how_sure(result)}; {networks} "
        f"{'network' if networks == 1 else 'networks'} from {reading.lines:,} lines"
        + (f", {reading.foreign:,} about other things" if reading.foreign else "")
        + (f", {reading.unread_lines:,} not understood" if reading.unread else "")
    )
    about: dict[str, list[str]] = {}
    for note in result.lifted.notes:
        about.setdefault(note.text, []).append(note.about)
    for text, labels in about.items():
        more = f" and {len(labels) - SHOWN:,} more" if len(labels) > SHOWN else ""
        talk(f"  {', '.join(labels[:SHOWN])}{more}: {text}")


def _how_sure(result: ConfigurationRead) -> str:
    """How sure it is that the file is in the dialect that was recognised."""
    if result.runner_up is None:
        return ""
    other, share = result.runner_up
    sense = f"{result.share:.0%} of it makes sense"
    if share:
        sense += f", {share:.0%} as {other}"
    if share < DOUBTFUL * result.share:
        return f" ({sense})"
    return f" ({sense}; say which it is with --dialect)"
