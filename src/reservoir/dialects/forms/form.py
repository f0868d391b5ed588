"""What a lexical form is: how values of one type are written in a dialect, and read from it.

A form has a pattern that finds where a value begins and ends in a line, loosely, so that a wrong
value is still found and can be named; reading it is strict. Writing never lets a value out of
its place: what a form can't write safely, it refuses.
"""

from __future__ import annotations

import re
from abc import ABC, abstractmethod
from collections.abc import Sequence
from typing import Any

TOKEN = r"[^ \t\n]+?"  # noqa: S105 - a piece of syntax
"""Matches what has no blank in it, as little as will do."""

WORTH_COLUMNS = 128
"""Values of one form from which on they are read and written by the column."""


def blanks_free(literal: str) -> str:
    """A pattern for a literal in which each run of blanks matches any run of blanks."""
    return "[ \\t]+".join(re.escape(word) for word in re.split("[ \\t]+", literal))


class Form(ABC):
    """How values of one type are written and read."""

    pattern: str = TOKEN
    """A regular expression without groups that matches the value in a line."""
    quoted: str = ""
    """One that matches only the value's quoted form, if it has one."""
    characters: str = ""
    """The characters that a value may have, if it has only some; never a blank."""

    @property
    def signs(self) -> set[str]:
        """Characters with a meaning of their own in the value: quotes, separators, units."""
        return set(self.characters)

    def read_all(self, texts: Sequence[str | None]) -> list[Any]:
        """The values of many texts; None where a text is none.

        Raises:
            MalformedValueError: one of them can't be read.
        """
        if None not in texts:
            return self.read_column(texts)  # type: ignore[arg-type]
        values = self.read_column([text for text in texts if text is not None])
        following = iter(values)
        return [None if text is None else next(following) for text in texts]

    def read_column(self, texts: Sequence[str]) -> list[Any]:
        """The values of some texts.

        Raises:
            MalformedValueError: one of them can't be read.
        """
        if len(texts) < WORTH_COLUMNS:
            return [self.read(text) for text in texts]
        return self.read_many(texts)

    def read_many(self, texts: Sequence[str]) -> list[Any]:
        """The same, where there are many; each text is read once."""
        values = {text: self.read(text) for text in set(texts)}
        return [values[text] for text in texts]

    @abstractmethod
    def read(self, text: str) -> Any:
        """The value of a text. Raises MalformedValueError with what is wrong."""

    @abstractmethod
    def write(self, value: Any) -> str:
        """The text of a value. Raises MalformedValueError if it can't be written safely."""

    def write_column(self, values: Sequence[Any]) -> list[str]:
        """The texts of some values.

        Raises:
            MalformedValueError: one of them can't be written.
        """
        if len(values) < WORTH_COLUMNS:
            return [self.write(value) for value in values]
        return self.write_many(values)

    def write_many(self, values: Sequence[Any]) -> list[str]:
        """The same, where there are many; each value is written once."""
        texts = {value: self.write(value) for value in set(values)}
        return [texts[value] for value in values]
