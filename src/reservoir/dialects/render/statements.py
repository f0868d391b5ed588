"""Single statements: the lines that lead from one text to another, and what a text is after one.

A statement is one line, in the blocks that it is in. A device that is given it does what a text
would say in which that line was added, changed or taken out; so is it applied here.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple

from reservoir.dialects.facts.kinds import RUNNING_NUMBER
from reservoir.dialects.notations.nodes import Node, Spot
from reservoir.dialects.parse.node_reader import Said
from reservoir.dialects.render.numbers import renumbered
from reservoir.dialects.render.present_text import PresentText, identity_of
from reservoir.dialects.sheet.model import Row, Sheet, kind_of
from reservoir.dialects.sheet.patterns import head_of

Line = tuple[str, ...]
"""A line's text, and that of the pieces that stand on it too."""


class Statement(NamedTuple):
    """A line that is stated, or undone, in some blocks."""

    around: tuple[Line, ...]
    """The lines that open the blocks, the outermost first."""
    line: Line
    undoes: bool = False


@dataclass(frozen=True)
class Step:
    """A statement that leads from one text to another."""

    statement: Statement
    row: Row
    """The row that its line is of."""
    after: Statement | None = None
    """What has to be stated before, as it stands in the way."""
    was: Line = ()
    """The line that it comes instead of."""


class NotStatedError(Exception):
    """A text can't be reached by single statements."""


def steps_between(old: PresentText, new: PresentText, sheet: Sheet) -> list[Step]:
    """The statements that lead from one text to another, in the order of the new text.

    Raises:
        NotStatedError: something differs that no line can undo.
    """
    return list(_Between(old, new, sheet).inside((), old.nodes.top, new.nodes.top))


@dataclass
class _Between:
    old: PresentText
    new: PresentText
    sheet: Sheet

    def inside(
        self, around: tuple[Line, ...], old: Sequence[Node], new: Sequence[Node]
    ) -> Iterator[Step]:
        """What differs in a block, or at the top."""
        waiting: dict[object, list[Node]] = defaultdict(list)
        for node in old:
            waiting[self._key(node, self.old.said)].append(node)
        for node in new:
            same = waiting[self._key(node, self.new.said)]
            if not same:
                yield from self._stated(around, node, None)
                continue
            yield from self._changed(around, same.pop(0), node)
        for nodes in waiting.values():
            for node in nodes:
                if node not in self.old.said:
                    continue
                if self.old.said[node].row.is_frame:  # what is in it is taken out one by one
                    line = line_of(node, self.sheet)
                    yield from self.inside((*around, line), inner_of(node, self.sheet), ())
                else:
                    yield self._undone(around, node)

    def _key(self, node: Node, said: dict[Node, Said]) -> object:
        return identity_of(said[node]) if node in said else line_of(node, self.sheet)

    def _changed(self, around: tuple[Line, ...], old: Node, new: Node) -> Iterator[Step]:
        """Two nodes that are about the same thing."""
        was, is_now = line_of(old, self.sheet), line_of(new, self.sheet)
        if was == is_now and self._is_elsewhere(old, new):
            yield from self._replaced(around, old, new)
        elif was == is_now:
            inner = inner_of(old, self.sheet), inner_of(new, self.sheet)
            yield from self.inside((*around, was), *inner)
        elif new not in self.new.said:
            return
        elif is_single(self.new.said[new].row):
            yield Step(Statement(around, is_now), self.new.said[new].row, was=was)
        else:
            yield from self._replaced(around, old, new)

    def _is_elsewhere(self, old: Node, new: Node) -> bool:
        """Whether two nodes are a pool before and after it moved to another subnet."""
        if old not in self.old.said or self.old.said[old].row.kind != "pool":
            return False
        was, is_now = self.old.said[old].fact.get("subnet"), self.new.said[new].fact.get("subnet")
        if was is None or is_now is None:
            return False
        return not (was.span.holds(is_now.network) or is_now.span.holds(was.network))

    def _replaced(self, around: tuple[Line, ...], old: Node, new: Node) -> Iterator[Step]:
        """A node that is undone, and another one that is stated instead."""
        undone = self._undone(around, old)
        yield undone
        yield from self._stated(around, new, undone.statement)

    def _stated(
        self, around: tuple[Line, ...], node: Node, after: Statement | None
    ) -> Iterator[Step]:
        said, line = self.new.said, line_of(node, self.sheet)
        if node not in said:
            return  # about other things, or not understood: whoever put it there sees to it
        if not said[node].row.is_frame:  # that is there with the first that is in it
            yield Step(Statement(around, line), said[node].row, after)
        for child in inner_of(node, self.sheet):
            yield from self._stated((*around, line), child, after)

    def _undone(self, around: tuple[Line, ...], node: Node) -> Step:
        said, line = self.old.said, line_of(node, self.sheet)
        statement = Statement(around, line, undoes=True)
        if _undoing(statement, said[node].row, self.sheet) is None:
            raise NotStatedError(f"no line undoes {' '.join(line)}")
        return Step(statement, said[node].row)


def line_of(node: Node, sheet: Sheet) -> Line:
    """A node's own line: its text, and what else stands on it."""
    return (node.text, *(piece.text for piece in sheet.notation.on_line(node)))


def inner_of(node: Node, sheet: Sheet) -> Sequence[Node]:
    """The nodes that are inside a node, and not on its line."""
    return sheet.notation.inside(node)


def is_single(row: Row) -> bool:
    """Whether a row states one value of a field, so that stating another one replaces it."""
    return row.adds_fields and row.repeat != "*" and not row.is_piece


