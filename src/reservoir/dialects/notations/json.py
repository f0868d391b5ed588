"""JSON: members, objects and lists of objects.

The text is read by :mod:`reservoir.dialects.notations.json_reader`.
"""

from __future__ import annotations

import json
import re
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from itertools import groupby
from typing import ClassVar, NamedTuple

from reservoir.core.values.addresses import MalformedValueError
from reservoir.dialects.forms.form import Form
from reservoir.dialects.forms.texts import Enclosed, Quoted, Text
from reservoir.dialects.notations.json_reader import TOKEN, JsonReader
from reservoir.dialects.notations.nodes import (
    Node,
    Nodes,
    Notation,
    Piece,
    ScopeLike,
    Spot,
    TextEdit,
    as_far_as_it_goes,
    back_over,
    blanks_at,
    is_first,
)

_VALUE = r'"[^"]*"|\[[^\[\]]*\]|\{[^{}]*\}|[^ ,{}\[\]]+'
_ROW = re.compile(r'("[^"]*": [\[{])[ \t]*(?:\{(?=["\[])(.+?)\}[ \t]*\]?[ \t]*)?')
_ROW_PIECE = re.compile(
    rf'\[\?[ \t,]*(?P<maybe>"[^"]*": (?:{_VALUE}))[ \t]*\]|(?P<sure>"[^"]*": (?:{_VALUE}))'
)
WIDEST = 96
"""Objects that fit on a line of this many characters are on one."""


def unescape(text: str) -> str:
    """The text that stands escaped between quotation signs."""
    try:
        value = json.loads(f'"{text}"')
    except ValueError:
        raise MalformedValueError(f"{text!r} has an unknown escape") from None
    return str(value)


def escape(text: str) -> str:
    """The text as it is between quotation signs."""
    return json.dumps(text, ensure_ascii=False)[1:-1]


@dataclass(frozen=True)
class Json(Notation):
    """One object. A member is a node; of a list of objects, each object is one.

    ``"gate": "10.84.30.1"`` and ``"dns": ["10.84.0.53"]`` are nodes without anything inside;
    ``"scopes": [`` stands for each object of the list, ``"limits": {`` for a single one.
    """

    quotes: ClassVar[bool] = False

    def read(self, text: str, rows: ScopeLike) -> Nodes:
        return as_far_as_it_goes(lambda by_layout: JsonReader(text, by_layout).read())

    def write(self, nodes: Sequence[Node]) -> str:
        return "\n".join(self._object(nodes, "", 0)) + "\n"

    def _object(self, nodes: Sequence[Node], indent: str, taken: int) -> list[str]:
        """The lines of an object; ``taken`` characters are on its first line already."""
        if indent and all(not node.text.endswith(("[", "{")) for node in nodes):
            line = f"{{{', '.join(node.text for node in nodes)}}}"
            if len(indent) + taken + len(line) <= WIDEST:
                return [line]
        deeper = indent + " " * self.indent
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
        deeper = indent + " " * self.indent
        items = []
        for node in nodes:
            first, *rest = self._object(node.children, deeper, 0)
            items.append([deeper + first, *rest])
        return [indent + text, *_commas(items), f"{indent}]"]

    def cut(self, text: str, around: Sequence[Node], node: Node) -> list[TextEdit]:
        return [TextEdit(back_over(" \t\r\n", text, node.start), node.end, "")]

    def put(self, text: str, spot: Spot, nodes: Sequence[Node]) -> list[TextEdit]:
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
            at, indent = begin + 1, blanks_at(text, begin) + " " * self.indent
            if spot.after is not None:
                beside = members[spot.after.text.partition('": ')[0] + '"']
                at, indent = beside.end, blanks_at(text, beside.start)
            if head.endswith("["):
                lines = self._list(head, new, indent)
            else:
                lines = [line for node in new for line in self._member(node, indent)]
            is_alone = spot.after is None or is_first(text, spot.after.start)
            new_text = "\n" + "\n".join(lines)
            edits.append(TextEdit(at, at, new_text if is_alone else re.sub("\n *", " ", new_text)))
        return edits

    def swap(self, text: str, around: Sequence[Node], node: Node, new: Node) -> list[TextEdit]:
        indent = blanks_at(text, node.start)
        in_list = node.text.endswith("["), new.text.endswith("[")
        if all(in_list) and node.text == new.text:
            lines = self._object(new.children, indent, 0)
        elif any(in_list):
            spot = Spot(tuple(around), node, None)
            return [*self.cut(text, around, node), *self.put(text, spot, [new])]
        else:
            lines = self._member(new, indent)
        return [TextEdit(node.start, node.end, "\n".join(lines).lstrip())]

    def _put_into_list(
        self, text: str, spot: Spot, member: _Member, nodes: Sequence[Node]
    ) -> TextEdit:
        at, indent = member.value + 1, blanks_at(text, member.start) + " " * self.indent
        if spot.after is not None and spot.after.text == nodes[0].text:
            at, indent = spot.after.end, blanks_at(text, spot.after.start)
        new = "".join(
            "\n" + "\n".join([indent + first, *rest])
            for first, *rest in (self._object(node.children, indent, 0) for node in nodes)
        )
        is_empty = text.startswith("]", at)
        return TextEdit(at, at, f"{new}\n{blanks_at(text, member.start)}" if is_empty else new)

    def edited(self, text: str, edits: Iterable[TextEdit]) -> str:
        return _with_commas(super().edited(text, edits))

    def pieces(self, line: str, *, is_item: bool = False) -> Iterator[Piece]:
        row = _ROW.fullmatch(line)
        if row is None:
            yield Piece(line, 0, optional=False)
            return
        yield Piece(row[1], 0, optional=False)
        for found in _ROW_PIECE.finditer(row[2] or ""):
            name = found.lastgroup or ""
            yield Piece(found[name], row.start(2) + found.start(name), name == "maybe")

    def text_form(self, text: Text) -> Form:
        return Enclosed(r'(?:[^"\\]|\\.)+?', frozenset('"\\'), "\\", unescape, escape)

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
    for token in TOKEN.finditer(text, begin):
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
    for token in TOKEN.finditer(text):
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
