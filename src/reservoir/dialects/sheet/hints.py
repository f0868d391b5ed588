"""What the author of a sheet probably meant: words that people try first, and what to write."""

from __future__ import annotations

import re
from collections import defaultdict
from collections.abc import Iterable, Mapping, Sequence

from reservoir.core.problems import Problem
from reservoir.core.wording import hint, listed_briefly
from reservoir.dialects.facts.kinds import KINDS

FIELDS: Mapping[str, str] = {
    "ip": "address",
    "ipv4": "address",
    "network": "subnet",
    "net": "subnet",
    "router": "gateway",
    "gw": "gateway",
    "dns_servers": "dns",
    "dns_server": "dns",
    "nameserver": "dns",
    "domain_name": "domain",
    "lease_time": "lease",
    "time": "lease",
    "start": "first",
    "low": "first",
    "from": "first",
    "end": "last",
    "high": "last",
    "to": "last",
    "hostname": "name",
    "host": "name",
    "mac_address": "mac",
    "id": "client_id",
    "tag": "vlan",
    "description": "note",
    "comment": "note",
    "number": "code",
    "relay": "relay_to",
    "helper": "relay_to",
}
"""Names of fields that people try first, and what they are called here."""

MARGINS: Mapping[str, str] = {
    "optional": "a row that may be missing has ? in its margin",
    "maybe": "a row that may be missing has ? in its margin",
    "many": "a fact that there may be several of has * behind its kind",
    "list": "a row for each item of a list has * in its margin",
    "ignore": "a line that is left alone has left in its margin",
    "skip": "a line that is left alone has left in its margin",
    "vlan": "a sub-interface is an interface with {parent} and {vlan}",
    "subnet": "a pool has the subnet: pool *",
    "reservation": "a fixed address is a binding: binding *",
    "host": "a fixed address is a binding: binding *",
    "global": "rows of the device stand at the left edge, without a kind",
}
"""Words that people put into a margin, and what to put there."""

HEADERS: Mapping[str, str] = {
    "nest": 'block indent 2, block opens "*:" closes "end", path " :: ", assign "=", files "50-"',
    "opens": 'block opens "begin *" closes "end"',
    "indent": "block indent 2",
    "separator": 'list ", ", or path " :: ", or assign "="',
    "dialect": "sheet NAME",
    "name": "sheet NAME",
    "device": "sheet NAME",
    "description": 'about "a sentence"',
    "lease": 'duration "{m} min"',
    "time": 'duration "{m} min"',
}
"""Words that people begin a line of a header with, and how it is said."""


def other_field(kind: str, name: str) -> str:
    """The end of a message about a field that a kind doesn't have."""
    fields = KINDS[kind].fields
    if name in ("mask", "netmask", "bits"):
        whole = next((field for field in ("subnet", "address", "to") if field in fields), "")
        part = "bits" if name == "bits" else "mask"
        return f"; it is a part of another: {{{whole}:ip}} and {{{whole}:{part}}}" if whole else ""
    if FIELDS.get(name) in fields:
        return f" (did you mean {{{FIELDS[name]}}}?)"
    return hint(name, KINDS[kind].fields) or f"; it has {', '.join(KINDS[kind].fields)}"


def other_margin(word: str) -> str:
    """The end of a message about a word that is no kind of fact."""
    if word in KINDS:
        return f"; the kind comes first: {word} *"
    meant = MARGINS.get(word.lower())
    return f": {meant}" if meant is not None else hint(word.lower(), KINDS)


def other_part(kind: str, part: str) -> str:
    """A message about a row of a kind that stands in another part of the sheet."""
    if not part:
        return f"rows of kind {kind} stand in a part of their own: part {KINDS[kind].part}"
    own = next(name for name, its in KINDS.items() if its.part == part)
    return f"in the part {part} rows are of kind {own}; those of kind {kind} stand above it"


def no_value(kind: str, line: str, *, maybe: bool) -> str:
    """A message about a row that is the same in all texts and seems to be meant otherwise.

    Args:
        kind: The kind of fact that it is about.
        line: How it looks.
        maybe: It may be missing.
    """
    fields = KINDS[kind].fields
    last = line.rsplit(maxsplit=1)[-1]
    meant = FIELDS.get(last, last)
    has_address = re.search(r"[0-9]+\.[0-9]+\.[0-9]+", line)
    if maybe:
        return (
            "this row may be missing and states nothing: name the value that it stands for, like "
            "? enabled=no"
        )
    if not has_address and (meant not in fields or len(line.split()) < 2):
        return ""
    example = f"{{{meant}}}" if meant in fields else "{address}"
    return (
        f"this row states nothing: a value stands in braces, like {example}; a line that is left "
        "alone has left in its margin"
    )


def badly_marked(kind: str, literal: str, line: str) -> str:
    """A message about something in a line that looks like a slot and is none; empty if nothing.

    Args:
        kind: The kind of fact that the line is about.
        literal: A piece of it.
        line: All of it; an element's name that has a slot inside is no slot.
    """
    if re.search(r"\{[a-z_.@:]*$|\{[a-z_.@:]+(?=[ \t])", literal):
        return "a slot has no } at its end; a brace of the configuration itself is doubled: {{"
    for name in re.findall(r"<([a-z_]+)>|\$\{?([a-z_]+)|%([a-z_]+)%", literal):
        word = next(filter(None, name))
        if word in KINDS[kind].fields and f"<{word}>{{" not in line:
            return f"a value stands in braces: {{{word}}}"
    return ""


def no_bar(line: str) -> str:
    """A message about a line of the body that is no row."""
    if line.startswith(("#", "//", "--", ";", "!")):
        return "a remark has # in the first column"
    return "a row has a '|' between what it states and how it looks"


def once_each(problems: Iterable[Problem]) -> list[Problem]:
    """Problems of which each cause is one: the same message in several lines names these."""
    lines: dict[str, list[Problem]] = defaultdict(list)
    for problem in problems:
        lines[problem.message].append(problem)
    return [_together(alike) for alike in lines.values()]


def _together(alike: Sequence[Problem]) -> Problem:
    first, *others = alike
    if not others:
        return first
    lines = listed_briefly((problem.place.line for problem in others), 3)
    where = "line" if len(others) == 1 else "lines"
    return Problem(first.place, f"{first.message} (so in {where} {lines})")
