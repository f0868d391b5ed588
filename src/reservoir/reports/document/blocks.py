"""What a document is made of, whatever it is written in. Texts are texts: each writer escapes."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass, field


@dataclass(frozen=True)
class Run:
    """A stretch of a line."""

    text: str
    kind: str = "plain"
    """``plain``, ``code``, ``strong``, or what it means: ``error``, ``warning``, ``advice``."""


@dataclass(frozen=True)
class Paragraph:
    """A line or some lines of text."""

    runs: Sequence[Run]


@dataclass(frozen=True)
class Item:
    """An item of a list, with the lines below it and the items that belong to it."""

    runs: Sequence[Run]
    lines: Sequence[Sequence[Run]] = ()
    items: Sequence[Item] = ()


@dataclass(frozen=True)
class Listing:
    """A list."""

    items: Sequence[Item]


@dataclass(frozen=True)
class Table:
    """A table; the first column names the row."""

    caption: str
    heads: Sequence[str]
    rows: Sequence[Sequence[str]]
    meanings: Sequence[str] = ()
    """What each row means: ``error``, ``warning`` or nothing."""
    numbers: Sequence[int] = ()
    """The columns of numbers, which end at their right."""
    codes: Sequence[int] = ()
    """The columns of values as they stand in a plan or a configuration."""


@dataclass(frozen=True)
class Code:
    """A text as it is, line by line."""

    name: str
    text: str


@dataclass(frozen=True)
class Image:
    """A figure, and what it shows for those who don't see it."""

    draw: Callable[[], bytes]
    """Draws it as SVG; only who shows figures has to wait for it."""
    described: str


Block = Paragraph | Listing | Table | Code | Image


@dataclass(frozen=True)
class Subsection:
    """A part of a section, under a heading of its own; without a heading, if it is empty."""

    heading: str
    blocks: Sequence[Block]


@dataclass(frozen=True)
class Section:
    """A section, with an anchor that links to it name."""

    anchor: str
    title: str
    parts: Sequence[Subsection]


@dataclass(frozen=True)
class Document:
    """A document."""

    title: str
    sections: Sequence[Section] = field(default_factory=tuple)


def text(words: str, kind: str = "plain") -> Paragraph:
    """A paragraph of one text."""
    return Paragraph([Run(words, kind)])
