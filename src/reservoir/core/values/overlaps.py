"""Which of many spans overlap: a sweep, n log n in spans plus the pairs found."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

import numpy as np
from numpy.typing import ArrayLike


class Overlap(NamedTuple):
    """Two spans, by their places in the columns, and the first address they share."""

    earlier: int
    later: int
    first: int


def overlaps(starts: ArrayLike, stops: ArrayLike) -> Iterator[Overlap]:
    """Every pair of half-open spans, shape (n,) each, that share an address.

    ``earlier`` is the one of the smaller place. Spans that overlap nothing cost only the sort.
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
        open_spans: list[tuple[int, int]] = []
        for at in range(begin, begin + size):
            first, place = int(begins[at]), int(order[at])
            open_spans = [span for span in open_spans if span[0] > first]
            for _, other in open_spans:
                yield Overlap(min(place, other), max(place, other), first)
            open_spans.append((int(ends[at]), place))
