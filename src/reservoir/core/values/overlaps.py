"""Which of many spans overlap: a sweep, n log n in spans."""

from __future__ import annotations

from collections.abc import Iterator
from heapq import heappop, heappush
from itertools import islice
from typing import NamedTuple

import numpy as np
from numpy.typing import ArrayLike

LISTED = 5
"""The overlaps that are listed of each span with those that begin before it; others are counted."""


class Overlap(NamedTuple):
    """Two spans, by their places in the columns, and the first address they share."""

    earlier: int
    later: int
    first: int
    unlisted: int = 0
    """Further spans that have the address ``first``, whose overlaps are not listed."""


def overlaps(starts: ArrayLike, stops: ArrayLike) -> Iterator[Overlap]:
    """The pairs of half-open spans, shape (n,) each, that share an address.

    ``earlier`` is the one of the smaller place. Spans that overlap nothing cost only the sort.
    Where more than :data:`LISTED` spans have an address, the last pair there counts those left out:
    hundreds of networks with one subnet would make a pair for each two of them.
    """
    begins, ends = np.asarray(starts, dtype=np.int64), np.asarray(stops, dtype=np.int64)
    order = np.lexsort((ends, begins))
    order = order[ends[order] > begins[order]]
    if len(order) < 2:
        return
    begins, ends = begins[order], ends[order]
    covered = np.concatenate([[False], begins[1:] < np.maximum.accumulate(ends)[:-1]])
    # A cluster begins where a span doesn't touch anything before it; only clusters of two or
    # more spans are swept in Python.
    clusters = np.flatnonzero(~covered)
    sizes = np.diff(np.concatenate([clusters, [len(order)]]))
    for begin, size in zip(clusters[sizes > 1], sizes[sizes > 1], strict=True):
        closing: list[tuple[int, int]] = []
        open_places: dict[int, None] = {}  # in the order in which they begin
        for at in range(begin, begin + size):
            first, place = int(begins[at]), int(order[at])
            while closing and closing[0][0] <= first:
                del open_places[heappop(closing)[1]]
            unlisted = max(len(open_places) - LISTED, 0)
            others = list(islice(open_places, LISTED))
            for other in others:
                left_out = unlisted if other == others[-1] else 0
                yield Overlap(min(place, other), max(place, other), first, left_out)
            heappush(closing, (int(ends[at]), place))
            open_places[place] = None
