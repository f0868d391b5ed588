"""What an editor shows of the word under the cursor, as Markdown."""

from __future__ import annotations

from collections.abc import Iterator

from reservoir.core.checks import rules
from reservoir.core.findings import Finding
from reservoir.core.plan.references import kind_named_at
from reservoir.core.values.addresses import MalformedValueError
from reservoir.core.whereabouts import Answer
from reservoir.core.wording import counted
from reservoir.files.cursor import Written
from reservoir.files.plan_schema import expected_at
from reservoir.lsp.names import asked_of, is_number
from reservoir.lsp.state import State
from reservoir.reports.manual import rule_lines
from reservoir.reports.markup import code, plain

MOST = 8
"""Things, servers or findings that are listed at most; how many more there are is said."""

_NAMED = ("devices", "networks", "classes")
"""Keys of a plan below which each key is a name."""

_NAMED_THERE = ("interfaces", "zones", "by_class")
"""Keys of a device or a network below which each key is a name."""


def hover_of_plan(written: Written, state: State | None) -> str:
    """What is known of a key or a value of a plan; empty if nothing is.

    Args:
        written: The key or the value.
        state: The plan as it last could be used.
    """
    path = written.path
    kind = kind_named_at(path)
    if kind == "rule" and written.text in rules():
        return "\n".join(rule_lines(rules()[written.text]))
    told = ""
    if kind == "interface" or (path[2:3] == ("interfaces",) and _is_name(written)):
        told = hover_of_word(f"{path[1]} {written.text}", state)  # others may be called so too
    elif _is_name(written) or (not written.is_key and _may_be_known(written, kind)):
        told = hover_of_word(written.text, state)
    if told or _is_name(written):
        return told
    return "\n\n".join(map(plain, expected_at(path).what.split("\n\n")))


def _may_be_known(written: Written, kind: str | None) -> bool:
    """Whether a value is a name, a tag or a number of which the plan may say more."""
    return written.path[-1:] == ("vlan",) or kind is not None or is_number(written.text)


def hover_of_word(word: str, state: State | None) -> str:
    """What is known of an address, a range, a client, a tag or a name; empty if nothing is."""
    if state is None or state.index is None or not word:
        return ""
    try:
        answer = state.index.find(asked_of(word))
    except MalformedValueError:
        return ""
    if not answer.is_known and answer.free is None and answer.nearest is None:
        return ""
    return "\n".join(_lines(answer))


def hover_of_findings(findings: list[Finding]) -> str:
    """The manuals of the rules that some findings are of."""
    named = dict.fromkeys(finding.rule for finding in findings)
    return "\n\n".join("\n".join(rule_lines(rules()[name])) for name in named if name in rules())


def _is_name(written: Written) -> bool:
    """Whether a key is the name of a network, a device, an interface, a zone or a class."""
    path = written.path
    if not written.is_key or path[:1] not in [(key,) for key in _NAMED]:
        return False
    return len(path) == 2 or (len(path) == 4 and path[2] in _NAMED_THERE)


def _lines(answer: Answer) -> Iterator[str]:
    """An answer as a short list."""
    size = answer.span.size if answer.span is not None else 1
    count = f", {counted(size, 'address')}" if size > 1 else ""
    yield f"**{plain(answer.asked)}**{count}"
    yield ""
    things = [f"{plain(thing.what)}" for thing in answer.things]
    yield from _listed(list(dict.fromkeys(things)), "more")
    several = len({served.network for served in answer.servers}) > 1
    served = [
        plain(f"{f'{one.network} ' if several else ''}served by {one.server}, {one.way}")
        for one in answer.servers
    ]
    yield from _listed(served, "more servers")
    if answer.nearest is not None:
        yield f"- in no network; the nearest is {plain(answer.nearest)}"
    if answer.free is not None:
        yield f"- {answer.free} is free, {counted(answer.free.size, 'address')}"
    findings = [
        f"{finding.severity.word} {code(finding.rule)}: {plain(finding.message)}"
        for finding in answer.findings
        if finding.accepted is None
    ]
    yield from _listed(findings, "more findings")


def _listed(items: list[str], more: str) -> Iterator[str]:
    """A list's items, the first of them; how many more there are."""
    yield from (f"- {item}" for item in items[:MOST])
    if len(items) > MOST:
        yield f"- and {len(items) - MOST:,} {more}"
