"""``reservoir check``: the problems in a plan, or in devices' configuration."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from reservoir.cli.completion import plan_paths, rule_names
from reservoir.cli.inputs import dialect_option, subject_of
from reservoir.cli.output import progress, save_or_show, talk, talkative, width
from reservoir.reports.formats import FORMATS, pieces

if TYPE_CHECKING:
    from reservoir.core.checks import Report
    from reservoir.core.subject import Subject

FAIL_ON = ("error", "warning", "advice", "never")


@click.command("check", short_help="Find problems in a plan or in device configuration.")
@click.argument("inputs", nargs=-1, required=True, metavar="FILE...")
@dialect_option
@click.option(
    "--format",
    "form",
    type=click.Choice(FORMATS),
    default="text",
    help="Output format.",
)
@click.option(
    "--fail-on",
    type=click.Choice(FAIL_ON),
    default="error",
    help="Lowest severity that makes the exit status 1.",
)
@click.option(
    "--select",
    multiple=True,
    metavar="RULE",
    shell_complete=rule_names,
    help="Report only this rule or family.",
)
@click.option(
    "--ignore",
    multiple=True,
    metavar="RULE",
    shell_complete=rule_names,
    help="Leave out this rule or family.",
)
@click.option(
    "--at",
    multiple=True,
    metavar="PATH",
    shell_complete=plan_paths,
    help="Report only findings at this path; * matches anything.",
)
@click.option("--prove", is_flag=True, help="Replay each finding's example with simulated clients.")
@click.option(
    "--baseline",
    metavar="FILE",
    help="Accept the findings that `check --format json` saved here; say which are gone.",
)
@click.option("-o", "--out", metavar="FILE", help="Write the findings to a file.")
@talkative
def command(
    inputs: tuple[str, ...],
    dialect: str | None,
    form: str,
    fail_on: str,
    select: tuple[str, ...],
    ignore: tuple[str, ...],
    at: tuple[str, ...],
    prove: bool,
    baseline: str | None,
    out: str | None,
) -> None:
    """Find problems in FILE: overlaps, gateway conflicts, undersized ranges, and more.

    Each FILE is a plan or a device's configuration. With one plan and some configuration, what the
    devices do now is checked together with what is planned.

    \b
    Examples:
      reservoir check ferry-line.yaml
      reservoir check ferry-line.yaml --at 'networks.crew*' --fail-on warning
      reservoir check ferry-line.yaml --format sarif --out findings.sarif
      reservoir check running/*
      reservoir check ferry-line.yaml --prove
      reservoir check ferry-line.yaml --format json --out known.json
      reservoir check ferry-line.yaml --baseline known.json
      reservoir check ferry-line.yaml running/shop-box.thimble

    With --baseline, findings of the day when the file was made don't count; one whose message or
    severity has changed is new.

    Exit status: 0 no findings at or above --fail-on, 1 findings, 2 unusable input.
    """
    import reservoir  # late: --help needs none of it
    from reservoir.reports.formats.text import baseline_lines

    subject = subject_of(inputs, dialect)
    _require_places(at, subject)
    with progress("checking") as watch:
        report = reservoir.check(subject, select=select, ignore=ignore, at=at, watch=watch)
    if baseline is not None:
        from reservoir.core.checks.baseline import held_to  # late: only with a baseline
        from reservoir.files.texts import read_text
        from reservoir.reports.formats.json import read_findings

        report = held_to(report, read_findings(read_text(baseline), baseline), baseline)
    if prove:
        report = reservoir.prove(subject, report)
    save_or_show(pieces(form, report, subject, width()), out)
    if form not in ("text", "json"):  # which say it themselves
        for line in baseline_lines(report, width()):
            talk(click.unstyle(line))
    if form == "text":
        _say_next(inputs, subject, report)
    worst = report.worst
    if (
        fail_on != "never"
        and worst is not None
        and worst.word in FAIL_ON[: FAIL_ON.index(fail_on) + 1]
    ):
        raise click.exceptions.Exit(1)


def _require_places(patterns: tuple[str, ...], subject: Subject) -> None:
    """A mistyped path must not look like a network without findings."""
    from reservoir.core.checks.acceptance import names_a_place, places
    from reservoir.core.wording import hint

    for pattern in patterns:
        if not names_a_place(pattern, subject.plan):
            known = places(subject.plan)
            inside = [path for path in known if path.endswith(f".{pattern}")]
            near = hint(pattern, known) if "*" not in pattern else ""
            near = f" (did you mean {inside[0]}?)" if inside else near
            raise click.UsageError(f"--at {pattern} matches nothing in the plan{near}.")


def _say_next(inputs: tuple[str, ...], subject: Subject, report: Report) -> None:
    """The next command to run."""
    open_findings = [finding for finding in report.findings if finding.accepted is None]
    from reservoir.files.plan_file import LoadedPlan

    is_one_plan = isinstance(subject, LoadedPlan)
    if is_one_plan and any(finding.is_mendable for finding in open_findings):
        talk(f"Next: reservoir mend {inputs[0]}")
    elif open_findings:
        gravest = max(open_findings, key=lambda finding: finding.severity)
        talk(f"Next: reservoir explain {(gravest.cause or gravest).rule}")
    elif is_one_plan and not report.is_partial and report.baseline is None:  # whose errors stay
        talk(f"Next: reservoir write {inputs[0]}")
