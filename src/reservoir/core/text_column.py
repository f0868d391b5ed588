"""Texts by the million: one buffer of bytes, and where in it each text begins and ends."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from typing import overload

import numpy as np
from numpy.typing import NDArray

CHUNK = 1 << 20
"""Texts that are looked at together, so that memory stays small."""

_WEIGHTS = np.random.default_rng(2131).integers(1, 1 << 63, 1 << 12, dtype=np.uint64) | np.uint64(1)
"""An odd number for each place in a text: a weighted sum of bytes tells texts apart."""


class TextColumn(Sequence[str]):
    """An immutable column of n texts, in UTF-8."""

    def __init__(
        self, data: NDArray[np.uint8], starts: NDArray[np.int64], stops: NDArray[np.int64]
    ) -> None:
        """Texts that stand in ``data``, shape (bytes,), from ``starts`` to ``stops``, (n,) each."""
        self.data, self.starts, self.stops = data, starts, stops

    @classmethod
    def of(cls, texts: Iterable[str]) -> TextColumn:
        """A column of these texts."""
        encoded = [text.encode() for text in texts]
        stops = np.cumsum([0, *map(len, encoded)], dtype=np.int64)
        data = np.frombuffer(b"".join(encoded), dtype=np.uint8)
        return cls(data, stops[:-1], stops[1:])

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
        return self.data[self.starts[index] : self.stops[index]].tobytes().decode()

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

    def hashes(self) -> NDArray[np.uint64]:
        """A number for each text, shape (n,): equal for equal texts, seldom so for others."""
        parts = [self._hashes(begin, begin + CHUNK) for begin in range(0, len(self), CHUNK)]
        return np.concatenate(parts) if parts else np.empty(0, dtype=np.uint64)

    def _hashes(self, begin: int, end: int) -> NDArray[np.uint64]:
        starts, lengths = self.starts[begin:end], self.lengths[begin:end]
        found = lengths.astype(np.uint64)
        rows = np.arange(len(starts))
        for place in range(int(lengths.max(initial=0))):
            if (lengths[rows] <= place).any():
                rows = rows[lengths[rows] > place]
            octets = self.data[starts[rows] + place].astype(np.uint64) + np.uint64(1)
            found[rows] += octets * _WEIGHTS[place % len(_WEIGHTS)]
        return found * np.uint64(0x9E3779B97F4A7C15)

    def unlike(self, characters: str) -> NDArray[np.int64]:
        """Places of the texts that have a character outside a class, ``A-Za-z0-9`` for example."""
        outside = re.compile(f"[^{characters}]")
        if not outside.search("".join(self)):
            return np.empty(0, dtype=np.int64)
        found = [place for place, text in enumerate(self) if outside.search(text)]
        return np.array(found, dtype=np.int64)
