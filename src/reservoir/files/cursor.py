"""What stands at a place of a plan file, be it half typed: which key or value, under which path.

YAML's own events say so up to the place, whatever comes behind it. What can't be read before it is
left out: then the lines count that stand less far to the right, one above the other.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any, NamedTuple

import yaml

from reservoir.core.plan.model import PlanPath

_LOADER = getattr(yaml, "CBaseLoader", yaml.BaseLoader)

_MARK = "\ue000"
"""Stands where something is being typed: a character that no plan has (Unicode's private use)."""

_DEEPEST = 64


class Written(NamedTuple):
    """A key or a value in the text."""

    path: PlanPath
    """Its path in the file; a key's is that of its value."""
    is_key: bool
    text: str
    begin: tuple[int, int]
    """Line and column of its first character, from 1."""
    end: tuple[int, int]
    """Line and column behind its last one."""


@dataclass(frozen=True)
class Typed:
    """What is being typed: a key or a value, as far as it stands before the cursor."""

    path: PlanPath
    """Of a value its path; of a key that of the block that it is in."""
    is_key: bool
    begun: str
    column: int
    """Where it begins, from 1."""
    beside: Mapping[str, str] = field(default_factory=dict)
    """The keys of the block that it is in, with their single values; others are empty."""


def written_at(text: str, line: int, column: int) -> Written | None:
    """The key or the value at a place, to the end of which it may be; None if none is there.

    Args:
        text: The text of a plan file.
        line: From 1.
        column: From 1.
    """
    at = (line, column)
    try:
        for one in written(text):
            if one.begin <= at <= one.end:
                return one
            if one.begin > at:
                return None
    except yaml.YAMLError:
        lines = text.split("\n")
        for one in _until_wrong(_outline(lines, line - 1, lines[line - 1 : line] or [""])):
            if one.begin[0] == line and one.begin[1] <= column <= one.end[1]:
                return one
    return None


def typed_at(text: str, line: int, column: int) -> list[Typed]:
    """What is being typed at a place: a key, a value, or either.

    Args:
        text: The text of a plan file.
        line: From 1.
        column: From 1, behind what was typed.
    """
    lines = text.split("\n")
    here = lines[line - 1] if line <= len(lines) else ""
    before = here[: column - 1]
    if re.search(r"(^|\s)#", re.sub(r"\"[^\"]*\"|'[^']*'", "", before)):
        return []  # a comment
    begun = (re.search(r"[^\s{}\[\],\"']*$", before) or [""])[0]
    begin = len(before) - len(begun) + 1
    start = before[: begin - 1] + _MARK + begun
    above = "".join(f"{each}\n" for each in lines[: line - 1])
    behind = re.sub(r"^[^\s{}\[\],\"':]*(:(?=\s|$))?", "", here[column - 1 :])
    below = "\n".join([behind, *lines[line:]])
    # What stands above may be readable no more; then the lines count that this one is below.
    for whole in (above + start, _outline(lines, line - 1, [start])):
        readings = (_marked(whole, sign, below, begun, begin) for sign in (": ", ""))
        found = {typed.is_key: typed for typed in readings if typed is not None}
        if found:
            return list(found.values())
    return []


def _marked(text: str, sign: str, below: str, begun: str, column: int) -> Typed | None:
    """What is at the mark with which a text ends; None if the text can't be read that far.

    Args:
        text: The text.
        sign: What makes a key of the mark, or nothing.
        below: What stands behind it, which may not be readable.
        begun: What was typed.
        column: Where that begins.
    """
    said: dict[PlanPath, str] = {}
    typed: Written | None = None
    for one in _until_wrong(text + sign + below):
        if one.text.startswith(_MARK):
            typed = typed or one
        elif typed is not None and one.path[: len(typed.path)] == typed.path:
            continue  # what was the value of what is being typed
        elif not one.is_key or one.path not in said:
            said[one.path] = "" if one.is_key else one.text
    if typed is None:
        return None
    path = typed.path[:-1] if typed.is_key else typed.path
    block = path if typed.is_key else _block_of(path)
    beside = {str(known[-1]): value for known, value in said.items() if known[:-1] == block}
    return Typed(path, typed.is_key, begun, column, beside)


def _block_of(path: PlanPath) -> PlanPath:
    """The block that a value is in, be it in a list there."""
    while path and isinstance(path[-1], int):
        path = path[:-1]
    return path[:-1]


def _until_wrong(text: str) -> Iterator[Written]:
    """All keys and values before what can't be read."""
    try:
        yield from written(text)
    except yaml.YAMLError:
        return


def _outline(lines: list[str], number: int, current: list[str]) -> str:
    """A line under those that it belongs to, each at its place; the others are blank."""
    kept = [""] * number
    indent = len(current[0]) - len(current[0].lstrip(" "))
    for above in range(number - 1, -1, -1):
        line = lines[above]
        content = line.strip()
        own = len(line) - len(line.lstrip(" "))
        if content and not content.startswith("#") and own < indent:
            kept[above] = re.sub(r":\s.*", ":", line)
            indent = own
    return "\n".join([*kept, *current])


class _Open:
    """A mapping or a list that is being read."""

    def __init__(self, path: PlanPath, is_list: bool) -> None:
        self.path = path
        self.is_list = is_list
        self.key: str | None = None
        self.count = 0

    def next_path(self) -> PlanPath:
        """The path of the value to come."""
        if self.is_list:
            self.count += 1
            return (*self.path, self.count - 1)
        path, self.key = (*self.path, self.key or ""), None
        return path

    @property
    def expects_key(self) -> bool:
        """Whether a key comes next."""
        return not self.is_list and self.key is None


def written(text: str) -> Iterator[Written]:
    """All keys and values of a text, in its order.

    Raises:
        yaml.YAMLError: it can't be read from there on.
    """
    opened: list[_Open] = []
    for event in _events(text):
        if isinstance(event, yaml.MappingStartEvent | yaml.SequenceStartEvent):
            if len(opened) >= _DEEPEST:
                return
            is_list = isinstance(event, yaml.SequenceStartEvent)
            opened.append(_Open(opened[-1].next_path() if opened else (), is_list))
        elif isinstance(event, yaml.MappingEndEvent | yaml.SequenceEndEvent):
            opened.pop()
        elif isinstance(event, yaml.ScalarEvent | yaml.AliasEvent):
            value = event.value if isinstance(event, yaml.ScalarEvent) else ""
            is_key = bool(opened) and opened[-1].expects_key
            if is_key:
                opened[-1].key = value
                path = (*opened[-1].path, value)
            else:
                path = opened[-1].next_path() if opened else ()
            yield Written(path, is_key, value, _spot(event.start_mark), _spot(event.end_mark))


def _spot(mark: Any) -> tuple[int, int]:
    """Line and column of a mark, from 1."""
    return mark.line + 1, mark.column + 1


def _events(text: str) -> Iterator[Any]:
    loader = _LOADER(text)
    while loader.check_event():
        yield loader.get_event()
