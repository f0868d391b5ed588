"""Reads the body of a sheet: margins, lines, slots and parts."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any, NamedTuple

from reservoir.core.problems import Place, Problem
from reservoir.core.values.addresses import MalformedValueError
from reservoir.core.wording import hint
from reservoir.dialects.facts.fact import NOTHING
from reservoir.dialects.facts.kinds import (
    DHCP_FIELDS,
    ITEMS,
    KINDS,
    LABEL,
    RUNNING_NUMBER,
    field_type,
)
from reservoir.dialects.forms.form import Form
from reservoir.dialects.forms.plain import (
    COUNT_FROM_0,
    HOST,
    NUMBER,
    PREFIX_PARTS,
    form_of_part,
    of_identifier,
)
from reservoir.dialects.forms.texts import ListOf
from reservoir.dialects.notations.nodes import Notation, Piece
from reservoir.dialects.notations.tables import ROW
from reservoir.dialects.sheet.hints import (
    badly_marked,
    no_bar,
    no_value,
    other_field,
    other_margin,
    other_part,
)
from reservoir.dialects.sheet.made_of import MadeOf
from reservoir.dialects.sheet.margins import DEFAULT, ONLY_READ, left_alone, margin_parts
from reservoir.dialects.sheet.mistakes import SheetMistakeError
from reservoir.dialects.sheet.model import Row, every_row, grouped, kind_of
from reservoir.dialects.sheet.patterns import (
    Element,
    LinePattern,
    Literal,
    Optional,
    Slot,
    with_lists_in_strings,
)

_PIECES = re.compile(r"\{\{|\}\}|\{[^{}]*\}|\[\?|\]|[^{}\[\]]+|.")


@dataclass
class _Level:
    indent: int
    row: Row


class _Line(NamedTuple):
    """What the slots of a line depend on."""

    about: str
    """The kind of fact that it is about."""
    forms: Mapping[str, Form]
    """The forms by field type."""
    is_item: bool = False
    """Whether it is a line for each item of a list."""


class BodyReader:
    """Makes rows of a sheet's body; collects every mistake in it."""

    def __init__(
        self,
        file: str,
        forms: Mapping[str, Form],
        named_forms: Mapping[str, tuple[str, Form]],
        of_fields: Mapping[tuple[str, str], Form],
        carrier: Notation,
        part: str = "",
    ) -> None:
        """Use the header's forms: by field type, by name with the type, and of single fields.

        Args:
            file: Where the sheet is, for messages.
            forms: By field type.
            named_forms: By name, with the type.
            of_fields: Those of single fields, by kind and field.
            carrier: The notation.
            part: The part of the sheet that its rows stand in; empty for the configuration.
        """
        self.file = file
        self.part = part
        self.forms = forms
        self.named_forms = named_forms
        self.of_fields = of_fields
        self.carrier = carrier
        cell, texts = carrier.cell_form(forms["text"]), forms["texts"]
        texts = ListOf(cell, texts.separator) if isinstance(texts, ListOf) else texts
        self.cell_forms = {**forms, "text": cell, "texts": texts}
        """The same in the cells of tables."""
        self.problems: list[Problem] = []
        self.rows: list[Row] = []
        self.left: list[re.Pattern[str]] = []
        """Lines of the top level that are left alone."""
        self._levels: list[_Level] = []
        self._lost: int | None = None
        """How deep the row is that couldn't be read, while what is inside it is passed over."""

    def take(self, number: int, text: str) -> None:
        """Read one line of the body."""
        if not text.strip() or text.startswith("#"):
            return
        margin, bar, line = text.partition("|")
        indent = len(line) - len(line.lstrip(" ")) - line.startswith(" ")
        if self._lost is not None and bar and indent > self._lost:
            return  # it is inside a row that couldn't be read
        self._lost = None
        try:
            if not bar:
                raise SheetMistakeError(no_bar(margin.strip()))
            if "\t" in line[: len(line) - len(line.lstrip())]:
                raise SheetMistakeError("a tab stands before this line; blanks indent a row")
            self._row(number, margin, line, len(margin) + 1)
        except SheetMistakeError as error:
            place = Place(self.file, number, error.column + 1)
            self.problems.append(Problem(place, error.message))
            self._lost = indent if bar else None
        except MalformedValueError as error:
            self.problems.append(Problem(Place(self.file, number, len(margin) + 2), str(error)))

    def finish(self, *, is_laid_out: bool = True) -> list[Row]:
        """The rows of the top level, after the last line.

        Args:
            is_laid_out: The header has no mistakes, so that it can be asked what is inside what.
        """
        for row in every_row(self.rows) if is_laid_out else ():
            row.about_dhcp &= not row.is_apart  # it frames what is said of several facts
            if self.carrier.between_steps and row.holds_lines:
                row.pattern = row.pattern.avoiding(self.carrier.between_steps)
            self._check_parts(row)
            self._check_inside(row)
            if not (row.children or row.mentioned or row.kind) and row.pattern.elements:
                message = no_value(kind_of(row), row.pattern.shape, maybe=bool(row.repeat))
                place = Place(self.file, row.number)
                self.problems += [Problem(place, message)] if message else []
        return self.rows

    def _row(self, number: int, margin: str, line: str, column: int) -> None:
        line = line[1:] if line.startswith(" ") else line
        column += 1
        indent = len(line) - len(line.lstrip(" "))
        while self._levels and self._levels[-1].indent >= indent:
            self._levels.pop()
        parent = self._levels[-1].row if self._levels else None
        if margin.strip() == "undo":
            self._undo_row(line[indent:].rstrip(), parent, column + indent)
            return
        if margin.strip() == "left":
            text = self.carrier.normal(line[indent:].rstrip())
            (parent.left if parent is not None else self.left).append(left_alone(text, column))
            return
        if not line.strip():
            raise SheetMistakeError("a row has text right of its '|'; ':' alone opens a fact")
        first, _, rest = margin.strip().partition(" ")
        kind, repeat, pairs = margin_parts(rest if first in (ONLY_READ, DEFAULT) else margin)
        if kind and kind not in KINDS:
            raise SheetMistakeError(f"{kind!r} is not a kind of fact{other_margin(kind)}")
        if kind and kind != "device" and KINDS[kind].part != self.part:
            raise SheetMistakeError(other_part(kind, self.part))
        inside = self._enclosing_kind() or "device"
        if kind and kind != "device" and inside not in KINDS[kind].inside:
            owners = " or ".join(KINDS[kind].inside)
            raise SheetMistakeError(
                f"a fact of kind {kind} belongs in a {owners}, not in a {inside}"
            )
        about = kind or self._enclosing_kind() or "device"
        conditions, same_as = self._conditions(about, pairs)
        row = Row(number, kind, repeat, conditions, same_as, LinePattern(()), owner=parent)
        row.made_of = {name: MadeOf(text) for name, text in pairs if text.count("{") > 1}
        row.about_dhcp = KINDS[about].about_dhcp
        row.is_default = first == DEFAULT
        row.is_only_read = first in (ONLY_READ, DEFAULT)
        if row.is_default and (kind or about == "device"):
            raise SheetMistakeError("a default is a row without a kind, under that of its facts")
        if line.strip() != ":":
            self._lay_out(row, line[indent:].rstrip(), about, column + indent)
        elif not kind:
            raise SheetMistakeError("':' opens a fact without a line of its own; name its kind")
        if row.adds_fields and not repeat and (conditions or row.is_only_read):
            row.repeat = "?"  # there only with that value, or said so
        row.about_dhcp |= bool(row.mentioned & DHCP_FIELDS)
        (parent.children if parent else self.rows).append(row)
        self._levels.append(_Level(indent, row))

    def _undo_row(self, line: str, parent: Row | None, column: int) -> None:
        """A line that undoes the rows of one kind just above."""
        rows = parent.children if parent is not None else self.rows
        if not rows or not self.carrier.has_undo:
            raise SheetMistakeError(
                "an undo row goes below the row that it undoes, at the same depth"
                if not rows
                else "in this notation a line is undone by leaving it out"
            )
        kind, alike = grouped(rows)[-1]
        above = alike if kind else alike[-1:]
        head, *_ = self.carrier.pieces(line)
        pattern = self._pattern(head, _Line(kind_of(rows[-1]), self.forms), column)
        missing = pattern.required_fields - above[-1].required
        if missing or pattern.head is None:
            what = (
                f"{{{min(missing)}}} is not in the row above" if missing else "no word at the start"
            )
            raise SheetMistakeError(f"{what}; an undo row is a word and slots of that row", column)
        for row in above:
            row.undo = pattern

    def _lay_out(self, row: Row, line: str, about: str, column: int) -> None:
        """Give the row its pattern, and the pieces of its line rows of their own."""
        around = row.owner.pattern.shape if row.owner is not None else ""
        row.is_on_line = self.carrier.is_on_line(line, around)
        if row.is_on_line:
            head, *pieces = [Piece(line, 0, optional=False)]
        else:
            head, *pieces = self.carrier.pieces(line, is_item=row.is_item)
        its = _Line(about, self.cell_forms if ROW in (head.text, around) else self.forms)
        is_item = row.repeat == "*" and not row.kind
        row.pattern = self._pattern(head, its._replace(is_item=is_item), column)
        others = (RUNNING_NUMBER, *row.pattern.links)
        slots = [slot for slot in row.pattern.slots if slot.field not in others]
        fields = [slot.field for slot in slots if slot.part in ("", "ip")]
        if row.repeat == "*" and row.adds_fields and len(fields) != 1:
            raise SheetMistakeError("a row that adds the items of a list has one slot", column)
        for piece in pieces:
            pattern = self._pattern(piece, its, column)
            repeat = "?" if piece.optional else ""
            inner = Row(row.number, "", repeat, {}, {}, pattern, [], [], row, row.about_dhcp, True)
            inner.is_on_line = head.text != self.carrier.dash
            inner.about_dhcp |= bool(inner.mentioned & DHCP_FIELDS)
            row.pieces.append(inner)
        row.children += row.pieces

    def _pattern(self, piece: Piece, line: _Line, column: int) -> LinePattern:
        text = self.carrier.normal(piece.text, is_row=True)
        elements = self._elements(text, line, column + piece.column)
        return LinePattern(elements, self.carrier.opening(text))

    def _enclosing_kind(self) -> str:
        kinds = (level.row.kind for level in reversed(self._levels) if level.row.kind)
        return next(kinds, "")

    def _conditions(
        self, kind: str, pairs: Sequence[tuple[str, str]]
    ) -> tuple[dict[str, Any], dict[str, str]]:
        conditions: dict[str, Any] = {}
        same_as: dict[str, str] = {}
        for name, text in pairs:
            its_type = _field_type(kind, name)
            if text.count("{") > 1:
                if its_type != "text":
                    raise SheetMistakeError(f"only a text is made of other fields, not {name}")
                for part in MadeOf(text).parts:
                    _field_type(kind, part)
            elif text.startswith("{") and text.endswith("}"):
                _field_type(kind, text[1:-1])
                same_as[name] = text[1:-1]
            elif text == "none":
                conditions[name] = NOTHING
            elif its_type == "bool":
                if text not in ("yes", "no"):
                    raise SheetMistakeError(f"{name} must be yes or no, not {text!r}")
                conditions[name] = text == "yes"
            else:
                conditions[name] = self.forms[its_type].read(text)
        return conditions, same_as

    def _elements(self, said: str, line: _Line, column: int) -> tuple[Element, ...]:
        top: list[Element] = []
        inner: list[Literal | Slot] | None = None
        for piece in _PIECES.finditer(said):
            text, at = piece[0], column + piece.start()
            target: list[Any] = top if inner is None else inner
            if text == "[?":
                if inner is not None:
                    raise SheetMistakeError("an optional part can't be inside another", at)
                _strip_blank(top)
                inner = []
            elif text == "]" and inner is not None:
                if not any(isinstance(element, Slot) for element in inner):
                    raise SheetMistakeError("an optional part needs a slot", at)
                top.append(Optional(tuple(inner)))
                inner = None
            elif text.startswith("{") and text.endswith("}") and text not in ("{{", "}}"):
                if target and isinstance(target[-1], Slot):
                    raise SheetMistakeError(
                        f"{text} directly follows another slot; put text between them", at
                    )
                target.append(self._slot(text[1:-1], line, at))
            elif "{{" not in text and (wrong := badly_marked(line.about, text, said)):
                raise SheetMistakeError(wrong, at)
            else:
                literal = re.sub("[ \t]+", " ", {"{{": "{", "}}": "}"}.get(text, text))
                _add_literal(target, literal)
        if inner is not None:
            raise SheetMistakeError(
                "an optional part is opened with [? and not closed with ]", column
            )
        if not top:
            raise SheetMistakeError("the row has no line", column)
        return with_lists_in_strings(top)

    def _slot(self, text: str, line: _Line, column: int) -> Slot:
        kind = line.about
        name, _, form_name = text.partition(":")
        if name == f"{RUNNING_NUMBER}0":
            return Slot(RUNNING_NUMBER, COUNT_FROM_0)
        try:
            its_type = _field_type(kind, name)
        except SheetMistakeError as error:
            raise SheetMistakeError(error.message, column) from None
        of = name.partition(".")[0]
        is_inner = "." in name and kind in KINDS[of].inside and LABEL not in name
        if "." in name and not is_inner and of not in {level.row.kind for level in self._levels}:
            raise SheetMistakeError(f"this row is not inside a row of kind {of}", column)
        if name == RUNNING_NUMBER:
            return Slot(name, NUMBER)
        if line.is_item:
            its_type = ITEMS.get(its_type, its_type)
        owner, _, of_owner = name.rpartition(".")
        if form_name in ("", its_type):
            return Slot(
                name,
                self.of_fields.get((owner or kind, of_owner), line.forms[its_type]),
                "",
                is_inner,
            )
        part = self._part(name, its_type, form_name, line)
        if part:
            return Slot(name, form_of_part(part), part, is_inner)
        form_type, form = self.named_forms.get(form_name, ("", None))
        if form is not None and (form_type, its_type) == ("bytes", "identifier"):
            form_type, form = its_type, of_identifier(form)
        if form is None or form_type != its_type:
            known = [name for name, (of, _) in self.named_forms.items() if of == its_type]
            known += {"prefix": list(PREFIX_PARTS), "ip": ["host"]}.get(its_type, [])
            near = hint(form_name, known) or (f"; there are {', '.join(known)}" if known else "")
            raise SheetMistakeError(f"{name} has no form named {form_name!r}{near}", column)
        return Slot(name, form, "", is_inner)

    def _part(self, name: str, its_type: str, form_name: str, line: _Line) -> str:
        """The part of its value that a slot holds; none if it holds all of it.

        Raises:
            SheetMistakeError: the rest would be that of a field that has no address.
        """
        if its_type == "ip" and form_name == "host":
            return HOST
        part, at, other = form_name.partition("@")
        if its_type != "prefix" or part not in PREFIX_PARTS:
            return ""
        if at and (part == "ip" or name != "subnet" or _field_type(line.about, other) != "ip"):
            raise SheetMistakeError("a mask of another field is like {subnet:mask@gateway}")
        return form_name

    def _check_parts(self, row: Row) -> None:
        """A value that is written in parts has its address and its length among its fact's rows."""
        if row.adds_fields and row.owner is not None:
            return  # it is looked at with the row that opens its fact
        parts: dict[str, set[str]] = {}
        first: dict[str, int] = {}
        for inner in (row, *(child for child in every_row(row.children) if child.adds_fields)):
            for slot in inner.pattern.slots:
                if slot.part and "@" not in slot.part:
                    parts.setdefault(slot.field, set()).add(slot.part)
                    first.setdefault(slot.field, inner.number)
        for name, found in parts.items():
            if "ip" not in found or len(found) != 2:
                message = (
                    f"{name} is written in parts, so this line, or one next to it, needs "
                    f"{{{name}:ip}} and {{{name}:mask}}, {{{name}:inverted}} or {{{name}:bits}}"
                )
                self.problems.append(Problem(Place(self.file, first[name]), message))

    def _check_inside(self, row: Row) -> None:
        """The header says how one line is inside another, for rows that are."""
        inside = [inner for inner in row.scope.rows if not inner.is_on_line]
        if row.is_implied or row.is_on_line:
            return
        wrong = self.carrier.why_not_inside(row.pattern.shape, has_lines=bool(inside))
        if wrong:
            self.problems.append(Problem(Place(self.file, row.number), wrong))


def _field_type(kind: str, name: str) -> str:
    try:
        return field_type(kind, name)
    except KeyError:
        owner, _, of_owner = name.rpartition(".")
        if owner and owner not in KINDS:
            raise SheetMistakeError(
                f"{owner!r} is not a kind of fact{hint(owner, KINDS)}"
            ) from None
        raise SheetMistakeError(
            f"a fact of kind {owner or kind} has no field {of_owner!r}"
            f"{other_field(owner or kind, of_owner)}"
        ) from None


def _strip_blank(elements: list[Element]) -> None:
    """Drop the blank before an optional part: the part brings its own."""
    if elements and isinstance(elements[-1], Literal) and elements[-1].text.endswith(" "):
        shorter = elements.pop().text[:-1]  # type: ignore[union-attr]
        if shorter:
            elements.append(Literal(shorter))


def _add_literal(elements: list[Any], text: str) -> None:
    if elements and isinstance(elements[-1], Literal):
        elements[-1] = Literal(elements[-1].text + text)
    else:
        elements.append(Literal(text))
