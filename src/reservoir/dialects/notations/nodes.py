"""What all carriers have in common: nodes, and how a carrier is asked for them.

A node is a piece of configuration with what is inside it, whatever the notation: a line and
its block, a section and its lines, an element and its attributes and elements, a member and what
it holds. Its text is what the sheet's rows are matched against. Where a notation leaves the
order of pieces free (attributes, members, ``key=value``), each piece is a node inside.
"""

from __future__ import annotations

import re
from abc import ABC, abstractmethod
from collections.abc import Callable, Iterable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from functools import lru_cache
from typing import ClassVar, NamedTuple

from reservoir.dialects.forms.form import Form
from reservoir.dialects.forms.texts import Text


@dataclass(frozen=True)
class Nesting:
    """How a notation nests, as a sheet's header says it; each carrier uses what it needs."""

    indent: int = 2
    """Blanks that the writer puts before each deeper line."""
    end: str = ""
    """The word that closes a block; without it, indentation alone says what is inside."""
    opens: str = ""
    """What a line that opens a block ends with, where blocks are closed by a word."""
    begins: str = ""
    """Or what it begins with."""
    separator: str = ""
    """What stands between a path's steps."""
    assign: str = "="
    """What stands between a key and its value; blanks around it are free when it is read."""
    files: str = ""
    """How the names of files begin where a device's configuration is several; else nothing."""
    also: str = ""
    """What ends the name of a file's folder with more files, which are read after it."""
    once: str = ""
    """The sections that are one however often they begin: what is said last there counts."""

    def is_opening(self, line: str) -> bool:
        """Whether a line opens a block, where blocks are closed by a word."""
        return line.startswith(self.begins) if self.begins else line.endswith(self.opens)


@dataclass(slots=True, eq=False)
class Node:
    """A piece of configuration and what is inside it.

    Compared by identity, so that what is known of it can be kept in a table by itself.
    """

    text: str
    line: int = 0
    column: int = 0
    """From 1: where it begins in its line."""
    children: list[Node] = field(default_factory=list)
    start: int = 0
    end: int = 0
    """Offsets in the whole text: of its first line, or of itself where others share its line."""
    kind: str = ""
    """The kind of fact that it opens or belongs to, once a sheet has been laid on it."""


def all_nodes(nodes: Iterable[Node]) -> Iterator[Node]:
    """The nodes and those inside them, however deep."""
    for node in nodes:
        yield node
        if node.children:
            yield from all_nodes(node.children)


class Fault(NamedTuple):
    """A place where the notation itself is broken."""

    line: int
    column: int
    message: str
    since: int = 0
    """The line from which on, up to its own, what is read may be wrong because of it."""
    opened: tuple[int, int] | None = None
    """Where the piece begins that it is the end of; if that isn't understood, it says nothing."""


@dataclass(frozen=True)
class Nodes:
    """A whole text as nodes."""

    top: list[Node]
    comments: int
    """Comments in it."""
    faults: list[Fault]


DEEPEST = 64
"""Levels of nesting beyond which nothing is read; no device's configuration comes near."""


def bounded(nodes: Nodes) -> Nodes:
    """The nodes without what is nested too deeply, which is a fault at its place."""
    faults = list(nodes.faults)
    level = nodes.top
    for _ in range(DEEPEST):
        level = [child for node in level for child in node.children]
    for node in level:
        if node.children:
            message = f"this is nested more than {DEEPEST} levels deep, and is not read"
            faults.append(Fault(node.line, node.column, message))
            node.children = []
    return Nodes(nodes.top, nodes.comments, sorted(faults)) if level else nodes


def as_far_as_it_goes(read: Callable[[bool], Nodes]) -> Nodes:
    """What is read by the signs of the notation alone; if these don't add up, by the layout too.

    Args:
        read: Reads the text; told whether the layout counts where signs are missing.
    """
    nodes = read(False)
    return read(True) if nodes.faults else nodes


