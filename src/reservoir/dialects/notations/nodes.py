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
from dataclasses import dataclass, field
from typing import ClassVar, NamedTuple, Protocol

from reservoir.dialects.forms.form import Form
from reservoir.dialects.forms.texts import Text


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
    """Offsets in the whole text, of itself with the signs that end or close it."""
    kind: str = ""
    """The kind of fact that it opens or belongs to, once a sheet has been laid on it."""
    opens: bool = False
    """Whether signs or words stand around what is inside it, be there anything or not."""
    inner: int = 0
    """The offset behind the sign that opens it, where one does."""
    elsewhere: int = 0
    """So many of its text's first characters stand elsewhere: the name of a column."""

    def holding(self, children: list[Node]) -> Node:
        """The node with something else inside it."""
        place = self.line, self.column, children, self.start, self.end
        return Node(self.text, *place, self.kind, self.opens, self.inner, self.elsewhere)

    def saying(self, text: str) -> Node:
        """The node with another text, at the same place and with the same inside it."""
        place = self.line, self.column, self.children, self.start, self.end
        return Node(text, *place, self.kind, self.opens, self.inner, self.elsewhere)


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


def end_of(node: Node) -> int:
    """Where a node ends with all that is in it."""
    return max([node.end, *map(end_of, node.children)])


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
    instead: str = ""
    """What the line itself begins with, which isn't there when it is undone."""

    def undone(self, text: str) -> str | None:
        """The line that a line undoes; None if it undoes nothing."""
        if not (text.startswith(self.before) and text.endswith(self.after)):
            return None
        return self.instead + text[len(self.before) : len(text) - len(self.after)]

    def undoing(self, text: str) -> str:
        """The line that undoes a line."""
        return f"{self.before}{text.removeprefix(self.instead)}{self.after}"


class Piece(NamedTuple):
    """A part of a sheet's row that is a node of its own, inside that of the row's head."""

    text: str
    column: int
    """From 0 in the row."""
    optional: bool


class LineLike(Protocol):
    """The line of a sheet's row, as far as a notation has to know it."""

    @property
    def match(self) -> Callable[[str], re.Match[str] | None]:
        """Matches a whole line."""

    @property
    def begins(self) -> str:
        """The literal text that it begins with."""

    def before(self, following: str) -> str:
        """A regular expression for it where one of some characters follows."""


class RowLike(Protocol):
    """A row of a sheet, as far as a notation has to know it."""

    @property
    def pattern(self) -> LineLike:
        """Its line."""

    @property
    def repeat(self) -> str:
        """``*`` many, ``?`` perhaps, empty for exactly one."""

    @property
    def is_item(self) -> bool:
        """Whether it is a line for each item of a list."""

    @property
    def scope(self) -> ScopeLike:
        """The rows that may be inside."""


class ScopeLike(Protocol):
    """Rows that may stand in one place."""

    @property
    def rows(self) -> Sequence[RowLike]:
        """All of them."""

    def candidates(self, text: str) -> Sequence[RowLike]:
        """The rows that a text may be, by its first word."""


@dataclass(frozen=True)
class Notation(ABC):
    """A notation: text to nodes, and nodes to text."""

    indent: int = 2
    """Blanks that the writer puts before each deeper line."""
    files: str = ""
    """How the names of files begin where a device's configuration is several; else nothing."""
    once: frozenset[str] = frozenset()
    """The headings that are one however often they begin: what is said last there counts."""
    comments: tuple[str, ...] = ()
    """Signs that begin a comment."""
    line_by_line: ClassVar[bool] = False
    """Whether a device takes a text line by line; else as a whole, at once."""
    dash: str = ""
    """The sign that begins an item, where one does."""
    has_undo: ClassVar[bool] = False
    """Whether a line may undo another; else what is left out is gone."""
    quotes: ClassVar[bool] = True
    """Whether free text is quoted as the sheet's header says; else it has its own escapes."""

    @abstractmethod
    def read(self, text: str, rows: ScopeLike) -> Nodes:
        """The nodes of a text. Never fails; what is broken is among the faults.

        Args:
            text: The text.
            rows: Those of the sheet's top level, for what no sign tells.
        """

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

    @property
    def is_flat(self) -> bool:
        """Whether nothing is inside a statement but what stands on its own line."""
        return False

    def on_line(self, node: Node) -> Sequence[Node]:
        """Of what is inside a node, what stands on its own line."""
        return ()

    def inside(self, node: Node) -> Sequence[Node]:
        """The others."""
        return node.children

    def is_on_line(self, line: str, around: str) -> bool:
        """Whether a row that is under another one in a sheet stands on the line of that."""
        return False

    def opening(self, line: str) -> str:
        """What a line begins with if that only opens a block, and tells none from another."""
        return ""

    def why_not_inside(self, line: str, *, has_lines: bool) -> str:
        """Why a row that looks so can't have lines inside it, or has to; empty if it is fine."""
        return ""

    def with_remark(self, line: str, remark: str) -> str:
        """A statement's text with a remark for whoever carries it out by hand."""
        return line

    def as_openings(self, text: str) -> Sequence[str]:
        """The lines that a text may be that names a line without the sign that opens its block."""
        return (text,)

    def undoing(self, around: Sequence[Node], node: Node, undo: Undo) -> Node | None:
        """The node that undoes a node in others; None if there is none."""
        return None

    def pieces(self, line: str, *, is_item: bool = False) -> Iterator[Piece]:
        """How a row of a sheet falls into its head, which comes first, and further pieces.

        Args:
            line: The row's.
            is_item: It is a line for each item of a list.

        Raises:
            MalformedValueError: no such line can be in the notation.
        """
        yield Piece(line, 0, optional=False)

    @property
    def avoid(self) -> str:
        """A regular expression for what means something wherever it stands outside of quotes."""
        return ""

    @property
    def between_steps(self) -> str:
        """The sign between steps, where a statement has such."""
        return ""

    @property
    def between_rows(self) -> str:
        """What is written between a row and one inside it, where both are on one line."""
        return ""

    def text_form(self, text: Text) -> Form:
        """How free text is in a node's text; ``text`` is what the header says."""
        return text

    def cell_form(self, text: Form) -> Form:
        """How free text is in the cell of a table."""
        return text

    def item_form(self, form: Form) -> Form:
        """How a value is in a list."""
        return form

    def uncut_lines(self, nodes: Sequence[Node]) -> Sequence[str] | None:
        """The lines of nodes that are still to be cut into pieces; None if they are none."""
        return None

    def normal(self, line: str, *, is_row: bool = False) -> str:
        """A line, or that of a sheet's row, in the spelling that nodes' texts have."""
        return line


def spaced(
    nodes: Sequence[Node],
    rendered: Iterable[Sequence[str]],
    is_apart: Callable[[str], bool] = lambda text: False,
) -> list[str]:
    """The lines of all nodes, with an empty one between blocks and between kinds.

    Also around the nodes whose text is apart.
    """
    result: list[str] = []
    kind, was_long = "", False
    for node, lines in zip(nodes, rendered, strict=True):
        is_long = len(lines) > 1 or is_apart(node.text)
        if result and (was_long or is_long or node.kind != kind):
            result.append("")
        result += lines
        kind, was_long = node.kind, is_long
    return result


def joined(lines: Iterable[str]) -> str:
    """Lines as a text."""
    return "".join([f"{line}\n" for line in lines])
