"""``reservoir explain``: what a rule means."""

from __future__ import annotations

import textwrap

import click

from reservoir.cli.completion import rule_names
from reservoir.cli.output import show, talkative, width


@click.command("explain", short_help="What a rule means, and how to put it right.")
@click.argument("rule", required=False, shell_complete=rule_names)
@talkative
def command(rule: str | None) -> None:
    """Say what RULE means, why it matters and what to do, with an example; or list all rules.

    \b
    reservoir explain gateway-lendable
    """
    from reservoir.core.checks import rules  # late: --help needs none of it
    from reservoir.core.schema_types import hint
    from reservoir.draw.theme import styled, wrapped

    if rule is None:
        for one in rules().values():
            show([f"{one.severity.word:<8} {one.name:<26} {one.manual['summary']}"])
        return
    found = rules().get(rule)
    if found is None:
        raise click.UsageError(f"There is no rule {rule!r}{hint(rule, rules())}.")
    manual = found.manual
    show([f"{styled(found.name, 'name')}  {found.severity.word}, family {found.family}", ""])
    for title, text in (
        ("", manual["summary"]),
        ("Why: ", manual["why"]),
        ("Remedy: ", manual["remedy"]),
    ):
        show([*wrapped(title + text.replace("``", ""), width(), ""), ""])
    for title, example in (("Reported:", found.failing), ("Right:", found.passing)):
        body = textwrap.indent(textwrap.dedent(example).strip("\n").rstrip(), "    ")
        show([title, "", body, ""])
