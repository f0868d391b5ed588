"""Writes the lines that undo a DHCP configuration, for dialects that have such lines.

What refers to something is undone before it: in the reverse of the order in which the
configuration is written.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence

from reservoir.dialects.notations.nodes import Node
from reservoir.dialects.parse.node_reader import Said
from reservoir.dialects.parse.reader import read_nodes
from reservoir.dialects.sheet.model import Sheet


def withdrawal(text: str, sheet: Sheet) -> str:
    """The lines that undo all that a configuration in the sheet's dialect states about DHCP.

    Empty if the dialect has no lines for that: there, what is left out is gone. What can't be
    undone by itself, such as a word in a longer line, stays.
    """
    if not sheet.undo_words:
        return ""
    _, nodes, said = read_nodes(text, sheet)
    return sheet.notation.write(list(_undoing(nodes.top, (), sheet, said)))


def _undoing(
    nodes: Sequence[Node], around: tuple[Node, ...], sheet: Sheet, said: Mapping[Node, Said]
) -> Iterator[Node]:
    for node in reversed(nodes):
        how = said.get(node)
        if how is None:
            continue
        if not how.row.about_dhcp:
            yield from _undoing(node.children, (*around, node), sheet, said)
            continue
        taken_back: Node | None = None
        if how.row.undo is not None:
            fields = {**how.fact.fields, **dict(zip(how.row.links, how.owner, strict=True))}
            taken_back = Node(how.row.undo.write(fields, set()), kind=node.kind)
        elif sheet.undo is not None:
            taken_back = sheet.notation.undoing(around, node, sheet.undo)
        if taken_back is not None:
            yield taken_back
