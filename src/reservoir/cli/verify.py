"""``reservoir verify``: whether the real network answers as planned."""

from __future__ import annotations

import signal
import sys
import time
from collections.abc import Iterator
from contextlib import contextmanager
from types import FrameType
from typing import TYPE_CHECKING

import click

from reservoir.cli.inputs import (
    Scalar,
    dialect_option,
    lease_options,
    leases_of,
    networks_option,
    subject_of,
)
from reservoir.cli.output import (
    complain,
    format_option,
    out_option,
    progress,
    save_or_show,
    talk,
    talkative,
    width,
)

if TYPE_CHECKING:
    from reservoir.files.moments import ListNotation
    from reservoir.rehearsal.verify import Verifying

ADDRESS = Scalar("address")


@click.command("verify", short_help="Ask the real servers whether they answer as planned.")
@click.argument("inputs", nargs=-1, required=True, metavar="FILE...")
@dialect_option
@click.option("--on", metavar="INTERFACE", help="Ask from this interface of this machine (Linux).")
@networks_option("Ask only this network, which the interface is in.")
@click.option(
    "--take",
    is_flag=True,
    help="Take an address as clients without a binding, use it, and give it back.",
)
@click.option(
    "--as-relay",
    type=ADDRESS,
    metavar="ADDRESS",
    help="Ask from this address of this machine, as a relay would, instead of --on.",
)
@click.option(
    "--server",
    "servers",
    type=ADDRESS,
    multiple=True,
    metavar="ADDRESS",
    help="The server to ask with --as-relay.",
)
@click.option(
    "--most",
    type=click.IntRange(3, 100_000),
    default=300,
    show_default=True,
    metavar="N",
    help="Send at most this many messages; clients that are left out are listed.",
)
@click.option("--leases", metavar="FILE", help="Who has which address now: tell offers of those.")
@lease_options
@click.option("--capture", metavar="FILE", help="Save what is sent and answered as a capture.")
@click.option("-y", "--yes", is_flag=True, help="Don't ask before sending.")
@format_option("text", "json")
@out_option
@talkative
def command(
    inputs: tuple[str, ...],
    dialect: str | None,
    on: str | None,
    networks: tuple[str, ...],
    take: bool,
    as_relay: int | None,
    servers: tuple[int, ...],
    most: int,
    leases: str | None,
    notation: ListNotation,
    now: float | None,
    capture: str | None,
    yes: bool,
    form: str,
    out: str | None,
) -> None:
    """Ask the real servers, and hold what they answer to the plan and to the rehearsal.

    FILE is a plan, or configuration of devices. For each network of the interface's LAN it asks for
    an address as a client without a binding, as one of each class, and as each bound client, and
    collects every server's offers for three seconds. It says first what it will send, never sends
    more than ten messages a second, and takes nothing: offers lapse by themselves. With --take,
    only clients without a binding take an address: a bound client's may be in use. With --leases,
    it names each offer of an address that another client has.

    It needs the right to raw sockets (root, or cap_net_raw), on Linux; --as-relay needs only port
    67, asks servers that answer relays for all of their networks, and sees no second server.

    \b
    Examples:
      reservoir verify ferry-line.yaml --on eth0
      reservoir verify ferry-line.yaml --on eth0 --network crew --take --capture crew.pcap
      reservoir verify ferry-line.yaml --as-relay 10.84.10.20 --server 10.84.10.10
      reservoir verify ferry-line.yaml --on eth0 --yes --format json --out verified.json

    Exit status: 0 the network answers as planned, 1 something differs, 2 unusable input.
    """
    import reservoir  # late: --help needs none of it
    from reservoir.files.texts import digest_of
    from reservoir.rehearsal.wires.interface import UnusableInterfaceError
    from reservoir.reports.verification import as_json, lines

    _require_one_way(on, take, as_relay, servers, capture)
    subject = subject_of(inputs, dialect)
    table = leases_of(leases, notation, now) if leases is not None else None
    frames: list[tuple[float, bytes]] = []
    try:
        with _ended_properly(take), progress("asking") as watch:
            found = reservoir.verify(
                subject,
                on,
                networks=networks,
                take=take,
                as_relay=as_relay,
                servers=servers,
                most=most,
                leases=table,
                now=now,
                before=lambda verifying: _agree(verifying, servers, yes),
                capture=(lambda at, frame: frames.append((at, frame))) if capture else None,
                watch=watch,
            )
    except UnusableInterfaceError as error:
        raise click.UsageError(str(error)) from None
    finally:
        if capture is not None and frames:
            from reservoir.files.captures import save_capture  # late: only for a capture

            save_capture(capture, frames)
    if form == "json":
        digest = digest_of(subject.files)
        save_or_show(as_json(found, subject.files, digest, time.time()), out)
    else:
        save_or_show((f"{line}\n" for line in lines(found, width())), out)
    if found.failed:
        raise click.exceptions.Exit(1)


