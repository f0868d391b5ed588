"""Places in files as the protocol has them: URIs for names, ranges for places, and back."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Literal

from lsprotocol import types
from pygls import uris
from pygls.workspace import PositionCodec

from reservoir.files.recognising import is_plan_text

Kind = Literal["plan", "table", "configuration", "other"]
"""What a file is. ``other`` is YAML that doesn't say that it is a plan."""

_PLAN_SUFFIXES = (".yaml", ".yml")

_EXTENT = {
    "plan": re.compile(
        r"""\s*("(?:\\.|[^"\\])*"|'[^']*'|.*?(?=\s*(?:[,\[\]{}]|\s\#|:\s|:$|$)))""", re.ASCII
    ),
    "table": re.compile(r'\s*("[^"]*"|[^,]*[^,\s])'),
    "configuration": re.compile(r"\s*(.*\S)"),
}
"""What stands at a place: a plan's key or value, a table's cell, the rest of a line."""

_WORD = re.compile(r"[^\s,;\"'{}()\[\]<>=]+")
"""What may be asked about in a table or in configuration."""


def file_of(uri: str) -> str | None:
    """The path that a URI names; None if it is no file's."""
    return uris.to_fs_path(uri) if uri.startswith("file:") else None


def uri_of(file: str) -> str:
    """The URI of a file."""
    return uris.from_fs_path(file) or f"file://{file}"


def kind_of(file: str, text: str) -> Kind:
    """What a file is, by its name and its text."""
    if is_plan_text(text):
        return "plan"
    if file.endswith(_PLAN_SUFFIXES):
        return "other"
    return "table" if file.endswith(".csv") else "configuration"


def lines_of(text: str) -> Sequence[str]:
    """A text's lines, without their ends; the last may be empty."""
    return text.replace("\r\n", "\n").split("\n")


class Positions:
    """Ranges of one text, in the units that the editor counts in."""

    def __init__(self, text: str, kind: Kind, codec: PositionCodec) -> None:
        """Take a text, what it is, and how the editor counts."""
        self.lines = lines_of(text)
        self._kind = kind
        self._codec = codec

    def spot(self, position: types.Position) -> tuple[int, int]:
        """Line and column, from 1, of the editor's position."""
        known = self._codec.position_from_client_units(self.lines, position)
        return known.line + 1, known.character + 1

    def between(self, begin: tuple[int, int], end: tuple[int, int]) -> types.Range:
        """The editor's range between two places, each a line and a column from 1."""
        return types.Range(self._position(begin), self._position(end))

    def at(self, line: int, column: int) -> types.Range:
        """The editor's range of what stands at a place: a word, a value, a statement."""
        written = self.lines[line - 1] if line <= len(self.lines) else ""
        extent = _EXTENT.get(self._kind, _EXTENT["configuration"])
        found = extent.match(written, column - 1)
        begin, end = found.span(1) if found is not None else (column - 1, len(written))
        return self.between((line, begin + 1), (line, max(begin, end) + 1))

    def line(self, number: int) -> types.Position:
        """Where a line begins; the end of the text behind its last."""
        if number > len(self.lines):
            return self._position((len(self.lines), len(self.lines[-1]) + 1))
        return types.Position(number - 1, 0)

    def word(self, line: int, column: int) -> tuple[str, types.Range] | None:
        """The word at a place of a table or of configuration, to the end of which it may be."""
        written = self.lines[line - 1] if line <= len(self.lines) else ""
        for found in _WORD.finditer(written):
            if found.start() < column <= found.end() + 1:
                begin, end = found.start() + 1, found.end() + 1
                return found[0].rstrip(".:"), self.between((line, begin), (line, end))
        return None

    def _position(self, spot: tuple[int, int]) -> types.Position:
        line, column = spot
        written = self.lines[line - 1] if line <= len(self.lines) else ""
        character = self._codec.client_num_units(written[: column - 1])
        return types.Position(line - 1, character)


class Moved:
    """Where the lines of a text are after a change; those that may be others are nowhere."""

    def __init__(self, before: Sequence[str], after: Sequence[str]) -> None:
        """Take the lines as they were, and as they are."""
        self._shift = len(after) - len(before)
        most = min(len(before), len(after))
        self._first = next((n for n in range(most) if before[n] != after[n]), most)
        left = most - self._first
        same = next((n for n in range(left) if before[-1 - n] != after[-1 - n]), left)
        self._last = len(before) - same
        """From here on, the lines are the same again."""

    def range(self, spot: types.Range) -> types.Range | None:
        """Where a range in one line is; None if its line may have been changed."""
        number = spot.start.line
        if number < self._first:
            return spot
        if number < self._last:
            return None
        begin, end = spot.start.character, spot.end.character
        line = number + self._shift
        return types.Range(types.Position(line, begin), types.Position(line, end))
