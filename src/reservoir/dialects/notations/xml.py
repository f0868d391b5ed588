"""XML: elements, their attributes and their text.

Read by a scanner of its own, because a damaged file has to be understood as far as it goes, with
the place of each damage. It expands nothing but character references and knows no DTD, so there
is nothing in it that could be made to grow or to reach out.
"""

from __future__ import annotations

import re
from bisect import bisect_right
from collections.abc import Collection, Iterator, Sequence
from dataclasses import dataclass
from typing import ClassVar

from reservoir.core.wording import nearest
from reservoir.dialects.forms.form import Form
from reservoir.dialects.forms.texts import Enclosed, Text
from reservoir.dialects.notations.nodes import (
    Fault,
    Node,
    Nodes,
    Notation,
    Piece,
    RowLike,
    ScopeLike,
    Spot,
    TextEdit,
    as_far_as_it_goes,
    back_over,
    blanks_at,
    is_first,
    joined,
)

_NAME = r"[A-Za-z_][A-Za-z0-9_.:-]*"
_BLANKS = " \t\r\n"
_SPACE = f"[{_BLANKS}]"
_ATTRIBUTE = rf"{_NAME}{_SPACE}*={_SPACE}*(?:\"[^\"<]*\"|'[^'<]*')"
_TOKEN = re.compile(
    rf"""(?P<comment><!--.*?-->)
    |(?P<cdata><!\[CDATA\[.*?\]\]>)
    |(?P<instruction><\?.*?\?>)
    |(?P<dtd><!DOCTYPE[^<]*)
    |</(?P<close>{_NAME}){_SPACE}*>
    |<(?P<open>{_NAME})(?P<attributes>(?:{_SPACE}+{_ATTRIBUTE})*){_SPACE}*(?P<empty>/?)>
    |(?P<text>[^<]+)
    |(?P<stray><[^\n]*)""",
    re.VERBOSE | re.DOTALL,
)
_ONE_ATTRIBUTE = re.compile(
    rf"(?P<name>{_NAME}){_SPACE}*={_SPACE}*(?P<sign>[\"'])(?P<value>.*?)(?P=sign)", re.DOTALL
)
_REFERENCE = re.compile("&(#[0-9]{1,7}|#x[0-9A-Fa-f]{1,6}|lt|gt|amp|quot|apos);")
_NAMED = {"lt": "<", "gt": ">", "amp": "&", "quot": '"', "apos": "'"}
_ROW = re.compile(rf"(<{_NAME})((?:[ \t]+[^<>]*?)?)[ \t]*/?>")
_ROW_WITH_TEXT = re.compile(rf"(<{_NAME})([ \t]+[^<>]*?)[ \t]*>([^<>]+)</{_NAME}>")
_IS_ATTRIBUTE = re.compile(f'{_NAME}="').match
_ROW_PIECE = re.compile(rf'\[\?[ \t]*(?P<maybe>{_NAME}="[^"]*")[ \t]*\]|(?P<sure>{_NAME}="[^"]*")')


def unescape(text: str) -> str:
    """The text without character references; those that aren't known stay."""
    return _REFERENCE.sub(_referred, text) if "&" in text else text


def _referred(found: re.Match[str]) -> str:
    name = found[1]
    if not name.startswith("#"):
        return _NAMED[name]
    code = int(name[2:], 16) if name[1] == "x" else int(name[1:])
    return chr(code) if 0 < code < 0x110000 else found[0]


_NEEDS_NO_ESCAPE = re.compile('[^ &<>"](?:[^&<>"]*[^ &<>"])?')


def escape(text: str) -> str:
    """The text as it is in an attribute or between tags."""
    if _NEEDS_NO_ESCAPE.fullmatch(text):
        return text
    for name in ("amp", "lt", "gt", "quot"):
        text = text.replace(_NAMED[name], f"&{name};")
    return re.sub("^ | $", "&#32;", text)  # at the ends, blanks would be layout


