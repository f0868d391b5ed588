"""YAML as a tree of texts with places: nothing is typed here, nothing turns into something else.

Built from libyaml's events without recursion, so that neither deep nesting nor a million lines
is a danger. Anchors and aliases are refused: a plan has ``defaults`` for what repeats.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field
from typing import Any

import yaml

from reservoir.core.plan.model import PlanPath
from reservoir.core.problems import InputError, Place, Problem

DEEPEST = 64
"""Levels of nesting beyond which a file is refused."""

_LOADER = getattr(yaml, "CBaseLoader", yaml.BaseLoader)

Spot = tuple[int, int]
"""Line and column, from 1."""


@dataclass
class Branch:
    """Places below one mapping or list: for each key or position its spot and its own branch."""

    spots: dict[str | int, tuple[Spot, Branch | None, Spot]] = field(default_factory=dict)
    """The spot of the value, what is below it, and the spot of its key."""


@dataclass(frozen=True)
class YamlTree:
    """A file's content as mappings, lists and texts, and where each of them is."""

    file: str
    data: Any
    places: Branch
    problems: tuple[Problem, ...]
    """What is wrong with the YAML and can be read past."""

    def place(self, path: PlanPath, at_key: bool = False) -> Place:
        """The place of a path's value or key, or of the nearest part of it that the file has."""
        spot, branch = (1, 1), self.places
        for step in path:
            found = branch.spots.get(step)
            if found is None:
                if step == 0:
                    continue  # a list of one may stand without its dash
                break
            spot = found[2] if at_key and step is path[-1] else found[0]
            if found[1] is None:
                break
            branch = found[1]
        return Place(self.file, *spot)


class _Open:
    """A mapping or list that is being read."""

    def __init__(self, value: dict[str, Any] | list[Any]) -> None:
        self.value = value
        self.branch = Branch()
        self.key: str | None = None
        self.key_spot: Spot = (1, 1)
        self.skips = False  # the value to come belongs to a key that was refused


def parse_yaml(text: str, file: str, begins: str = "a plan begins with: reservoir: 1") -> YamlTree:
    """Read YAML text.

    Args:
        text: The text.
        file: What it is called in messages.
        begins: How such a file begins, for a text that doesn't.

    Raises:
        InputError: not well-formed, empty or no mapping; with the lesser problems before that.
    """
    builder = _Builder(file, begins)
    try:
        builder.take_all(_LOADER(text))
    except yaml.YAMLError as error:
        raise InputError([*builder.problems, _syntax_problem(error, file, text)]) from None
    if builder.root is None and builder.problems:
        raise InputError(builder.problems)
    if builder.root is None:
        raise InputError([Problem(Place(file), f"the file is empty; {begins}")])
    if not isinstance(builder.root.value, dict):
        message = f"expected keys and values, found a list; {begins}"
        raise InputError([Problem(Place(file), message)])
    return YamlTree(file, builder.root.value, builder.root.branch, tuple(builder.problems))


