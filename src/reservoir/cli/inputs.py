"""The files that a command is given: a plan, devices' configuration, or both as one."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from reservoir.cli.output import progress

if TYPE_CHECKING:
    from reservoir.core.subject import Subject


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
