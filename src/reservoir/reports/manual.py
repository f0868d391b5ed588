"""The manual of all rules as Markdown."""

from __future__ import annotations

import textwrap
from collections.abc import Iterator

from reservoir.core.checks import Rule, rules
from reservoir.core.checks.rule import families

TITLES = {
    "ranges": "Ranges and subnets",
    "gateways": "Gateways and devices' own addresses",
    "statics": "Static hosts and exclusions",
    "bindings": "Bindings",
    "paths": "Paths",
    "options": "Options and names",
    "capacity": "Capacity",
    "limits": "Device limits",
    "reading": "What was read",
}


def manual_text() -> str:
    """Every rule, by family: what it means, why it matters, what to do, examples."""
    return "\n".join(_lines()) + "\n"


def _lines() -> Iterator[str]:
    yield "# Checks"
    yield ""
    yield "Made by `reservoir explain --all --format markdown`; a test keeps it current."
    yield ""
    yield "An **error** means that some client will be refused, misled or given someone else's"
    yield "address; a **warning** that it is likely to hurt; **advice** is worth knowing. A plan"
    yield "may grade a rule otherwise (`checks: {severity: {RULE: advice}}`) or accept a finding"
    yield "(`accept: [{rule: RULE, at: networks.NAME, because: …, until: 2027-03-31}]`)."
    for family in families():
        own = [rule for rule in rules().values() if rule.family == family]
        yield ""
        yield f"## {TITLES.get(family, family.capitalize())}"
        for rule in own:
            yield ""
            yield from rule_lines(rule)


def rule_lines(rule: Rule) -> Iterator[str]:
    """The manual of one rule as Markdown."""
    manual = {key: text.replace("``", "`") for key, text in rule.manual.items()}
    yield f"### {rule.name}"
    yield ""
    yield from textwrap.wrap(f"*{rule.severity.word}*: {manual['summary']}", 99)
    yield ""
    yield from textwrap.wrap(manual["why"], 99)
    yield ""
    yield from textwrap.wrap(f"**Remedy:** {manual['remedy']}", 99)
    for title, example in (("Reported:", rule.failing), ("Correct:", rule.passing)):
        yield ""
        yield title
        yield ""
        yield "```" + ("text" if rule.dialect else "yaml")
        yield example
        yield "```"
