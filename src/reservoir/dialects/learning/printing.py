"""Prints drafted rows as a sheet has them: a margin, and how it looks."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field, replace
from typing import NamedTuple

from reservoir.core.wording import listed
from reservoir.dialects.learning.meanings import words_of
from reservoir.dialects.learning.rows import DraftRow, Element
from reservoir.dialects.learning.sample import Sample
from reservoir.dialects.notations.json import Json
from reservoir.dialects.notations.layout import Layout
from reservoir.dialects.notations.tables import ROW
from reservoir.dialects.notations.xml import Xml

MOST_LINES_NAMED = 3
"""Lines of the sample that a remark names at most."""


class Printed(NamedTuple):
    """A row as it stands in the sheet."""

    margin: str
    text: str
    remark: str


GUESS, NO_ROW = "a guess", "no row yet"
"""How the remarks of a draft begin."""


@dataclass
class Printer:
    """Prints the rows of a sample."""

    sample: Sample
    has_typed_macs: bool
    """Whether MAC addresses stand behind a hardware type."""
    with_blanks: frozenset[str] = frozenset()
    """Fields whose texts go to the end of the line."""
    printed: list[Printed] = field(default_factory=list)

    def lines(self, rows: Sequence[DraftRow]) -> Iterator[str]:
        """The lines of a sheet's body."""
        self._rows(rows, 0, ())
        width = max((len(row.margin) for row in self.printed), default=0) + 1
        for row in self.printed:
            if row.remark:
                yield f"# {_printable(row.remark)}"
            if row.text:
                text = f"{row.margin:<{width}}| {row.text}"
                yield text if text.isprintable() else f"# {NO_ROW}: {_printable(text)}"

    def _rows(self, rows: Sequence[DraftRow], depth: int, prefix: Sequence[Element]) -> None:
        """Print the rows of one place; ``prefix`` are the steps before them that only hold them."""
        implied = [row for row in rows if _is_in_range(row) and not row.is_left]
        begins = {word for row in rows if not row.is_left for word in self._first_word(row)}
        left = set[str]()
        for row in rows:
            if implied and row is implied[0]:
                self._add("range", depth, ":")
                for inner in implied:
                    self._row(_of_range(inner), depth + 1, prefix)
            elif row.is_left and _has_value(row):
                self._say_unsaid(row)
            elif row.is_left:
                text = _left(row, begins)
                if text not in left:
                    left.add(text)
                    self._add("left", depth, self._text(prefix) + text, row)
            elif row not in implied:
                self._row(row, depth, prefix)

    def _row(self, row: DraftRow, depth: int, prefix: Sequence[Element]) -> None:
        between = self._between_steps
        if self._is_dash(row) and row.rows and row.rows[0].margin == "" and row.rows[0].slots:
            first, *others = row.rows
            row = replace(row, elements=[f"{row.elements[0]} ", *first.elements], rows=others)
            row.doubts += first.doubts
        if between and not self._is_heading(row):
            if row.is_frame and row.rows:
                self._rows(row.rows, depth, [*prefix, *row.elements, between])
                return
            while (only := _only_step(row)) is not None:
                row = _joined(row, only, between)
        text = self._text([*prefix, *row.elements])
        text += "".join(map(self._optional, row.optional))
        row = self._as_one(row)
        on_line = [inner for inner in row.rows if self._stands_on_line(inner, row)]
        text = self._with_pieces(text, row, on_line)
        margin = f"{row.kind} {row.margin}".strip() if row.kind else row.margin and f" {row.margin}"
        if not row.kind and row.statements[0].fact.kind == "device":
            states = row.slots or any(inner.slots for inner in on_line) or "=" in row.margin
            margin = f"device {row.margin.lstrip('? ')}".rstrip() if states else margin
        self._add(margin, depth, text, row, on_line)
        self._rows([inner for inner in row.rows if inner not in on_line], depth + 1, ())

    def _say_unsaid(self, row: DraftRow) -> None:
        """Say of lines with values of the plan that no row is for them."""
        why = f"; {'; '.join(dict.fromkeys(row.doubts))}" if row.doubts else ""
        line, text = row.lines[0], _printable(row.statements[0].node.text)
        self.printed.append(Printed("", "", f"{NO_ROW} for line {line}: {text}{why}"))

    def _first_word(self, row: DraftRow) -> Iterator[str]:
        yield from (words_of(statement.node.text)[0] for statement in row.statements)

    @property
    def _between_steps(self) -> str:
        """What stands between the steps of statements, where they have such."""
        layout = self.sample.notation
        return layout.paths.between if isinstance(layout, Layout) and layout.path else ""

    def _is_dash(self, row: DraftRow) -> bool:
        layout = self.sample.notation
        return isinstance(layout, Layout) and bool(layout.dash) and row.elements == [layout.dash]

    def _is_heading(self, row: DraftRow) -> bool:
        layout = self.sample.notation
        return isinstance(layout, Layout) and layout.is_heading(self._text(row.elements))

    def _as_one(self, row: DraftRow) -> DraftRow:
        """A row that only holds pieces of one value, which may be missing, as one that may be."""
        said = {slot.partition(":")[0] for inner in row.rows for slot in inner.slots}
        is_xml = isinstance(self.sample.notation, Xml)
        are_pieces = all(
            inner.is_piece or (is_xml and inner.statements[0].node.text[0] != "<")
            for inner in row.rows
        )
        plain = all(inner.margin in ("", "?") and not inner.is_left for inner in row.rows)
        if not (row.is_frame and len(said) == 1 and are_pieces and plain):
            return row
        margin = max(inner.margin for inner in row.rows)
        return replace(row, margin=margin, rows=[replace(r, margin="") for r in row.rows])

    def _stands_on_line(self, inner: DraftRow, row: DraftRow) -> bool:
        """Whether a row is written on the line of the one around it."""
        is_attribute = inner.statements[0].node.text.endswith('"') and not inner.is_left
        says = inner.slots or (isinstance(self.sample.notation, Xml) and is_attribute)
        if inner.kind or inner.rows or not says or inner.margin not in ("", "?"):
            return False
        if isinstance(self.sample.notation, Json):
            if not row.statements[0].node.text.endswith("["):
                return False
            return all(not r.kind and not r.rows and "=" not in r.margin for r in row.rows)
        if isinstance(self.sample.notation, Xml):
            said = inner.statements[0].node.text
            return bool(re.match(r'[\w.:-]+="', said)) or not (said[0] == "<" or inner.margin)
        return inner.is_piece

    def _with_pieces(self, text: str, row: DraftRow, pieces: Sequence[DraftRow]) -> str:
        """The text of a row with the pieces that are written on its line."""
        said = [(self._cell(self._text(piece.elements)), piece.margin) for piece in pieces]
        if isinstance(self.sample.notation, Json):
            if not said:
                return text
            members = ", ".join(f"[?{piece}]" if margin else piece for piece, margin in said)
            return f"{text} {{{members}}} ]"
        sure = [piece for piece, margin in said if not margin]
        maybe = [f"[?{piece}]" for piece, margin in said if margin]
        if isinstance(self.sample.notation, Xml):
            if not re.fullmatch(r"<[\w.:-]+", text):
                return text
            content = "".join(piece for piece in sure if not re.match(r'[\w.:-]+="', piece))
            ends = ">" if len(pieces) < len(row.rows) else "/>"
            tag = " ".join([text, *(piece for piece in sure if piece != content), *maybe])
            return f"{tag}>{content}</{text[1:]}>" if content else tag + ends
        words = [] if row.elements == [ROW] else [text]
        return " ".join([*words, *sure, *maybe])

    def _cell(self, said: str) -> str:
        """A piece; the cell of a table stands in quotation signs if there are blanks in it."""
        layout = self.sample.notation
        is_cell = isinstance(layout, Layout) and bool(layout.table)
        return f'"{said}"' if is_cell and " " in said else said

    def _optional(self, elements: Sequence[Element]) -> str:
        text = self._text(elements)
        return f" [? {text.strip()}]" if text.startswith(" ") else f"[?{text}]"

    def _text(self, elements: Sequence[Element]) -> str:
        said = "".join(map(self._said, elements))
        if isinstance(self.sample.notation, Json):
            said = re.sub(r'\["(\{[a-z_.]+\})"\]', r"[\1]", said)  # a list has its own signs
        return said

    def _said(self, element: Element) -> str:
        if isinstance(element, str):
            return element.replace("{", "{{").replace("}", "}}")
        name = element[0]
        if name == "mac" and self.has_typed_macs:
            return "{mac:clientid}"
        return f"{{{name}:rest}}" if name in self.with_blanks else f"{{{name}}}"

    def _add(
        self,
        margin: str,
        depth: int,
        text: str,
        row: DraftRow | None = None,
        pieces: Sequence[DraftRow] = (),
    ) -> None:
        remark = ""
        rows = [row, *pieces] if row is not None else []
        doubts = dict.fromkeys(doubt for each in rows for doubt in each.doubts)
        if doubts:
            lines = sorted({line for each in rows if each.doubts for line in each.lines})
            named = listed(map(str, lines[:MOST_LINES_NAMED]))
            where = f"{'lines' if len(lines) > 1 else 'line'} {named}"
            remark = f"{GUESS} ({where}): {'; '.join(doubts)}"
        self.printed.append(Printed(margin, "  " * depth + text, remark))


