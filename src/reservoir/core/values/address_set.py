"""Exact sets of IPv4 addresses: interval algebra over the whole 32-bit space, on NumPy.

A set is kept as two int64 columns, ``starts`` and ``stops`` (half open), sorted, disjoint and
not touching, so that equal sets have equal columns. int64 rather than uint32, because the stop
after 255.255.255.255 must have a number too. Every operation is a sort or a merge of borders:
n log n in the number of spans, never in the number of addresses.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import numpy as np
from numpy.typing import ArrayLike, NDArray

from reservoir.core.values.addresses import LAST_ADDRESS, Span

Column = NDArray[np.int64]

_NONE: Column = np.empty(0, dtype=np.int64)
_NONE.setflags(write=False)

_IN_FIRST, _IN_BOTH = 1, 3
_STEPS = np.array([1, -1, 2, -2], dtype=np.int64)
"""What a start and a stop of the first set, and of the second, add to where a walk is."""


FEW = 8
"""Spans up to which plain Python is done before NumPy has begun: most sets of most plans."""

_Borders = list[tuple[int, int]]
"""Half-open spans."""


class AddressSet:
    """An immutable set of IPv4 addresses."""

    __slots__ = ("starts", "stops")

    starts: Column
    """Shape (n,): the first address of each span."""
    stops: Column
    """Shape (n,): one past the last address of each span."""

    def __init__(self, spans: Iterable[Span] = ()) -> None:
        """The union of the spans; a reversed span holds nothing."""
        kept = [(span.first, span.last + 1) for span in spans if span.first <= span.last]
        self.starts, self.stops = _columns(kept)

    @classmethod
    def of_sorted(cls, starts: Column, stops: Column) -> AddressSet:
        """Half-open spans, shape (n,) each, that are sorted, filled, disjoint and don't touch."""
        made = object.__new__(cls)
        made.starts, made.stops = starts, stops
        return made

    @classmethod
    def of_borders(cls, starts: ArrayLike, stops: ArrayLike) -> AddressSet:
        """The union of half-open spans, shape (n,) each, in any order, overlapping or not."""
        first, stop = np.asarray(starts, dtype=np.int64), np.asarray(stops, dtype=np.int64)
        filled = stop > first
        return cls.of_sorted(*_united(first[filled], stop[filled]))

    @classmethod
    def of_addresses(cls, addresses: ArrayLike) -> AddressSet:
        """The set of single addresses, shape (n,), in any order, repeated or not."""
        if isinstance(addresses, list) and len(addresses) <= FEW:
            return cls.of_sorted(*_columns([(address, address + 1) for address in addresses]))
        values = np.asarray(addresses, dtype=np.int64)
        return cls.of_sorted(*_united(values, values + 1))

    @classmethod
    def everything(cls) -> AddressSet:
        """The whole 32-bit space."""
        return cls([Span(0, LAST_ADDRESS)])

    def spans(self) -> Iterator[Span]:
        """The spans in ascending order, none touching the next."""
        for start, stop in zip(self.starts.tolist(), self.stops.tolist(), strict=True):
            yield Span(start, stop - 1)

    # Not iterable itself: list() and tuple() would make room for as many items as it has addresses.
    __iter__ = None

    @property
    def span_count(self) -> int:
        """How many spans the set consists of."""
        return len(self.starts)

    def __len__(self) -> int:
        """How many addresses are in the set."""
        return int((self.stops - self.starts).sum())

    def __bool__(self) -> bool:
        return len(self.starts) > 0

    def __contains__(self, address: int) -> bool:
        if len(self.starts) <= FEW:
            return any(start <= address < stop for start, stop in self._borders())
        at = int(self.starts.searchsorted(address, side="right")) - 1
        return at >= 0 and address < int(self.stops[at])

    def contains(self, addresses: ArrayLike) -> NDArray[np.bool_]:
        """Which of many addresses, shape (n,), are in the set: booleans, shape (n,)."""
        values = np.asarray(addresses, dtype=np.int64)
        if not self:
            return np.zeros(values.shape, dtype=np.bool_)
        at = self.starts.searchsorted(values, side="right") - 1
        return (at >= 0) & (values < self.stops[np.maximum(at, 0)])

    def __or__(self, other: AddressSet) -> AddressSet:
        if not self or not other:
            return self or other
        if self._are_few(other):
            return self.of_sorted(*_columns(self._borders() + other._borders()))
        return self.of_sorted(
            *_united(
                np.concatenate([self.starts, other.starts]),
                np.concatenate([self.stops, other.stops]),
            )
        )

    def __and__(self, other: AddressSet) -> AddressSet:
        return EMPTY if self._is_apart_from(other) else self._where(other, _IN_BOTH)

    def __sub__(self, other: AddressSet) -> AddressSet:
        return self if self._is_apart_from(other) else self._where(other, _IN_FIRST)

    def _where(self, other: AddressSet, wanted: int) -> AddressSet:
        """The addresses that are in both sets, or in the first only: one walk over all borders."""
        if self._are_few(other):
            walk = _common if wanted == _IN_BOTH else _remaining
            return self.of_sorted(*_columns(walk(self._borders(), other._borders())))
        # Methods, not NumPy's functions of the same names: those take half as long again to call.
        borders = np.concatenate((self.starts, self.stops, other.starts, other.stops))
        ours, theirs = len(self.starts), len(other.starts)
        order = borders.argsort(kind="stable")
        steps = _STEPS.repeat((ours, ours, theirs, theirs))
        borders, inside = borders[order], steps[order].cumsum()
        (at,) = ((inside[:-1] == wanted) & (borders[1:] > borders[:-1])).nonzero()
        return self.of_sorted(borders[at], borders[at + 1])

    def _borders(self) -> _Borders:
        return list(zip(self.starts.tolist(), self.stops.tolist(), strict=True))

    def _are_few(self, other: AddressSet) -> bool:
        return len(self.starts) + len(other.starts) <= FEW

    def _is_apart_from(self, other: AddressSet) -> bool:
        """Whether nothing is common because one set ends before the other begins."""
        if not self or not other:
            return True
        return bool(self.stops[-1] <= other.starts[0] or other.stops[-1] <= self.starts[0])

    def clipped(self, frame: Span) -> AddressSet:
        """The addresses of the set that are in ``frame``; free where all of them are."""
        if not self or (self.starts[0] >= frame.first and self.stops[-1] <= frame.last + 1):
            return self
        if len(self.starts) <= FEW:
            return self.of_sorted(
                *_columns(_common(self._borders(), [(frame.first, frame.last + 1)]))
            )
        begin, end = self._meeting(frame)
        starts = np.maximum(self.starts[begin:end], frame.first)
        stops = np.minimum(self.stops[begin:end], frame.last + 1)
        return self.of_sorted(starts, stops)

    def meets(self, span: Span) -> bool:
        """Whether any address of ``span`` is in the set."""
        begin, end = self._meeting(span)
        return end > begin

    def _meeting(self, span: Span) -> tuple[int, int]:
        """The first of the set's spans with an address of ``span``, and the one past the last."""
        if not span.size:
            return 0, 0
        begin = int(self.stops.searchsorted(span.first, side="right"))
        return begin, int(self.starts.searchsorted(span.last, side="right"))

    def __xor__(self, other: AddressSet) -> AddressSet:
        return (self - other) | (other - self)

    def __invert__(self) -> AddressSet:
        """Every address of the 32-bit space that is not in the set."""
        starts = np.concatenate([[0], self.stops]).astype(np.int64)
        stops = np.concatenate([self.starts, [LAST_ADDRESS + 1]]).astype(np.int64)
        filled = stops > starts
        return self.of_sorted(starts[filled], stops[filled])

    def complement_within(self, frame: Span) -> AddressSet:
        """The addresses of ``frame`` that are not in the set."""
        return AddressSet([frame]) - self

    def __le__(self, other: AddressSet) -> bool:
        """Whether every address of this set is in the other."""
        return not self - other

    def isdisjoint(self, other: AddressSet) -> bool:
        """Whether the two sets have no address in common."""
        return not self & other

    def __eq__(self, other: object) -> bool:
        if not isinstance(other, AddressSet):
            return NotImplemented
        return np.array_equal(self.starts, other.starts) and np.array_equal(self.stops, other.stops)

    def __hash__(self) -> int:
        return hash((self.starts.tobytes(), self.stops.tobytes()))

    @property
    def first(self) -> int:
        """The lowest address. Raises IndexError if the set is empty."""
        return int(self.starts[0])

    @property
    def last(self) -> int:
        """The highest address. Raises IndexError if the set is empty."""
        return int(self.stops[-1]) - 1

    @property
    def hull(self) -> Span:
        """The span from its lowest to its highest address. Raises IndexError if it is empty."""
        return Span(self.first, self.last)

    def nth(self, index: int) -> int:
        """The address at ``index``, counted upwards from 0, or downwards from -1.

        Raises:
            IndexError: the set has no such address.
        """
        size = len(self)
        if not -size <= index < size:
            raise IndexError(f"no address at {index} in a set of {size}")
        wanted = index % size
        ends = np.cumsum(self.stops - self.starts)
        at = int(np.searchsorted(ends, wanted, side="right"))
        return int(self.stops[at]) - (int(ends[at]) - wanted)

    def addresses(self) -> Column:
        """Every address in ascending order, shape (size,). Memory grows with the size."""
        lengths = self.stops - self.starts
        begins = np.repeat(self.starts - np.cumsum(lengths) + lengths, lengths)
        return begins + np.arange(len(begins), dtype=np.int64)

    def __repr__(self) -> str:
        return f"AddressSet({self})"

    def __str__(self) -> str:
        return ", ".join(str(span) for span in self.spans()) or "nothing"


