"""Loads a sheet: its header by ``header.py``, its body by ``body.py``.

Every mistake is found now, with its place and what to write instead, not when a line is written.
"""

from __future__ import annotations

from reservoir.core.problems import InputError, Place, Problem
from reservoir.dialects.sheet.ambiguity import ambiguities
from reservoir.dialects.sheet.body import BodyReader
from reservoir.dialects.sheet.header import HeaderReader
from reservoir.dialects.sheet.hints import once_each
from reservoir.dialects.sheet.lint import contradictions, empty_links, half_options, needed_rows
from reservoir.dialects.sheet.model import Row, Sheet, every_row


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
    for number, line in enumerate(lines[:divider], start=1):
        header.take(number, line)
    header.finish(divider + 1)
    forms, named = header.forms()
    body = BodyReader(file, forms, named, header.of_fields, header.notation)
    for number, line in enumerate(lines[divider + 1 :], start=divider + 2):
        body.take(number, line)
    rows = body.finish(is_laid_out=not header.problems)
    if header.problems or body.problems:
        raise InputError(once_each(header.problems + body.problems))
    if not proven:
        found = [
            Problem(Place(file, row.number), message)
            for row, message in ambiguities(rows, header.undo, header.notation.between_rows)
        ]
        if found:
            raise InputError(found)
    sheet = header.sheet(rows, body.left)
    lacking = [
        Problem(Place(file, number), f"trait {trait} {sheet.trait(trait)} needs {what}")
        for trait, number in header.traits_in.items()
        for what in needed_rows(sheet, trait)
    ]
    lacking += [
        Problem(Place(file, row.number), message)
        for row, message in (*contradictions(sheet), *half_options(sheet), *empty_links(sheet))
    ]
    if lacking:
        raise InputError(lacking)
    _reserve_words(sheet.rows, header)
    return sheet


def _reserve_words(rows: tuple[Row, ...], header: HeaderReader) -> None:
    """Names that are words of the dialect are quoted where it can quote."""
    words = {word for closes in header.layout.layout.words.closes for word in closes.split()}
    for row in every_row(rows):
        words |= row.pattern.words
    header.text.reserved.update(words)
