"""The difference between two texts, by lines, as people and tools read it (unified format)."""

from __future__ import annotations

from bisect import bisect
from collections import Counter
from collections.abc import Iterator, Sequence
from difflib import Match, SequenceMatcher


def unified_difference(
    before: Sequence[str], after: Sequence[str], names: tuple[str, str], context: int
) -> Iterator[str]:
    """The lines of a unified difference; none if the texts are the same.

    Args:
        before: The lines of the first text, without line ends.
        after: The lines of the second.
        names: What the two are called.
        context: Unchanged lines that are shown around each change.
    """
    matcher = _LineMatcher(before, after)
    for number, hunk in enumerate(matcher.get_grouped_opcodes(context)):
        if number == 0:
            yield from (f"--- {names[0]}", f"+++ {names[1]}")
        extents = (_extent(hunk[0][1], hunk[-1][2]), _extent(hunk[0][3], hunk[-1][4]))
        yield f"@@ -{extents[0]} +{extents[1]} @@"
        for kind, i, j, k, m in hunk:
            yield from (f"{' ' if kind == 'equal' else '-'}{line}" for line in before[i:j])
            yield from (f"+{line}" for line in after[k:m] if kind != "equal")


def _extent(begin: int, end: int) -> str:
    """Lines as a hunk's head states them: from 1, and how many unless it is one."""
    count = end - begin
    return f"{begin + 1}" if count == 1 else f"{begin + (count > 0)},{count}"


class _LineMatcher(SequenceMatcher[str]):
    """Matches long texts piece by piece: lines that both have once are where the pieces end.

    The matcher of the standard library takes time that grows with the square of the changes.
    """

    def __init__(self, before: Sequence[str], after: Sequence[str]) -> None:
        super().__init__(None, before, after, autojunk=False)
        self._before, self._after = before, after

    def get_matching_blocks(self) -> list[Match]:
        before, after = self._before, self._after
        blocks: list[Match] = []
        i = j = 0
        for next_i, next_j in [*self._anchors(), (len(before), len(after))]:
            piece = SequenceMatcher(None, before[i:next_i], after[j:next_j], autojunk=False)
            blocks += [Match(i + a, j + b, size) for a, b, size in piece.get_matching_blocks()[:-1]]
            blocks.append(Match(next_i, next_j, int(next_i < len(before))))
            i, j = next_i + 1, next_j + 1
        return list(_joined(blocks))

    def _anchors(self) -> list[tuple[int, int]]:
        """The longest row, ascending in both texts, of lines that each text has once."""
        in_before, in_after = Counter(self._before), Counter(self._after)
        places = {line: place for place, line in enumerate(self._after)}
        once = [
            (place, places[line])
            for place, line in enumerate(self._before)
            if in_before[line] == in_after[line] == 1
        ]
        # The longest ascending row by patience: of rows of each length, the smallest last place.
        lasts: list[int] = []
        ends: list[int] = []
        previous: list[int | None] = []
        for number, (_, place) in enumerate(once):
            length = bisect(lasts, place)
            previous.append(ends[length - 1] if length else None)
            lasts[length : length + 1], ends[length : length + 1] = [place], [number]
        row, at = [], ends[-1] if ends else None
        while at is not None:
            row.append(once[at])
            at = previous[at]
        return row[::-1]


def _joined(blocks: Sequence[Match]) -> Iterator[Match]:
    """The blocks, those that touch in both texts as one; the last is empty."""
    a = b = size = 0
    for block in blocks[:-1]:
        if (block.a, block.b) == (a + size, b + size):
            size += block.size
        else:
            if size:
                yield Match(a, b, size)
            a, b, size = block
    if size:
        yield Match(a, b, size)
    yield blocks[-1]
