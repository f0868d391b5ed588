"""Carriers: configuration text to nodes. A node is a line and what stands inside it."""

from __future__ import annotations

from dataclasses import dataclass, field

from reservoir.dialects.sheet import Sheet


@dataclass(slots=True)
class Node:
    """A line, without its indentation, and the lines inside it."""

    text: str
    line: int
    column: int
    """From 1: where the text begins in its line."""
    children: list[Node] = field(default_factory=list)


@dataclass(frozen=True)
class Nodes:
    """A whole text as nodes."""

    top: list[Node]
    comments: int
    """Lines that are comments."""
    faults: list[tuple[int, int, str]]
    """Line, column and message of what is wrong with the nesting."""


def nodes_of(text: str, sheet: Sheet) -> Nodes:
    """Read text as nested lines.

    Only blanks, tabs and line ends count as white space; other characters that look like it
    are part of what is written.
    """
    if sheet.nesting.end:
        return _closed_by_word(text, sheet)
    return _by_indentation(text, sheet)


def _by_indentation(text: str, sheet: Sheet) -> Nodes:
    top: list[Node] = []
    comments = 0
    open_nodes: list[tuple[int, Node]] = []
    for number, raw in enumerate(text.split("\n"), start=1):
        line = raw.rstrip(" \t\r")
        content = line.lstrip(" \t")
        if not content:
            continue
        if sheet.comment and content.startswith(sheet.comment):
            comments += 1
            continue
        indent = len(line) - len(content)
        while open_nodes and open_nodes[-1][0] >= indent:
            open_nodes.pop()
        node = Node(content, number, indent + 1)
        (open_nodes[-1][1].children if open_nodes else top).append(node)
        open_nodes.append((indent, node))
    return Nodes(top, comments, [])


def _closed_by_word(text: str, sheet: Sheet) -> Nodes:
    top: list[Node] = []
    comments = 0
    faults: list[tuple[int, int, str]] = []
    open_nodes: list[Node] = []
    end, opens = sheet.nesting.end, sheet.nesting.opens
    for number, raw in enumerate(text.split("\n"), start=1):
        content = raw.strip(" \t\r")
        if not content:
            continue
        column = raw.index(content[0]) + 1
        if sheet.comment and content.startswith(sheet.comment):
            comments += 1
        elif content == end:
            if open_nodes:
                open_nodes.pop()
            else:
                faults.append((number, column, f"{end!r} closes nothing here"))
        else:
            node = Node(content, number, column)
            (open_nodes[-1].children if open_nodes else top).append(node)
            if content.endswith(opens):
                open_nodes.append(node)
    for node in open_nodes:
        faults.append(
            (node.line, node.column, f"the block {node.text!r} is not closed with {end!r}")
        )
    return Nodes(top, comments, faults)
