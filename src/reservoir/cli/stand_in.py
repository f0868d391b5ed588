"""``reservoir stand-in``: a simulated device on a real UDP socket."""

from __future__ import annotations

import datetime
import signal
from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path
from types import FrameType
from typing import TYPE_CHECKING

import click

from reservoir.cli.inputs import dialect_option, subject_of
from reservoir.cli.output import complain, talk, talkative

if TYPE_CHECKING:
    from reservoir.core.subject import Subject
    from reservoir.dialects.behaviour.serving import Serving
    from reservoir.rehearsal.devices.udp import Listening, UdpStandIn

SAVED_EVERY = 1.0
"""Seconds between two savings of the lease list at least."""


@click.command("stand-in", short_help="Answer real clients as a device would, for trials.")
@click.argument("configuration", metavar="FILE")
@click.option("--device", metavar="NAME", help="The device, where FILE has several.")
@dialect_option
@click.option(
    "--listen",
    metavar="ADDRESS:PORT",
    default="127.0.0.1:6767",
    show_default=True,
    help="Where to listen; port 67 answers real clients.",
)
@click.option("--bind", metavar="INTERFACE", help="The system's interface to use, and no other.")
@click.option(
    "--as",
    "stands_for",
    metavar="INTERFACE",
    help="The device's interface that this is (default: the only one that has an address).",
)
@click.option("--leases", metavar="FILE", help="Keep the lease list in FILE across a stop.")
@talkative
def command(
    configuration: str,
    device: str | None,
    dialect: str | None,
    listen: str,
    bind: str | None,
    stands_for: str | None,
    leases: str | None,
) -> None:
    """Answer real clients, or relays, as the device of FILE would. For trials only.

    FILE is a device's configuration, or a plan whose device is written first. Prints a line for
    each message. Ctrl-C ends it. It is no production server: it has seen no load, probes nothing,
    and answers whoever asks.

    \b
    Examples:
      reservoir stand-in running/pier-router.larkspur --as deck.20
      reservoir stand-in ferry-line.yaml --device depot-router --as lan --leases leases.csv
      reservoir stand-in shop-box.thimble --listen 10.84.51.1:67 --bind veth0

    Exit status: 0 stopped, 2 unusable input or address.
    """
    from reservoir.rehearsal.devices.udp import UdpStandIn  # late: --help needs none of it

    name, serving = _device_of(subject_of((configuration,), dialect), device)
    listening = _listening(serving, listen, bind, stands_for)
    try:
        stand_in = UdpStandIn(serving, listening, _log)
    except OSError as error:
        raise click.UsageError(f"{listen} can't be used: {error.strerror}.") from None
    for line in serving.ignored:
        complain(f"{name} ignores {line}")
    file = Path(leases) if leases else None
    if file is not None and file.exists():
        _restore(stand_in, file)
    talk(
        f"{name} ({serving.behaviour.sheet.name}) on {listening.address}:{stand_in.port}, as "
        f"{listening.interface}. A stand-in for trials, no production server; Ctrl-C ends it."
    )
    _serve(stand_in, name, file)


def _device_of(subject: Subject, device: str | None) -> tuple[str, Serving]:
    """The device that is to be stood in for, and what it serves."""
    import reservoir
    from reservoir.core.wording import listed

    every = reservoir.served_by(subject)
    if device is None and len(every) != 1:
        names = listed(sorted(every)) if every else "none with a dialect"
        raise click.UsageError(f"Choose one with --device: there is {names}.")
    name = device if device is not None else next(iter(every))
    if name not in every:
        raise click.UsageError(f"There is no device {name!r} with a dialect.")
    return name, every[name]


def _listening(
    serving: Serving, listen: str, bind: str | None, stands_for: str | None
) -> Listening:
    from reservoir.core.wording import hint, listed
    from reservoir.dialects.facts.by_address import addresses_of
    from reservoir.rehearsal.devices.udp import Listening, parse_endpoint

    try:
        address, port = parse_endpoint(listen)
    except ValueError:
        raise click.BadParameter(
            f"{listen!r} is not an address with a port, like 127.0.0.1:6767.",
            param_hint="--listen",
        ) from None
    known = {name: addresses_of(fact) for name, fact in serving.interfaces.items()}
    usable = [name for name, addresses in known.items() if addresses]
    if stands_for is None and len(usable) != 1:
        raise click.UsageError(f"Choose an interface with --as: there is {listed(usable)}.")
    name = stands_for if stands_for is not None else usable[0]
    if name not in usable:
        near = hint(name, usable)
        raise click.UsageError(f"The device has no interface {name!r} with an address{near}.")
    return Listening(address, port, bind, name, known[name][0].address)


def _log(line: str) -> None:
    """Print an event with the time of day."""
    from reservoir.core.wording import shown

    now = datetime.datetime.now().astimezone().strftime("%H:%M:%S")
    click.echo(shown(f"{now} {line}"))


def _serve(stand_in: UdpStandIn, name: str, file: Path | None) -> None:
    """Serve until the user or the system ends it; keep the lease list."""
    with _stopping() as stopped:
        saved = [0, 0.0]

        def look() -> bool:
            now = datetime.datetime.now().timestamp()
            is_due = stand_in.changes != saved[0] and now - saved[1] >= SAVED_EVERY
            if file is not None and is_due:
                saved[:] = stand_in.changes, now
                _save(stand_in, name, file)
            return bool(stopped)

        stand_in.serve(look)
        stand_in.close()
        if file is not None:
            _save(stand_in, name, file)
    talk("Stopped.")


@contextmanager
def _stopping() -> Iterator[list[int]]:
    """A list that has something in it once the program is asked to stop."""
    asked: list[int] = []

    def stop(number: int, _frame: FrameType | None) -> None:
        asked.append(number)

    numbers = (signal.SIGINT, signal.SIGTERM, signal.SIGHUP)  # the last: its terminal is gone
    before = {number: signal.signal(number, stop) for number in numbers}
    try:
        yield asked
    finally:
        for number, handler in before.items():
            signal.signal(number, handler)


def _save(stand_in: UdpStandIn, name: str, file: Path) -> None:
    from reservoir.files.changing import write_whole
    from reservoir.files.lease_list import LeaseRow, lease_list

    rows = [
        LeaseRow(
            lease.mac,
            lease.identifier if lease.identifier != lease.mac.identifier else None,
            lease.address,
            str(pool.fact.get("name", "")),
            name,
            lease.expires,
        )
        for pool, lease in stand_in.present()
    ]
    write_whole(file, lease_list(rows), is_kept=True)


def _restore(stand_in: UdpStandIn, file: Path) -> None:
    """Take up the leases of before; those that no pool has are said."""
    from reservoir.core.values.addresses import format_address
    from reservoir.files.lease_list import lease_rows, read_leases

    for row in lease_rows(read_leases(str(file)).leases):
        identifier = row.identifier or row.mac.identifier
        expires = row.expires if row.expires is not None else float("inf")
        if not stand_in.remember(identifier, row.mac, row.address, expires):
            shown = format_address(row.address)
            complain(f"{file}: {shown} of {row.mac} is in no pool; its lease is left out")
