"""A mistake in a sheet, and what values of its header are looked through for."""

from __future__ import annotations

import re

from reservoir.core.wording import hint


class SheetMistakeError(Exception):
    """A mistake in a sheet, with its column from 0 in the line."""

    def __init__(self, message: str, column: int = 0) -> None:
        """Keep message and column."""
        super().__init__(message)
        self.message, self.column = message, column


def only(values: list[str], what: str) -> str:
    """The one value that a word has.

    Raises:
        SheetMistakeError: it has none, or several.
    """
    if len(values) != 1 or not values[0]:
        raise SheetMistakeError(f"expected {what}, found {' '.join(values) or 'nothing'}")
    return values[0]


def pairs_of(values: list[str], word: str, known: tuple[str, ...]) -> dict[str, str]:
    """Values that come by twos, each after its name.

    Raises:
        SheetMistakeError: a name is not known, or has no value.
    """
    if len(values) % 2:
        raise SheetMistakeError(f"{word} takes pairs: {', '.join(known)}, each with a value")
    pairs = dict(zip(values[::2], values[1::2], strict=True))
    for name in pairs:
        if name not in known:
            raise SheetMistakeError(f"{name!r} doesn't belong to {word}{hint(name, known)}")
    return pairs


def number(text: str) -> int:
    """A number of up to six digits.

    Raises:
        SheetMistakeError: it is none.
    """
    if not re.fullmatch("[0-9]{1,6}", text):
        raise SheetMistakeError(f"{text!r} is not a number")
    return int(text)
