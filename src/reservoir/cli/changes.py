"""Changes of plan files: shown, checked, and made in place."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import TYPE_CHECKING

import click

from reservoir.cli.output import complain, show_difference, talk

if TYPE_CHECKING:
    from collections.abc import Collection

    from reservoir import Finding, OpenedPlan

Texts = Mapping[str, str]
"""Files' texts by their names."""


def show_changes(before: Texts, after: Texts) -> None:
    """Print the differences of files."""
    from reservoir.reports.difference import unified_difference

    for name, text in after.items():
        old, new = before[name].splitlines(), text.splitlines()
        show_difference(unified_difference(old, new, (name, name), context=1))


def make_changes(before: Texts, after: Texts) -> None:
    """Give files their new texts, unless somebody changed them meanwhile."""
    from reservoir.files.changing import change_files, with_mark_of

    texts = {Path(name): text for name, text in after.items()}
    was = {Path(name): text for name, text in before.items()}
    change_files({path: with_mark_of(path, text) for path, text in texts.items()}, was)


def changed_plan(plan: str, texts: Texts) -> OpenedPlan:
    """The plan as it would be."""
    from reservoir.api.plans import opened
    from reservoir.files.plan_file import load_plan

    return opened(load_plan(plan, texts))


def require_no_new_errors(loaded: OpenedPlan, changed: OpenedPlan) -> Collection[Finding]:
    """Refuse what would add an error to the plan; otherwise what else it would add."""
    import reservoir
    from reservoir.api.plans import new_findings
    from reservoir.core.findings import Severity

    new = new_findings(reservoir.check(loaded), reservoir.check(changed))
    errors = [finding for finding in new if finding.severity is Severity.ERROR]
    for finding in errors:
        complain(f"{changed.place(finding.at)}: {finding.rule}: {finding.message}")
    if errors:
        talk("\nNothing was changed: the plan would have new errors.")
        raise click.exceptions.Exit(1)
    return new
