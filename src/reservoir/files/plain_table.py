"""Tables of comma-separated cells by the million: where each cell is, and whole columns of values.

Only plain tables are read here: no quotes, no control characters, as many cells in each row as in
the first. Whoever calls falls back to reading row by row where a column can't be read.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from reservoir.core.values.text_column import TextColumn

CHUNK = 1 << 22
"""Bytes that are looked at together, so that memory stays small."""

Column = NDArray[np.int64]


class Cells(NamedTuple):
    """The cells of some rows of a table."""

    data: NDArray[np.uint8]
    """The bytes of the whole table."""
    starts: Column
    """Shape (rows, columns): where in it each cell begins."""
    stops: Column
    """Shape (rows, columns): where it ends."""

    def column(self, number: int) -> TextColumn:
        """The texts of a column."""
        return TextColumn(self.data, self.starts[:, number].copy(), self.stops[:, number].copy())


def plain_cells(
    text: bytes, begin: int, width: int, watch: Callable[[float], None]
) -> Iterator[Cells | None]:
    """The cells of a table's rows from an offset on, some thousand rows at a time.

    Yields None, and ends, where the table isn't plain.

    Args:
        text: The table; the last row ends with a line end.
        begin: Where the first row begins.
        width: Cells in a row.
        watch: Called with the share that has been read, 0 to 1.
    """
    data = np.frombuffer(text, dtype=np.uint8)
    is_plain = b'"' not in text and b"\x7f" not in text
    while begin < len(text):
        end = text.rfind(b"\n", begin, begin + CHUNK) + 1
        cells = _cells(data, begin, end, width) if is_plain and end else None
        yield cells
        if cells is None:
            return
        begin = end
        watch(end / len(text))


def _cells(data: NDArray[np.uint8], begin: int, end: int, width: int) -> Cells | None:
    some = data[begin:end]
    ends_line = some == ord("\n")
    line_ends = np.flatnonzero(ends_line)
    if np.count_nonzero(some < ord(" ")) > len(line_ends):
        return None
    stops = np.flatnonzero(ends_line | (some == ord(",")))
    if len(stops) != width * len(line_ends) or (stops[width - 1 :: width] != line_ends).any():
        return None
    stops += begin
    starts = np.concatenate([[begin], stops[:-1] + 1])
    return Cells(data, starts.reshape(-1, width), stops.reshape(-1, width))


class KnownWords:
    """A set of words with a number each, found in whole columns at once."""

    def __init__(self, numbers: Mapping[str, int]) -> None:
        """Take the words and their numbers."""
        self._words = TextColumn.of(numbers)
        self._numbers = np.fromiter(numbers.values(), dtype=np.int64, count=len(numbers))
        hashes = self._words.hashes()
        self._order = np.argsort(hashes, kind="stable")
        self._hashes = hashes[self._order]

    def numbers_of(self, texts: TextColumn) -> Column | None:
        """The number of each text, shape (n,); None if one is not among the words."""
        if not len(texts):
            return np.empty(0, dtype=np.int64)
        if not len(self._words):
            return None
        # Tables are mostly in the order of one of their columns: only where the text changes is
        # it looked for.
        changes = np.flatnonzero(np.concatenate([[True], ~texts[1:].same_as(texts[:-1])]))
        some = texts.rows(changes)
        places = np.minimum(np.searchsorted(self._hashes, some.hashes()), len(self._hashes) - 1)
        words = self._order[places]
        if not some.same_as(self._words.rows(words)).all():
            return None
        runs = np.diff(np.append(changes, len(texts)))
        return np.repeat(self._numbers[words], runs)


def joined_columns(parts: Sequence[Column]) -> Column:
    """One column of several."""
    return parts[0] if len(parts) == 1 else np.concatenate([np.empty(0, np.int64), *parts])