@dataclass(frozen=True)
class Xml(Notation):
    """Elements; an element's attributes are pieces inside it, and so is a text beside these.

    An element with text alone is one node: ``<door>10.84.30.1</door>``.
    """

    quotes: ClassVar[bool] = False

    def read(self, text: str, rows: ScopeLike) -> Nodes:
        apart = frozenset(_with_text_apart(rows, ()))
        return as_far_as_it_goes(lambda by_layout: _Reader(text, by_layout, apart).read())

    def write(self, nodes: Sequence[Node]) -> str:
        return joined(line for node in nodes for line in self._lines(node, ""))

    def _lines(self, node: Node, indent: str) -> Iterator[str]:
        if node.text.endswith(">"):
            yield indent + node.text
            return
        attributes = [child.text for child in node.children if _IS_ATTRIBUTE(child.text)]
        inside = [child for child in node.children if child.text.startswith("<")]
        said = " ".join(child.text for child in node.children if _is_text(child))
        opening = indent + " ".join([node.text, *attributes])
        if not inside:
            yield f"{opening}>{said}</{node.text[1:]}>" if said else f"{opening}/>"
            return
        yield f"{opening}>{said}"
        for child in inside:
            yield from self._lines(child, indent + " " * self.indent)
        yield f"{indent}</{node.text[1:]}>"

    def cut(self, text: str, around: Sequence[Node], node: Node) -> list[TextEdit]:
        return [TextEdit(back_over(_BLANKS, text, node.start), node.end, "")]

    def put(self, text: str, spot: Spot, nodes: Sequence[Node]) -> list[TextEdit]:
        attributes = [node for node in nodes if _IS_ATTRIBUTE(node.text)]
        elements = [node for node in nodes if node.text.startswith("<")]
        edits = [self._put_text(text, spot, node) for node in nodes if _is_text(node)]
        if attributes:
            tag = spot.around[-1]
            end = tag.start + len(tag.text)
            if spot.after is not None and _IS_ATTRIBUTE(spot.after.text):
                end = spot.after.end
            edits.append(TextEdit(end, end, "".join(f" {node.text}" for node in attributes)))
        if elements:
            edits.append(self._put_elements(text, spot, elements))
        return edits

    def swap(self, text: str, around: Sequence[Node], node: Node, new: Node) -> list[TextEdit]:
        if not new.text.startswith("<"):
            return [TextEdit(node.start, node.end, new.text)]
        lines = self._lines(new, blanks_at(text, node.start))
        return [TextEdit(node.start, node.end, "\n".join(lines).lstrip())]

    def _put_text(self, text: str, spot: Spot, node: Node) -> TextEdit:
        tag = spot.around[-1]
        opening = _TOKEN.match(text, tag.start)
        assert opening is not None
        if opening["empty"]:
            start = opening.start("empty")
            return TextEdit(start, opening.end(), f">{node.text}</{tag.text[1:]}>")
        return TextEdit(opening.end(), opening.end(), node.text)

    def _put_elements(self, text: str, spot: Spot, elements: Sequence[Node]) -> TextEdit:
        beside = spot.after if spot.after and spot.after.text.startswith("<") else None
        if beside is not None and not is_first(text, beside.start):
            return TextEdit(beside.end, beside.end, self._in_line(elements))
        if beside is not None:
            new = self._laid_out(elements, blanks_at(text, beside.start))
            return TextEdit(beside.end, beside.end, new)
        if not spot.around:
            end = len(text.rstrip(_BLANKS))
            return TextEdit(end, end, self._laid_out(elements, ""))
        tag = spot.around[-1]
        opening = _TOKEN.match(text, tag.start)
        assert opening is not None
        outer = blanks_at(text, tag.start)
        inside = next((node for node in tag.children if is_first(text, node.start)), None)
        deeper = outer + " " * self.indent
        new = self._laid_out(elements, blanks_at(text, inside.start) if inside else deeper)
        if opening["empty"]:
            start = opening.start("empty")
            return TextEdit(start, opening.end(), f">{new}\n{outer}</{tag.text[1:]}>")
        has_end_beside = text.startswith("</", opening.end())
        if not has_end_beside and text[opening.end() : opening.end() + 1] not in ("\n", "\r"):
            return TextEdit(opening.end(), opening.end(), self._in_line(elements))
        return TextEdit(opening.end(), opening.end(), new + f"\n{outer}" * has_end_beside)

    def _in_line(self, elements: Sequence[Node]) -> str:
        """The elements without a line end, for a text that has none there either."""
        return "".join(line.strip() for node in elements for line in self._lines(node, ""))

    def _laid_out(self, elements: Sequence[Node], indent: str) -> str:
        return "".join(f"\n{line}" for node in elements for line in self._lines(node, indent))

    def pieces(self, line: str, *, is_item: bool = False) -> Iterator[Piece]:
        with_text = _ROW_WITH_TEXT.fullmatch(line)
        row = with_text or _ROW.fullmatch(line)
        if row is None:
            yield Piece(line, 0, optional=False)
            return
        yield Piece(row[1], 0, optional=False)
        for found in _ROW_PIECE.finditer(row[2]):
            name = found.lastgroup or ""
            yield Piece(found[name], row.start(2) + found.start(name), name == "maybe")
        if with_text is not None:
            yield Piece(with_text[3].strip(), with_text.start(3), optional=False)

    def text_form(self, text: Text) -> Form:
        return Enclosed(r'[^"<>]+?', frozenset('"<>'), "&", unescape, escape)


