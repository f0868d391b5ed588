"""``reservoir map``: the address space of a plan."""

from __future__ import annotations

import re
from itertools import islice
from typing import TYPE_CHECKING

import click

from reservoir.cli.inputs import Scalar, dialect_option, networks_option, only_option, subject_of
from reservoir.cli.output import (
    format_option,
    out_option,
    require_figure,
    save_figure,
    save_or_show,
    talk,
    talkative,
    width,
)

if TYPE_CHECKING:
    from reservoir.core.values.addresses import Prefix


class PrefixLength(click.ParamType[int]):
    """The size of a subnet: ``/24``."""

    name = "prefix length"

    def convert(
        self, value: str | int, param: click.Parameter | None, ctx: click.Context | None
    ) -> int:
        """The number of bits."""
        if isinstance(value, int):
            return value
        found = re.fullmatch("/?([0-9]{1,2})", value)
        if found is None or not 1 <= int(found[1]) <= 32:
            self.fail(f"{value!r} is not a prefix length: write it like /24", param, ctx)
        return int(found[1])


@click.command("map", short_help="Show the address space of a plan.")
@click.argument("inputs", nargs=-1, required=True, metavar="FILE...")
@dialect_option
@networks_option("Show only this network.")
@only_option("conflicting", "with addresses that two would have")
@click.option(
    "--within",
    multiple=True,
    type=Scalar("subnet"),
    metavar="BLOCK",
    help="Look in this block: 10.84.0.0/16 (default: the /16 around each subnet).",
)
@click.option("--free", type=PrefixLength(), metavar="/BITS", help="List free subnets this large.")
@click.option("--free-vlans", is_flag=True, help="List free VLAN tags.")
@click.option("--figure", metavar="FILE", help="Draw the space: a .png or .svg file.")
@format_option("text", "json")
@out_option
@talkative
def command(
    inputs: tuple[str, ...],
    dialect: str | None,
    networks: tuple[str, ...],
    only: str | None,
    within: tuple[Prefix, ...],
    free: int | None,
    free_vlans: bool,
    figure: str | None,
    form: str,
    out: str | None,
) -> None:
    """Show what each address of a plan, or of devices' configuration, is for, and what is free.

    Networks come in the order of their addresses. An address that two would have is conflicting,
    and marked. A subnet is free if the plan names no address of it: no network, interface or
    route lies there, in any VRF. A VLAN tag is free if no network or interface has it.

    \b
    Examples:
      reservoir map ferry-line.yaml
      reservoir map ferry-line.yaml --free /24 --within 10.84.0.0/18
      reservoir map ferry-line.yaml --free-vlans
      reservoir map ferry-line.yaml --figure map.svg

    Exit status: 0 fine, 2 unusable input.
    """
    import reservoir  # late: --help needs none of it
    from reservoir.core.wording import counted
    from reservoir.reports import space as report

    require_figure(figure)
    subject = subject_of(inputs, dialect)
    space = reservoir.space(subject, networks)
    shown: tuple[str, ...] | None = networks or None
    if only is not None:
        asked = [one for one in space.networks if not networks or one.name in networks]
        shown = tuple(one.name for one in asked if one.kinds["conflicting"])
        others = counted(len(asked) - len(shown), "network")
        talk(f"{others} without conflicting addresses: not shown.")
        if figure is not None and not shown:
            raise click.UsageError("No network has conflicting addresses: nothing is drawn.")
    blocks = [block.subnet for block in within]
    subnets = None if free is None else space.free(free, blocks)
    tags = space.free_vlans if free_vlans else None
    if form == "json":
        every = None if subnets is None else list(subnets)
        save_or_show(report.as_json(space, subject.files, blocks, shown, every, tags), out)
    elif subnets is not None or tags is not None:
        found = list(map(str, islice(subnets or (), FIRST)))
        found += [str(a) if a == b else f"{a}-{b}" for a, b in tags or ()]
        save_or_show((f"{line}\n" for line in found), out)
        if free is not None:
            where = ", ".join(map(str, blocks or space.blocks))
            talk(f"{_how_many(free, space.count_free(free, blocks))} free in {where}.")
    elif figure is None or out:
        lines = report.lines(space, blocks, shown, width()) if shown != () else ()
        save_or_show((f"{line}\n" for line in lines), out)
    if figure is not None:
        from reservoir.reports.figures.space import figure as drawn  # late: only for a figure

        title = subject.plan.name or "Address space"
        save_figure(drawn(space, title, blocks, shown or ()), figure)


FIRST = 10
"""Free subnets that are listed as text; JSON has all."""


def _how_many(bits: int, count: int) -> str:
    """How many subnets of a size are free, and which of them are listed."""
    if not count:
        return f"No /{bits} is"
    if count == 1:
        return f"One /{bits} is"
    shown = f" (the first {FIRST} are listed, --format json has all)" if count > FIRST else ""
    return f"{count:,} subnets of /{bits}{shown} are"
