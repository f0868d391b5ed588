"""Reads configuration with a sheet: nodes to facts, and what was not understood."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.facts.garbage import garbage_collection_paused
from reservoir.dialects.notations.nodes import Node, Nodes, bounded
from reservoir.dialects.parse.bulk import BulkReader
from reservoir.dialects.parse.foreign import Other, Suspicion, told_apart
from reservoir.dialects.parse.node_reader import NodeReader, Said
from reservoir.dialects.parse.not_understood import NotUnderstood, with_faults
from reservoir.dialects.parse.open_fact import OpenFact
from reservoir.dialects.sheet.model import Sheet

WORTH_BULK = 1_200
"""Characters of a text from which on reading in bulk is faster than node by node."""


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
    others: tuple[Other, ...] = field(default=(), compare=False)
    """The lines that have nothing to do with DHCP, each with what is inside it."""
    left_alone: int = 0
    """Lines that the sheet says are left alone."""
    of_ipv6: int = 0
    """Lines that name IPv6 addresses: they stay, and nothing is said of them."""
    damaged: tuple[tuple[int, int], ...] = ()
    """The first and last line of each stretch that broken notation may have made a mess of."""

    @property
    def lines_not_understood(self) -> int:
        """Lines about DHCP that were not understood."""
        return sum(unread.lines for unread in self.not_understood)


def read_configuration(text: str, sheet: Sheet, *, in_bulk: bool | None = None) -> Reading:
    """Read a configuration. Never fails: what can't be read is reported in ``not_understood``.

    Args:
        text: The configuration.
        sheet: Its dialect's.
        in_bulk: As for :func:`read_nodes`.
    """
    with garbage_collection_paused():
        return _understood(_nodes(text, sheet), sheet, text, in_bulk=in_bulk)


def read_nodes(
    text: str, sheet: Sheet, *, in_bulk: bool | None = None
) -> tuple[Reading, Nodes, dict[Node, Said]]:
    """Read a configuration; also the nodes, and what each says.

    Args:
        text: The configuration.
        sheet: Its dialect's.
        in_bulk: Whether plain blocks are read in bulk; the result is the same. If None, as is
            faster for a text of this length.
    """
    with garbage_collection_paused():
        nodes = _nodes(text, sheet)
        said: dict[Node, Said] = {}
        return _understood(nodes, sheet, text, said, in_bulk), nodes, said


def _understood(
    nodes: Nodes,
    sheet: Sheet,
    text: str,
    said: dict[Node, Said] | None = None,
    in_bulk: bool | None = None,
) -> Reading:
    """What nodes state."""
    bulk = BulkReader(sheet, said)
    if sheet.is_plain and (in_bulk or (in_bulk is None and len(text) > WORTH_BULK)):
        bulk.make(nodes.top, sheet.scope)
    reader = NodeReader(sheet, said, bulk.made)
    device = OpenFact(Fact("device", {}), "", 1)
    reader.take_all(nodes.top, sheet.scope, device)
    reader.settle(device)
    reader.finish(device)
    device.keep_lines()
    suspicion = Suspicion(sheet, device.fact)
    odd, others = told_apart(reader.others, suspicion)
    swallowed = [found for block in reader.left_blocks for found in suspicion.swallowed(block)]
    reader.diagnostics.not_understood += [*odd, *swallowed]
    return Reading(
        device=device.fact,
        not_understood=tuple(sorted(with_faults(reader.diagnostics.not_understood, nodes.faults))),
        lines=len([line for line in text.split("\n") if line.strip(" \t\r")]) - nodes.comments,
        understood=len(_lines_understood(nodes.top, sheet, set())),
        foreign=len({line for other in others for line in other.lines}),
        others=tuple(others),
        left_alone=len(reader.left_alone),
        comments=nodes.comments,
        of_ipv6=len(reader.of_ipv6),
        damaged=tuple((fault.since or fault.line, fault.line) for fault in nodes.faults),
    )


def _nodes(text: str, sheet: Sheet) -> Nodes:
    """The nodes of a text; pieces of a line are nested no deeper."""
    nodes = sheet.notation.read(text, sheet.scope)
    return nodes if sheet.notation.is_flat else bounded(nodes)


def _lines_understood(nodes: Sequence[Node], sheet: Sheet, lines: set[int]) -> set[int]:
    """Adds the lines that begin something that was understood; pieces are on their record's."""
    lines.update([node.line for node in nodes if node.kind])
    for node in nodes:
        if not (node.kind and sheet.notation.is_flat) and node.children:
            _lines_understood(node.children, sheet, lines)
    return lines
