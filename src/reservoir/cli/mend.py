"""``reservoir mend``: applies the checks' suggestions."""

from __future__ import annotations

from pathlib import Path
from shlex import quote

import click

from reservoir.cli.changes import make_changes, show_changes
from reservoir.cli.completion import plan_paths, rule_names
from reservoir.cli.output import finish_what_was_cut_off, talk, talkative


@click.command("mend", short_help="Apply the fixes that are unambiguous.")
@click.argument("plan")
@click.option(
    "--fix",
    multiple=True,
    metavar="RULE",
    shell_complete=rule_names,
    help="Take the one fix that `check` prints for this rule, though more could be meant.",
)
@click.option(
    "--at",
    multiple=True,
    metavar="PATH",
    shell_complete=plan_paths,
    help="Fix only findings at this path; * matches anything.",
)
@click.option("--in-place", is_flag=True, help="Change the files; comments and layout are kept.")
@talkative
def command(plan: str, fix: tuple[str, ...], at: tuple[str, ...], in_place: bool) -> None:
    """Apply the fixes that `check` suggests for PLAN, if there is only one and it adds no finding.

    Shows the difference; changes files only with --in-place.

    \b
    Examples:
      reservoir mend ferry-line.yaml
      reservoir mend ferry-line.yaml --in-place
      reservoir mend ferry-line.yaml --fix gateway-in-pool --at networks.crew
    """
    import reservoir  # late: --help needs none of it
    from reservoir.core.wording import counted, listed
    from reservoir.files.texts import STANDARD_INPUT

    if plan == STANDARD_INPUT:
        raise click.UsageError("mend changes files, so it can't read standard input.")
    if in_place:
        finish_what_was_cut_off(Path(plan).parent)
    mended = reservoir.mend(plan, fix, at)
    show_changes(mended.before, mended.after)
    if in_place:
        make_changes(mended.before, mended.after)
    count = len(mended.applied)
    if not count:
        where = f" at {listed(at)}" if at else ""
        if fix:
            talk(f"Nothing fixed: {listed(fix)} has no finding{where} with one fix that holds.")
        else:
            talk(f"Nothing to mend: no finding{where} says for certain what was meant.")
        return
    done = "fixed" if in_place else "can be fixed; --in-place does it"
    talk(f"{counted(count, 'finding')} {done}.")
    chosen = "".join(f" --fix {rule}" for rule in fix) + "".join(
        f" --at {quote(path)}" for path in at
    )
    again = f"reservoir mend {plan}{chosen} --in-place"
    talk(f"Next: reservoir check {plan}" if in_place else f"Next: {again}")
