"""``reservoir size``: whether ranges are large enough for who is expected."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from reservoir.cli.inputs import (
    Scalar,
    leases_of,
    networks_option,
    notation_options,
    only_option,
    subject_of,
)
from reservoir.cli.output import (
    format_option,
    out_option,
    progress,
    require_figure,
    save_or_show,
    talk,
    talkative,
    width,
)

if TYPE_CHECKING:
    from reservoir.core.sizing.size import Size
    from reservoir.files.moments import ListNotation

AT_HAND = "--devices, --rate, --arrival or --history"


@click.command("size", short_help="Size ranges, lease times and prefixes.")
@click.argument("inputs", nargs=-1, metavar="[PLAN]")
@networks_option("Show all that is known of this network.")
@only_option("failed", "with too few addresses")
@click.option(
    "--devices", type=click.IntRange(0, 1 << 32), metavar="N", help="Clients always there."
)
@click.option("--rate", metavar="RATE", help="Clients that walk in: 40/h.")
@click.option("--between", metavar="HOURS", help="When they do: 08:00-20:00.")
@click.option("--stay", metavar="TIME", help="How long they stay on average: 25m.")
@click.option("--cv", metavar="N", help="Standard deviation of the stays, divided by their mean.")
@click.option(
    "--arrival",
    "arrivals",
    multiple=True,
    metavar="AT,N,OVER,STAY",
    help="N clients that arrive together: 06:30,420,20m,55m.",
)
@click.option("--returning", metavar="SHARE", help="Share that comes every day: 90%.")
@click.option("--once", is_flag=True, help="All come on one day; nobody was there the day before.")
@click.option(
    "--without",
    multiple=True,
    metavar="DEVICE",
    help="What is left while this device, or this link (DEVICE.INTERFACE), is down.",
)
@click.option("--release", metavar="SHARE", help="Share that release their address: 5%.")
@click.option("--growth", metavar="SHARE", help="Growth: 10%/year.")
@click.option("--horizon", metavar="TIME", help="How far to look ahead: 2 years.")
@click.option("--headroom", metavar="SHARE", help="What is to stay free (20%).")
@click.option("--risk", metavar="SHARE", help="Accepted chance of a refusal on a day (1%).")
@click.option("--lease", type=Scalar("duration"), metavar="TIME", help="The lease time.")
@click.option(
    "--addresses", type=click.IntRange(0, 1 << 32), metavar="N", help="Addresses in the pool."
)
@click.option("--history", metavar="FILE", help="Leases of the past: mac, address, start, end.")
@notation_options("the history", "starts=BEGAN,expires=ENDED")
@click.option("--figure", metavar="FILE", help="Draw the day: a .png or .svg file.")
@format_option("text", "json")
@out_option
@talkative
def command(
    inputs: tuple[str, ...],
    networks: tuple[str, ...],
    only: str | None,
    lease: int | None,
    addresses: int | None,
    history: str | None,
    notation: ListNotation,
    figure: str | None,
    once: bool,
    without: tuple[str, ...],
    form: str,
    out: str | None,
    **stated: Any,
) -> None:
    """Say how many addresses the expected clients take, and whether the ranges hold them.

    By a PLAN, for each network that states a demand; or by options, without a plan. An address
    stays taken for a lease after the client's last renewal, unless it is released. The smallest
    range keeps the chance that on a day anybody is refused at or below --risk.

    \b
    Examples:
      reservoir size ferry-line.yaml
      reservoir size ferry-line.yaml --network passenger-wifi --figure wifi.png
      reservoir size ferry-line.yaml --without pier-router
      reservoir size --rate 40/h --stay 25m --lease 1h --risk 1%
      reservoir size --history leases.csv --lease 1h --addresses 200

    Exit status: 0 each pool is large enough, 1 one is too small, 2 unusable input.
    """
    given = {name: value for name, value in stated.items() if value not in (None, ())}
    require_figure(figure)
    if inputs:
        options = [*given, *(["history"] if history else [])]
        if options or lease or addresses is not None:
            raise click.UsageError(
                "Give a plan, or a demand by options; the plan states demand and lease time itself."
            )
        is_enough = _size_plan(inputs, networks, only, once, without, figure, form, out)
    else:
        if networks:
            raise click.UsageError("--network goes with a plan.")
        if only is not None:
            raise click.UsageError("--only goes with a plan.")
        if without:
            raise click.UsageError("--without goes with a plan.")
        size = _demand(given, lease, addresses, history, notation, once=once)
        is_enough = _show_demand(size, addresses is not None, history, figure, form, out)
    if not is_enough:
        raise click.exceptions.Exit(1)


def _size_plan(
    inputs: tuple[str, ...],
    networks: tuple[str, ...],
    only: str | None,
    once: bool,
    without: tuple[str, ...],
    figure: str | None,
    form: str,
    out: str | None,
) -> bool:
    """Size the networks of a plan; whether each pool is large enough."""
    import reservoir  # late: --help needs none of it
    from reservoir.reports import sizing as report

    subject = subject_of(inputs, None)
    found = reservoir.size(subject, networks, once=once, without=without)
    if not found.networks:
        why = next(iter(found.left_out.items()), ("the plan", "it has no networks"))
        raise click.UsageError(f"Nothing to size: {why[0]}: {why[1]}.")
    if figure is not None and len(found.networks) > 1:
        raise click.UsageError("A figure shows one network; name it with --network.")
    if only is not None and networks:
        raise click.UsageError("--only chooses among all networks: give no --network.")
    detailed = bool(networks) or len(found.networks) + len(found.left_out) == 1
    is_all = only is None
    if form == "json":
        text = report.as_json(found, subject.files, detailed=detailed, only_failed=not is_all)
        save_or_show(text, out)
    elif detailed and is_all:
        pages = [
            report.page(
                n.size,
                n.label,
                n.kept,
                width(),
                has_pool=True,
                down=report.while_down(n, found.without),
            )
            for n in found.networks
        ]
        save_or_show(
            (
                f"{line}\n"
                for number, one in enumerate(pages)
                for line in (*[""] * bool(number), *one)
            ),
            out,
        )
    else:
        save_or_show(
            (f"{line}\n" for line in report.table(found, width(), only_failed=not is_all)), out
        )
        down = ""
        if without:
            down = " ".join(f"--without {name}" for name in found.without)
            talk(f"Next: reservoir rehearse {' '.join(inputs)} {down}")
        worst = max(found.networks, key=lambda n: n.needed / max(n.capacity, 1))
        talk(f"Next: reservoir size {' '.join(inputs)} --network {worst.name} {down}".rstrip())
    if figure is not None:
        _draw(found.networks[0].size, found.networks[0].label, figure)
    return all(report.is_enough(network.size) for network in found.networks)


def _demand(
    given: dict[str, Any],
    lease: int | None,
    addresses: int | None,
    history: str | None,
    notation: ListNotation,
    *,
    once: bool,
) -> Size:
    """The demand that the options state.

    Raises:
        UsageError: they state none, or one that can't be used.
    """
    import reservoir  # late: --help needs none of it
    from reservoir.files.demand_tables import HISTORY_COLUMNS, history_of
    from reservoir.files.plan_errors import demand_of

    if not history and not {"devices", "rate", "arrivals"} & given.keys():
        raise click.UsageError(f"Give a plan, or state a demand: {AT_HAND}.")
    if lease is None:
        raise click.UsageError("The lease time is missing: --lease 1h.")
    for name, needs in (("stay", "rate"), ("between", "rate"), ("cv", "stay")):
        if name in given and needs not in given:
            raise click.UsageError(f"--{name} goes with --{needs}.")
    if "returning" in given and not {"rate", "arrivals"} & given.keys():
        raise click.UsageError("--returning goes with --rate or --arrival.")
    if once and "returning" in given:
        raise click.UsageError("--once and --returning contradict each other.")
    if "rate" in given and "stay" not in given:
        raise click.UsageError("How long do they stay? --rate goes with --stay.")
    demand, problems = demand_of(_stated(given, history))
    if demand is None:
        raise click.UsageError("; ".join(problems) + ".")
    demand = demand.once() if once else demand
    with progress("reading leases"):
        leases = leases_of(history, notation, also=HISTORY_COLUMNS) if history else None
        seen = history_of(history, leases) if history and leases is not None else None
    try:
        return reservoir.size_demand(demand, lease, addresses or 0, history=seen)
    except ValueError as error:
        raise click.UsageError(f"{error}.") from None


def _stated(given: dict[str, Any], history: str | None) -> dict[str, object]:
    """The options as a plan states a demand."""
    stated: dict[str, object] = {
        name: str(given[name])
        for name in ("devices", "growth", "horizon", "headroom", "risk")
        if name in given
    }
    same = {"returning": given["returning"]} if "returning" in given else {}
    if "rate" in given:
        stay = {"mean": given["stay"], **({"cv": given["cv"]} if "cv" in given else {})}
        hours = {"between": given["between"]} if "between" in given else {}
        stated["walk_in"] = {"rate": given["rate"], "stay": stay, **hours, **same}
    if "arrivals" in given:
        stated["arrivals"] = [_arrival(text) | same for text in given["arrivals"]]
    if "release" in given:
        stated["leave"] = {"release": given["release"]}
    if history is not None:
        stated["history"] = history
    return stated


def _arrival(text: str) -> dict[str, str]:
    parts = text.split(",")
    if len(parts) != 4:
        raise click.UsageError(f"{text!r} is not of the form 06:30,420,20m,55m (AT,N,OVER,STAY).")
    return dict(zip(("at", "devices", "over", "stay"), map(str.strip, parts), strict=True))


def _show_demand(
    size: Size, has_pool: bool, history: str | None, figure: str | None, form: str, out: str | None
) -> bool:
    """Show the size of a demand; whether its pool is large enough, if it has one."""
    from reservoir.reports import sizing as report

    inputs = [history] if history else []
    if form == "json":
        save_or_show(report.demand_as_json(size, inputs, has_pool=has_pool), out)
    else:
        lines = report.page(size, "expected clients", 1, width(), has_pool=has_pool)
        save_or_show((f"{line}\n" for line in lines), out)
    if figure is not None:
        _draw(size, "Expected clients", figure, has_pool=has_pool)
    return not has_pool or report.is_enough(size)


def _draw(size: Size, name: str, file: str, *, has_pool: bool = True) -> None:
    from reservoir.cli.output import save_figure
    from reservoir.reports.figures.sizing import figure  # late: only for a figure

    save_figure(figure(size, name, has_pool=has_pool), file)
