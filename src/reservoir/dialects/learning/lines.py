"""The lines of a sample, and which of them are remarks."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass
from functools import cached_property
from itertools import pairwise

from reservoir.dialects.learning.meanings import Meanings, words_of

TICK = "[ ] "
"""The mark before a line that somebody ticks."""

RULE = re.compile(r"[-+=|~^: \t]{3,}")
"""A line that only underlines another, or stands between a table's names and its rows."""

_REMARKS = ("#", "!", ";", "//", "--", "%", "~", "'", "*")
"""Signs that a remark may begin with."""


def quoted(text: str) -> str:
    """A value as a header has it."""
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


@dataclass(frozen=True)
class Line:
    """A line of a sample that says something."""

    number: int
    indent: int
    text: str
    is_value: bool
    """Whether something that the plan has is in it."""

    @property
    def first(self) -> str:
        """Its first word."""
        return words_of(self.text)[0]


@dataclass
class Lines:
    """The lines of a sample."""

    text: str
    meanings: Meanings

    @cached_property
    def every(self) -> list[Line]:
        """All that say something."""
        return list(self._lines())

    def _lines(self) -> Iterator[Line]:
        for number, raw in enumerate(self.text.split("\n"), start=1):
            line = raw.expandtabs(8).rstrip(" \r")
            said = line.lstrip(" ").removeprefix(TICK).lstrip(" ")
            if said:
                yield Line(number, len(line) - len(said), said, self.has_value(said))

    def has_value(self, text: str) -> bool:
        """Whether something that the plan has is in a text."""
        return any(m.is_sure for word in self.meanings.words(text) for m in word.meanings)

    @cached_property
    def remarks(self) -> list[str]:
        """The signs with which remarks begin on a line of their own."""
        return [sign for sign in _REMARKS if self._begins_remarks(sign)]

    def _begins_remarks(self, sign: str) -> bool:
        its = [line for line in self.every if line.text.startswith(sign)]
        behind = [line.text[len(sign) :].strip(" ") for line in its]
        is_text = all(re.match(r"$|[\w(\"]", rest) for rest in behind)
        is_closed = any(rest.endswith(sign[-1]) for rest in behind if rest)
        return bool(its) and is_text and not is_closed and not any(line.is_value for line in its)

    @cached_property
    def without_remarks(self) -> list[Line]:
        """Those that are no remarks."""
        return [line for line in self.every if not line.text.startswith(tuple(self.remarks))]

    @cached_property
    def plain(self) -> list[Line]:
        """Those that are neither remarks nor only underline others."""
        return [line for line in self.without_remarks if not RULE.fullmatch(line.text)]

    @cached_property
    def indent(self) -> int:
        """By how many blanks what is inside stands deeper; 0 if nothing does."""
        steps = [b.indent - a.indent for a, b in pairwise(self.plain) if b.indent > a.indent]
        return Counter(steps).most_common(1)[0][0] if steps else 0

    @cached_property
    def one_sided(self) -> list[str]:
        """Signs that several lines begin with, which may be headings as well as remarks."""
        firsts = Counter(line.first for line in self.every if not line.is_value)
        signs = [sign for sign, count in firsts.items() if count > 1]
        return [sign for sign in signs if re.fullmatch(r"[^\w\s*{}|-]+", sign)]
