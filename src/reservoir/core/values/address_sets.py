"""Thousands of address sets at once, one to a place: what is assigned in each network, for example.

Each place has a space of its own, one behind the other on one line of numbers, so that an
operation on all of them is one operation of :class:`AddressSet`.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from typing import overload

import numpy as np
from numpy.typing import NDArray

from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import Span

SPACE = 33
"""Bits of a place's space: the stop after 255.255.255.255 is no start of the next place."""

Column = NDArray[np.int64]


class AddressSets(Sequence[AddressSet]):
    """An immutable sequence of n address sets."""

    def __init__(self, every: AddressSet, count: int) -> None:
        """Take the sets on one line, and how many places there are."""
        self._every = every
        places = np.arange(count + 1, dtype=np.int64) << SPACE
        self._edges = np.searchsorted(every.starts, places).tolist()

    @classmethod
    def of_spans(cls, spans: Sequence[Iterable[Span]]) -> AddressSets:
        """One set for each place, the union of its spans; a reversed span holds nothing."""
        found = [
            (place, span.first, span.last + 1) for place, some in enumerate(spans) for span in some
        ]
        places, starts, stops = np.array(found, dtype=np.int64).reshape(-1, 3).T
        base = places << SPACE
        return cls(AddressSet.of_borders(base + starts, base + stops), len(spans))

    @classmethod
    def of_addresses(cls, places: Column, addresses: Column, count: int) -> AddressSets:
        """One set for each of ``count`` places: single addresses, shape (n,), and where each is."""
        return cls(AddressSet.of_addresses((places << SPACE) + addresses), count)

    def __len__(self) -> int:
        return len(self._edges) - 1

    @overload
    def __getitem__(self, index: int) -> AddressSet: ...
    @overload
    def __getitem__(self, index: slice) -> Sequence[AddressSet]: ...
    def __getitem__(self, index: int | slice) -> AddressSet | Sequence[AddressSet]:
        if isinstance(index, slice):
            return [self[place] for place in range(*index.indices(len(self)))]
        place = range(len(self))[index]
        spans, base = slice(self._edges[place], self._edges[place + 1]), place << SPACE
        every = self._every
        return AddressSet.of_sorted(every.starts[spans] - base, every.stops[spans] - base)

    def __and__(self, other: AddressSets) -> AddressSets:
        return AddressSets(self._every & other._every, len(self))

    def __or__(self, other: AddressSets) -> AddressSets:
        return AddressSets(self._every | other._every, len(self))

    def __sub__(self, other: AddressSets) -> AddressSets:
        return AddressSets(self._every - other._every, len(self))

    def at(self, places: Sequence[int]) -> AddressSets:
        """The sets of some places, in this order, some perhaps more than once."""
        edges, chosen = np.array(self._edges), np.array(places, dtype=np.int64)
        counts = edges[chosen + 1] - edges[chosen]
        begins = np.repeat(edges[chosen] - np.cumsum(counts) + counts, counts)
        spans = begins + np.arange(len(begins))
        moved = np.repeat((np.arange(len(chosen)) - chosen) << SPACE, counts)
        every = self._every
        borders = every.starts[spans] + moved, every.stops[spans] + moved
        return AddressSets(AddressSet.of_sorted(*borders), len(chosen))