class _Builder:
    def __init__(self, file: str, begins: str) -> None:
        self.begins = begins
        self.file = file
        self.problems: list[Problem] = []
        self.root: _Open | None = None
        self._stack: list[_Open] = []
        self._documents = 0

    def take_all(self, loader: Any) -> None:
        """Build the tree of all events that a loader has."""
        takers: dict[type, Callable[[Any, Spot], None]] = {
            yaml.ScalarEvent: self._scalar,
            yaml.MappingStartEvent: lambda event, spot: self._begin(event, {}, spot),
            yaml.SequenceStartEvent: lambda event, spot: self._begin(event, [], spot),
            yaml.MappingEndEvent: lambda *_: self._end(),
            yaml.SequenceEndEvent: lambda *_: self._end(),
            yaml.AliasEvent: self._alias,
            yaml.DocumentStartEvent: self._document,
        }
        while loader.check_event():
            event = loader.get_event()
            taker = takers.get(type(event))
            if taker is not None:
                mark = event.start_mark
                taker(event, (mark.line + 1, mark.column + 1))

    def _end(self) -> None:
        self._stack.pop()

    def _alias(self, _event: yaml.AliasEvent, spot: Spot) -> None:
        self._problem(spot, "aliases (*name) are not allowed; use defaults for repeated values")
        self._place_value(None, None, spot)

    def _document(self, _event: yaml.DocumentStartEvent, spot: Spot) -> None:
        self._documents += 1
        if self._documents == 2:
            self._problem(spot, "a plan is one document; remove the second ---")

    def _problem(self, spot: Spot, message: str) -> None:
        self.problems.append(Problem(Place(self.file, *spot), message))

    def _refuse_tag(self, event: Any, spot: Spot) -> None:
        if event.anchor is not None:
            self._problem(spot, "anchors (&name) are not allowed; use defaults for repeated values")
        if event.tag not in (None, "!"):
            self._problem(spot, f"tags are not allowed; remove {event.tag}")

    def _begin(self, event: Any, value: dict[str, Any] | list[Any], spot: Spot) -> None:
        if event.tag is not None or event.anchor is not None:
            self._refuse_tag(event, spot)
        opened = _Open(value)
        if len(self._stack) >= DEEPEST:
            self._problem(spot, f"nested more than {DEEPEST} levels deep")
            raise InputError(self.problems)
        if not self._stack:
            if self.root is None:
                self.root = opened
        elif self._expects_key():
            self._problem(spot, "a key must be a single word, not a list or a block")
            self._stack[-1].key, self._stack[-1].skips = "", True
            self._place_value(value, opened.branch, spot)
        else:
            self._place_value(value, opened.branch, spot)
        self._stack.append(opened)

    def _expects_key(self) -> bool:
        top = self._stack[-1]
        return top.key is None and isinstance(top.value, dict)

    def _scalar(self, event: yaml.ScalarEvent, spot: Spot) -> None:
        if event.tag is not None or event.anchor is not None:
            self._refuse_tag(event, spot)
        if not self._stack:
            if event.value:
                self._problem(spot, f"expected keys and values; {self.begins}")
            return
        if self._expects_key():
            self._key(event.value, spot)
            return
        top = self._stack[-1]
        value: str | None = event.value
        if not value and not event.style:
            value = None
            what = top.key if top.key is not None else "this item"
            self._problem(
                top.key_spot if top.key is not None else spot,
                f"{what} has no value: give it one, or remove it",
            )
        self._place_value(value, None, spot)

    def _key(self, key: str, spot: Spot) -> None:
        top = self._stack[-1]
        top.key, top.key_spot, top.skips = key, spot, False
        if key in top.value:
            first = top.branch.spots[key][2]
            top.skips = True
            self._problem(spot, f"{key} is set twice; the first is in line {first[0]}")

    def _place_value(self, value: Any, branch: Branch | None, spot: Spot) -> None:
        if not self._stack:
            return
        top = self._stack[-1]
        if isinstance(top.value, list):
            top.branch.spots[len(top.value)] = (spot, branch, spot)
            top.value.append(value)
            return
        if top.key is not None and not top.skips:
            top.value[top.key] = value
            at = spot if branch is None else top.key_spot
            top.branch.spots[top.key] = (at, branch, top.key_spot)
        top.key = None


def _syntax_problem(error: yaml.YAMLError, file: str, text: str) -> Problem:
    mark = getattr(error, "problem_mark", None)
    if mark is None:
        if "unacceptable character" in str(error):
            return _control_character(file, text)
        return Problem(Place(file), f"the text can't be read as YAML: {error}")
    line, column = mark.line + 1, mark.column + 1
    lines = text.split("\n")
    written = lines[mark.line] if mark.line < len(lines) else ""
    if "\t" in written[: len(written) - len(written.lstrip())]:
        tab = written.index("\t") + 1
        return Problem(Place(file, line, tab), "YAML can't be indented with tabs; use spaces")
    context = getattr(error, "context", None)
    problem = getattr(error, "problem", None) or "not readable"
    return Problem(
        Place(file, line, column),
        f"the text can't be read as YAML: {problem}" + (f" ({context})" if context else ""),
    )


def _control_character(file: str, text: str) -> Problem:
    """Libyaml gives no line for characters that YAML doesn't allow; find the first."""
    for number, line in enumerate(text.split("\n"), start=1):
        for column, character in enumerate(line, start=1):
            if not character.isprintable() and character not in "\t\r\u00a0\u0085\ufeff":
                message = f"the character U+{ord(character):04X} is not allowed in YAML"
                return Problem(Place(file, number, column), message)
    return Problem(Place(file), "a character is not allowed in YAML")
