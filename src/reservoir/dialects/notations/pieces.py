"""Pieces: ``key=value`` behind the words of a statement, in any order."""

from __future__ import annotations

import re
from collections.abc import Iterator
from typing import Any

from reservoir.dialects.notations.nodes import Node, Piece
from reservoir.dialects.notations.tables import ROW

_PIECE = re.compile(r"""[^ \t"']*(?:"(?:[^"\\]|\\.|"")*"|'(?:[^'\\]|\\.|'')*'|["'])?[^ \t"']*""")
"""What stands between blanks; a quoted value may have blanks in it."""
_PIECE_DOUBLED = re.compile(r"""[^ \t"']*(?:"(?:[^"]|"")*"|'(?:[^']|'')*'|["'])?[^ \t"']*""")
"""The same where a quotation sign inside is doubled, and a backslash is a character like others."""
_NEEDS_CARE = re.compile("[\t\"']|  ")
"""What keeps a statement from being cut at each blank."""
_ROW_PIECE = re.compile(
    r"""
    \[\?[ \t,;|]*"(?P<maybe_quoted>[^"]+=\{[^"]*)"[ \t]*\]
    |\[\?[ \t]*(?P<maybe>[^\]]*?)[ \t]*\]
    |"(?P<quoted>[^"=]+=[^"]*)"
    |(?P<sure>[^ \t\[]+)""",
    re.VERBOSE,
)
"""A piece of a sheet's row; where a column's name has blanks, quotation signs are around it."""


def cut(text: str, sign: str, *, doubled: bool = False) -> tuple[str, list[tuple[str, int]]]:
    """The words of a statement, and its pieces: each, and where it begins in it.

    Args:
        text: The statement.
        sign: What stands between a key and its value.
        doubled: A quotation sign inside a quoted text is doubled; else a backslash is before it.
    """
    found = list(_parts(text, doubled=doubled))
    words = next((n for n, (piece, _) in enumerate(found) if sign in piece[1:]), len(found))
    head = " ".join(piece for piece, _ in found[:words])
    return head or ROW, found[words:]


def node_of(node: Node, sign: str, *, doubled: bool = False) -> Node:
    """A statement as a node with its pieces inside it; see :func:`cut`."""
    head, pieces = cut(node.text, sign, doubled=doubled)
    node.text = head
    node.children[:0] = [
        Node(
            piece,
            node.line,
            node.column + at,
            [],
            node.start + at,
            node.start + at + len(piece),
        )
        for piece, at in pieces
    ]
    return node


class Uncut(Node):
    """A statement, which is cut into its pieces when somebody first looks into it.

    A large text is mostly read without that, line by line.
    """

    __slots__ = ("whole",)

    sign = "="
    doubled = False

    def __init__(
        self, whole: str, line: int, column: int, _children: list[Node], start: int, end: int
    ) -> None:
        self.whole = whole
        """The whole statement; empty once it is cut."""
        self.line, self.column, self.start, self.end = line, column, start, end
        self.kind, self.opens, self.inner, self.elsewhere = "", False, 0, 0

    def __getattr__(self, name: str) -> Any:
        """What it has only once it is cut."""
        if name not in ("text", "children") or not self.whole:
            raise AttributeError(name)
        self.text, self.children, self.whole = self.whole, [], ""
        node_of(self, self.sign, doubled=self.doubled)
        return getattr(self, name)


def uncut_by(sign: str, *, doubled: bool) -> type[Uncut]:
    """Statements whose pieces have this sign; see :func:`cut`."""
    return type("Uncut", (Uncut,), {"__slots__": (), "sign": sign, "doubled": doubled})


def has_pieces(line: str, sign: str) -> bool:
    """Whether a row of a sheet has pieces behind its words."""
    return any(sign in found[0][1:] for found in _ROW_PIECE.finditer(line))


def _parts(text: str, *, doubled: bool) -> Iterator[tuple[str, int]]:
    """What stands between blanks, and where it begins."""
    if _NEEDS_CARE.search(text):
        pieces = (_PIECE_DOUBLED if doubled else _PIECE).finditer(text)
        yield from ((found[0], found.start()) for found in pieces if found[0])
        return
    at = 0
    for piece in text.split(" "):
        yield piece, at
        at += len(piece) + 1


def of_row(line: str, sign: str) -> Iterator[Piece]:
    """How a row of a sheet falls into its words and its pieces."""
    found = list(_ROW_PIECE.finditer(line))
    words = next(
        (n for n, one in enumerate(found) if one[0].startswith("[?") or sign in one[0][1:]),
        len(found),
    )
    head = line[: found[words].start()] if words < len(found) else line
    yield Piece(head.rstrip(" \t") or ROW, 0, optional=False)
    for one in found[words:]:
        name = one.lastgroup or ""
        yield Piece(one[name], one.start(name), name.startswith("maybe"))
