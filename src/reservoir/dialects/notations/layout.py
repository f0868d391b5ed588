"""Text made of statements, laid out as a sheet's header says.

What real formats combine are a few independent choices: where a statement ends, what is inside
another one, whether headings hold until the next, whether there are tables, whether pieces come in
any order, whether a statement says step by step where it belongs. Each is a word of the header.
"""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property
from typing import ClassVar

from reservoir.dialects.forms.form import Form
from reservoir.dialects.forms.texts import Enclosed
from reservoir.dialects.notations import pieces as statement_pieces
from reservoir.dialects.notations.blocks import BlockReader, Wording, Words, indented
from reservoir.dialects.notations.edits import Edits
from reservoir.dialects.notations.files import FILE_MARK
from reservoir.dialects.notations.headings import Headings, inside_of
from reservoir.dialects.notations.nodes import (
    Node,
    Nodes,
    Notation,
    Piece,
    ScopeLike,
    Spot,
    TextEdit,
    Undo,
    as_far_as_it_goes,
    bounded,
    joined,
    spaced,
)
from reservoir.dialects.notations.paths import BLANKS as PATH_BLANKS
from reservoir.dialects.notations.paths import Paths
from reservoir.dialects.notations.scanning import Signs, scanned
from reservoir.dialects.notations.tables import GIVEN, ROW, Tables, is_row

NO_WORDS = Words((), ())


