"""Tables of comma-separated cells by the million: where each cell is, and whole columns of values.

Only plain tables are read here: no quotes, no control characters, as many cells in each row as in
the first. Whoever calls falls back to reading row by row where a column can't be read.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from reservoir.core.addressing import MalformedValueError
from reservoir.core.clients import parse_mac
from reservoir.core.columns import NIBBLES
from reservoir.core.text_column import TextColumn

CHUNK = 1 << 24
"""Bytes that are looked at together, so that memory stays small."""

_CELL_ENDS, _DOT, _UNPLAIN = 1, 2, 3

_KINDS = np.zeros(256, dtype=np.uint8)
"""What each byte means to a plain table; 0 for nothing."""
_KINDS[:32] = _KINDS[127] = _KINDS[ord('"')] = _UNPLAIN
_KINDS[ord(",")] = _KINDS[ord("\n")] = _CELL_ENDS
_KINDS[ord(".")] = _DOT


Column = NDArray[np.int64]


class Cells(NamedTuple):
    """The cells of some rows of a table."""

    data: NDArray[np.uint8]
    """The bytes of the whole table."""
    starts: Column
    """Shape (rows, columns): where in it each cell begins."""
    stops: Column
    """Shape (rows, columns): where it ends."""
    dots: Column
    """Shape (m,): where in it there are dots."""
    dot_cells: Column
    """Shape (m,): the cell, counted through all rows, that each dot stands in."""

    def column(self, number: int) -> TextColumn:
        """The texts of a column."""
        return TextColumn(self.data, self.starts[:, number], self.stops[:, number])


def plain_cells(
    data: NDArray[np.uint8], begin: int, width: int, watch: Callable[[float], None]
) -> Iterator[Cells | None]:
    """The cells of a table's rows from an offset on, some thousand rows at a time.

    Yields None, and ends, where the table isn't plain.

    Args:
        data: The table's bytes; the last row ends with a line end.
        begin: Where the first row begins.
        width: Cells in a row.
        watch: Told which share has been read.
    """
    while begin < len(data):
        end = min(begin + CHUNK, len(data))
        if end < len(data):
            line_ends = np.flatnonzero(data[begin:end] == ord("\n"))
            if not len(line_ends):
                yield None
                return
            end = begin + int(line_ends[-1]) + 1
        cells = _cells(data, begin, end, width)
        yield cells
        if cells is None:
            return
        begin = end
        watch(end / len(data))


def _cells(data: NDArray[np.uint8], begin: int, end: int, width: int) -> Cells | None:
    kinds = _KINDS[data[begin:end]]
    places = np.flatnonzero(kinds)
    kinds = kinds[places]
    places += begin
    ends_cell = kinds == _CELL_ENDS
    stops = places[ends_cell]
    if len(stops) % width or (kinds == _UNPLAIN).any():
        return None
    closing = data[stops].reshape(-1, width) == ord("\n")
    if closing[:, :-1].any() or not closing[:, -1].all():
        return None
    starts = np.concatenate([[begin], stops[:-1] + 1])
    is_dot = kinds == _DOT
    cell_of = np.cumsum(ends_cell)
    shape = (-1, width)
    return Cells(data, starts.reshape(shape), stops.reshape(shape), places[is_dot], cell_of[is_dot])


def address_cells(cells: Cells, number: int) -> Column | None:
    """A column of dotted quads as ``parse_address`` wants them, shape (rows,); None if not all."""
    rows, width = cells.starts.shape
    dots = cells.dots[cells.dot_cells % width == number]
    starts, stops = cells.starts[:, number], cells.stops[:, number]
    if len(dots) != 3 * rows:
        return None
    inner = dots.reshape(rows, 3)
    if ((inner[:, 0] < starts) | (inner[:, 2] >= stops)).any():
        return None
    address = np.zeros(rows, dtype=np.int64)
    firsts = (starts, *(inner[:, i] + 1 for i in range(3)))
    ends = (*(inner[:, i] for i in range(3)), stops)
    for first, end in zip(firsts, ends, strict=True):
        octet = _octets(cells.data, first, end - first)
        if octet is None:
            return None
        address = address << 8 | octet
    return address


def _octets(data: NDArray[np.uint8], firsts: Column, sizes: Column) -> Column | None:
    """Numbers of one to three digits, up to 255, without leading zeros."""
    if ((sizes < 1) | (sizes > 3)).any():
        return None
    last = firsts + sizes - 1
    digits = [data[last].astype(np.int64) - 48]
    for back in (1, 2):
        digits.append(np.where(sizes > back, data[last - back].astype(np.int64) - 48, 0))
    wrong = (digits[0] < 0) | (digits[0] > 9)
    for digit in digits[1:]:
        wrong |= (digit < 0) | (digit > 9)
    octet = digits[0] + 10 * digits[1] + 100 * digits[2]
    wrong |= (octet > 255) | ((sizes > 1) & (data[firsts] == 48))
    return None if wrong.any() else octet


def mac_cells(cells: Cells, number: int) -> Column | None:
    """A column of MAC addresses in any notation, shape (rows,); None if not all are."""
    texts = cells.column(number)
    found = np.zeros(len(texts), dtype=np.int64)
    for length in np.unique(texts.lengths).tolist():
        rows = np.flatnonzero(texts.lengths == length)
        some = _alike(cells.data, texts.starts[rows], length, texts[int(rows[0])])
        if some is None:
            try:
                some = np.array([parse_mac(text) for text in texts.rows(rows)], dtype=np.int64)
            except MalformedValueError:
                return None
        found[rows] = some
    return found


def _alike(data: NDArray[np.uint8], starts: Column, length: int, first: str) -> Column | None:
    """MAC addresses that are all written as the first is; None if one is not."""
    try:
        parse_mac(first)
    except MalformedValueError:
        return None
    found = np.zeros(len(starts), dtype=np.int64)
    wrong = np.zeros(len(starts), dtype=np.bool_)
    for place in range(length):
        octets = data[starts + place]
        if first[place] in ":-. ":
            wrong |= octets != ord(first[place])
            continue
        nibbles = NIBBLES[octets]
        wrong |= nibbles > 15
        found = found << 4 | nibbles
    return None if wrong.any() else found


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
        changes = np.flatnonzero(np.concatenate([[True], ~_same_as_before(texts)]))
        some = texts.rows(changes)
        places = np.minimum(np.searchsorted(self._hashes, some.hashes()), len(self._hashes) - 1)
        words = self._order[places]
        if not same_texts(some, self._words.rows(words)).all():
            return None
        runs = np.diff(np.append(changes, len(texts)))
        return np.repeat(self._numbers[words], runs)


def _same_as_before(texts: TextColumn) -> NDArray[np.bool_]:
    """For each text but the first, whether it is the same as the one before: shape (n - 1,)."""
    every = np.arange(len(texts))
    return same_texts(texts.rows(every[1:]), texts.rows(every[:-1]))


def same_texts(one: TextColumn, other: TextColumn) -> NDArray[np.bool_]:
    """Where two columns of n texts have the same text, byte for byte: shape (n,)."""
    same: NDArray[np.bool_] = one.lengths == other.lengths
    longest = int(one.lengths.max()) if len(one) else 0
    rows = np.flatnonzero(same)
    for place in range(longest):
        rows = rows[one.lengths[rows] > place]
        if not len(rows):
            break
        ours = one.data[one.starts[rows] + place]
        alike = ours == other.data[other.starts[rows] + place]
        if not alike.all():
            same[rows[~alike]] = False
            rows = rows[alike]
    return same


def joined_columns(parts: Sequence[Column]) -> Column:
    """One column of several."""
    return parts[0] if len(parts) == 1 else np.concatenate([np.empty(0, np.int64), *parts])
