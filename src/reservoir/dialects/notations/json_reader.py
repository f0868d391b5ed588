"""Reads JSON with the place of everything, and as far as it goes where it is broken.

A scanner of our own, because the standard one keeps no places, sees no key that stands twice, and
gives up at the first damage.
"""

from __future__ import annotations

import json
import re
from contextlib import suppress
from dataclasses import dataclass, field

from reservoir.dialects.notations.nodes import Fault, Node, Nodes

TOKEN = re.compile(
    r'(?P<begin>)(?:(?P<string>"(?:[^"\\\n]|\\.)*")'
    r'|(?P<plain>(?:-?[0-9][0-9.eE+-]*|true|false|null)(?![^ \t\r\n{}\[\],:"]))'
    r'|(?P<sign>[{}\[\],:])|(?P<stray>"[^\n]*|[^ \t\r\n{}\[\],:"]+))'
)
"""The signs of the notation, and what is none."""

_MEMBER = re.compile(
    r'[ \t\r\n]*(?P<begin>)(?P<name>"[^"\\\n]*")[ \t]*:[ \t]*'
    r'(?P<value>"[^"\\\n]*"|(?:-?[0-9][0-9.eE+-]*|true|false|null)(?![^ \t\r\n{}\[\],:"]))'
    r"[ \t]*,?"
)
"""A member with a plain value, and the comma behind it."""

_BLANKS = re.compile("[ \\t]*")
_LINE_END = re.compile(r"[ \t\r]*(?:\n|\Z)")


@dataclass
class _Open:
    """An object or a list that is being read."""

    node: Node
    """Where what is inside goes: for a list, the node that the list is in."""
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
    is_broken: bool = False
    """Whether something directly in it isn't apart from what is before it: its end may be."""


