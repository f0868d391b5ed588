"""``reservoir explain``: what a rule means."""

from __future__ import annotations

import textwrap
from collections.abc import Iterator
from typing import TYPE_CHECKING

import click

from reservoir.cli.completion import rule_names
from reservoir.cli.output import save_or_show, talkative, width

if TYPE_CHECKING:
    from reservoir.core.checks import Rule


@click.command("explain", short_help="Explain a rule and how to fix its findings.")
@click.argument("rule", required=False, shell_complete=rule_names)
@click.option("--all", "every", is_flag=True, help="Explain every rule.")
@click.option(
    "--format",
    "form",
    type=click.Choice(["text", "markdown"]),
    default="text",
    help="Markdown goes with --all.",
)
@click.option("-o", "--out", metavar="FILE", help="Write the text to a file.")
@talkative
def command(rule: str | None, every: bool, form: str, out: str | None) -> None:
    """Explain what RULE means, why it matters and what to do, with examples; or list all rules.

    \b
    Examples:
      reservoir explain gateway-in-pool
      reservoir explain --all --format markdown --out checks.md
    """
    from reservoir.core.checks import rules  # late: --help needs none of it
    from reservoir.core.wording import hint

    if rule is not None and every:
        raise click.UsageError("Give one rule or --all, not both.")
    if form == "markdown":
        if not every:
            raise click.UsageError("Markdown goes with --all.")
        from reservoir.reports.manual import manual_text

        save_or_show(manual_text(), out)
        return
    if rule is not None and rule not in rules():
        raise click.UsageError(f"There is no rule {rule!r}{hint(rule, rules())}.")
    named = [rules()[rule]] if rule is not None else list(rules().values())
    whole = rule is not None or every
    lines = [line for one in named for line in (_manual(one) if whole else _in_short(one))]
    save_or_show((f"{line}\n" for line in lines), out)


def _in_short(rule: Rule) -> list[str]:
    return [f"{rule.severity.word:<8} {rule.name:<28} {rule.manual['summary']}"]


def _manual(rule: Rule) -> Iterator[str]:
    """The lines of one rule's manual."""
    from reservoir.reports.theme import styled, wrapped

    manual = rule.manual
    yield f"{styled(rule.name, 'name')}  {rule.severity.word}, family {rule.family}"
    yield ""
    for title, text in (
        ("", manual["summary"]),
        ("Why: ", manual["why"]),
        ("Remedy: ", manual["remedy"]),
    ):
        yield from wrapped(title + text.replace("``", ""), width(), "")
        yield ""
    for title, example in (("Reported:", rule.failing), ("Correct:", rule.passing)):
        yield title
        yield ""
        yield textwrap.indent(example, "    ")
        yield ""
