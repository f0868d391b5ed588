"""``reservoir mend``: applies the checks' suggestions."""

from __future__ import annotations

from pathlib import Path

import click

from reservoir.cli.changes import make_changes, show_changes
from reservoir.cli.output import finish_what_was_cut_off, talk, talkative


@click.command("mend", short_help="Apply the fixes that are unambiguous.")
@click.argument("plan")
@click.option("--in-place", is_flag=True, help="Change the files; comments and layout are kept.")
@talkative
def command(plan: str, in_place: bool) -> None:
    """Apply the fixes that `check` suggests for PLAN, if there is only one and it adds no finding.

    Shows the difference; changes files only with --in-place.

    \b
    Examples:
      reservoir mend ferry-line.yaml
      reservoir mend ferry-line.yaml --in-place
    """
    import reservoir  # late: --help needs none of it
    from reservoir.core.wording import counted
    from reservoir.files.texts import STANDARD_INPUT

    if plan == STANDARD_INPUT:
        raise click.UsageError("mend changes files, so it can't read standard input.")
    if in_place:
        finish_what_was_cut_off(Path(plan).parent)
    mended = reservoir.mend(plan)
    show_changes(mended.before, mended.after)
    if in_place:
        make_changes(mended.before, mended.after)
    count = len(mended.applied)
    if not count:
        talk("Nothing to mend: of no finding is it certain what was meant.")
        return
    done = "fixed" if in_place else "can be fixed; --in-place does it"
    talk(f"{counted(count, 'finding')} {done}.")
    talk(f"Next: reservoir check {plan}" if in_place else f"Next: reservoir mend {plan} --in-place")
