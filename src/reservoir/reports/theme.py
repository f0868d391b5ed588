"""Styles by meaning, not by colour; one table for every terminal view."""

from __future__ import annotations

import datetime
import textwrap
from collections.abc import Mapping
from typing import Any

import click

STYLES: Mapping[str, Mapping[str, Any]] = {
    "error": {"fg": "red", "bold": True},
    "warning": {"fg": "yellow", "bold": True},
    "advice": {"fg": "magenta", "bold": True},
    "accepted": {"fg": "green"},
    "good": {"fg": "green"},
    "heading": {"bold": True, "underline": True},
    "name": {"bold": True},
    "place": {"fg": "blue"},
    "aside": {"dim": True},
    "removed": {"fg": "red"},
    "added": {"fg": "green"},
}


def styled(text: str, meaning: str) -> str:
    """The text in the style of its meaning; the output decides whether colours are shown."""
    return click.style(text, **STYLES[meaning])


def wrapped(text: str, width: int, indent: str, first: str | None = None) -> list[str]:
    """The text in lines of at most ``width``; ``first`` stands before the first line."""
    return textwrap.wrap(
        text,
        width,
        initial_indent=indent if first is None else first,
        subsequent_indent=indent,
        break_long_words=False,
        break_on_hyphens=False,
    )


def shown_moment(at: float) -> str:
    """A time for people; ``at`` is in seconds since 1970."""
    return f"{datetime.datetime.fromtimestamp(at, datetime.UTC):%Y-%m-%d %H:%M} UTC"


def moment(at: float) -> str:
    """A time in ISO 8601; ``at`` is in seconds since 1970."""
    return datetime.datetime.fromtimestamp(at, datetime.UTC).isoformat(timespec="seconds")
