"""Reads configuration with a sheet: nodes to facts, and what was not understood."""

from __future__ import annotations

from bisect import bisect_left
from collections.abc import Sequence
from dataclasses import dataclass, replace
from operator import attrgetter

from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.facts.garbage import garbage_collection_paused
from reservoir.dialects.notations.nodes import Fault, Node, Nodes, all_nodes
from reservoir.dialects.parse.node_reader import NodeReader, Said
from reservoir.dialects.parse.not_understood import (
    NotUnderstood,
    with_faults,
)
from reservoir.dialects.parse.open_fact import OpenFact
from reservoir.dialects.sheet.model import Sheet


@dataclass(frozen=True)
class Reading:
    """What a configuration states."""

    device: Fact
    """The device; every other fact is in it or deeper."""
    not_understood: tuple[NotUnderstood, ...]
    """What is about DHCP and was not understood, by line."""
    lines: int
    """Lines with something on them, comments not counted."""
    understood: int
    """Lines that begin something that was understood."""
    foreign: int
    """Lines that have nothing to do with DHCP; no fault of theirs."""
    comments: int

    @property
    def lines_not_understood(self) -> int:
        """Lines about DHCP that were not understood."""
        return sum(unread.lines for unread in self.not_understood)


FAST_FROM_LINES = 2_000
"""Shorter texts are read before the fast road's expressions would have been compiled."""


def read_configuration(text: str, sheet: Sheet) -> Reading:
    """Read a configuration. Never fails: what can't be read is reported in ``unread``."""
    if text.count("\n") < FAST_FROM_LINES:
        return read_exactly(text, sheet)
    return read_fast(text, sheet)


def read_exactly(text: str, sheet: Sheet) -> Reading:
    """Read a configuration node by node."""
    return _understood(sheet.notation.read(text), sheet, text)


def read_nodes(text: str, sheet: Sheet) -> tuple[Reading, Nodes, dict[int, Said]]:
    """Read a configuration node by node; also the nodes, and by the ``id`` of each what it says."""
    nodes = sheet.notation.read(text)
    said: dict[int, Said] = {}
    return _understood(nodes, sheet, text, said), nodes, said


def read_fast(text: str, sheet: Sheet) -> Reading:
    """Read well-formed blocks in bulk and the rest node by node; the result is the same."""
    from reservoir.dialects.parse.bulk import fast_reader  # late: costs NumPy

    with garbage_collection_paused():
        bulk = fast_reader(sheet).understand(text)
        if bulk is None:
            return read_exactly(text, sheet)
        nodes = sheet.notation.read(bulk.rest)
        numbers = bulk.rest_lines
        for node in all_nodes(nodes.top):
            node.line = numbers[node.line - 1]
        faults = [_moved(fault, numbers) for fault in nodes.faults]
        moved = Nodes(nodes.top, nodes.comments, faults)
        reading = _understood(moved, sheet, bulk.rest, known=(bulk.facts, bulk.before))
        return replace(
            reading,
            lines=reading.lines + bulk.lines,
            understood=reading.understood + bulk.understood,
        )


def _moved(fault: Fault, numbers: Sequence[int]) -> Fault:
    """A fault in a text of some lines only, as it is in the whole; ``numbers`` are theirs."""
    opened = fault.opened and (numbers[fault.opened[0] - 1], fault.opened[1])
    since = numbers[fault.since - 1] if fault.since else 0
    return Fault(numbers[fault.line - 1], fault.column, fault.message, since, opened)


def _understood(
    nodes: Nodes,
    sheet: Sheet,
    text: str,
    said: dict[int, Said] | None = None,
    known: tuple[list[Fact], int] = ([], 1),
) -> Reading:
    """What nodes state, and facts that are known already, all before a line."""
    facts, before = known
    reader = NodeReader(sheet, said)
    device = OpenFact(Fact("device", {}), "", 1)
    children = device.fact.children
    split = bisect_left(nodes.top, before, key=_last_line)
    reader.take_all(nodes.top[:split], sheet.scope, device)
    children += facts
    if len(children) > len(facts) > 0:
        children.sort(key=attrgetter("line"))
    reader.take_all(nodes.top[split:], sheet.scope, device)
    reader.settle(device)
    reader.finish(device)
    device.fact.said = device.said
    return Reading(
        device=device.fact,
        not_understood=tuple(sorted(with_faults(reader.diagnostics.not_understood, nodes.faults))),
        lines=sum(1 for line in text.split("\n") if line.strip(" \t\r")) - nodes.comments,
        understood=len({node.line for node in all_nodes(nodes.top) if node.kind}),
        foreign=len(reader.foreign),
        comments=nodes.comments,
    )


def _last_line(node: Node) -> int:
    """The line of the last node in a node, however deep."""
    while node.children:
        node = node.children[-1]
    return node.line
