"""Reads the margin of a row of a sheet: what the row states, and whether it must be there."""

from __future__ import annotations

import re

from reservoir.dialects.sheet.hints import other_margin
from reservoir.dialects.sheet.mistakes import SheetMistakeError

_MARGIN = re.compile(r"(?:([a-z_]+)(?![a-z_]*=))?[ \t]*([*?])?[ \t]*(.*)")

ONLY_READ = "read"
"""Begins the margin of a row that is never written."""

DEFAULT = "default"
"""Begins the margin of a row that states what facts have that don't say otherwise."""


def left_alone(text: str, column: int) -> re.Pattern[str]:
    """Lines that are left alone: words, with ``*`` for any word, at the end for all that follows.

    Raises:
        SheetMistakeError: it begins with no word, so that it would be any line.
    """
    words = text.split()
    if not words or words[0] == "*":
        raise SheetMistakeError("a row of lines that are left alone begins with a word", column)
    rest = words[-1] == "*"
    some = [r"\S+" if word == "*" else re.escape(word) for word in words[: -1 if rest else None]]
    if words[-1].endswith("*") and not rest:
        some[-1] = re.escape(words[-1][:-1]) + ".*"
    return re.compile("[ \t]+".join(some) + ("(?:[ \t].*)?" if rest else ""))


def margin_parts(margin: str) -> tuple[str, str, list[tuple[str, str]]]:
    """A margin's kind, its sign and the values that it states.

    Raises:
        SheetMistakeError: something else is in it.
    """
    parts = _MARGIN.fullmatch(margin.strip())
    assert parts is not None  # the last group takes whatever is left
    kind, repeat, rest = parts[1] or "", parts[2] or "", parts[3].strip()
    pairs = []
    for word in rest.split():
        name, equals, value = word.partition("=")
        if not equals or not value:
            raise SheetMistakeError(
                f"{word!r} doesn't belong in a margin: KIND, then * or ?, then field=value"
                f"{other_margin(word)}",
                margin.index(word),
            )
        pairs.append((name, value))
    return kind, repeat, pairs