class JsonReader:
    """Goes through a text sign by sign; by the layout too, where signs are missing."""

    def __init__(self, text: str, by_layout: bool) -> None:
        """Take the text, and whether how deep a line stands counts."""
        self.text = text
        self.by_layout = by_layout
        self.root = Node("")
        self.faults: list[Fault] = []
        self.open: list[_Open] = []
        self.line, self.line_start = 1, 0
        self.indent = self._indent()
        """Blanks at the beginning of the line."""
        self.key = ""
        """A member's name whose value has not come yet, as it is written with its quotes."""
        self.key_start = self.key_place = 0
        self.waiting = False
        """Whether the colon after the name has been."""
        self.after = ""
        """What came last where members or items stand: a ``value``, a ``,``, nothing yet."""

    def read(self) -> Nodes:
        """The nodes of the whole text, and what is broken."""
        position = 0
        while (found := self._next(position)) is not None:
            at = found.start("begin")
            newlines = self.text.count("\n", position, at)
            if newlines:
                self.line += newlines
                self.line_start = self.text.rindex("\n", 0, at) + 1
                self.indent = self._indent()
            position = found.end()
            self._take(found, at)
        end = len(self.text.rstrip())
        while self.open:
            self._fault(end, f"{self.open[-1].closing!r} is missing at the end")
            self.open.pop()
        return Nodes(self.root.children, 0, sorted(self.faults))

    def _next(self, position: int) -> re.Match[str] | None:
        """What comes next: a whole member where one may stand and is plain, else a token."""
        if self.open and self.open[-1].closing == "}" and not self.key:
            member = _MEMBER.match(self.text, position)
            if member is not None:
                return member
        return TOKEN.search(self.text, position)

    def _take(self, found: re.Match[str], at: int) -> None:
        kind, token, end = found.lastgroup, found[0], found.end()
        if kind == "value":
            self._separate(found["name"], at)
            self.after = "," if token.endswith(",") else "value"
            text = f"{found['name']}: {found['value']}"
            place = self.line, at - self.line_start + 1
            node = Node(text, *place, [], at, found.end("value"))
            self.open[-1].node.children.append(node)
        elif kind == "stray":
            self._stray(token, at, end)
        elif kind == "sign":
            self._sign(token, at)
        elif kind == "string":
            self._string(token, at, end)
        else:
            self._plain(token, at, end)

    def _stray(self, token: str, at: int, end: int) -> None:
        """What is none of the notation; where a value is due, it is the value all the same."""
        in_list = bool(self.open) and self.open[-1].closing == "]"
        if token.startswith('"') or not (in_list or (self.key and self.waiting)):
            self._fault(at, f"not understood: {token.rstrip()!r}")
            self.key = ""
            return
        opened = self._place(self.open[-1].start if in_list else self.key_start)
        self._plain(token, at, end)
        self._fault(at, f"{token!r} is not a value; text needs quotation marks", opened)

    def _place(self, offset: int) -> tuple[int, int]:
        """The line and column of something that is on this line or before."""
        if offset >= self.line_start:
            return self.line, offset - self.line_start + 1
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
            elif self.after != "value":
                self._misplaced(at, "there is one comma too many here")
            self.key, self.after = "", ","
        elif sign in "{[":
            self._begin(sign, at)
        else:
            self._end(sign, at)

    def _separate(self, what: str, at: int) -> None:
        """Note that a member or an item begins, which needs a comma if another came before."""
        if self.after == "value":
            self._misplaced(at, f"a comma is missing before {what}")
        self.after = ""

    def _misplaced(self, at: int, message: str) -> None:
        """Report a comma, the first time in an object or a list: what follows may be worse."""
        if not self.open or not self.open[-1].is_broken:
            self._fault(at, message)
        if self.open:
            self.open[-1].is_broken = True

    def _begin(self, sign: str, at: int) -> None:
        around = self.open[-1] if self.open else None
        if not self.key:
            self._separate(repr(sign), at)
        self.after = ""
        indent = self.indent if _LINE_END.match(self.text, at + 1) else -1
        start = self.key_start if self.key else at
        key, self.key = self.key or (around.key if around else ""), ""
        if around is None:
            if sign == "[":
                self._fault(at, "an object is expected, not a list")
            closing = "}" if sign == "{" else "]"
            self.open.append(_Open(self.root, closing, indent, start=start, line=self.line))
        elif sign == "[":
            if around.closing == "]" and not around.is_broken:
                self._fault(at, "there is a list inside a list")
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
        has_comma, self.after = self.after == ",", "value"
        first = at == self.line_start + self.indent
        depth = self._closes(sign, self.indent if first else -1)
        if depth is None:
            self._fault(at, f"{sign!r} closes nothing here")
            return
        if has_comma:
            self._misplaced(at, f"there is a comma too many before this {sign!r}")
        while len(self.open) > depth + 1:
            if not self.open[-1].is_broken:
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
            if indent != -1 and container.indent == -1 and container.line < self.line:
                continue  # it should have ended on its own line
            if indent == -1 or container.indent == -1:
                return depth if container.closing == sign else None
            if container.indent < indent:
                return None
        return None

    def _string(self, token: str, at: int, end: int) -> None:
        around = self.open[-1] if self.open else None
        if around is not None and around.closing == "}" and not self.key:
            self._separate(token, at)
            self.key, self.key_start, self.waiting = token, at, False
            return
        with suppress(ValueError):  # where it is used, a wrong escape is reported
            token = json.dumps(json.loads(token), ensure_ascii=False)
        self._plain(token, at, end)

    def _plain(self, token: str, at: int, end: int) -> None:
        around = self.open[-1] if self.open else None
        if around is not None and around.closing == "]":
            self._separate(token, at)
            around.items.append(token)
        elif around is not None and self.key and self.waiting:
            self._member(around.node, f"{self.key}: {token}", self.key_start, end)
            self.key = ""
        else:
            self._fault(at, f"not expected here: {token}")
            self.key = ""
        self.after = "value"

    def _member(self, owner: Node, text: str, start: int, end: int) -> None:
        node = Node(text, *self._place(start), start=start, end=end)
        owner.children.append(node)

    def _indent(self) -> int:
        found = _BLANKS.match(self.text, self.line_start)
        return found.end() - self.line_start if found else 0
