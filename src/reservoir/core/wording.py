"""Phrases that messages have in common."""

from __future__ import annotations

from collections.abc import Iterable


def listed(items: Iterable[object]) -> str:
    """Things as one lists them in a sentence: ``a``, ``a and b``, ``a, b and c``."""
    *before, last = map(str, items)
    return f"{', '.join(before)} and {last}" if before else last