def _is_in_range(row: DraftRow) -> bool:
    """Whether a row of a pool says only what its range has."""
    return bool(row.slots) and all(name.startswith("range.") for name in row.slots)


def _of_range(row: DraftRow) -> DraftRow:
    """A row of a pool as one of its range."""
    elements = [
        element
        if isinstance(element, str)
        else tuple(type(name)(name.removeprefix("range.")) for name in element)
        for element in row.elements
    ]
    margin = "" if row.margin == "?" and len(elements) < 4 else row.margin
    return replace(row, elements=elements, margin=margin)


def _only_step(row: DraftRow) -> DraftRow | None:
    """The one step that always follows another, if it says more of the same."""
    only = row.rows[0] if len(row.rows) == 1 else None
    if only is None or only.kind or only.is_left or "=" in only.margin or only.is_piece:
        return None
    return only if len(only.statements) == len(row.statements) else None


def _joined(row: DraftRow, only: DraftRow, between: str) -> DraftRow:
    """A step and the one that always follows it, as one."""
    made = DraftRow(row.kind, [*row.elements, between, *only.elements], row.statements)
    made.margin = row.margin if row.kind or not only.slots else only.margin
    made.doubts, made.rows = [*row.doubts, *only.doubts], only.rows
    return made


def _left(row: DraftRow, begins: set[str]) -> str:
    """A row for lines that are left alone: their first word, where no other row has it."""
    node = row.statements[0].node
    words = words_of(node.text)
    is_word = re.fullmatch(r"[\w-]+", words[0]) is not None
    is_sure = not row.doubts
    if len(words) > 1 and is_word and is_sure and words[0] not in begins and not node.children:
        return f"{words[0]} *"
    return _printable(" ".join(words)).replace("|", "?").replace("*", "?")


def _has_value(row: DraftRow) -> bool:
    """Whether something that the plan has is in its line."""
    return any(word.is_sure for statement in row.statements for word in statement.words)


def _printable(text: str) -> str:
    """A text as it may stand in a sheet."""
    return "".join(sign if sign.isprintable() else "?" for sign in text)
