"""Edits a plan file's text in place: comments, layout and everything not edited stay as they are.

YAML's own parser says where each value begins and ends; the text between is replaced. Nothing is
dumped anew, so nothing else can change.
"""

from __future__ import annotations

import re
from bisect import bisect
from collections.abc import Mapping, Sequence
from functools import cached_property
from typing import Any

import yaml

from reservoir.core.plan.edits import Edit
from reservoir.core.plan.model import PlanPath
from reservoir.files.plan_text import entry_lines, in_braces, scalar_text

_LOADER = getattr(yaml, "CBaseLoader", yaml.BaseLoader)


class NotEditableError(Exception):
    """The text has no place for an edit."""


def edited(text: str, edit: Edit) -> str:
    """The text with one edit made.

    Raises:
        NotEditableError: a path isn't there, or is no single value.
    """
    edits = TextEdits(text)
    edits.edit(edit)
    return edits.result()


Change = tuple[int, int, str]
"""Begin and end in the text, and what is there instead."""


class TextEdits:
    """Edits of one text, a plan or a table: each found in the text as it is, all made at once."""

    def __init__(self, text: str) -> None:
        self.text = text
        self._changes: list[Change] = []
        """In the order of the text; none touches the next."""

    def edit(self, edit: Edit) -> None:
        """Make an edit of a plan's text.

        Raises:
            NotEditableError: a path isn't there, or is no single value; or an edit that was made
                before touches the same text.
        """
        self._make(_change(self.text, self._root, edit))

    def append(self, path: PlanPath, items: Sequence[str]) -> None:
        """Append items to a list of a plan's text, which may be missing.

        Raises:
            NotEditableError: there is no place for them, or an edit touches the same text.
        """
        self._make(_appended(self.text, self._root, path, items))

    def add(self, path: PlanPath, entries: Mapping[str, Any]) -> None:
        """Add entries to a mapping of a plan's text.

        Raises:
            NotEditableError: there is no mapping, or an edit touches the same text.
        """
        self._make(_added(self.text, self._root, path, entries))

    def has(self, path: PlanPath) -> bool:
        """Whether something is at a path of the plan's text."""
        try:
            self._root.find(path)
        except NotEditableError:
            return False
        return True

    def result(self) -> str:
        """The text with all edits made."""
        parts, at = [], 0
        for begin, end, new in self._changes:
            parts += [self.text[at:begin], new]
            at = end
        whole = "".join([*parts, self.text[at:]])
        if "\r\n" in self.text and not re.search("(?<!\r)\n", self.text):
            return re.sub("(?<!\r)\n", "\r\n", whole)  # new lines end as the others do
        return whole

    def _make(self, change: Change) -> None:
        place = bisect(self._changes, change[:2], key=lambda known: known[:2])
        for known in self._changes[max(place - 1, 0) : place + 1]:
            touches = known[0] <= change[1] and change[0] <= known[1]
            if touches and not (_adds_lines(known) and _adds_lines(change)):
                raise NotEditableError("another edit touches the same text")
        self._changes.insert(place, change)

    @cached_property
    def _root(self) -> Tree:
        root = yaml.compose(self.text, Loader=_LOADER)
        assert root is not None  # an empty plan has not been loaded
        return Tree(root)

    @cached_property
    def _line_starts(self) -> list[int]:
        return [0, *(match.end() for match in re.finditer("\n", self.text))]


def _adds_lines(change: Change) -> bool:
    """Whether it only adds lines: of several at one place each keeps its own."""
    begin, end, new = change
    return begin == end and new.startswith("\n")


def _change(text: str, root: Tree, edit: Edit) -> Change:
    if edit.old is None:
        return _addition(text, root, edit.path, edit.new or "")
    node = root.find(edit.path)
    if edit.new is None:
        return _removal(text, root, edit.path)
    if not isinstance(node, yaml.ScalarNode):
        raise NotEditableError(f"{'.'.join(map(str, edit.path))} is not a single value")
    begin, end = _extent(node)
    is_quoted = node.style in ("'", '"') and not set(edit.new) & set("'\"\\")
    return begin + is_quoted, end - is_quoted, edit.new


def _extent(node: yaml.Node) -> tuple[int, int]:
    return node.start_mark.index, node.end_mark.index


class Tree:
    """A composed text, in which nodes are found by path."""

    def __init__(self, root: yaml.Node) -> None:
        self._root = root
        self._keys: dict[int, dict[str, yaml.Node]] = {}
        """The values of mappings that were searched, by key."""

    def find(self, path: PlanPath) -> yaml.Node:
        """The node at a path.

        Raises:
            NotEditableError: there is none.
        """
        node = self._root
        for number, step in enumerate(path):
            inner: yaml.Node | None = None
            if isinstance(node, yaml.MappingNode):
                inner = node if step == 0 else self._values(node).get(str(step))
            elif isinstance(node, yaml.SequenceNode) and isinstance(step, int):
                inner = node.value[step] if step < len(node.value) else None
            elif isinstance(node, yaml.ScalarNode) and step in (0, "device", "range"):
                inner = node  # a list of one may stand without its dash, a block by its main key
            if inner is None:
                raise NotEditableError(f"there is no {'.'.join(map(str, path[: number + 1]))}")
            node = inner
        return node

    def _values(self, node: yaml.MappingNode) -> dict[str, yaml.Node]:
        if id(node) not in self._keys:
            self._keys[id(node)] = {key.value: value for key, value in reversed(node.value)}
        return self._keys[id(node)]