class TextEdit(NamedTuple):
    """A change of a text: what stands from one offset to another is replaced."""

    start: int
    end: int
    text: str
    """Its line ends are ``\\n``, whatever the text has."""


class Spot(NamedTuple):
    """A place among the nodes that were read from a text."""

    around: tuple[Node, ...]
    """The nodes that it is in, the outermost first."""
    after: Node | None
    """The neighbour before it, if there is one."""
    before: Node | None
    """Else the one after it; neither is the end of what is inside."""


def back_over(blanks: str, text: str, offset: int) -> int:
    """Where the blanks before an offset begin."""
    while offset and text[offset - 1] in blanks:
        offset -= 1
    return offset


def blanks_at(text: str, offset: int) -> str:
    """The blanks and tabs that the line in which something stands begins with."""
    start = text.rfind("\n", 0, offset) + 1
    found = _BLANKS.match(text, start)
    return found[0] if found else ""


_BLANKS = re.compile("[ \\t]*")


def is_first(text: str, offset: int) -> bool:
    """Whether what is there is the first on its line."""
    return blanks_at(text, offset) == text[text.rfind("\n", 0, offset) + 1 : offset]


class Undo(NamedTuple):
    """How a line is undone: what stands before it then, and after it."""

    before: str
    after: str


class Piece(NamedTuple):
    """A part of a sheet's row that is a node of its own, inside that of the row's head."""

    text: str
    column: int
    """From 0 in the row."""
    optional: bool


@dataclass(frozen=True)
class Notation(ABC):
    """A notation: text to nodes, and nodes to text."""

    nesting: Nesting
    comments: tuple[str, ...] = ()
    """Signs that begin a comment."""
    pairs: tuple[tuple[str, str], ...] = ()
    """Signs between which all is a comment, over lines; the first of them begins a line."""
    words: ClassVar[tuple[str, ...]] = ()
    """The words of a header's ``nest`` that mean something to it."""
    line_by_line: ClassVar[bool] = False
    """Whether a device takes a text line by line; else as a whole, at once."""
    has_comment_pairs: ClassVar[bool] = False
    """Whether a sheet may name pairs of signs around its comments."""
    has_undo: ClassVar[bool] = False
    """Whether a line may undo another; else what is left out is gone."""
    has_pieces: ClassVar[bool] = False
    """Whether what is in a node stands on its own line."""
    quotes: ClassVar[bool] = True
    """Whether free text is quoted as the sheet's header says; else it has its own escapes."""

    @abstractmethod
    def read(self, text: str) -> Nodes:
        """The nodes of a text. Never fails; what is broken is among the faults."""

    @abstractmethod
    def write(self, nodes: Sequence[Node]) -> str:
        """The text of nodes."""

    @abstractmethod
    def cut(self, text: str, around: Sequence[Node], node: Node) -> list[TextEdit]:
        """What takes a node, with all that is in it, out of the text that it was read from."""

    @abstractmethod
    def put(self, text: str, spot: Spot, nodes: Sequence[Node]) -> list[TextEdit]:
        """What puts new nodes into a text, the rest of which stays as it is."""

    @abstractmethod
    def swap(self, text: str, around: Sequence[Node], node: Node, new: Node) -> list[TextEdit]:
        """What puts a new node where one that was read stands."""

    def edited(self, text: str, edits: Iterable[TextEdit]) -> str:
        """The text with changes that don't overlap; those at one offset in their order."""
        parts, done = [], 0
        newline = "\r\n" if "\r\n" in text else "\n"
        for edit in sorted(edits, key=lambda edit: edit[:2]):
            parts += [text[done : edit.start], edit.text.replace("\n", newline)]
            done = edit.end
        return "".join([*parts, text[done:]])

    def undone(self, node: Node, undo: Undo) -> Node | None:
        """The node that a node undoes; None if it undoes nothing."""
        text = node.text
        if not (text.startswith(undo.before) and text.endswith(undo.after)):
            return None
        inner = text[len(undo.before) : len(text) - len(undo.after)]
        return replace(node, text=inner)

    def undoing(self, around: Sequence[Node], node: Node, undo: Undo) -> Node | None:
        """The node that undoes a node in others; None if there is none."""
        return None

    def pieces(self, line: str) -> Iterator[Piece]:
        """How a row of a sheet falls into its head, which comes first, and further pieces.

        Raises:
            MalformedValueError: no such line can are in the notation.
        """
        yield Piece(line, 0, optional=False)

    def text_form(self, text: Text) -> Form:
        """How free text is in a node's text; ``text`` is what the header says."""
        return text

    def item_form(self, form: Form) -> Form:
        """How a value is in a list."""
        return form

    def uncut_lines(self, nodes: Sequence[Node]) -> Sequence[str] | None:
        """The lines of nodes that are still to be cut into pieces; None if they are none."""
        return None

    def is_comment(self, line: str) -> bool:
        """Whether a line without the blanks before it is a comment."""
        return bool(self.comments) and line.startswith(self.comments)

    def normal(self, line: str) -> str:
        """A row's line in the spelling that nodes' texts have."""
        return line


