"""``reservoir check``: what is wrong in a plan."""

from __future__ import annotations

import click

from reservoir.cli.output import save_or_show, show, talk, talkative, width

FAIL_ON = ("error", "warning", "advice", "never")


@click.command("check", short_help="Find what is wrong in a plan.")
@click.argument("plan")
@click.option(
    "--format",
    "form",
    type=click.Choice(["text", "json"]),
    default="text",
    help="How findings are printed.",
)
@click.option(
    "--fail-on",
    type=click.Choice(FAIL_ON),
    default="error",
    help="The least severity that makes the exit status 1.",
)
@click.option("--select", multiple=True, metavar="RULE", help="Only this rule or family.")
@click.option("--ignore", multiple=True, metavar="RULE", help="Not this rule or family.")
@click.option("--at", multiple=True, metavar="PATH", help="Only findings at this path, * allowed.")
@click.option("-o", "--out", metavar="FILE", help="Put the findings into a file.")
@talkative
def command(
    plan: str,
    form: str,
    fail_on: str,
    select: tuple[str, ...],
    ignore: tuple[str, ...],
    at: tuple[str, ...],
    out: str | None,
) -> None:
    """Find what is wrong in PLAN: overlaps, gateway conflicts, ranges too small, and more.

    \b
    reservoir check ferry-line.yaml
    reservoir check ferry-line.yaml --at 'networks.crew*' --fail-on warning
    reservoir check ferry-line.yaml --format json --out findings.json

    Exit status: 0 nothing at or above --fail-on, 1 findings, 2 the plan can't be used.
    """
    import reservoir  # late: --help needs none of it

    _require_known((*select, *ignore))
    loaded = reservoir.load(plan)
    report = reservoir.check(loaded, select=select, ignore=ignore, at=at)
    if form == "json":
        import json

        from reservoir.files.findings_json import report_object

        text = json.dumps(report_object(report, loaded), indent=2, ensure_ascii=False)
        save_or_show(text + "\n", out)
    else:
        from reservoir.draw.findings_text import findings_text

        lines = findings_text(report, loaded.plan, loaded.places.place, width())
        if out is None:
            show(lines)
        else:
            save_or_show("".join(f"{click.unstyle(line)}\n" for line in lines), out)
        _say_next(plan, [finding.rule for finding in report.findings])
    worst = report.worst
    if (
        fail_on != "never"
        and worst is not None
        and worst.word in FAIL_ON[: FAIL_ON.index(fail_on) + 1]
    ):
        raise click.exceptions.Exit(1)


def _require_known(names: tuple[str, ...]) -> None:
    from reservoir.core.checks import rules
    from reservoir.core.schema_types import hint

    known = {name for rule in rules().values() for name in (rule.name, rule.family)}
    for name in names:
        if name not in known:
            raise click.UsageError(f"There is no rule or family {name!r}{hint(name, known)}.")


def _say_next(plan: str, rules: list[str]) -> None:
    if rules:
        talk(f"Next: reservoir explain {rules[0]}")
    else:
        talk(f"Next: reservoir write {plan}")