def text_of(step: Step, sheet: Sheet) -> str:
    """The text of a statement as a device takes it."""
    statement = step.statement
    if statement.undoes:
        node = _undoing(statement, step.row, sheet)
        assert node is not None
    else:
        node = _in_blocks(statement.around, _node(statement.line))
    text = sheet.notation.write([node])
    if not step.was:
        return text
    was = " ".join(step.was).removeprefix(step.row.pattern.begins)
    return sheet.notation.with_remark(text, f"was: {was}")


def _node(line: Line) -> Node:
    return Node(line[0], children=[Node(piece) for piece in line[1:]])


def _in_blocks(around: Sequence[Line], node: Node) -> Node:
    for outer in reversed(around):
        opener = _node(outer)
        opener.children.append(node)
        node = opener
    return node


def _undoing(statement: Statement, row: Row, sheet: Sheet) -> Node | None:
    """The line that undoes one, in its blocks; None if there is none."""
    if row.undo is not None:
        values = row.pattern.read(statement.line[0])
        assert values is not None
        return _in_blocks(statement.around, Node(row.undo.write(values, set())))
    if sheet.undo is None:
        return None
    around = [_node(outer) for outer in statement.around]
    return sheet.notation.undoing(around, _node(statement.line), sheet.undo)


def parsed(text: str, sheet: Sheet) -> Statement:
    """The statement that a text is, as a device of the dialect takes it.

    Raises:
        NotStatedError: it is none, or several.
    """
    nodes: Sequence[Node] = sheet.notation.read(text, sheet.scope).top
    around: list[Line] = []
    undoes = False
    while True:
        if len(nodes) != 1:
            raise NotStatedError(f"this is not one statement: {text!r}")
        node = nodes[0]
        if not undoes and head_of(node.text) in sheet.undo_words:
            undoes = True
            undone = sheet.undo and sheet.undo.undone(node.text)
            node = node.saying(undone) if undone else node
        inside = inner_of(node, sheet)
        if not inside:
            return Statement(tuple(around), line_of(node, sheet), undoes)
        around.append(line_of(node, sheet))
        nodes = inside


def applied(present: PresentText, said: str, sheet: Sheet) -> str:
    """A device's configuration once it has been given a statement.

    Args:
        present: Its configuration before.
        said: The text of the statement.
        sheet: The dialect.

    Raises:
        NotStatedError: it is no statement, there is no such block, or nothing to undo.
    """
    statement, text = parsed(said, sheet), present.text
    around: list[Node] = []
    inside = present.nodes.top
    lacking: Sequence[Line] = ()
    for number, outer in enumerate(statement.around):
        if (
            not statement.undoes
            and not any(line_of(node, sheet) == outer for node in inside)
            and _is_frame(said, number, sheet)
        ):
            lacking = statement.around[number:]
            break
        around.append(_there(inside, outer, present, sheet))
        inside = around[-1].children
    if statement.undoes:
        there = _there(inside, statement.line, present, sheet)
        return sheet.notation.edited(text, sheet.notation.cut(text, around, there))
    new, row = _node(statement.line), _row_of(said, sheet)
    same = next((node for node in inside if _is_replaced(node, statement.line, present)), None)
    if same is not None:
        return sheet.notation.edited(text, sheet.notation.swap(text, around, same, new))
    new.kind = kind_of(row) if row is not None else ""
    if lacking:
        new = _in_blocks(lacking, new)
    alike = [node for node in inside if node.kind == new.kind] or inside
    spot = Spot(tuple(around), alike[-1] if alike else None, None)
    return sheet.notation.edited(text, sheet.notation.put(text, spot, [new]))


def _is_replaced(node: Node, line: Line, present: PresentText) -> bool:
    """Whether a new line states another value of the one field that a node states."""
    said = present.said.get(node)
    return said is not None and is_single(said.row) and said.row.pattern.read(line[0]) is not None


def _there(inside: Sequence[Node], line: Line, present: PresentText, sheet: Sheet) -> Node:
    """The node of a line; or the one that a line of its own undoes.

    Raises:
        NotStatedError: there is none.
    """
    ways = [(opening, *line[1:]) for opening in sheet.notation.as_openings(line[0])]
    for node in inside:
        if line_of(node, sheet) in ways:
            return node
        said = present.said.get(node)
        if said is not None and said.row.undo is not None:
            wanted = said.row.undo.read(line[0])
            if wanted is not None and wanted.items() <= {**said.values}.items():
                return node
    raise NotStatedError(f"there is no {' '.join(line)}")


def _is_frame(said: str, depth: int, sheet: Sheet) -> bool:
    """Whether a statement is in a block, so many levels down, that is there with what is in it."""
    present = PresentText.of(said, sheet)
    node = present.nodes.top[0]
    for _ in range(depth):
        node = inner_of(node, sheet)[0]
    return node in present.said and present.said[node].row.is_frame


def _row_of(said: str, sheet: Sheet) -> Row | None:
    """The row that a statement's line is of."""
    present = PresentText.of(said, sheet)
    node = present.nodes.top[0]
    while inner := inner_of(node, sheet):
        node = inner[-1]
    found = present.said.get(node)
    return found.row if found is not None else None


def with_free_number(step: Step, present: PresentText) -> Step:
    """A step whose running number, if it has one, is none that a neighbour has."""
    statement = step.statement
    if statement.undoes or RUNNING_NUMBER not in [s.field for s in step.row.pattern.slots]:
        return step
    taken = {said.number for said in present.said.values() if said.row is step.row}
    own = step.row.pattern.read(statement.line[0])
    if own is None or own.get(RUNNING_NUMBER) not in taken:
        return step
    free = next(number for number in range(1, len(taken) + 2) if number not in taken)
    line = (renumbered(step.row, statement.line[0], free), *statement.line[1:])
    return replace(step, statement=statement._replace(line=line))