def _columns(spans: _Borders) -> tuple[Column, Column]:
    """The starts and stops of the union of spans, none empty, in any order."""
    if not spans:
        return _NONE, _NONE
    if 1 < len(spans) <= FEW:
        spans = _joined(sorted(spans))
    borders = np.array(spans, dtype=np.int64)
    columns = borders[:, 0], borders[:, 1]
    return columns if len(spans) <= FEW else _united(*columns)


def _joined(spans: _Borders) -> _Borders:
    """Sorted spans, those that overlap or touch as one."""
    joined = spans[:1]
    for start, stop in spans[1:]:
        first, last = joined[-1]
        if start > last:
            joined.append((start, stop))
        elif stop > last:
            joined[-1] = first, stop
    return joined


def _common(ours: _Borders, theirs: _Borders) -> _Borders:
    """What is in both of two sets of few spans."""
    pairs = ((max(a, c), min(b, d)) for a, b in ours for c, d in theirs)
    return [(start, stop) for start, stop in pairs if start < stop]


def _remaining(ours: _Borders, theirs: _Borders) -> _Borders:
    """What is in the first only of two sets of few spans."""
    left: _Borders = []
    for start, stop in ours:
        for first, last in theirs:
            if start < first < stop:
                left.append((start, first))
            if first < stop:
                start = max(start, last)  # noqa: PLW2901 - what is left of the span
        if start < stop:
            left.append((start, stop))
    return left


def _united(starts: Column, stops: Column) -> tuple[Column, Column]:
    """Sort spans, none empty, and join those that overlap or touch."""
    order = starts.argsort(kind="stable")
    starts, stops = starts[order], np.maximum.accumulate(stops[order])
    if len(starts) < 2:
        return starts, stops
    apart = np.ones(len(starts) + 1, dtype=np.bool_)  # from what is before each, and at the end
    np.greater(starts[1:], stops[:-1], out=apart[1:-1])
    return starts[apart[:-1]], stops[apart[1:]]


EMPTY = AddressSet()
"""The set without addresses."""
