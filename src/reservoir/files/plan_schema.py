"""What a plan file may have where: keys, words, kinds of value, by the plan's JSON Schema."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from functools import cache
from typing import Any, NamedTuple

from reservoir.core.plan.model import PlanFile, PlanPath
from reservoir.core.values.options import MEANINGS, REGISTRY


class Expected(NamedTuple):
    """What may stand at a path of a plan file."""

    keys: Mapping[str, str]
    """The keys of a block, each with what its value is, in words; empty if no block may be there.
    """
    required: frozenset[str]
    """Those that a block can't be without."""
    words: Sequence[str]
    """Words that it may be: ``all``, ``none``, ``yes``."""
    what: str
    """What it is, in words: ``a duration, like 1d12h``; empty if that isn't known."""


def expected_at(path: PlanPath) -> Expected:
    """What a plan file may have at a path.

    A list of one may stand without its dash: positions may be left out.
    """
    there = _nodes(_schema())
    for step in path:
        there = [node for each in there for node in _below(each, step)]
    keys: dict[str, str] = {}
    required: set[str] = set()
    words: dict[str, None] = {}
    for node in _with_items(there):
        for key, inner in node.get("properties", {}).items():
            keys.setdefault(key, _in_words(_nodes(inner)))
        for named in _nodes(node.get("propertyNames", {})):
            keys |= {name: keys.get(name) or _option(name) for name in named.get("enum", ())}
        required |= set(node.get("required", ()))
        if node.get("type") == "boolean":
            words |= {"yes": None, "no": None}
        said = (*node.get("enum", ()), *([node["const"]] if "const" in node else ()))
        words |= dict.fromkeys(word for word in said if isinstance(word, str))
    what = _option(str(path[-1])) if path[-2:-1] == ("options",) else ""
    return Expected(keys, frozenset(required), list(words), what or _in_words(there))


def _option(name: str) -> str:
    """What a DHCP option is, by its registered name; empty if it has none."""
    known = REGISTRY.get(name)
    return f"option {known.code}, {MEANINGS[known.kind]}" if known is not None else ""


@cache
def _schema() -> Mapping[str, Any]:
    return PlanFile.model_json_schema()


def _nodes(node: Mapping[str, Any]) -> list[Mapping[str, Any]]:
    """A schema as the alternatives that it consists of, without references."""
    found: list[Mapping[str, Any]] = []
    if "$ref" in node:
        found += _nodes(_schema()["$defs"][node["$ref"].rpartition("/")[2]])
    for alternatives in (node.get("anyOf"), node.get("oneOf"), node.get("allOf")):
        for each in alternatives or ():
            found += _nodes(each)
    return [node, *found]


def _below(node: Mapping[str, Any], step: str | int) -> Iterator[Mapping[str, Any]]:
    """What a schema says of a key or a position."""
    if isinstance(step, int):
        yield from _nodes(node["items"]) if "items" in node else [node]
    elif step in node.get("properties", {}):
        yield from _nodes(node["properties"][step])
    elif isinstance(node.get("additionalProperties"), Mapping):
        yield from _nodes(node["additionalProperties"])


def _with_items(nodes: Sequence[Mapping[str, Any]]) -> Iterator[Mapping[str, Any]]:
    """Some schemas, and those of lists' items."""
    for node in nodes:
        yield node
        if "items" in node:
            yield from _nodes(node["items"])


def _in_words(nodes: Sequence[Mapping[str, Any]]) -> str:
    """What a value is: what the first that says so says of it."""
    for node in _with_items(nodes):
        if "description" in node:
            return str(node["description"])
    for node in nodes:
        if isinstance(node.get("additionalProperties"), Mapping):
            return _in_words(_nodes(node["additionalProperties"]))
        if node.get("type") == "integer" and "maximum" in node:
            return f"a number from {node['minimum']} to {node['maximum']}"
        if node.get("type") == "boolean":
            return "yes or no"
    return ""
