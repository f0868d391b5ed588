"""Texts and numbers by the million, each against what Python says of one at a time."""

from __future__ import annotations

from collections import defaultdict

import numpy as np
from hypothesis import given
from hypothesis import strategies as st

from reservoir.core.plan.hosts import ByAddress
from reservoir.core.values.addresses import Span
from reservoir.core.values.text_column import WORD, TextColumn
from reservoir.files.plain_table import Cells, KnownWords, plain_cells

words = st.text(st.sampled_from("ab,é\x00 7"), max_size=20)
columns = st.lists(words, max_size=9)


def part_of(texts: list[str], around: str) -> TextColumn:
    """The texts as a part of a column, so that others stand before and behind them."""
    return TextColumn.of([around, *texts, around])[1:-1]


@given(columns, words)
def test_a_column_of_texts_is_a_list_of_texts(texts: list[str], around: str) -> None:
    """Each of them, all of them, some of them, and their lengths in bytes."""
    column = part_of(texts, around)
    assert list(column) == texts
    assert [column[place] for place in range(len(column))] == texts
    assert column.lengths.tolist() == [len(text.encode()) for text in texts]
    assert list(column[::-1]) == texts[::-1]
    twice = TextColumn.joined([column, part_of([around], "x")])
    assert list(twice.rows(np.arange(len(twice))[::2])) == [*texts, around][::2]


@given(columns, words, st.integers(0, 24))
def test_bytes_are_looked_at_eight_at_once(texts: list[str], around: str, place: int) -> None:
    """From any place on, with zeros beyond the end whatever stands there."""
    column = part_of(texts, around)
    padded = [text.encode()[place : place + WORD].ljust(WORD, b"\0") for text in texts]
    assert column.words(place).tolist() == [int.from_bytes(p, "little") for p in padded]
    wide = [text.encode()[:24].ljust(24, b"\0") for text in texts]
    assert column.padded(24).tobytes() == b"".join(wide)


@given(columns, columns, words)
def test_texts_are_told_apart(one: list[str], other: list[str], around: str) -> None:
    """By comparing them, and by their hashes wherever these differ."""
    size = min(len(one), len(other))
    a, b = part_of(one[:size], around), part_of(other[:size], "")
    same = [x == y for x, y in zip(one, other, strict=False)]
    assert a.same_as(b).tolist() == same
    assert (a.hashes() == b.hashes())[np.array(same, dtype=bool)].all()
    assert a.same_as(a).all()


@given(columns, words, words)
def test_a_prefix_is_taken_off_all_or_none(texts: list[str], prefix: str, around: str) -> None:
    """Only if every text begins with it."""
    behind = part_of([prefix + text for text in texts], around).without(prefix)
    assert behind is not None
    assert list(behind) == texts
    rest = part_of(texts, around).without(prefix)
    begins = all(text.encode().startswith(prefix.encode()) for text in texts)
    assert (rest is not None) == begins


@given(columns)
def test_strange_characters_are_found(texts: list[str]) -> None:
    """The places of the texts that have one."""
    strange = [place for place, text in enumerate(texts) if set(text) - set("ab7")]
    assert TextColumn.of(texts).unlike("ab7").tolist() == strange


@given(columns, columns, words)
def test_known_words_have_their_numbers(known: list[str], asked: list[str], around: str) -> None:
    """All of them, or the answer is that one is not known."""
    numbers = {word: number * 7 for number, word in enumerate(known)}
    found = KnownWords(numbers).numbers_of(part_of(asked, around))
    if set(asked) <= numbers.keys():
        assert found is not None
        assert found.tolist() == [numbers[word] for word in asked]
    else:
        assert found is None


cells = st.text(st.sampled_from("ab7 é"), max_size=5)


@given(st.integers(1, 4), st.data())
def test_cells_are_where_commas_say(width: int, data: st.DataObject) -> None:
    """In plain tables; in any other, the first part that isn't plain ends the reading."""
    rows = data.draw(st.lists(st.lists(cells, min_size=width, max_size=width), max_size=6))
    text = "head\n" + "".join(",".join(row) + "\n" for row in rows)
    parts = list(plain_cells(text.encode(), 5, width, lambda _: None))
    assert all(isinstance(part, Cells) for part in parts)
    for number in range(width):
        found = [cell for part in parts if part is not None for cell in part.column(number)]
        assert found == [row[number] for row in rows]
    for odd in ('"', "\t", ",,,,,", "\r"):
        assert None in list(plain_cells((text + odd + "\n").encode(), 5, width, lambda _: None))


@given(
    st.lists(st.tuples(st.integers(0, 2), st.integers(0, 12))),
    st.tuples(st.integers(0, 2), st.integers(0, 12), st.integers(-2, 6)),
)
def test_rows_are_found_by_address(
    rows: list[tuple[int, int]], asked: tuple[int, int, int]
) -> None:
    """Those of one VRF, in a span or at an address, and those that have one address."""
    vrfs, addresses = np.array(rows, dtype=np.int64).reshape(-1, 2).T
    table = ByAddress(vrfs, addresses)
    vrf, first, size = asked
    span = Span(first, first + size)
    inside = [row for row, (v, a) in enumerate(rows) if v == vrf and span.first <= a <= span.last]
    assert sorted(table.within(vrf, span).tolist()) == (inside if size >= 0 else [])
    groups = defaultdict(list)
    for row, key in enumerate(rows):
        groups[key].append(row)
    assert table.at(vrf, first) == groups.get((vrf, first), [])
    assert table.first_at(vrfs, addresses).tolist() == [groups[key][0] for key in rows]
    repeated = sorted(group.tolist() for group in table.repeated())
    assert repeated == sorted(group for group in groups.values() if group[1:])