def without_pairs(text: str, pairs: tuple[tuple[str, str], ...]) -> tuple[str, int]:
    """A text with blanks for what is between pairs of signs, and how many lines then say nothing.

    Everything else stays where it is. What begins and doesn't end is no comment: somebody has to
    look at it.
    """
    ends = {begin: end for begin, end in pairs if begin in text}
    parts, done = list[str](), 0
    while ends and (found := _beginning(tuple(ends)).search(text, done)):
        end = text.find(ends[found[1]], found.end())
        if end < 0:
            del ends[found[1]]  # no comment of the kind ends any more
            continue
        end += len(ends[found[1]])
        parts += text[done : found.start()], re.sub(r"[^\r\n]", " ", text[found.start() : end])
        done = end
    if not parts:
        return text, 0
    blanked = "".join([*parts, text[done:]])
    both = zip(text.split("\n"), blanked.split("\n"), strict=True)
    return blanked, sum(bool(was.strip()) and not now.strip() for was, now in both)


@lru_cache(maxsize=1 << 6)
def _beginning(signs: tuple[str, ...]) -> re.Pattern[str]:
    return re.compile(rf"^[ \t]*({'|'.join(map(re.escape, signs))})", re.MULTILINE)


def line_nodes(
    text: str,
    comments: tuple[str, ...],
    made: type[Node] = Node,
    pairs: tuple[tuple[str, str], ...] = (),
) -> tuple[list[Node], int]:
    """A node for each line that says something, and how many lines are comments.

    Only ``\\n`` ends a line; only blanks, tabs and a carriage return around it don't count.
    """
    nodes: list[Node] = []
    text, skipped = without_pairs(text, pairs)
    start = 0
    add = nodes.append
    for number, raw in enumerate(text.split("\n"), start=1):
        end = start + len(raw) + 1
        said = raw.strip(" \t\r")
        if said and comments and said.startswith(comments):
            skipped += 1
        elif said:
            column = 1 if said is raw else raw.index(said[0]) + 1
            add(made(said, number, column, [], start, end))
        start = end
    return nodes, skipped


def spaced(nodes: Sequence[Node], rendered: Iterable[Sequence[str]]) -> list[str]:
    """The lines of all nodes, with an empty one between blocks and between kinds."""
    result: list[str] = []
    kind, was_long = "", False
    for node, lines in zip(nodes, rendered, strict=True):
        is_long = len(lines) > 1
        if result and (was_long or is_long or node.kind != kind):
            result.append("")
        result += lines
        kind, was_long = node.kind, is_long
    return result


def joined(lines: Iterable[str]) -> str:
    """Lines as a text."""
    return "".join([f"{line}\n" for line in lines])
