"""The files that a command is given: a plan, devices' configuration, or both as one."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from functools import wraps
from typing import TYPE_CHECKING, Any, TypeVar

import click

from reservoir.cli.completion import dialect_names, network_names
from reservoir.cli.output import progress, talk

if TYPE_CHECKING:
    from reservoir.core.leases.table import LeaseTable
    from reservoir.core.subject import Subject
    from reservoir.core.values.clients import Client
    from reservoir.files.lease_list import LeasesRead
    from reservoir.files.moments import ListNotation


AnyCommand = Callable[..., object]
Command = TypeVar("Command", bound=AnyCommand)

dialect_option = click.option(
    "--dialect",
    metavar="NAME",
    shell_complete=dialect_names,
    help="The configuration's dialect (default: recognised).",
)
"""The option of commands that read configuration."""


def networks_option(what: str) -> Callable[[Command], Command]:
    """Give a command ``--network``, which may be given several times."""
    return click.option(
        "--network",
        "networks",
        multiple=True,
        metavar="NETWORK",
        shell_complete=network_names,
        help=what,
    )


def only_option(word: str, what: str) -> Callable[[Command], Command]:
    """Give a command ``--only``, which shows the networks of one kind; it gets ``only``.

    Args:
        word: The kind.
        what: What is true of those networks.
    """
    return click.option(
        "--only", type=click.Choice([word]), help=f"Show only networks {what}; count the others."
    )


def subject_of(inputs: tuple[str, ...], dialect: str | None) -> Subject:
    """The plan among the files, the configuration, or both as one.

    Raises:
        UsageError: several of them are plans.
    """
    import reservoir
    from reservoir.files.recognising import is_plan
    from reservoir.files.texts import STANDARD_INPUT

    # Standard input is a plan, unless a dialect is named.
    plans = [f for f in inputs if is_plan(f) and not (dialect and f == STANDARD_INPUT)]
    if len(plans) > 1:
        raise click.UsageError(
            f"{plans[0]} and {plans[1]} are both plans; let one include the other instead."
        )
    with progress("reading") as watch:
        planned = reservoir.load(plans[0], watch) if plans else None
    others = [file for file in inputs if file not in plans]
    if planned is not None and not others:
        return planned
    return reservoir.combine(reservoir.read(others, dialect), planned)


class Scalar(click.ParamType[Any]):
    """A value as a plan has it: a duration, a subnet, an address."""

    def __init__(self, name: str) -> None:
        """Take the kind of value: a key of :data:`reservoir.core.plan.scalars.READERS`."""
        self.name = name

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        """What the text means."""
        from reservoir.core.plan.scalars import READERS
        from reservoir.core.values.addresses import MalformedValueError

        try:
            return READERS[self.name](value) if isinstance(value, str) else value
        except MalformedValueError as error:
            self.fail(str(error), param, ctx)


class ClientName(click.ParamType["Client"]):
    """A client: a MAC address, or a client identifier like ``hex:01aabb``."""

    name = "client"

    def convert(
        self, value: Any, param: click.Parameter | None, ctx: click.Context | None
    ) -> Client:
        """The client that is meant."""
        from reservoir.core.values.addresses import MalformedValueError
        from reservoir.core.values.clients import parse_identifier, parse_mac

        if not isinstance(value, str):
            return value  # type: ignore[no-any-return]
        try:
            is_identifier = value.startswith(("hex:", "text:"))
            return parse_identifier(value) if is_identifier else parse_mac(value)
        except MalformedValueError as error:
            self.fail(str(error), param, ctx)


class Columns(click.ParamType[dict[str, str]]):
    """What a table calls its columns: ``mac=HW,address=IP``."""

    name = "columns"

    def __init__(self, table: str) -> None:
        """Take the module of :mod:`reservoir.files` that knows the table's columns."""
        self.table = table

    def convert(
        self, value: str | dict[str, str], param: click.Parameter | None, ctx: click.Context | None
    ) -> dict[str, str]:
        """The table's name of each column."""
        if isinstance(value, dict):
            return value
        from reservoir.core.wording import hint

        known_columns = _known_columns(self.table)
        found: dict[str, str] = {}
        for pair in value.split(","):
            name, sign, header = pair.partition("=")
            if not sign or not header:
                self.fail(f"{pair!r} is not of the form {known_columns[0]}=HEADER", param, ctx)
            if name not in known_columns:
                near, known = hint(name, known_columns), ", ".join(known_columns)
                self.fail(f"{name!r} is not a column{near}: {known}", param, ctx)
            found[name] = header
        return found


