"""Running numbers of what is put among neighbours in a text that is there."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterable

from reservoir.dialects.facts.kinds import RUNNING_NUMBER
from reservoir.dialects.notations.nodes import Node
from reservoir.dialects.parse.node_reader import Said
from reservoir.dialects.sheet.model import Row


class Numbers:
    """Running numbers for what is new among neighbours: none that one of them has."""

    def __init__(self, neighbours: Iterable[Said] = ()) -> None:
        """Note the numbers that stay."""
        self._taken: dict[str, set[int]] = defaultdict(set)
        self._last: dict[str, int] = defaultdict(int)
        for said in neighbours:
            if said.number is not None:
                self._taken[said.row.kind].add(said.number)

    def pass_by(self, said: Said | None) -> None:
        """Note that what comes now stands after this."""
        if said is not None and said.number is not None:
            self._last[said.row.kind] = said.number

    def numbered(self, node: Node, said: Said) -> Node:
        """The node with the number after the one before it; if that is taken, the lowest free."""
        if said.number is None:
            return node
        taken = self._taken[said.row.kind]
        number = self._last[said.row.kind] + 1
        if number in taken:
            number = next(free for free in range(1, len(taken) + 2) if free not in taken)
        taken.add(number)
        self._last[said.row.kind] = number
        return numbered(node, said, number)


def numbered(node: Node, said: Said, number: int | None) -> Node:
    """The node with another running number, if it has one."""
    if number is None or said.number is None:
        return node
    text = renumbered(said.row, node.text, number)
    return Node(text, children=node.children, kind=node.kind)


def renumbered(row: Row, text: str, number: int) -> str:
    """A line of a row with another running number."""
    found = row.pattern.match(text)
    place = [slot.field for slot in row.pattern.slots].index(RUNNING_NUMBER) + 1
    return text[: found.start(place)] + str(number) + text[found.end(place) :]
