"""Guesses how a sample is laid out: the words of a sheet's header that say it."""

from __future__ import annotations

import json
from collections.abc import Callable, Mapping
from dataclasses import dataclass

from reservoir.dialects.learning import nesting, signs
from reservoir.dialects.learning.lines import Lines, quoted
from reservoir.dialects.learning.meanings import Meanings
from reservoir.dialects.notations.nodes import Notation
from reservoir.dialects.sheet.header import HeaderReader
from reservoir.dialects.sheet.layout_words import LAYOUT, OF_ANY_TEXT

WORDS = (*LAYOUT, *OF_ANY_TEXT, "quote")
"""The words of a header that say how a text is laid out."""


@dataclass(frozen=True)
class LayoutGuess:
    """Words of a header, each with its values as they are written there."""

    words: Mapping[str, str]

    @property
    def header(self) -> list[str]:
        """The lines of the header."""
        return [f"{word:<9} {values}" for word, values in self.words.items()]

    def notation(self, *without: str) -> Notation:
        """The notation that they describe, without some of them."""
        return self.less(*without)._read().notation

    @property
    def problems(self) -> list[str]:
        """What is wrong with them."""
        unknown = (word for word in self.words if word not in WORDS)
        said = [f"{word!r} says nothing of the layout" for word in unknown]
        return said or [problem.message for problem in self._read().problems]

    def _read(self) -> HeaderReader:
        reader = HeaderReader("draft")
        for number, (word, values) in enumerate(self.words.items(), start=1):
            reader.take(number, f"{word} {values}")
        return reader

    def told(self, words: Mapping[str, str]) -> LayoutGuess:
        """The same with some words said by somebody; ``none`` leaves one out."""
        every = {**self.words, **words}
        return LayoutGuess({word: values for word, values in every.items() if values != "none"})

    def less(self, *words: str) -> LayoutGuess:
        """The same without some words."""
        return LayoutGuess({w: v for w, v in self.words.items() if w not in words})


_FINDERS: Mapping[str, Callable[[Lines, Mapping[str, str]], str]] = {
    "statement": signs.statement,
    "block": nesting.block,
    "heading": nesting.heading,
    "table": signs.table,
    "assign": signs.assign,
    "pieces": signs.pieces,
    "path": nesting.path,
    "continue": signs.goes_on,
    "tick": signs.tick,
    "comment": signs.comment,
    "quote": signs.quote,
}
"""What finds the value of each word, given those that are before it."""

_DOUBTFUL = ("path", "heading", "assign", "table", "pieces", "block")
"""Words that a text may look like without being so: it is tried without each, too."""


def guesses(text: str, meanings: Meanings) -> list[LayoutGuess]:
    """How a text may be laid out, the likeliest first."""
    begin = text.lstrip("\ufeff \t\r\n")[:1]
    if begin == "<" or (begin in ("{", "[") and _is_json(text)):
        carrier = "xml" if begin == "<" else "json"
        return [LayoutGuess({"carrier": carrier, "block": "indent 2"})]
    lines = Lines(text, meanings)
    words: dict[str, str] = {}
    for word, finder in _FINDERS.items():
        value = finder(lines, words)
        if value and value.isprintable():
            words[word] = value
    first = LayoutGuess(words)
    others = [first.less(word) for word in _DOUBTFUL if word in words]
    titles = [quoted(f"{sign} *") for sign in lines.one_sided if sign.isprintable()]
    others += [LayoutGuess({**first.less("comment").words, "heading": title}) for title in titles]
    if not {"block", "path", "table"} & words.keys():
        others.append(LayoutGuess({**words, "path": "blanks"}))
    return [first, *others]


def _is_json(text: str) -> bool:
    try:
        json.loads(text)
    except ValueError:
        return False
    return True