@dataclass(frozen=True)
class Layout(Notation):
    """How statements are told apart, and what is inside them."""

    signs: Signs = Signs()
    """Where statements end, and what says nothing."""
    words: Words = NO_WORDS
    """Words that open blocks and close them."""
    by_indentation: bool = False
    """What stands deeper is inside."""
    heading: tuple[Wording, ...] = ()
    """Lines that hold until the next one."""
    also: str = ""
    """What ends the name of a file's folder with more files, which are read after it."""
    assign: str = ""
    """What stands between a key and its value; blanks around it are free when it is read."""
    key_sign: str = ""
    """What stands between key and value of the pieces of a statement."""
    path: str = ""
    """What stands between the steps of a statement."""
    table: str = ""
    """What stands between the cells of tables."""
    undo: Undo | None = None
    """How any line is undone."""
    line_by_line: ClassVar[bool] = True
    has_undo: ClassVar[bool] = True

    @property
    def has_blocks(self) -> bool:
        """Whether what is inside a statement stands on lines, or between signs, of its own."""
        return self.by_indentation or bool(self.words.opens or self.signs.opens)

    @cached_property
    def is_flat(self) -> bool:
        """Whether nothing is inside a statement but its own pieces."""
        others = self.has_blocks or self.heading or self.path or self.table
        return bool(self.key_sign) and not others

    @property
    def nests(self) -> bool:
        """Whether anything may be inside a statement."""
        return bool(self.has_blocks or self.heading or self.path or self.key_sign or self.files)

    @cached_property
    def tables(self) -> Tables:
        """The tables, if there are some."""
        return Tables(self.table, self.is_apart, self.signs.tick, self.undo)

    def is_apart(self, text: str) -> bool:
        """Whether a line that begins so is none of a table: a comment, a heading."""
        signs = self.signs
        return self.is_heading(text) or text.startswith(
            (*signs.in_text(), *signs.remarks, *(begin for begin, _ in signs.pairs))
        )

    @property
    def avoid(self) -> str:
        """A regular expression for what means something wherever it stands outside of quotes."""
        behind = (f"(?:^|(?<=[ \\t])){re.escape(sign)}" for sign in self.signs.trailing)
        return "|".join([*map(re.escape, self.signs.in_text()), *behind])

    @property
    def between_rows(self) -> str:
        """What is written between a row and one inside it, where both are on one line."""
        return self.paths.between if self.path else ""

    @property
    def between_steps(self) -> str:
        """The sign between steps, where a statement has such."""
        return "" if self.path == PATH_BLANKS else self.path.strip()

    @cached_property
    def paths(self) -> Paths:
        """The steps, if there are some."""
        return Paths(self.path, self.undo)

    @cached_property
    def _made(self) -> type[Node]:
        doubled = self.signs.doubled
        return statement_pieces.uncut_by(self.key_sign, doubled=doubled) if self.is_flat else Node

    @cached_property
    def _edits(self) -> Edits:
        return Edits(self)

    def read(self, text: str, rows: ScopeLike) -> Nodes:
        return as_far_as_it_goes(lambda by_layout: self._read(text, rows, by_layout))

    def _read(self, text: str, rows: ScopeLike, by_layout: bool) -> Nodes:
        found = scanned(text, self.signs, self._made)
        if self.signs.opens or self.words.opens:
            reader = BlockReader(self.words, self.signs.closes, by_layout)
            reader.read(found.parts)
            top, faults = reader.top, reader.faults
        else:
            top, faults = found.nodes, []
            if self.by_indentation:
                top = indented(top, self.dash)
        if self.has_blocks:
            nodes = bounded(Nodes(top, 0, faults))
            top, faults = nodes.top, nodes.faults
        if self.assign:
            self._normalise(top)
        if self.heading or self.files:
            top = Headings(self.is_heading, self.heading, self.files, self.also, self.once).over(
                top, rows
            )
        if self.path or self.table or self.dash or (self.key_sign and not self.is_flat):
            top = self._arranged(top, (rows,), text)
        return Nodes(top, found.comments, faults)

    def _normalise(self, nodes: Iterable[Node]) -> None:
        for node in nodes:
            node.text = self.normal(node.text)
            if node.children:
                self._normalise(node.children)

    def is_heading(self, text: str) -> bool:
        """Whether a line holds until the next such one."""
        undone = self.undo.undone(text) if self.undo is not None else None
        return any(words.begins(some) for words in self.heading for some in (text, undone) if some)

    def _arranged(self, nodes: Sequence[Node], scope: Sequence[ScopeLike], text: str) -> list[Node]:
        """The nodes of one place with their steps, cells, pieces and items as nodes."""
        if self.table:
            nodes = list(self.tables.read(nodes, scope, text))
        if self.key_sign:
            for node in nodes:
                if node.text != ROW and not self.is_heading(node.text):
                    statement_pieces.node_of(node, self.key_sign, doubled=self.signs.doubled)
        if self.path:
            headings = [node for node in nodes if self.is_heading(node.text)]
            others = [node for node in nodes if not self.is_heading(node.text)]
            nodes = [*self.paths.read(others, scope), *headings]
        for number, node in enumerate(nodes):
            if node.text == self.dash and self._is_one_item(node, scope):
                nodes[number].text = f"{self.dash} {node.children[0].text}"
                nodes[number].end, nodes[number].children = node.children[0].end, []
            elif node.children and node.text != ROW:
                self._arrange_inside(node, scope, text)
        return list(nodes)

    def _arrange_inside(self, node: Node, scope: Sequence[ScopeLike], text: str) -> None:
        """Arrange what is in a node; the steps of a path are arranged already."""
        inside = inside_of(node.text, scope)
        inner = self.inside(node)
        if not inner:
            return
        if self.path and inner[0].line == node.line and inner[0].start == node.start:
            for child in inner if inside else ():
                if child.children:
                    self._arrange_inside(child, inside, text)
            return
        node.children = [*self.on_line(node), *self._arranged(inner, inside, text)]

    def _is_one_item(self, node: Node, scope: Sequence[ScopeLike]) -> bool:
        """Whether an item of a list is one value, as the sheet has it."""
        if len(node.children) != 1 or node.children[0].children:
            return False
        text = f"{self.dash} {node.children[0].text}"
        rows = (row for some in scope for row in some.candidates(text))
        return any(row.is_item and row.pattern.match(text) for row in rows)

    def on_line(self, node: Node) -> Sequence[Node]:
        """Of what is inside a node, what stands on its own line: pieces, cells."""
        if is_row(node.text) or self.is_flat:
            return node.children
        if not self.key_sign or self.is_heading(node.text):
            return ()
        return [child for child in node.children if self.is_piece(child.text)]

    def inside(self, node: Node) -> Sequence[Node]:
        """The others."""
        on_line = self.on_line(node)
        if not on_line:
            return node.children
        return [child for child in node.children[len(on_line) :] if not self.is_piece(child.text)]

    def is_piece(self, text: str) -> bool:
        """Whether a text is a key with its value, and no statement."""
        return bool(self.key_sign) and self.key_sign in text[1:].split(" ", 1)[0]

    def uncut_lines(self, nodes: Sequence[Node]) -> Sequence[str] | None:
        if not self.is_flat:
            return None
        whole = [node.whole for node in nodes if isinstance(node, statement_pieces.Uncut)]
        return whole if all(whole) and len(whole) == len(nodes) else None

    def write(self, nodes: Sequence[Node]) -> str:
        return joined(self.block_lines(nodes, ()))

    def block_lines(self, nodes: Sequence[Node], around: Sequence[Node]) -> list[str]:
        """The lines of the nodes of one place, without the blanks before all of them."""
        groups = list(_tables_together(nodes))
        rendered = [
            self.tables.lines(group)
            if is_row(group[0].text) and self.table
            else list(self.lines(group[0], around))
            for group in groups
        ]
        if around and not (self.files and len(around) == 1):
            return [line for lines in rendered for line in lines]
        return spaced([group[0] for group in groups], rendered, self.is_heading)

    def lines(self, node: Node, around: Sequence[Node]) -> Iterator[str]:
        """The lines of a node that is in others, without the blanks before all of them."""
        pieces, inside = self.on_line(node), self.inside(node)
        words = node.text.removesuffix(ROW).rstrip(" ")
        said = " ".join([*([words] if words else []), *(piece.text for piece in pieces)])
        if self.files and not around:
            yield f"{FILE_MARK}{self.files}{node.text}"
            yield from self.block_lines(inside, (node,))
        elif self.is_heading(node.text):
            yield said
            yield from self.block_lines(inside, (*around, node))
        elif node.text == self.dash:
            yield from self._item(inside, around)
        elif self.path and not self.has_blocks:
            yield from self._steps(node, said, inside, around)
        elif not inside and not self.is_opening(node):
            yield self._tick + said + self.signs.ends
        else:
            opens, closes = self.around_block(node)
            yield said + opens
            deeper = " " * self.indent
            for line in self.block_lines(inside, (*around, node)):
                yield deeper + line
            if closes:
                yield closes

    @property
    def _tick(self) -> str:
        """What stands before a statement that somebody ticks once it is done."""
        return f"{self.signs.tick} " if self.signs.tick else ""

    def is_opening(self, node: Node) -> bool:
        """Whether a node opens a block, be there something inside it or not."""
        return node.opens or self.words.opening(node.text) is not None

    def around_block(self, node: Node) -> tuple[str, str]:
        """What stands behind a line that opens a block, and what closes it."""
        if self.signs.opens:
            return f" {self.signs.opens}", self.signs.closes
        return "", self.words.closing(node.text) if self.words.closes else ""

    def _item(self, inside: Sequence[Node], around: Sequence[Node]) -> Iterator[str]:
        before = f"{self.dash} "
        for line in self.block_lines(inside, (*around, Node(self.dash))):
            yield before + line
            before = " " * len(before)

    def _steps(
        self, node: Node, said: str, inside: Sequence[Node], around: Sequence[Node]
    ) -> Iterator[str]:
        if not inside:
            steps = [step.text for step in around if not self.is_heading(step.text)]
            path = self.paths.between.join([*steps[bool(self.files) :], said])
            yield self._tick + path + self.signs.ends
        for child in inside:
            yield from self.lines(child, (*around, node))

    def edited(self, text: str, edits: Iterable[TextEdit]) -> str:
        changed = super().edited(text, edits)
        return self.tables.settled(changed, text) if self.table else changed

    def cut(self, text: str, around: Sequence[Node], node: Node) -> list[TextEdit]:
        return self._edits.cut(text, around, node)

    def put(self, text: str, spot: Spot, nodes: Sequence[Node]) -> list[TextEdit]:
        return self._edits.put(text, spot, nodes)

    def swap(self, text: str, around: Sequence[Node], node: Node, new: Node) -> list[TextEdit]:
        return self._edits.swap(text, around, node, new)

    def is_on_line(self, line: str, around: str) -> bool:
        if around == ROW:
            return not self.is_heading(line)
        if not around or not self.key_sign or self.is_heading(around):
            return False
        return self.is_piece(line) or (
            self.is_flat and not statement_pieces.has_pieces(line, self.key_sign)
        )

    def opening(self, line: str) -> str:
        """What a line begins with if that only opens a block, and tells none from another."""
        fitting = (words for words in (*self.words.opens, *self.heading) if words.fits(line))
        before = next((words.before for words in fitting), "")
        return before if before.endswith(" ") else ""

    def why_not_inside(self, line: str, *, has_lines: bool) -> str:
        opens = self.is_heading(line) or self.words.opening(line) is not None
        if has_lines and not (opens or self.by_indentation or self.signs.opens or self.path):
            if self.words.opens:
                return "rows are in this block, so its line should be like " + self._ways_to_open()
            if not self.files:
                return (
                    "rows are in this one; the header says how one line is inside another: "
                    'block indent 2, heading "[*]", path " :: "'
                )
        if self.words.opening(line) is not None and not has_lines:
            return f"a line like {self._ways_to_open()} opens a block; put rows inside"
        return ""

    def _ways_to_open(self) -> str:
        return " or ".join(repr(f"{words.before}*{words.after}") for words in self.words.opens)

    def with_remark(self, line: str, remark: str) -> str:
        if not (self.signs.tick and self.signs.trailing):
            return line
        return f"{line.rstrip()}  {self.signs.trailing[0]} {remark}\n"

    def as_openings(self, text: str) -> Sequence[str]:
        ends = [words.after for words in self.words.opens if words.after]
        return list(dict.fromkeys([text, *(text + end for end in ends)]))

    def undoing(self, around: Sequence[Node], node: Node, undo: Undo) -> Node | None:
        if around and self.is_piece(node.text) and self.on_line(around[-1]):
            return None  # a piece can't be undone without its statement
        said = node.text
        for words in self.words.opens:
            said = said.removesuffix(words.after) if words.after else said
        if self.path and not self.has_blocks:
            return self._undoing_path(around, Node(said, children=node.children), undo)
        taken_back = Node(undo.undoing(said), children=list(self.on_line(node)), kind=node.kind)
        for outer in reversed(around):
            pieces = [*self.on_line(outer), taken_back]
            taken_back = Node(outer.text, children=pieces, kind=outer.kind)
        return taken_back

    def _undoing_path(self, around: Sequence[Node], node: Node, undo: Undo) -> Node:
        """The path that undoes another: what stands before a line then stands before its steps."""
        headings = [outer for outer in around if self.is_heading(outer.text)]
        steps = [outer.text for outer in around[len(headings) :]]
        texts = [*steps, node.text + undo.after]
        texts[0] = undo.before + texts[0].removeprefix(undo.instead)
        taken_back = Node(texts[-1], children=list(self.on_line(node)))
        for text in [*reversed(texts[:-1]), *(outer.text for outer in reversed(headings))]:
            taken_back = Node(text, children=[taken_back])
        return taken_back

    def pieces(self, line: str, *, is_item: bool = False) -> Iterator[Piece]:
        if self.dash and line.startswith(f"{self.dash} ") and not is_item:
            rest = line[len(self.dash) :].lstrip(" ")
            yield Piece(self.dash, 0, optional=False)
            yield Piece(rest, len(line) - len(rest), optional=False)
        elif (self.key_sign or self.table) and not self.is_heading(line):
            yield from self._row_pieces(line)
        else:
            yield Piece(line, 0, optional=False)

    def _row_pieces(self, line: str) -> Iterator[Piece]:
        """The words of a row and its pieces, or the cells of a table's row."""
        first, *others = statement_pieces.of_row(line, self.key_sign or GIVEN)
        if first.text != ROW and not self.key_sign:
            yield Piece(line, 0, optional=False)
            return
        yield first
        for piece in others:
            said = piece.text.strip(f"{self.table} \t") if first.text == ROW else piece.text
            if said:
                yield piece._replace(text=said)

    def cell_form(self, text: Form) -> Form:
        return Enclosed(".+?", escape=self.tables.fit) if self.table else text

    def _mark_in(self, line: str) -> str:
        """What stands between key and value in a line: with its blank, where a key has colons."""
        return self.assign if self.assign in line else self.assign.strip()

    def normal(self, line: str, *, is_row: bool = False) -> str:
        mark = self.assign.strip()
        before = line.partition("{")[0] if is_row else line
        if not mark or mark not in before or self.is_heading(line):
            return line
        key, _, value = line.partition(self._mark_in(line))
        return f"{key.rstrip()}{self.assign}{value.lstrip()}" if value.strip() else line


def _tables_together(nodes: Sequence[Node]) -> Iterator[list[Node]]:
    """Neighbouring rows of a table together, any other node by itself."""
    group: list[Node] = []
    for node in nodes:
        if group and not (is_row(node.text) and is_row(group[-1].text)):
            yield group
            group = []
        group.append(node)
        if not is_row(node.text):
            yield group
            group = []
    if group:
        yield group
