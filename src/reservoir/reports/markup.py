"""Markdown in which a text from a plan stays a text."""

from __future__ import annotations

import re

_SIGNS = re.compile(r"([\\`*_\[\]<>|~&])")
_RUNS = re.compile("`+")


_LIVE = re.compile(r"://|@|www\.|[#!][0-9A-Za-z]", re.IGNORECASE)
"""What a place that shows Markdown makes a link of, or a message to somebody, signs or no signs."""

_WORD = re.compile(r"""(['"(]*)(.+?)(['"),.;:]*)""")


def plain(text: str) -> str:
    """A text whose signs mean nothing to Markdown, in one line; links and mentions as code."""
    return " ".join(map(_plain_word, text.split()))


def _plain_word(word: str) -> str:
    found = _WORD.fullmatch(word) if _LIVE.search(word) else None
    if found is None:
        return _SIGNS.sub(r"\\\1", word)
    return _SIGNS.sub(r"\\\1", found[1]) + code(found[2]) + _SIGNS.sub(r"\\\1", found[3])


def code(text: str) -> str:
    """A text as code, whatever backticks are in it; a bar doesn't end a table's cell."""
    text = " ".join(text.split()).replace("|", "\\|")
    fence = "`" * (max(map(len, _RUNS.findall(text)), default=0) + 1)
    pad = " " if "`" in (text[:1], text[-1:]) else ""
    return f"{fence}{pad}{text}{pad}{fence}"
