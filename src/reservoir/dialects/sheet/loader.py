"""Loads a sheet: its header by ``header.py``, its body by ``body.py``, and so its parts.

Every mistake is found now, with its place and what to write instead, not when a line is written.
"""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field, replace

from reservoir.core.problems import InputError, Place, Problem
from reservoir.core.wording import hint
from reservoir.dialects.facts.kinds import LEASES
from reservoir.dialects.sheet.ambiguity import ambiguities
from reservoir.dialects.sheet.body import BodyReader
from reservoir.dialects.sheet.header import HeaderReader
from reservoir.dialects.sheet.hints import once_each
from reservoir.dialects.sheet.lint import contradictions, empty_links, half_options, needed_rows
from reservoir.dialects.sheet.model import Row, Sheet, every_row

_PART = re.compile(r"part(?:[ \t]+(.*?))?[ \t]*")
_QUOTED = re.compile(r'"(?:[^"\\]|\\.)*"|' + r"'[^']*'")


def load_sheet(text: str, file: str, *, proven: bool = False) -> Sheet:
    """Load a sheet from its text.

    Args:
        text: The sheet.
        file: Where it is, for messages.
        proven: It is known to be without ambiguities, so they aren't looked for.

    Raises:
        InputError: with every mistake in it.
    """
    lines = text.split("\n")
    divider = next((n for n, line in enumerate(lines) if line.rstrip() == "---"), None)
    if divider is None:
        message = "a sheet has a header, a line ---, and a body"
        raise InputError([Problem(Place(file, len(lines)), message)])
    header = HeaderReader(file)
    begins = [n for n, line in enumerate(lines) if n > divider and _PART.fullmatch(line)]
    ends = [*begins, len(lines)][1:]
    first = begins[0] if begins else len(lines)
    whole = _Loading(header)
    whole.read(lines[:divider], lines[divider + 1 : first], 1, divider + 2)
    parts = [
        _part(header, lines[begin:end], begin + 1) for begin, end in zip(begins, ends, strict=True)
    ]
    every = [whole, *parts]
    if problems := [problem for each in every for problem in each.problems]:
        raise InputError(once_each(problems))
    if not proven and (found := [problem for each in every for problem in each.doubts()]):
        raise InputError(found)
    sheet = replace(whole.sheet(), leases=tuple(part.sheet() for part in parts))
    if lacking := [*_lacking(sheet, header), *(one for part in parts for one in part.incomplete())]:
        raise InputError(lacking)
    for each in every:
        each.reserve_words()
    return sheet


@dataclass
class _Loading:
    """The configuration's rows of a sheet, or those of one of its parts, being loaded."""

    header: HeaderReader
    rows: list[Row] = field(default_factory=list)
    left: list[re.Pattern[str]] = field(default_factory=list)
    problems: list[Problem] = field(default_factory=list)
    begin: int = 1

    def read(self, above: Sequence[str], below: Sequence[str], begin: int, divider: int) -> None:
        """Read the header's lines and the body's, numbered from ``begin`` and ``divider``."""
        header = self.header
        for number, line in enumerate(above, start=begin):
            header.take(number, line)
        header.finish(divider - 1)
        forms, named = header.forms()
        body = BodyReader(header.file, forms, named, header.of_fields, header.notation, header.part)
        for number, line in enumerate(below, start=divider):
            body.take(number, line)
        self.begin = begin
        self.rows = body.finish(is_laid_out=not header.problems)
        self.left = body.left
        self.problems += header.problems + body.problems

    def doubts(self) -> list[Problem]:
        """Rows of which one may be taken for another."""
        between = self.header.notation.between_rows
        return [
            Problem(Place(self.header.file, row.number), message)
            for row, message in ambiguities(self.rows, self.header.undo, between)
        ]

    def sheet(self) -> Sheet:
        """What was loaded, once it has no mistakes."""
        return self.header.sheet(self.rows, self.left)

    def incomplete(self) -> list[Problem]:
        """What a part lacks without which its rows say nothing."""
        states = self.sheet().mentioned.get("lease", frozenset[str]())
        place = Place(self.header.file, self.begin - 1)
        if "lease" not in self.sheet().homes:
            return [Problem(place, "a part leases has a row of kind lease: lease *")]
        if "address" not in states:
            return [Problem(place, "the rows of kind lease state no {address}")]
        return []

    def reserve_words(self) -> None:
        """Names that are words of the dialect are quoted where it can quote."""
        closes = self.header.layout.layout.words.closes
        words = {word for close in closes for word in close.split()}
        for row in every_row(self.rows):
            words |= row.pattern.words
        self.header.text.reserved.update(words)


def _part(header: HeaderReader, lines: Sequence[str], begin: int) -> _Loading:
    """A part of a sheet: its first line names it, the first with a bar begins its rows."""
    part = _Loading(header.for_part(LEASES))
    found = _PART.fullmatch(lines[0])
    name = (found[1] if found is not None else None) or ""
    if name != LEASES:
        near = hint(name, [LEASES]) or f"; there is: part {LEASES}"
        part.problems.append(Problem(Place(header.file, begin), f"there is no part {name!r}{near}"))
    rows = next(
        (n for n, line in enumerate(lines) if n and line[:1] != "#" and "|" in _bare(line)),
        len(lines),
    )
    part.read(lines[1:rows], lines[rows:], begin + 1, begin + rows)
    return part


def _bare(line: str) -> str:
    """A line of a header without what is in quotes: only a row has a bar outside of them."""
    return _QUOTED.sub("", line)


def _lacking(sheet: Sheet, header: HeaderReader) -> list[Problem]:
    """What the traits need and no row has, and rows that don't fit together."""
    lacking = [
        Problem(Place(header.file, number), f"trait {trait} {sheet.trait(trait)} needs {what}")
        for trait, number in header.traits_in.items()
        for what in needed_rows(sheet, trait)
    ]
    return lacking + [
        Problem(Place(header.file, row.number), message)
        for row, message in (*contradictions(sheet), *half_options(sheet), *empty_links(sheet))
    ]
