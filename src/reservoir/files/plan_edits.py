"""Edits a plan file's text in place: comments, layout and everything not edited stay as they are.

YAML's own parser says where each value begins and ends; the text between is replaced. Nothing is
dumped anew, so nothing else can change.
"""

from __future__ import annotations

import yaml

from reservoir.core.plan.edits import Edit
from reservoir.core.plan.model import PlanPath

_LOADER = getattr(yaml, "CBaseLoader", yaml.BaseLoader)


class NotEditableError(Exception):
    """The text has no place for an edit."""


def edited(text: str, edit: Edit) -> str:
    """The text with the edit made.

    Raises:
        NotEditableError: a path isn't there, or is no single value.
    """
    root = yaml.compose(text, Loader=_LOADER)
    assert root is not None  # an empty plan has not been loaded
    begin, end, replacement = _change(text, root, edit)
    return text[:begin] + replacement + text[end:]


Change = tuple[int, int, str]
"""Begin and end in the text, and what is there instead."""


def _change(text: str, root: yaml.Node, edit: Edit) -> Change:
    if edit.old is None:
        return _addition(text, root, edit.path, edit.new or "")
    node = _find(root, edit.path)
    if edit.new is None:
        return _removal(text, root, edit.path)
    if not isinstance(node, yaml.ScalarNode):
        raise NotEditableError(f"{'.'.join(map(str, edit.path))} is not a single value")
    return (*_extent(node), edit.new)


def with_cell(text: str, line: int, column: int, edit: Edit) -> str:
    """The text of a table with another value in the cell at a place, quoted or not.

    Raises:
        NotEditableError: the cell doesn't have the old value.
    """
    lines = text.split("\n")
    written, start = lines[line - 1], column - 1
    start += written[start : start + 1] == '"'
    old = edit.old or ""
    if not old or edit.new is None or not written.startswith(old, start):
        raise NotEditableError(f"line {line} of the table doesn't have {old} there")
    lines[line - 1] = written[:start] + edit.new + written[start + len(old) :]
    return "\n".join(lines)


def _extent(node: yaml.Node) -> tuple[int, int]:
    return node.start_mark.index, node.end_mark.index


def _find(root: yaml.Node, path: PlanPath) -> yaml.Node:
    node = root
    for number, step in enumerate(path):
        inner: yaml.Node | None = None
        if isinstance(node, yaml.MappingNode):
            inner = next((v for k, v in node.value if k.value == step), None)
        elif isinstance(node, yaml.SequenceNode) and isinstance(step, int):
            inner = node.value[step] if step < len(node.value) else None
        elif isinstance(node, yaml.ScalarNode) and step in (0, "device", "range"):
            inner = node  # a list of one may stand without its dash, a block by its main key
        if inner is None:
            raise NotEditableError(f"there is no {'.'.join(map(str, path[: number + 1]))}")
        node = inner
    return node


def _addition(text: str, root: yaml.Node, path: PlanPath, new: str) -> Change:
    *above, last = path
    try:
        parent = _find(root, tuple(above))
    except NotEditableError:
        if last != 0:
            raise
        return _addition(text, root, tuple(above), f"[{new}]")  # the list itself is missing
    if isinstance(parent, yaml.ScalarNode) and isinstance(last, int):
        begin, end = _extent(parent)
        return begin, end, f"[{text[begin:end]}, {new}]"
    if not isinstance(parent, yaml.MappingNode | yaml.SequenceNode):
        raise NotEditableError(f"nothing can be added to {'.'.join(map(str, above))}")
    if isinstance(parent, yaml.MappingNode):
        for key, value in parent.value:
            if key.value == last:  # there, and empty
                return (*_extent(value), new)
    item = new if isinstance(last, int) else f"{last}: {new}"
    if parent.flow_style:
        at = parent.end_mark.index - 1
        content = text[parent.start_mark.index + 1 : at]
        kept = at - (len(content) - len(content.rstrip()))
        return kept, kept, f", {item}" if parent.value else item
    first = parent.value[0] if isinstance(last, int) else parent.value[0][0]
    column = first.start_mark.column - (2 if isinstance(last, int) else 0)
    final = parent.value[-1] if isinstance(last, int) else parent.value[-1][1]
    at = _line_end(text, _last_index(final))
    dash = "- " if isinstance(last, int) else ""
    return at, at, f"\n{' ' * column}{dash}{item}"


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


def _removal(text: str, root: yaml.Node, path: PlanPath) -> Change:
    """Remove a list's item; its line too, where it has one of its own."""
    parent = _find(root, path[:-1])
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
