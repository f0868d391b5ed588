"""The set algebra against an oracle that walks every address."""

from __future__ import annotations

import numpy as np
import pytest
from hypothesis import given
from hypothesis import strategies as st

from met import meets, met
from reservoir.core.values.address_set import FEW, AddressSet
from reservoir.core.values.address_sets import AddressSets
from reservoir.core.values.addresses import LAST_ADDRESS, Span
from reservoir.core.values.overlaps import overlaps

# Two small worlds, one at each end of the address space, where arithmetic is most easily wrong.
FLOORS = (0, LAST_ADDRESS - 40)

few = st.lists(
    st.builds(lambda a, n: (a, min(a + n, 40)), st.integers(0, 40), st.integers(-3, 9)), max_size=7
)
many = st.sets(st.integers(0, 40), min_size=20, max_size=34).map(
    lambda walked: [(place, place) for place in sorted(walked)]
)
spans = few | many


def built(pairs: list[tuple[int, int]], floor: int) -> tuple[AddressSet, set[int]]:
    walked = {floor + i for first, last in pairs for i in range(first, last + 1)}
    return AddressSet(Span(floor + a, floor + b) for a, b in pairs), walked


@given(spans, spans, st.sampled_from(FLOORS))
def test_algebra_agrees_with_walking(
    one: list[tuple[int, int]], other: list[tuple[int, int]], floor: int
) -> None:
    """Union, intersection, difference, exclusive or, complement, inclusion, equality."""
    (a, walked_a), (b, walked_b) = built(one, floor), built(other, floor)
    frame = Span(floor + 3, floor + 30)
    framed = set(range(frame.first, frame.last + 1))
    for found, expected in (
        (a | b, walked_a | walked_b),
        (a & b, walked_a & walked_b),
        (a - b, walked_a - walked_b),
        (a ^ b, walked_a ^ walked_b),
        (a.complement_within(frame), framed - walked_a),
        (~~a, walked_a),
        (AddressSet.of_addresses(list(walked_a)), walked_a),
    ):
        assert set(found.addresses().tolist()) == expected
        assert len(found) == len(expected)
        assert (found.starts[1:] > found.stops[:-1]).all(), "spans touch or are out of order"
    assert (a <= b) == (walked_a <= walked_b)
    assert (a == b) == (walked_a == walked_b)
    assert a.isdisjoint(b) == walked_a.isdisjoint(walked_b)
    assert len(~a) == 2**32 - len(walked_a)


@meets("more spans than are looked at one by one", "few spans", "the last address")
@given(spans, st.sampled_from(FLOORS))
def test_asking_agrees_with_walking(pairs: list[tuple[int, int]], floor: int) -> None:
    """Membership of one and of many, size, first, last, nth, iteration."""
    made, walked = built(pairs, floor)
    met("more spans than are looked at one by one", made.span_count > FEW)
    met("few spans", 0 < made.span_count <= FEW)
    met("the last address", LAST_ADDRESS in walked)
    everything = list(range(floor, min(floor + 45, LAST_ADDRESS + 1)))
    assert made.contains(everything).tolist() == [i in walked for i in everything]
    assert [i in made for i in everything] == [i in walked for i in everything]
    ordered = sorted(walked)
    assert [i for span in made.spans() for i in range(span.first, span.last + 1)] == ordered
    assert [made.nth(i) for i in range(-len(ordered), len(ordered))] == ordered * 2
    with pytest.raises(IndexError):
        made.nth(len(ordered))
    if walked:
        assert (made.first, made.last) == (ordered[0], ordered[-1])


@given(spans)
def test_every_overlapping_pair_is_found_once_or_counted(pairs: list[tuple[int, int]]) -> None:
    """The sweep finds what comparing all pairs finds, with the first common address."""
    expected = {
        (i, j, max(a[0], b[0]))
        for i, a in enumerate(pairs)
        for j, b in enumerate(pairs)
        if i < j and set(range(a[0], a[1] + 1)) & set(range(b[0], b[1] + 1))
    }
    found = list(overlaps([a for a, _ in pairs], [b + 1 for _, b in pairs]))
    listed = {overlap[:3] for overlap in found}
    assert len(found) == len(listed)
    assert listed <= expected
    assert len(listed) + sum(overlap.unlisted for overlap in found) == len(expected)
    assert all(pairs[o.earlier][0] <= o.first <= pairs[o.earlier][1] for o in found if o.unlisted)


def test_millions_at_once() -> None:
    """A million spans and four million questions, checked against a plain table of booleans."""
    random = np.random.default_rng(7)
    starts = random.integers(0, 1 << 24, 1_000_000)
    stops = starts + random.integers(0, 12, 1_000_000)
    table = np.zeros((1 << 24) + 16, dtype=np.int32)
    np.add.at(table, starts, 1)
    np.add.at(table, stops, -1)
    inside = np.cumsum(table) > 0
    made = AddressSet.of_borders(starts, stops)
    asked = random.integers(0, 1 << 24, 4_000_000)
    assert (made.contains(asked) == inside[asked]).all()
    assert len(made) == inside.sum()


@given(st.lists(st.tuples(spans, spans), max_size=5), st.sampled_from(FLOORS), st.data())
def test_many_sets_at_once_are_each_their_own(
    pairs: list[tuple[list[tuple[int, int]], list[tuple[int, int]]]],
    floor: int,
    data: st.DataObject,
) -> None:
    """Union, intersection and difference place by place; single addresses; places picked out."""
    ones, others = ([built(both[side], floor)[0] for both in pairs] for side in (0, 1))
    a, b = (
        AddressSets.of_spans([s.spans() for s in ones]),
        AddressSets.of_spans([s.spans() for s in others]),
    )
    for both, one in ((a | b, set.__or__), (a & b, set.__and__), (a - b, set.__sub__)):
        expected = [
            one(set(x.addresses().tolist()), set(y.addresses().tolist()))
            for x, y in zip(ones, others, strict=True)
        ]
        assert [set(found.addresses().tolist()) for found in both] == expected
    where = [(place, address) for place, one in enumerate(ones) for address in one.addresses()]
    places, addresses = np.array(where, dtype=np.int64).reshape(-1, 2).T
    assert list(AddressSets.of_addresses(places, addresses, len(ones))) == ones
    picked = data.draw(st.lists(st.sampled_from(range(len(ones))))) if ones else []
    assert list(a.at(picked)) == [ones[place] for place in picked]


def test_a_set_is_not_spread_out_by_accident() -> None:
    """A list of it would make room for its addresses, though it has one span."""
    with pytest.raises(TypeError):
        list(AddressSet.everything())  # type: ignore[call-overload]
    assert [span.size for span in AddressSet.everything().spans()] == [1 << 32]
