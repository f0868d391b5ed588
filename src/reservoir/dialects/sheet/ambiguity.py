"""Finds, when a sheet is loaded, lines that two rows would match, or one row in two ways.

Each row's line becomes a small automaton over characters. A line that two rows match is a path
through both at once; a line that can be cut in two ways is a path through one row taken twice,
with some character in different slots. The shortest such line is shown as the witness.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from reservoir.core.values.addresses import MalformedValueError, Prefix
from reservoir.core.values.clients import Mac
from reservoir.dialects.facts.kinds import field_type
from reservoir.dialects.forms.durations import DurationForm, Unit
from reservoir.dialects.forms.form import Form
from reservoir.dialects.forms.moments import MomentForm
from reservoir.dialects.forms.plain import Plain
from reservoir.dialects.forms.texts import Enclosed, EscapedBytes, ListOf, Quoted, Rest, Text
from reservoir.dialects.notations.nodes import Undo
from reservoir.dialects.sheet.model import Row, Scope, every_row, kind_of, top_scope
from reservoir.dialects.sheet.patterns import (
    BadValueError,
    Element,
    LinePattern,
    Literal,
    Optional,
    Slot,
)

ANY_OTHER = "x"
"""Stands for the characters that no literal of the two rows has."""


@dataclass
class _Automaton:
    """States from 0; steps by character, each tagged with the slot that it is in; free moves."""

    steps: list[list[tuple[frozenset[str], str, int]]] = field(default_factory=lambda: [[]])
    free: list[list[int]] = field(default_factory=lambda: [[]])
    end: int = 0

    def state(self) -> int:
        self.steps.append([])
        self.free.append([])
        return len(self.steps) - 1

    def step(self, begin: int, characters: Iterable[str], tag: str, end: int | None = None) -> int:
        """A step to ``end``, a new state if None; the state reached."""
        end = self.state() if end is None else end
        self.steps[begin].append((frozenset(characters), tag, end))
        return end

    def repeated(self, begin: int, characters: frozenset[str], tag: str) -> int:
        """One or more of the characters."""
        end = self.step(begin, characters, tag)
        self.step(end, characters, tag, end)
        return end

    def reachable(self, state: int) -> frozenset[int]:
        """The state, and those that free moves lead to."""
        seen, pending = {state}, [state]
        while pending:
            for after in self.free[pending.pop()]:
                if after not in seen:
                    seen.add(after)
                    pending.append(after)
        return frozenset(seen)


class _Builder:
    """Builds the automaton of a line over an alphabet."""

    def __init__(self, alphabet: frozenset[str]) -> None:
        self.all = alphabet
        self.dark = alphabet - {" "}
        self.made = _Automaton()

    def line(self, pattern: LinePattern) -> _Automaton:
        self.made.end = self._elements(pattern.elements, 0)
        return self.made

    def _elements(self, elements: Sequence[Element], at: int) -> int:
        for position, element in enumerate(elements):
            if isinstance(element, Literal):
                at = self._literal(element.text, at, "")
            elif isinstance(element, Slot):
                at = self._form(element.form, at, f"{position} {element.field}")
            elif isinstance(element, Optional):
                at = self._either(at, self._elements(element.elements, at))
        return at

    def _literal(self, text: str, at: int, tag: str) -> int:
        for character in text:
            if character == " ":
                at = self.made.repeated(at, frozenset(" "), tag)
            else:
                at = self.made.step(at, character, tag)
        return at

    def _form(self, form: Form, at: int, tag: str) -> int:
        for kind, build in _BUILDERS.items():
            if isinstance(form, kind):
                return build(self, form, at, tag)
        return self.made.repeated(at, self._of(form.characters), tag)

    def _plain(self, form: Plain, at: int, tag: str) -> int:
        if form.template:
            return self._template(form.template, at, tag)
        return self.made.repeated(at, self._of(form.characters), tag)

    def _enclosed(self, form: Enclosed, at: int, tag: str) -> int:
        return self.made.repeated(at, self.all - form.forbidden, tag)

    def _quoted(self, form: Quoted, at: int, tag: str) -> int:
        inside = self._form(form.item, self.made.step(at, '"', tag), tag)
        return self.made.step(inside, '"', tag)

    def _template(self, template: str, at: int, tag: str) -> int:
        """Numbers where the template has a 0, and its other characters as they are."""
        for character in template:
            if character == "0":
                at = self.made.repeated(at, self._of("0123456789"), tag)
            else:
                at = self.made.step(at, character, tag)
        return at

    def _of(self, characters: str) -> frozenset[str]:
        return self.dark & (frozenset(characters) or self.dark)

    def _rest(self, form: Form, at: int, tag: str) -> int:
        end = self.made.step(at, self.dark, tag)
        middle = self.made.state()
        self.made.step(end, self.all, tag, middle)
        self.made.step(middle, self.all, tag, middle)
        self.made.step(middle, self.dark, tag, end)
        self.made.step(end, self.dark, tag, end)
        return end

    def _text(self, form: Text, at: int, tag: str) -> int:
        end = self.made.repeated(at, self.dark - frozenset(form.quote), tag)
        if form.quote:
            inside = self.made.step(at, form.quote, tag)
            self.made.step(inside, self.all - frozenset(form.quote), tag, inside)
            self.made.step(inside, form.quote, tag, end)
        return end

    def _list(self, form: ListOf, at: int, tag: str) -> int:
        begin = self.made.state()
        self.made.free[at].append(begin)
        end = self._form(form.item, begin, tag)
        between = self.made.state()
        self.made.step(end, " ", tag, between)
        self.made.step(between, " ", tag, between)
        mark = form.separator.strip()
        if not mark:
            self.made.free[between].append(begin)
            return end
        after = self._literal(mark, between, tag)
        self.made.free[end].append(between)
        self.made.step(after, " ", tag, after)
        self.made.free[after].append(begin)
        return end

    def _duration(self, form: DurationForm, at: int, tag: str) -> int:
        first, *others = form.ways or (form,)
        end = self._duration_parts(first.parts, at, tag)
        for way in others:
            end = self._either(end, self._duration_parts(way.parts, at, tag))
        if form.also:
            other = replace(form, template=form.also, also="", infinite="")
            end = self._either(end, self._duration(other, at, tag))
        return self._either(end, self._literal(form.infinite, at, tag)) if form.infinite else end

    def _duration_parts(self, parts: Sequence[Any], at: int, tag: str) -> int:
        for part in parts:
            if isinstance(part, tuple):
                at = self._either(at, self._duration_parts(part, at, tag))
            elif isinstance(part, Unit):
                at = self.made.repeated(at, self._of("0123456789."[: 10 + part.decimals]), tag)
            else:
                at = self._literal(part, at, tag)
        return at

    def _moment(self, form: MomentForm, at: int, tag: str) -> int:
        end = at
        for literal, characters in form.pieces:
            end = self._literal(literal, end, tag)
            if characters:
                end = self.made.repeated(end, self._of(characters), tag)
        return self._either(end, self._literal(form.infinite, at, tag)) if form.infinite else end

    def _either(self, one: int, other: int) -> int:
        """A new state after both; not one of them, which may go round by itself."""
        end = self.made.state()
        self.made.free[one].append(end)
        self.made.free[other].append(end)
        return end


_BUILDERS: Mapping[type[Form], Callable[[_Builder, Any, int, str], int]] = {
    MomentForm: _Builder._moment,
    Plain: _Builder._plain,
    Enclosed: _Builder._enclosed,
    Quoted: _Builder._quoted,
    Rest: _Builder._rest,
    EscapedBytes: _Builder._rest,
    Text: _Builder._text,
    ListOf: _Builder._list,
    DurationForm: _Builder._duration,
}


def _alphabet(*patterns: LinePattern) -> frozenset[str]:
    letters = {" ", ANY_OTHER, "0"}
    for pattern in patterns:
        for word in pattern.words:
            letters |= set(word)
        for slot in pattern.slots:
            letters |= slot.form.signs
    return frozenset(letters)


def common_line(one: LinePattern, other: LinePattern) -> str | None:
    """The shortest line that both match; None if there is none."""
    alphabet = _alphabet(one, other)
    return _search(_Builder(alphabet).line(one), _Builder(alphabet).line(other), apart=False)


def line_cut_in_two_ways(pattern: LinePattern) -> str | None:
    """The shortest line whose characters can fall to different slots; None if there is none."""
    made = _Builder(_alphabet(pattern)).line(pattern)
    return _search(made, made, apart=True)


def _search(one: _Automaton, other: _Automaton, *, apart: bool) -> str | None:
    """Walk both automata at once, shortest lines first.

    With ``apart``, only a line counts in which some character has different tags in the two.
    """
    pending: deque[tuple[int, int, bool, str]] = deque([(0, 0, False, "")])
    seen = {(0, 0, False)}
    while pending:
        left, right, differs, line = pending.popleft()
        lefts, rights = one.reachable(left), other.reachable(right)
        if one.end in lefts and other.end in rights and (differs or not apart):
            return line
        for characters, tag, after in _steps(one, lefts):
            for others, other_tag, other_after in _steps(other, rights):
                shared = characters & others
                state = (after, other_after, apart and (differs or tag != other_tag))
                if shared and state not in seen:
                    seen.add(state)
                    pending.append((*state, line + _shown(shared)))
    return None


def _steps(
    automaton: _Automaton, states: Iterable[int]
) -> Iterator[tuple[frozenset[str], str, int]]:
    return (step for state in states for step in automaton.steps[state])


def _shown(characters: frozenset[str]) -> str:
    """The most readable of the characters."""
    return next((c for c in (ANY_OTHER, "0") if c in characters), min(characters))


def ambiguities(
    rows: Sequence[Row], undo: Undo | None = None, between: str = ""
) -> Iterator[tuple[Row, str]]:
    """Every row of a scope, and of those inside, whose lines can be taken in two ways.

    Args:
        rows: Those of the top level.
        undo: How any line is undone.
        between: What stands between the steps of a path, where a row matches the beginning of one.
    """
    scopes = [top_scope(rows), *(row.scope for row in every_row(rows) if row.children)]
    for scope in scopes:
        for position, row in enumerate(scope.rows):
            yield from ((row, said) for said in _ambiguities_of(row, scope.rows[:position]))
            yield from ((row, said) for said in _ambiguities_with_undo(row, scope, undo))
            yield from ((row, said) for said in _ambiguities_of_steps(row, scope, between))


def _ambiguities_of(row: Row, before: Sequence[Row]) -> Iterator[str]:
    """What is ambiguous about a row, by itself or with one of those before it in its scope."""
    line = line_cut_in_two_ways(row.pattern) or _line_read_otherwise(row)
    if line is not None:
        yield f"this row can match {line!r} in two ways; put text between its slots"
    for earlier in before:
        if _told_apart_by_head(row, earlier) or _told_apart_inside(row, earlier):
            continue
        line = common_line(earlier.pattern, row.pattern)
        if line is not None:
            yield f"this row and the one in line {earlier.number} both match {line!r}"


def _ambiguities_of_steps(row: Row, scope: Scope, between: str) -> Iterator[str]:
    """Lines that a row without others inside matches whole, and another one by its beginning."""
    if not between or row.scope.rows:
        return
    for other in scope.rows:
        if other is row or not other.scope.rows or _told_apart_by_head(row, other):
            continue
        for inner in other.scope.rows:
            steps = (*other.pattern.elements, Literal(between), *inner.pattern.elements)
            line = common_line(LinePattern(steps), row.pattern)
            if line is not None:
                yield (
                    f"this row matches {line!r}, which is also line {inner.number} inside line "
                    f"{other.number}"
                )


def _ambiguities_with_undo(row: Row, scope: Scope, undo: Undo | None) -> Iterator[str]:
    """Lines that a row matches and that take others back."""
    for other in scope.rows:
        line = common_line(other.undo, row.pattern) if other.undo is not None else None
        if line is not None:
            yield f"this row and the undo row of line {other.number} both match {line!r}"
    if undo is not None and not _is_state_beside(row, scope, undo):
        line = common_line(LinePattern((Literal(undo.before), Slot("#", Rest()))), row.pattern)
        if line is not None:
            yield f"this row matches {line!r}, which the header's undo matches too"


class _Week(int):
    """A lease time that every unit divides; no number is to be added to it."""


_SAMPLES: Mapping[str, Any] = {
    "ip": 0x0A54140B,
    "prefix": Prefix(0x0A541401, 22),
    "prefixes": (Prefix(0x0A541401, 22), Prefix(0x0A541801, 24)),
    "ips": (0x0A540035, 0x0A540135),
    "mac": Mac(0x5E005301),
    "mac_beginning": b"\x00\x00\x5e",
    "numbers": (7, 9),
    "bytes": b"\x01\xab\xcd",
    "identifier": b"\x01\xab\xce",
    "text": "ab",
    "texts": ("ab", "cd"),
    "vlan": 20,
    "code": 42,
    "duration": _Week(604_800),
    "moment": "",
    "state": "active",
    "number": 7,
    "bool": True,
}


def _line_read_otherwise(row: Row) -> str | None:
    """A line of sample values that isn't read as it was written; None if it is.

    The reader looks for values loosely, so that it can name a wrong one; this finds separators
    that are too much like the values beside them for that.
    """
    values: dict[str, Any] = {}
    for number, slot in enumerate(row.pattern.slots):
        its_type = field_type(kind_of(row), slot.field)
        sample = _SAMPLES[its_type]
        if its_type == "moment" and isinstance(slot.form, MomentForm):
            sample = slot.form.example()
        if row.repeat == "*" and not row.kind and type(sample) is tuple:
            sample = sample[0]
        values[slot.field] = sample + number if type(sample) is int else sample
    try:
        line = row.pattern.write(values, set())
    except MalformedValueError:
        return None  # no sample can be written: names have other characters there
    try:
        return None if row.pattern.read(line) == row.pattern.sample(values) else line
    except BadValueError:
        return line


def _told_apart_by_head(one: Row, other: Row) -> bool:
    heads = one.pattern.head, other.pattern.head
    return None not in heads and heads[0] != heads[1]


def _told_apart_inside(one: Row, other: Row) -> bool:
    """Whether two blocks that begin alike differ in a line that one of them must have."""
    required = [
        {c.pattern.shape for c in row.children if not c.kind and not c.repeat}
        for row in (one, other)
    ]
    return bool(one.children and other.children and required[0] != required[1])


def _is_state_beside(row: Row, scope: Scope, undo: Undo) -> bool:
    """Whether a row states a value of a field of which the line that it undoes states another."""
    undone = undo.undone(row.pattern.shape)
    return any(
        other.pattern.shape == undone and other.conditions.keys() & row.conditions.keys()
        for other in scope.rows
    )