def _require_one_way(
    on: str | None,
    take: bool,
    as_relay: int | None,
    servers: tuple[int, ...],
    capture: str | None,
) -> None:
    """Require that it is clear from where and whom to ask.

    Raises:
        UsageError: it isn't.
    """
    if on is None and as_relay is None:
        raise click.UsageError(
            "Say where to ask from: --on INTERFACE, or --as-relay ADDRESS --server ADDRESS."
        )
    if on is not None and as_relay is not None:
        raise click.UsageError("--on and --as-relay are two ways to ask: give one.")
    if as_relay is not None and not servers:
        raise click.UsageError("--as-relay needs the server to ask: --server ADDRESS.")
    if servers and as_relay is None:
        raise click.UsageError("--server goes with --as-relay; on an interface everybody is asked.")
    if take and as_relay is not None:
        raise click.UsageError(
            "--take needs an interface in the clients' network: a relay can't use an address there."
        )
    if capture is not None and as_relay is not None:
        raise click.UsageError("--capture needs an interface: with --as-relay no frames are seen.")
    if capture == "-":
        raise click.UsageError("A capture isn't text: give a file for --capture.")


def _agree(verifying: Verifying, servers: tuple[int, ...], yes: bool) -> None:
    """Say what will be sent, and have it agreed to.

    Raises:
        Abort: the user doesn't agree.
        UsageError: nobody can be asked, or nobody is left to ask as.
    """
    from reservoir.reports.verification import sendings  # late: only before sending

    if not verifying.asks.asked:
        whys = [f"{name}: {why}" for name, why in verifying.left_out]
        whys += [f"{network}, {client}: {why}" for network, client, why in verifying.asks.not_asked]
        reasons = "; ".join(whys) or "the plan has no network that this server serves"
        raise click.UsageError(f"Nobody can be asked as. {reasons}.")
    for line in sendings(verifying, servers, width()):
        (talk if yes else complain)(line)  # nobody agrees to what isn't shown
    if yes:
        talk()
        return
    if not sys.stdin.isatty():
        raise click.UsageError("There is no terminal to ask at: --yes sends without asking.")
    click.confirm("Send?", abort=True, err=True)


@contextmanager
def _ended_properly(take: bool) -> Iterator[None]:
    """Let the system's asking to stop end it as Ctrl-C does: what was taken is released."""
    numbers = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)

    def stop(_number: int, _frame: FrameType | None) -> None:
        for number in numbers:  # another one must not stop the giving back, which takes seconds
            signal.signal(number, signal.SIG_IGN)
        raise KeyboardInterrupt

    before = {number: signal.signal(number, stop) for number in numbers}
    try:
        yield
    except KeyboardInterrupt:
        talk(
            "Stopped; a RELEASE was sent for what was taken."
            if take
            else "Stopped; nothing was taken."
        )
        raise
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)