def columns_options(table: str, what: str, example: str) -> Callable[[AnyCommand], AnyCommand]:
    """Give a command ``--columns`` and ``--columns-from``; it gets both together as ``columns``.

    Args:
        table: The module of :mod:`reservoir.files` that knows the table's columns.
        what: What the table is.
        example: A column, with what a table may call it.
    """

    def give(command: AnyCommand) -> AnyCommand:
        @wraps(command)
        def with_both(
            *args: Any, columns: dict[str, str] | None, columns_from: str | None, **kwargs: Any
        ) -> object:
            kept = _kept_columns(columns_from, table) if columns_from is not None else {}
            return command(*args, columns={**kept, **(columns or {})} or None, **kwargs)

        option = click.option(
            "--columns",
            type=Columns(table),
            metavar="NAME=HEADER,...",
            help=f"What {what} calls a column: {example}.",
        )
        line = example.partition(",")[0].replace("=", ": ")
        from_file = click.option(
            "--columns-from", metavar="FILE", help=f"Take that from a file: YAML like {line}."
        )
        return option(from_file(with_both))

    return give


def _kept_columns(file: str, table: str) -> dict[str, str]:
    from reservoir.files.column_names import read_column_names

    return read_column_names(file, _known_columns(table))


def _known_columns(table: str) -> Sequence[str]:
    from importlib import import_module

    columns: Sequence[str] = import_module(f"reservoir.files.{table}").COLUMNS
    return columns


class Moment(click.ParamType[float]):
    """A time in ISO 8601 with an offset, or in seconds since 1970."""

    name = "time"

    def convert(
        self, value: str | float, param: click.Parameter | None, ctx: click.Context | None
    ) -> float:
        """Seconds since 1970."""
        from reservoir.core.values.addresses import MalformedValueError
        from reservoir.files.moments import read_moment

        try:
            return value if isinstance(value, float) else read_moment(value)
        except MalformedValueError as error:
            self.fail(str(error), param, ctx)


def notation_options(what: str, example: str) -> Callable[[AnyCommand], AnyCommand]:
    """Give a command the options that say how leases are written; it gets a ``notation``.

    Args:
        what: What the list is.
        example: A column, with what a list may call it.
    """

    def give(command: AnyCommand) -> AnyCommand:
        @wraps(command)
        def with_notation(
            *args: Any,
            columns: dict[str, str] | None,
            zone: str | None,
            dates: str | None,
            leased_to: Client | None,
            printed_by: str | None,
            **kwargs: Any,
        ) -> object:
            from reservoir.files.moments import ListNotation  # late: --help needs none of it

            notation = ListNotation(columns, zone, dates, leased_to, printed_by)
            return command(*args, notation=notation, **kwargs)

        zone = click.option(
            "--zone",
            type=Scalar("zone"),
            metavar="ZONE",
            help=f"The time zone of times without an offset in {what}: Europe/Lisbon.",
        )
        dates = click.option(
            "--dates",
            type=click.Choice(["day-first", "month-first"]),
            help="How dates like 3/4/2027 are read there.",
        )
        printed_by = click.option(
            "--printed-by",
            metavar="DIALECT",
            shell_complete=dialect_names,
            help=f"The dialect of the device that printed {what} (default: recognised).",
        )
        leased_to = click.option(
            "--leased-to",
            type=ClientName(),
            metavar="CLIENT",
            help=f"Whose leases they are, where {what} doesn't say: a MAC or client ID.",
        )
        with_all = zone(dates(leased_to(printed_by(with_notation))))
        return columns_options("lease_list", what, example)(with_all)

    return give


def lease_options(command: AnyCommand) -> AnyCommand:
    """Give a command that takes a lease list ``--columns``, ``--zone``, ``--dates``, ``--now``."""
    notation = notation_options("the lease list", "mac=HW,address=IP")
    now = click.option(
        "--now", type=Moment(), metavar="TIME", help="Take this as the present time."
    )
    return notation(now(command))


def leases_of(
    file: str,
    notation: ListNotation,
    now: float | None = None,
    also: Mapping[str, str] | None = None,
) -> LeaseTable:
    """The leases of a list, or of a table that a device printed; how they were read is said.

    Raises:
        InputError: the list can't be used.
    """
    return leases_read(file, notation, now, also).leases


def leases_read(
    file: str,
    notation: ListNotation,
    now: float | None = None,
    also: Mapping[str, str] | None = None,
) -> LeasesRead:
    """The same, with what is said of how they were read.

    Raises:
        InputError: the list can't be used.
    """
    import reservoir  # late: --help needs none of it

    with progress("reading leases") as watch:
        read = reservoir.read_leases(file, notation, now=now, also=also, watch=watch)
    for note in read.notes:
        talk(f"{file}: {note}")
    return read
