"""Styles by meaning, not by colour; one table for every terminal view."""

from __future__ import annotations

import datetime
import textwrap
from collections.abc import Collection, Mapping, Sequence
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


def clock(seconds: float) -> str:
    """A time of day, ``HH:MM``; ``seconds`` are counted from midnight."""
    minutes = round(seconds / 60) % (24 * 60)
    return f"{minutes // 60:02}:{minutes % 60:02}"


def columns(
    rows: Sequence[Sequence[str]], left: Collection[int] = (0,), gap: str = "  "
) -> list[str]:
    """Rows of cells as lines: each column as wide as its widest cell.

    Args:
        rows: As many cells in each.
        left: The columns that begin at their left; the others end at their right.
        gap: What stands between two columns.
    """
    widths = [max(map(len, column)) for column in zip(*rows, strict=True)]
    return [
        gap.join(
            cell.ljust(width) if place in left else cell.rjust(width)
            for place, (cell, width) in enumerate(zip(row, widths, strict=True))
        ).rstrip()
        for row in rows
    ]