def _addition(text: str, root: Tree, path: PlanPath, new: str) -> Change:
    *above, last = path
    if isinstance(last, int):
        return _appended(text, root, tuple(above), [new])
    parent = root.find(tuple(above))
    if not isinstance(parent, yaml.MappingNode):
        raise NotEditableError(f"nothing can be added to {'.'.join(map(str, above))}")
    for key, value in parent.value:
        if key.value == last:  # there, and empty
            return (*_extent(value), new)
    return _inserted(text, parent, [f"{last}: {new}"])


def _added(text: str, root: Tree, path: PlanPath, entries: Mapping[str, Any]) -> Change:
    """Entries at the end of a mapping, as those before them stand."""
    parent = root.find(path)
    # Sections, networks and devices have an empty line between them.
    apart = [""] if len(path) <= 1 else []
    if not isinstance(parent, yaml.MappingNode):
        raise NotEditableError(f"nothing can be added to {'.'.join(map(str, path))}")
    if parent.flow_style:
        items = [f"{scalar_text(name)}: {in_braces(inner)}" for name, inner in entries.items()]
        return _inserted(text, parent, items)
    column = parent.value[0][0].start_mark.column
    lines = [
        line
        for name, inner in entries.items()
        for line in (*apart, *entry_lines(name, inner, column))
    ]
    at = _line_end(text, _last_index(parent.value[-1][1]))
    return at, at, "".join(f"\n{line}" for line in lines)


def _appended(text: str, root: Tree, path: PlanPath, items: Sequence[str]) -> Change:
    """Items at the end of a list; a list of one may stand without brackets, or be missing."""
    *above, key = path
    try:
        parent = root.find(path)
    except NotEditableError:
        if not isinstance(key, str):
            raise
        owner = root.find(tuple(above))
        if not isinstance(owner, yaml.MappingNode) or owner.flow_style or len(items) == 1:
            return _addition(text, root, path, f"[{', '.join(items)}]")
        indent = " " * (owner.value[0][0].start_mark.column + 2)
        return _inserted(text, owner, [f"{key}:" + "".join(f"\n{indent}- {i}" for i in items)])
    if isinstance(parent, yaml.ScalarNode):
        begin, end = _extent(parent)
        return begin, end, f"[{', '.join([text[begin:end], *items])}]"
    if isinstance(parent, yaml.SequenceNode):
        return _inserted(text, parent, items)
    raise NotEditableError(f"nothing can be added to {'.'.join(map(str, path))}")


def _inserted(
    text: str, parent: yaml.MappingNode | yaml.SequenceNode, items: Sequence[str]
) -> Change:
    """Items at the end of a mapping or a list, as those before them stand."""
    if parent.flow_style:
        at = parent.end_mark.index - 1
        content = text[parent.start_mark.index + 1 : at]
        kept = at - (len(content) - len(content.rstrip()))
        together = ", ".join(items)
        return kept, kept, f", {together}" if parent.value else together
    is_list = isinstance(parent, yaml.SequenceNode)
    first, final = parent.value[0], parent.value[-1]
    column = first.start_mark.column - 2 if is_list else first[0].start_mark.column
    at = _line_end(text, _last_index(final if is_list else final[1]))
    dash = "- " if is_list else ""
    return at, at, "".join(f"\n{' ' * column}{dash}{item}" for item in items)


def _last_index(node: yaml.Node) -> int:
    """Where a node's own text ends: a block's end mark is at what follows it."""
    if (
        isinstance(node, yaml.MappingNode | yaml.SequenceNode)
        and not node.flow_style
        and node.value
    ):
        last = node.value[-1]
        return _last_index(last[1] if isinstance(last, tuple) else last)
    end: int = node.end_mark.index
    return end


def _line_end(text: str, index: int) -> int:
    end = text.find("\n", index)
    return len(text) if end < 0 else end


def _removal(text: str, root: Tree, path: PlanPath) -> Change:
    """Remove a list's item; its line too, where it has one of its own."""
    parent = root.find(path[:-1])
    position = path[-1]
    if not isinstance(parent, yaml.SequenceNode) or not isinstance(position, int):
        raise NotEditableError("only an item of a list can be removed")
    begin, end = _extent(parent.value[position])
    if not parent.flow_style:
        return text.rfind("\n", 0, begin), _line_end(text, end), ""
    if position + 1 < len(parent.value):
        return begin, parent.value[position + 1].start_mark.index, ""
    if position > 0:
        return parent.value[position - 1].end_mark.index, end, ""
    return begin, end, ""
