"""``reservoir adopt``: leases become bindings of a plan."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from reservoir.cli.changes import (
    changed_plan,
    make_changes,
    require_no_new_errors,
    show_changes,
)
from reservoir.cli.inputs import lease_options, leases_of, networks_option
from reservoir.cli.output import (
    finish_what_was_cut_off,
    format_option,
    save_or_show,
    talk,
    talkative,
)

if TYPE_CHECKING:
    from collections.abc import Mapping

    from reservoir.core.leases.adopting import Adoption
    from reservoir.core.leases.table import LeaseTable
    from reservoir.core.values.address_set import AddressSet
    from reservoir.files.moments import ListNotation


@click.command("adopt", short_help="Make leases bindings of a plan.")
@click.argument("file")
@click.option("--into", "plan", required=True, metavar="PLAN", help="The plan.")
@click.option(
    "--client",
    "clients",
    multiple=True,
    metavar="PATTERN",
    help="Only clients whose MAC address, client identifier or name is like this: 'kiosk-*'.",
)
@networks_option("Only leases of this network.")
@click.option(
    "--address",
    type=(click.Choice(["from"]), str),
    metavar="from RANGE",
    help="Give each the next free address of a range, instead of the one that it has.",
)
@lease_options
@click.option("--in-place", is_flag=True, help="Change the files; comments and layout are kept.")
@format_option("text", "json")
@talkative
def command(
    file: str,
    plan: str,
    clients: tuple[str, ...],
    networks: tuple[str, ...],
    address: tuple[str, str] | None,
    notation: ListNotation,
    now: float | None,
    in_place: bool,
    form: str,
) -> None:
    """Make the leases in FILE bindings of PLAN, so that each client keeps its address.

    Leases that have expired, randomised MAC addresses, and addresses that are excluded or somebody
    else's are left out, each with the reason. Shows the difference; changes files only with
    --in-place. A plan with a table of bindings gets them there.

    \b
    Examples:
      reservoir adopt leases.csv --into ferry-line.yaml --network crew
      reservoir adopt leases.csv --into ferry-line.yaml --client 'kiosk-*' --in-place
      reservoir adopt leases.csv --into ferry-line.yaml --client 00:00:5e:00:53:77
        --address from 10.84.30.200-10.84.30.219

    Exit status: 0 shown or done, 1 the plan would have new errors, 2 unusable input.
    """
    import reservoir  # late: --help needs none of it
    from reservoir.core.leases.adopting import Wanted
    from reservoir.files.adopting import NewBinding, with_bindings
    from reservoir.files.texts import STANDARD_INPUT

    if plan == STANDARD_INPUT:
        raise click.UsageError("adopt changes files, so the plan can't be standard input.")
    if in_place:
        finish_what_was_cut_off(Path(plan).parent)
    loaded = reservoir.load(plan)
    leases = leases_of(file, notation, now)
    wanted = Wanted(clients, networks, _addresses(address))
    adoption = reservoir.adopt(loaded, leases, wanted, now=now)
    new = [
        NewBinding(b.network, b.name, b.client, b.address, b.hostname) for b in adoption.bindings
    ]
    before, after = with_bindings(loaded, new)
    if after:
        require_no_new_errors(loaded, changed_plan(plan, after))
    if form == "json":
        from reservoir.reports.adoption import as_json

        save_or_show(as_json(adoption, leases, file, (file, *loaded.files)), None)
    else:
        _show(adoption, leases, file, before, after)
    if in_place:
        make_changes(before, after)
    _say_done(adoption, plan, in_place)


def _addresses(option: tuple[str, str] | None) -> AddressSet | None:
    from reservoir.core.values.address_set import AddressSet
    from reservoir.core.values.addresses import MalformedValueError, parse_span

    if option is None:
        return None
    try:
        return AddressSet([parse_span(option[1])])
    except MalformedValueError as error:
        raise click.BadParameter(str(error), param_hint="--address") from None


def _show(
    adoption: Adoption,
    leases: LeaseTable,
    file: str,
    before: Mapping[str, str],
    after: Mapping[str, str],
) -> None:
    from reservoir.reports.adoption import notes

    show_changes(before, after)
    for line in notes(adoption, leases, file):
        talk(line)


def _say_done(adoption: Adoption, plan: str, in_place: bool) -> None:
    from reservoir.core.wording import counted

    count = len(adoption.bindings)
    if not adoption.chosen:
        talk("No lease matches --client or --network.")
    elif not count:
        talk("Nothing to change: no lease can become a binding.")
    elif in_place:
        talk(f"{counted(count, 'binding')} added.")
        talk(f"Next: reservoir check {plan}")
    else:
        talk(f"{counted(count, 'binding')} can be added; --in-place does it.")
