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
        self._taken: dict[object, set[int]] = defaultdict(set)
        self._last: dict[object, int] = defaultdict(int)
        for said in neighbours:
            if said.number is not None:
                self._taken[_counted(said)].add(said.number)

    def pass_by(self, said: Said | None) -> None:
        """Note that what comes now stands after this."""
        if said is not None and said.number is not None:
            self._last[_counted(said)] = said.number

    def numbered(self, node: Node, said: Said) -> Node:
        """The node with the number after the one before it; if that is taken, the lowest free."""
        if said.number is None:
            return node
        taken = self._taken[_counted(said)]
        number = self._last[_counted(said)] + 1
        if number in taken:
            number = next(free for free in range(1, len(taken) + 2) if free not in taken)
        taken.add(number)
        self._last[_counted(said)] = number
        return numbered(node, said, number)


def _counted(said: Said) -> object:
    """What is counted together: facts of a kind, or the items that a row states."""
    return said.row.kind or said.row.number


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
    number_text = row.pattern.slots[place - 1].form.write(number)
    return text[: found.start(place)] + number_text + text[found.end(place) :]
