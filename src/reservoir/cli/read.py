"""``reservoir read``: a plan made from devices' configuration."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from reservoir.cli.output import complain, save_or_show, talk, talkative

if TYPE_CHECKING:
    from reservoir.dialects.reading import ConfigurationRead


DOUBTFUL = 0.5
"""The next best dialect's share, as a part of the best one's, from which it might be the other."""

SHOWN = 3
"""Pools or bindings that a note lists before it counts the rest."""


@click.command("read", short_help="Make a plan from device configuration.")
@click.argument("configurations", nargs=-1, required=True, metavar="FILE...")
@click.option("--dialect", metavar="NAME", help="The files' dialect (default: recognised).")
@click.option("-o", "--out", metavar="FILE", help="Write the plan to a file.")
@talkative
def command(configurations: tuple[str, ...], dialect: str | None, out: str | None) -> None:
    """Make a plan from the configuration in each FILE, and list the lines not understood.

    Lines that have nothing to do with DHCP are only counted.

    \b
    Examples:
      reservoir read configuration/pier-router.larkspur
      reservoir read configuration/* --out as-deployed.yaml

    Exit status: 0 every line about DHCP was understood, 1 some were not, 2 unusable input.
    """
    import reservoir  # late: --help needs none of it
    from reservoir.dialects.running.devices import merged_plan, with_named_zones
    from reservoir.files.plan_text import plan_text

    results = reservoir.read(configurations, dialect)
    plan = merged_plan([result.lifted for result in results])
    save_or_show(plan_text(with_named_zones(plan)), out)
    for problem in dict.fromkeys(str(each) for result in results for each in result.broken):
        complain(problem)
    for result in results:
        _say(result)
    if any(result.not_understood for result in results):
        raise click.exceptions.Exit(1)


def _say(result: ConfigurationRead) -> None:
    from reservoir.core.wording import counted  # late: --help needs none of it

    reading = result.reading
    for unread in result.not_understood:
        complain(f"{result.place(unread.line, unread.column)}: {unread.message}")
    networks = counted(len(result.lifted.networks), "network")
    talk(
        f"{result.file}: {result.lifted.name}, {result.dialect}{_how_sure(result)}; {networks} "
        f"from {counted(reading.lines, 'line')}"
        + (f", {reading.foreign:,} not about DHCP" if reading.foreign else "")
        + (f", {reading.of_ipv6:,} about IPv6, which isn't covered" if reading.of_ipv6 else "")
        + (f", {result.lines_not_understood:,} not understood" if result.not_understood else "")
    )
    about: dict[str, list[str]] = {}
    for note in result.lifted.notes:
        about.setdefault(note.text, []).append(note.about)
    for text, labels in about.items():
        more = f" and {len(labels) - SHOWN:,} more" if len(labels) > SHOWN else ""
        talk(f"  {', '.join(labels[:SHOWN])}{more}: {text}")


def _how_sure(result: ConfigurationRead) -> str:
    """How certain the recognised dialect is."""
    if result.runner_up is None:
        return ""
    other, share = result.runner_up
    sense = f"{result.share:.0%} of it understood"
    if share:
        sense += f", {share:.0%} as {other}"
    if share < DOUBTFUL * result.share:
        return f" ({sense})"
    return f" ({sense}; use --dialect to choose)"
