"""``reservoir rehearse``: what each client gets, before anything is deployed."""

from __future__ import annotations

from typing import TYPE_CHECKING, Any

import click

from reservoir.cli.completion import network_names
from reservoir.cli.inputs import dialect_option, networks_option, only_option, subject_of
from reservoir.cli.output import (
    format_option,
    out_option,
    progress,
    save_or_show,
    talk,
    talkative,
    width,
)

if TYPE_CHECKING:
    from reservoir.core.subject import Subject
    from reservoir.rehearsal.judgement.result import Rehearsal


class Share(click.FloatRange):
    """A share of all frames, as a percentage."""

    name = "percentage"

    def convert(
        self, value: str | float, param: click.Parameter | None, ctx: click.Context | None
    ) -> float:
        """The share, 0 to 1."""
        text: Any = str(value).removesuffix("%")
        share = super().convert(text, param, ctx) / 100
        if not share <= 1:  # NaN, which a range lets pass
            self.fail(f"{value!r} is not a share of all frames.", param, ctx)
        return share


SHARE = Share(0, 100)


@click.command("rehearse", short_help="Let simulated clients get their addresses.")
@click.argument("inputs", nargs=-1, required=True, metavar="FILE...")
@dialect_option
@networks_option("Rehearse only this network.")
@only_option("failed", "in which a client failed")
@click.option(
    "--trace",
    multiple=True,
    metavar="NETWORK",
    shell_complete=network_names,
    help="Show this network's conversation, message by message.",
)
@click.option(
    "--clients",
    type=click.IntRange(0, 100_000),
    metavar="N",
    help="Clients without a binding in each network, 100000 at most (default: as many as the "
    "demand expects, then until the pool is full).",
)
@click.option("--capture", metavar="FILE", help="Save every frame as a packet capture.")
@click.option("--day", is_flag=True, help="Let a day pass too, with all who come and go.")
@click.option(
    "--without",
    multiple=True,
    metavar="DEVICE",
    help="Let this device fail, or this link (DEVICE.INTERFACE), once all have their leases.",
)
@click.option("--leases-out", metavar="FILE", help="Save who got which address, as a lease list.")
@click.option("--seed", type=int, default=0, show_default=True, help="Seed for anything random.")
@click.option("--loss", type=SHARE, default="0%", help="Frames that are lost.")
@click.option("--duplicates", type=SHARE, default="0%", help="Frames that arrive twice.")
@click.option("--late", type=SHARE, default="0%", help="Frames that arrive after later ones.")
@format_option("text", "json")
@out_option
@talkative
def command(
    inputs: tuple[str, ...],
    dialect: str | None,
    networks: tuple[str, ...],
    only: str | None,
    trace: tuple[str, ...],
    clients: int | None,
    capture: str | None,
    day: bool,
    without: tuple[str, ...],
    leases_out: str | None,
    seed: int,
    loss: float,
    duplicates: float,
    late: float,
    form: str,
    out: str | None,
) -> None:
    """Let simulated clients get their addresses from simulated devices.

    Each FILE is a plan or a device's configuration. Every device starts from its configuration, as
    `write` would write it or as it is in FILE, and behaves as its family does. Bound clients come
    first, then as many as are expected, then one more than the pool can hold. In each network the
    first client that gets an address asks its gateway and its DNS servers, and renews its lease.

    \b
    Examples:
      reservoir rehearse ferry-line.yaml
      reservoir rehearse ferry-line.yaml --trace crew
      reservoir rehearse ferry-line.yaml --loss 20% --capture ferry-line.pcap
      reservoir rehearse ferry-line.yaml --day
      reservoir rehearse ferry-line.yaml --without pier-router
      reservoir rehearse running/*

    Exit status: 0 every client got what it should, 1 a client failed, 2 unusable input.
    """
    import reservoir  # late: --help needs none of it
    from reservoir.rehearsal.wires.wires import Disturbance

    if capture == "-":
        raise click.UsageError("A capture isn't text: give a file for --capture.")
    subject = subject_of(inputs, dialect)
    frames: list[tuple[float, bytes]] = []
    with progress("rehearsing") as watch:
        rehearsal = reservoir.rehearse(
            subject,
            networks=networks,
            clients=clients,
            listen=trace,
            seed=seed,
            day=day,
            without=without,
            disturbance=Disturbance(loss, duplicates, late),
            capture=(lambda at, frame: frames.append((at, frame))) if capture else None,
            watch=watch,
        )
    if not rehearsal.networks:
        raise click.UsageError(f"No network could be rehearsed: {_why_none(rehearsal)}.")
    if capture is not None:
        from reservoir.files.captures import save_capture  # late: only for a capture

        save_capture(capture, frames)
    if leases_out is not None:
        from reservoir.files.lease_list import lease_list  # late: only for a list

        save_or_show(lease_list(rehearsal.leases), leases_out)
    _show(rehearsal, subject, trace, form, out, only_failed=only is not None)
    _say_next(rehearsal, inputs, trace)
    if rehearsal.failed:
        raise click.exceptions.Exit(1)


def _why_none(rehearsal: Rehearsal) -> str:
    return next(iter(rehearsal.left_out.values()), "there is none")


def _show(
    rehearsal: Rehearsal,
    subject: Subject,
    trace: tuple[str, ...],
    form: str,
    out: str | None,
    *,
    only_failed: bool,
) -> None:
    from reservoir.reports.outage import outage_table
    from reservoir.reports.rehearsal import as_json, conversation, day_table, table

    if form == "json":
        save_or_show(as_json(rehearsal, subject.files, only_failed=only_failed), out)
        return
    lines = [
        line
        for each in rehearsal.networks
        if each.network in trace
        for line in (*conversation(each, width()), "")
    ]
    lines += table(rehearsal, width(), only_failed=only_failed)
    if rehearsal.days:
        lines += ["", *day_table(rehearsal, width())]
    if rehearsal.outage is not None:
        lines += ["", *outage_table(rehearsal.outage, width())]
    save_or_show((f"{line}\n" for line in lines), out)


def _say_next(rehearsal: Rehearsal, inputs: tuple[str, ...], trace: tuple[str, ...]) -> None:
    """The next command to run."""
    failed = next((each for each in rehearsal.networks if each.failure), None)
    if failed is None or failed.failure is None:
        return
    if failed.network not in trace and " " not in failed.network:  # else an interface's clients
        talk(f"Next: reservoir rehearse {' '.join(inputs)} --trace {failed.network}")
    elif failed.failure.rule:
        talk(f"Next: reservoir explain {failed.failure.rule}")