def _with_text_apart(rows: ScopeLike, around: tuple[str, ...]) -> Iterator[tuple[str, ...]]:
    """The paths of elements that have a text beside attributes or elements in some row."""
    for row in rows.rows:
        inside, begins = row.scope.rows, row.pattern.begins
        path = (*around, begins[1:]) if begins.startswith("<") else around
        if path is not around and not all(map(_is_markup, inside)):
            yield path
        if inside:
            yield from _with_text_apart(row.scope, path)


def _is_markup(row: RowLike) -> bool:
    begins = row.pattern.begins
    return begins.startswith("<") or _IS_ATTRIBUTE(begins) is not None


def _is_text(node: Node) -> bool:
    """Whether a node is the text of an element that has attributes, too."""
    return not (node.text.startswith("<") or _IS_ATTRIBUTE(node.text))


class _Reader:
    def __init__(self, text: str, by_layout: bool, apart: Collection[tuple[str, ...]]) -> None:
        self.text = text
        self.by_layout = by_layout
        self.apart = apart
        """The elements, each by its path, whose text is a node even where nothing is beside it."""
        self.root = Node("")
        self.open = [self.root]
        self.names = [""]
        """The name of each element that is open."""
        self.is_laid_out = False
        """Whether what is inside an element has stood deeper somewhere."""
        self.comments = 0
        self.faults: list[Fault] = []
        self.line_starts = [0, *(found.end() for found in re.finditer("\n", text))]

    def read(self) -> Nodes:
        for found in _TOKEN.finditer(self.text):
            kind, at = found.lastgroup or "", found.start()
            if kind == "text":
                if found[0].strip(_BLANKS):
                    self._text(found[0], at, found.end())
            elif kind == "empty":
                self._element(found)
            elif kind == "close":
                self._close(found["close"], at, found.end())
            elif kind == "comment":
                self.comments += 1
            elif kind == "cdata":
                self._text(escape(found[0][9:-3]), at, found.end())
            elif kind == "dtd":
                self._fault(at, "a document type declaration is not allowed")
            elif kind == "stray":
                self._stray(found[0].rstrip(), at, found.end())
        for node in self.open[1:]:
            self._not_closed(node)
        return Nodes(self.root.children, self.comments, sorted(self.faults))

    def _place(self, offset: int) -> tuple[int, int]:
        line = bisect_right(self.line_starts, offset)
        return line, offset - self.line_starts[line - 1] + 1

    def _fault(self, offset: int, message: str) -> None:
        since = self.open[-1].line if self.open[1:] else 0
        self.faults.append(Fault(*self._place(offset), message, since))

    def _node(self, text: str, start: int, end: int) -> Node:
        return Node(text, *self._place(start), [], start, end)

    def _element(self, found: re.Match[str]) -> None:
        node = self._node(f"<{found['open']}", found.start(), found.end())
        if found["attributes"]:
            self._attributes(node, found["attributes"], found.start("attributes"))
        self._add(node)
        if not found["empty"]:
            self._open(node, found["open"])

    def _attributes(self, element: Node, attributes: str, start: int) -> None:
        """Put a node for each attribute into an element."""
        names = set[str]()
        in_line = "\n" not in attributes
        for pair in _ONE_ATTRIBUTE.finditer(attributes):
            name, _, value = pair.groups()
            offset = start + pair.start()
            if name in names:
                self._fault(offset, f"{name} appears twice in this element")
            names.add(name)
            column = element.column + offset - element.start
            place = (element.line, column) if in_line else self._place(offset)
            if not _NEEDS_NO_ESCAPE.fullmatch(value):
                value = escape(unescape(value))
            text = f'{name}="{value}"'
            element.children.append(Node(text, *place, [], offset, start + pair.end()))

    def _open(self, node: Node, name: str) -> None:
        self.open.append(node)
        self.names.append(name)

    def _leave(self) -> Node:
        self.names.pop()
        return self.open.pop()

    def _add(self, node: Node) -> None:
        """Put a node inside the innermost element that is open.

        By the layout, what stands no deeper than an element isn't in it if what came first in it
        stood deeper: a damaged line hid the closing tag.
        """
        while self.by_layout and len(self.open) > 1:
            around = self.open[-1]
            inside = next((child for child in around.children if child.line > around.line), None)
            is_deeper = self.is_laid_out if inside is None else inside.column > around.column
            if node.line == around.line or node.column > around.column or not is_deeper:
                break
            self._not_closed(self._leave())
        self.is_laid_out |= node.line > self.open[-1].line and node.column > self.open[-1].column
        self.open[-1].children.append(node)

    def _text(self, text: str, start: int, end: int) -> None:
        content = text.strip(_BLANKS)
        if content:
            start += len(text) - len(text.lstrip(_BLANKS))
            self.open[-1].children.append(self._node(escape(unescape(content)), start, end))

    def _stray(self, snippet: str, start: int, end: int) -> None:
        """A tag that is none: what it seems to open is kept together, and not understood."""
        name = re.match(f"<({_NAME})", snippet)
        self._fault(start, f"this is not a tag: {snippet!r}")
        if name is None:
            return
        node = self._node(snippet, start, end)
        self._add(node)
        if not snippet.endswith("/>") and f"</{name[1]}" not in snippet:
            self._open(node, name[1])

    def _close(self, name: str, start: int, end: int) -> None:
        names = self.names
        innermost = self.open[-1]
        if names[-1] == name:
            self._end(len(names) - 1, start, end)
            return
        if name not in names[1:] and names[1:] and self._is_misspelt(name, names[-1], start):
            where = f"</{name}> closes <{names[-1]}> of line {innermost.line}"
            place = *self._place(start), f"{where}, which has another name"
            self.faults.append(Fault(*place, opened=(innermost.line, innermost.column)))
            name = names[-1]
        if name not in names[1:]:
            self._fault(start, f"</{name}> closes nothing here")
            return
        self._end(len(names) - 1 - names[::-1].index(name), start, end)

    def _end(self, depth: int, start: int, end: int) -> None:
        """Close an element, and first what is open in it."""
        for node in self.open[depth + 1 :]:
            self._not_closed(node)
        closed, name = self.open[depth], self.names[depth]
        del self.open[depth:], self.names[depth:]
        after_tag, closed.end = closed.end, end
        only = closed.children[0] if len(closed.children) == 1 else None
        if self.apart and (*self.names[1:], name) in self.apart:
            return
        if only is not None and only.start >= after_tag and not only.text.startswith("<"):
            closed.text = f"{closed.text}>{only.text}</{name}>"
            closed.children = []

    def _is_misspelt(self, name: str, innermost: str, start: int) -> bool:
        """Whether a closing tag is that of the innermost element, one of the two misspelt."""
        alone = f"<{name}" not in self.text or f"</{innermost}" not in self.text
        in_line = self._place(start)[0] == self.open[-1].line
        return alone and (in_line or nearest(name, [innermost]) is not None)

    def _not_closed(self, node: Node) -> None:
        self.faults.append(Fault(node.line, node.column, f"{node.text!r} is not closed"))
