"""Markdown in which a text from a plan stays a text."""

from __future__ import annotations

import re

_SIGNS = re.compile(r"([\\`*_\[\]<>|~&])")
_RUNS = re.compile("`+")


def plain(text: str) -> str:
    """A text whose signs mean nothing to Markdown, in one line."""
    return _SIGNS.sub(r"\\\1", " ".join(text.split()))


def code(text: str) -> str:
    """A text as code, whatever backticks are in it; a bar doesn't end a table's cell."""
    text = " ".join(text.split()).replace("|", "\\|")
    fence = "`" * (max(map(len, _RUNS.findall(text)), default=0) + 1)
    pad = " " if "`" in (text[:1], text[-1:]) else ""
    return f"{fence}{pad}{text}{pad}{fence}"
