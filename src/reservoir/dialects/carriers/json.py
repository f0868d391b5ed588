"""JSON: members, objects and lists of objects.

Read by a scanner of its own, because the standard one keeps no places, sees no key that stands
twice, and gives up at the first damage.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from itertools import groupby
from typing import ClassVar, NamedTuple

from reservoir.core.addressing import MalformedValueError
from reservoir.dialects.carriers.nodes import (
    Carrier,
    Edit,
    Fault,
    Node,
    Nodes,
    Piece,
    Spot,
    as_far_as_it_goes,
    back_over,
    blanks_at,
    is_first,
)
from reservoir.dialects.forms.form import Form
from reservoir.dialects.forms.texts import Enclosed, Quoted, Text

_TOKEN = re.compile(
    r'(?P<string>"(?:[^"\\\n]|\\.)*")'
    r'|(?P<plain>(?:-?[0-9][0-9.eE+-]*|true|false|null)(?![^ \t\r\n{}\[\],:"]))'
    r'|(?P<sign>[{}\[\],:])|(?P<stray>"[^\n]*|[^ \t\r\n{}\[\],:"]+)'
)
_VALUE = r'"[^"]*"|\[[^\[\]]*\]|\{[^{}]*\}|[^ ,{}\[\]]+'
_ROW = re.compile(r'("[^"]*": [\[{])[ \t]*(?:\{(?=["\[])(.+?)\}[ \t]*\]?[ \t]*)?')
_ROW_PIECE = re.compile(
    rf'\[\?[ \t,]*(?P<maybe>"[^"]*": (?:{_VALUE}))[ \t]*\]|(?P<sure>"[^"]*": (?:{_VALUE}))'
)
_BLANKS = re.compile("[ \\t]*")
WIDEST = 96
"""Objects that fit on a line of this many characters stand on one."""


def unescape(text: str) -> str:
    """The text that stands escaped between quotation signs."""
    try:
        value = json.loads(f'"{text}"')
    except ValueError:
        raise MalformedValueError(f"{text!r} has an escape that there isn't") from None
    return str(value)


def escape(text: str) -> str:
    """The text as it stands between quotation signs."""
    return json.dumps(text, ensure_ascii=False)[1:-1]


@dataclass(frozen=True)
class Json(Carrier):
    """One object. A member is a node; of a list of objects, each object is one.

    ``"gate": "10.84.30.1"`` and ``"dns": ["10.84.0.53"]`` are nodes without anything inside;
    ``"scopes": [`` stands for each object of the list, ``"limits": {`` for a single one.
    """

    words: ClassVar[tuple[str, ...]] = ("indent",)
    quotes: ClassVar[bool] = False

    def read(self, text: str) -> Nodes:
        return as_far_as_it_goes(lambda by_layout: _Reader(text, by_layout).read())

    def write(self, nodes: Sequence[Node]) -> str:
        return "\n".join(self._object(nodes, "", 0)) + "\n"

    def _object(self, nodes: Sequence[Node], indent: str, taken: int) -> list[str]:
        """The lines of an object; ``taken`` characters stand on its first line already."""
        if indent and all(not node.text.endswith(("[", "{")) for node in nodes):
            line = f"{{{', '.join(node.text for node in nodes)}}}"
            if len(indent) + taken + len(line) <= WIDEST:
                return [line]
        deeper = indent + " " * self.nesting.indent
        members: list[list[str]] = []
        for text, group in groupby(nodes, key=lambda node: node.text):
            if text.endswith("["):
                members.append(self._list(text, list(group), deeper))
            else:
                members += [self._member(node, deeper) for node in group]
        return ["{", *_commas(members), f"{indent}}}"]

    def _member(self, node: Node, indent: str) -> list[str]:
        if not node.text.endswith("{"):
            return [indent + node.text]
        first, *rest = self._object(node.children, indent, len(node.text))
        return [indent + node.text[:-1] + first, *rest]

    def _list(self, text: str, nodes: list[Node], indent: str) -> list[str]:
        deeper = indent + " " * self.nesting.indent
        items = []
        for node in nodes:
            first, *rest = self._object(node.children, deeper, 0)
            items.append([deeper + first, *rest])
        return [indent + text, *_commas(items), f"{indent}]"]

    def cut(self, text: str, around: Sequence[Node], node: Node) -> list[Edit]:
        return [Edit(back_over(" \t\r\n", text, node.start), node.end, "")]

    def put(self, text: str, spot: Spot, nodes: Sequence[Node]) -> list[Edit]:
        around = spot.around[-1] if spot.around else None
        begin = text.index("{", around.start if around is not None else 0)
        members = _members(text, begin)
        edits = []
        for head, group in groupby(nodes, key=lambda node: node.text):
            new = list(group)
            name = head[: -len(": [")]
            if head.endswith("[") and name in members:
                edits.append(self._put_into_list(text, spot, members[name], new))
                continue
            at, indent = begin + 1, blanks_at(text, begin) + " " * self.nesting.indent
            if spot.after is not None:
                beside = members[spot.after.text.partition('": ')[0] + '"']
                at, indent = beside.end, blanks_at(text, beside.start)
            if head.endswith("["):
                lines = self._list(head, new, indent)
            else:
                lines = [line for node in new for line in self._member(node, indent)]
            is_alone = spot.after is None or is_first(text, spot.after.start)
            new_text = "\n" + "\n".join(lines)
            edits.append(Edit(at, at, new_text if is_alone else re.sub("\n *", " ", new_text)))
        return edits

    def swap(self, text: str, around: Sequence[Node], node: Node, new: Node) -> list[Edit]:
        indent = blanks_at(text, node.start)
        in_list = node.text.endswith("["), new.text.endswith("[")
        if all(in_list) and node.text == new.text:
            lines = self._object(new.children, indent, 0)
        elif any(in_list):
            spot = Spot(tuple(around), node, None)
            return [*self.cut(text, around, node), *self.put(text, spot, [new])]
        else:
            lines = self._member(new, indent)
        return [Edit(node.start, node.end, "\n".join(lines).lstrip())]

    def _put_into_list(self, text: str, spot: Spot, member: _Member, nodes: Sequence[Node]) -> Edit:
        at, indent = member.value + 1, blanks_at(text, member.start) + " " * self.nesting.indent
        if spot.after is not None and spot.after.text == nodes[0].text:
            at, indent = spot.after.end, blanks_at(text, spot.after.start)
        new = "".join(
            "\n" + "\n".join([indent + first, *rest])
            for first, *rest in (self._object(node.children, indent, 0) for node in nodes)
        )
        is_empty = text.startswith("]", at)
        return Edit(at, at, f"{new}\n{blanks_at(text, member.start)}" if is_empty else new)

    def edited(self, text: str, edits: Iterable[Edit]) -> str:
        return _with_commas(super().edited(text, edits))

    def pieces(self, line: str) -> Iterator[Piece]:
        row = _ROW.fullmatch(line)
        if row is None:
            yield Piece(line, 0, optional=False)
            return
        yield Piece(row[1], 0, optional=False)
        for found in _ROW_PIECE.finditer(row[2] or ""):
            name = found.lastgroup or ""
            yield Piece(found[name], row.start(2) + found.start(name), name == "maybe")

    def text_form(self, text: Text) -> Form:
        return Enclosed(r'(?:[^"\\]|\\.)+?', frozenset('"\\'), unescape, escape)

    def item_form(self, form: Form) -> Form:
        return Quoted(form)


def _commas(blocks: list[list[str]]) -> Iterator[str]:
    for number, block in enumerate(blocks, start=1):
        *before, last = block
        yield from before
        yield last if number == len(blocks) else f"{last},"


class _Member(NamedTuple):
    """Where a member of an object stands."""

    start: int
    value: int
    end: int


def _members(text: str, begin: int) -> dict[str, _Member]:
    """The members of the object that begins at an offset, by their names with their quotes."""
    found: dict[str, _Member] = {}
    depth, name, start, value = 0, "", 0, 0
    for token in _TOKEN.finditer(text, begin):
        sign, is_value = token[0], bool(name) and depth == 1 and token[0] not in ":,"
        if is_value and sign not in "}]":
            value = token.start()
        if sign in "{[":
            depth += 1
        elif sign in "}]":
            depth -= 1
            if not depth:
                break
        elif depth == 1 and not name and sign not in ":,":
            name, start = sign, token.start()
            continue
        if name and depth == 1 and (is_value or sign in "}]"):
            found[name], name = _Member(start, value, token.end()), ""
    return found


def _with_commas(text: str) -> str:
    """The text with a comma between neighbours, and nowhere else, whatever was cut and put."""
    parts, done = list[str](), 0
    last_end, commas = -1, list[int]()  # of a value that is complete; after it
    for token in _TOKEN.finditer(text):
        if token[0] == ",":
            commas.append(token.start())
            continue
        wanted = last_end >= 0 and token[0] not in "}]:"
        if wanted and not commas:
            parts += [text[done:last_end], ","]
            done = last_end
        for comma in commas[1:] if wanted else commas:
            parts.append(text[done:comma])
            done = comma + 1
        last_end = -1 if token[0] in "{[:" else token.end()
        commas = []
    return "".join([*parts, text[done:]])


@dataclass
class _Open:
    """An object or a list that is being read."""

    node: Node
    """Where what is inside goes: for a list, the node that the list stands in."""
    closing: str
    indent: int
    """Blanks before the line that opens it; -1 if more follows on that line."""
    key: str = ""
    """A list's own."""
    start: int = 0
    line: int = 1
    """The line that opens it."""
    items: list[str] = field(default_factory=list)
    """A list's plain values."""


class _Reader:
    def __init__(self, text: str, by_layout: bool) -> None:
        self.text = text
        self.by_layout = by_layout
        self.root = Node("")
        self.faults: list[Fault] = []
        self.open: list[_Open] = []
        self.line, self.line_start = 1, 0
        self.key = ""
        """A member's name whose value has not come yet, as it is written with its quotes."""
        self.key_start = self.key_place = 0
        self.waiting = False
        """Whether the colon after the name has been."""

    def read(self) -> Nodes:
        position = 0
        while (found := _TOKEN.search(self.text, position)) is not None:
            newlines = self.text.count("\n", position, found.start())
            if newlines:
                self.line += newlines
                self.line_start = self.text.rindex("\n", 0, found.start()) + 1
            position = found.end()
            kind, token, at = found.lastgroup, found[0], found.start()
            if kind == "stray":
                self._stray(token, at, found.end())
            elif kind == "sign":
                self._sign(token, at)
            elif kind == "string":
                self._string(token, at, found.end())
            else:
                self._plain(token, at, found.end())
        end = len(self.text.rstrip())
        while self.open:
            self._fault(end, f"{self.open[-1].closing!r} is missing at the end")
            self.open.pop()
        return Nodes(self.root.children, 0, sorted(self.faults))

    def _stray(self, token: str, at: int, end: int) -> None:
        """What is none of the notation; where a value is due, it is the value all the same."""
        in_list = bool(self.open) and self.open[-1].closing == "]"
        if token.startswith('"') or not (in_list or (self.key and self.waiting)):
            self._fault(at, f"not understood: {token.rstrip()!r}")
            self.key = ""
            return
        opened = self._place(self.open[-1].start if in_list else self.key_start)
        self._plain(token, at, end)
        self._fault(at, f"{token!r} is no value; text stands between quotation signs", opened)

    def _place(self, offset: int) -> tuple[int, int]:
        """The line and column of something that stands on this line or before."""
        line = self.line - self.text.count("\n", offset, self.line_start)
        return line, offset - self.text.rfind("\n", 0, offset)

    def _fault(self, offset: int, message: str, opened: tuple[int, int] | None = None) -> None:
        if not self.open and self.faults:
            return  # once what holds everything is broken, there is no end to what follows
        since = self.open[-1].line if self.open and opened is None else 0
        self.faults.append(Fault(self.line, offset - self.line_start + 1, message, since, opened))

    def _sign(self, sign: str, at: int) -> None:
        if sign == ":":
            self.waiting = bool(self.key)
        elif sign == ",":
            if self.key:
                self._fault(at, f"{self.key} has no value")
            self.key = ""
        elif sign in "{[":
            self._begin(sign, at)
        else:
            self._end(sign, at)

    def _begin(self, sign: str, at: int) -> None:
        around = self.open[-1] if self.open else None
        indent = self._indent() if self._is_last(at) else -1
        start = self.key_start if self.key else at
        key, self.key = self.key or (around.key if around else ""), ""
        if around is None:
            if sign == "[":
                self._fault(at, "an object is expected, not a list")
            closing = "}" if sign == "{" else "]"
            self.open.append(_Open(self.root, closing, indent, start=start, line=self.line))
        elif sign == "[":
            self.open.append(_Open(around.node, "]", indent, key, start, self.line))
        else:
            in_list = around.closing == "]"
            node = Node(f"{key}: [" if in_list else f"{key}: {{", self.line, start=start)
            node.column = start - self.line_start + 1
            around.node.children.append(node)
            self.open.append(_Open(node, "}", indent, start=start, line=self.line))

    def _end(self, sign: str, at: int) -> None:
        if self.key:
            self._fault(at, f"{self.key} has no value")
            self.key = ""
        first = self.text[self.line_start : at].strip(" \t") == ""
        depth = self._closes(sign, self._indent() if first else -1)
        if depth is None:
            self._fault(at, f"{sign!r} closes nothing here")
            return
        while len(self.open) > depth + 1:
            self._fault(at, f"{self.open[-1].closing!r} is missing before this {sign!r}")
            self.open.pop()
        closed = self.open.pop()
        if sign == "}":
            closed.node.end = at + 1
        elif closed.items:
            text = f"{closed.key}: [{', '.join(closed.items)}]"
            self._member(closed.node, text, closed.start, at + 1)

    def _closes(self, sign: str, indent: int) -> int | None:
        """What a closing sign closes; by the layout, what begins on a line as deep."""
        if not self.by_layout:
            indent = -1
        for depth in reversed(range(len(self.open))):
            container = self.open[depth]
            if container.closing == sign and indent in (-1, container.indent):
                return depth
            if indent == -1 or container.indent == -1:
                return depth if container.closing == sign else None
            if container.indent < indent:
                return None
        return None

    def _string(self, token: str, at: int, end: int) -> None:
        around = self.open[-1] if self.open else None
        if around is not None and around.closing == "}" and not self.key:
            self.key, self.key_start, self.waiting = token, at, False
            return
        with suppress(ValueError):  # where it is used, a wrong escape is reported
            token = json.dumps(json.loads(token), ensure_ascii=False)
        self._plain(token, at, end)

    def _plain(self, token: str, at: int, end: int) -> None:
        around = self.open[-1] if self.open else None
        if around is not None and around.closing == "]":
            around.items.append(token)
        elif around is not None and self.key and self.waiting:
            self._member(around.node, f"{self.key}: {token}", self.key_start, end)
            self.key = ""
        else:
            self._fault(at, f"not expected here: {token}")
            self.key = ""

    def _member(self, owner: Node, text: str, start: int, end: int) -> None:
        node = Node(text, *self._place(start), start=start, end=end)
        owner.children.append(node)

    def _indent(self) -> int:
        found = _BLANKS.match(self.text, self.line_start)
        return found.end() - self.line_start if found else 0

    def _is_last(self, at: int) -> bool:
        """Whether nothing follows on the line."""
        end = self.text.find("\n", at)
        return self.text[at + 1 : end if end >= 0 else len(self.text)].strip(" \t\r") == ""
