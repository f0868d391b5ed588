"""Texts by the million: one buffer of bytes, and where in it each text begins and ends."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from typing import overload

import numpy as np
from numpy.typing import NDArray

CHUNK = 1 << 20
"""Texts that are looked at together, so that memory stays small."""

WORD = 8
"""Bytes that are looked at at once."""


def _odd_numbers(count: int) -> NDArray[np.uint64]:
    """Odd numbers without a pattern, shape (count,); the same in each run, without numpy.random."""
    numbers = np.arange(1, count + 1, dtype=np.uint64) * np.uint64(0x9E3779B97F4A7C15)
    for shift, factor in ((30, 0xBF58476D1CE4E5B9), (27, 0x94D049BB133111EB)):
        numbers = (numbers ^ numbers >> np.uint64(shift)) * np.uint64(factor)
    return numbers | np.uint64(1)


_WEIGHTS = _odd_numbers(1 << 12)
"""An odd number for each word of a text: a weighted sum of words tells texts apart."""

_FIRST_BYTES = np.array([(1 << 8 * count) - 1 for count in range(WORD + 1)], dtype=np.uint64)
"""Masks for the first n bytes of a word, n from 0 to 8."""


class TextColumn(Sequence[str]):
    """An immutable column of n texts, in UTF-8."""

    def __init__(
        self, data: NDArray[np.uint8], starts: NDArray[np.int64], stops: NDArray[np.int64]
    ) -> None:
        """Texts in ``data``, shape (bytes,), from ``starts`` to ``stops``, (n,) each."""
        self.data, self.starts, self.stops = data, starts, stops

    @classmethod
    def of(cls, texts: Iterable[str]) -> TextColumn:
        """A column of these texts."""
        every = list(texts)
        together = "".join(every)
        lengths = map(len, every) if together.isascii() else (len(text.encode()) for text in every)
        edges = np.zeros(len(every) + 1, dtype=np.int64)
        np.cumsum(np.fromiter(lengths, np.int64, len(every)), out=edges[1:])
        return cls(np.frombuffer(together.encode(), dtype=np.uint8), edges[:-1], edges[1:])

    @classmethod
    def joined(cls, columns: Sequence[TextColumn]) -> TextColumn:
        """One column of all texts."""
        sizes = np.cumsum([0, *(len(column.data) for column in columns)])
        shifted = list(zip(columns, sizes.tolist(), strict=False))
        return cls(
            np.concatenate([column.data for column in columns]),
            np.concatenate([column.starts + size for column, size in shifted]),
            np.concatenate([column.stops + size for column, size in shifted]),
        )

    def __len__(self) -> int:
        return len(self.starts)

    @overload
    def __getitem__(self, index: int) -> str: ...
    @overload
    def __getitem__(self, index: slice) -> TextColumn: ...
    def __getitem__(self, index: int | slice) -> str | TextColumn:
        if isinstance(index, slice):
            return TextColumn(self.data, self.starts[index], self.stops[index])
        return str(self.data.data[self.starts[index] : self.stops[index]], "utf-8")

    def __iter__(self) -> Iterator[str]:
        for begin in range(0, len(self), CHUNK):
            part = self[begin : begin + CHUNK]
            edges = zip(part.starts.tolist(), part.stops.tolist(), strict=True)
            data = self.data.data  # a memoryview: slices of it copy nothing
            yield from (str(data[start:stop], "utf-8") for start, stop in edges)

    def rows(self, rows: NDArray[np.int64]) -> TextColumn:
        """The texts of some rows, shape (m,)."""
        return TextColumn(self.data, self.starts[rows], self.stops[rows])

    @property
    def lengths(self) -> NDArray[np.int64]:
        """Bytes of each text, shape (n,)."""
        return self.stops - self.starts

    def words(self, place: int) -> NDArray[np.uint64]:
        """Eight bytes of each text from a place on, the first one lowest, shape (n,).

        Bytes beyond the end of a text are zeros.
        """
        return TextColumn(self.data, self.starts + place, self.stops)._words(1)[:, 0]

    def padded(self, size: int) -> NDArray[np.uint8]:
        """The first bytes of each text, zeros beyond its end: shape (n, size).

        Args:
            size: A multiple of 8.
        """
        return self._words(size // WORD).view(np.uint8)

    def _words(self, count: int) -> NDArray[np.uint64]:
        """The first words of each text, shape (n, count), zeros beyond its end."""
        size = count * WORD
        last = max(len(self.data) - size, 0)
        end = np.concatenate([self.data[last:], np.zeros(2 * size, dtype=np.uint8)])
        found = np.empty(len(self), dtype=f"V{size}")
        inside = self.starts < last
        if inside.all():
            found = _windows(self.data, size)[self.starts]
        else:
            found[inside] = _windows(self.data, size)[self.starts[inside]]
            found[~inside] = _windows(end, size)[np.minimum(self.starts[~inside] - last, size)]
        words, lengths = found.view("<u8").reshape(-1, count), self.lengths
        if lengths.min(initial=size) < size:
            for word in range(count):
                words[:, word] &= _FIRST_BYTES[np.clip(lengths - word * WORD, 0, WORD)]
        return words

    def table(self) -> NDArray[np.uint8]:
        """The bytes of texts that are all of one length: shape (n, length)."""
        length = int(self.lengths[0])
        return _windows(self.data, length)[self.starts].view(np.uint8).reshape(-1, length)

    def without(self, prefix: str) -> TextColumn | None:
        """What stands behind a prefix in each text; None if one doesn't begin with it."""
        size = len(prefix.encode())
        if not (self.lengths >= size).all():
            return None
        fronts = TextColumn(self.data, self.starts, self.starts + size)
        if size and len(self) and (fronts.table() != list(prefix.encode())).any():
            return None
        return TextColumn(self.data, self.starts + size, self.stops)

    def hashes(self) -> NDArray[np.uint64]:
        """A number for each text, shape (n,): equal for equal texts, seldom so for others."""
        parts = [self[begin : begin + CHUNK]._hashes() for begin in range(0, len(self), CHUNK)]
        return np.concatenate(parts) if parts else np.empty(0, dtype=np.uint64)

    def _hashes(self) -> NDArray[np.uint64]:
        found = self.lengths.astype(np.uint64)
        rest, rows = self, np.arange(len(self))
        for place in range(0, int(self.lengths.max(initial=0)), WORD):
            longer = rest.lengths > place
            if not longer.all():
                rest, rows = rest.rows(np.flatnonzero(longer)), rows[longer]
            found[rows] += rest.words(place) * _WEIGHTS[place // WORD % len(_WEIGHTS)]
        return found * np.uint64(0x9E3779B97F4A7C15)

    def same_as(self, other: TextColumn) -> NDArray[np.bool_]:
        """Where two columns of n texts have the same text, byte for byte: shape (n,)."""
        same: NDArray[np.bool_] = self.lengths == other.lengths
        rows = np.flatnonzero(same)
        for place in range(0, int(self.lengths.max(initial=0)), WORD):
            rows = rows[self.lengths[rows] > place]
            alike = self.rows(rows).words(place) == other.rows(rows).words(place)
            same[rows[~alike]] = False
            rows = rows[alike]
        return same

    def unlike(self, characters: str) -> NDArray[np.int64]:
        """Places of the texts that have a character outside a class, ``A-Za-z0-9`` for example."""
        outside = re.compile(f"[^{characters}]")
        if not outside.search("".join(self)):
            return np.empty(0, dtype=np.int64)
        found = [place for place, text in enumerate(self) if outside.search(text)]
        return np.array(found, dtype=np.int64)


def _windows(data: NDArray[np.uint8], size: int) -> NDArray[np.void]:
    """So many bytes from each place of a buffer on, without a copy: shape (bytes - size + 1,)."""
    return np.ndarray(max(len(data) - size + 1, 0), f"V{size}", buffer=data, strides=(1,))
