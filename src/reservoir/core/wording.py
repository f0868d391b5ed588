"""Phrases that messages have in common."""

from __future__ import annotations

from collections.abc import Iterable


def listed(items: Iterable[object]) -> str:
    """Things as one lists them in a sentence: ``a``, ``a and b``, ``a, b and c``."""
    *before, last = map(str, items)
    return f"{', '.join(before)} and {last}" if before else last


_PLURALS = {"piece of advice": "pieces of advice", "address": "addresses"}


def counted(number: int, noun: str) -> str:
    """So many of something: ``1 address``, ``1,005 addresses``."""
    return f"1 {noun}" if number == 1 else f"{number:,} {_PLURALS.get(noun, f'{noun}s')}"


def be(number: int) -> str:
    """The verb for so many: ``is`` or ``are``."""
    return "is" if number == 1 else "are"
