"""What a plan file may have where: keys, words, kinds of value, by the plan's JSON Schema."""

from __future__ import annotations

import ast
import inspect
import textwrap
from collections.abc import Iterator, Mapping, Sequence
from functools import cache
from itertools import pairwise
from typing import Any, NamedTuple

from pydantic import BaseModel

from reservoir.core.plan.model import PlanFile, PlanPath
from reservoir.core.plan.part import Part
from reservoir.core.values.options import MEANINGS, REGISTRY

Node = Mapping[str, Any]
"""A part of the schema."""


class Expected(NamedTuple):
    """What may stand at a path of a plan file."""

    keys: Mapping[str, str]
    """The keys of a block, each with what is said of it; empty if no block may be there."""
    required: frozenset[str]
    """Those that a block can't be without."""
    words: Sequence[str]
    """Words that it may be: ``all``, ``none``, ``yes``."""
    what: str
    """What is said of it, in paragraphs: what it means, and how it is written, as far as known."""


def plan_schema() -> Mapping[str, Any]:
    """The JSON Schema of a plan file, with what is said of each key where the plan is defined."""
    return _schema().whole


def expected_at(path: PlanPath) -> Expected:
    """What a plan file may have at a path.

    A list of one may stand without its dash: positions may be left out.
    """
    schema = _schema()
    there = schema.nodes(schema.whole)
    for step in path:
        there = [node for each in there for node in schema.below(each, step)]
    keys: dict[str, str] = {}
    required: set[str] = set()
    words: dict[str, None] = {}
    for node in schema.with_items(there):
        for key, inner in node.get("properties", {}).items():
            keys.setdefault(key, schema.said_of(schema.nodes(inner)))
        for named in schema.nodes(node.get("propertyNames", {})):
            keys |= {name: keys.get(name) or _option(name) for name in named.get("enum", ())}
        required |= set(node.get("required", ()))
        if node.get("type") == "boolean":
            words |= {"yes": None, "no": None}
        said = (*node.get("enum", ()), *([node["const"]] if "const" in node else ()))
        words |= dict.fromkeys(word for word in said if isinstance(word, str))
    what = _option(str(path[-1])) if path[-2:-1] == ("options",) else ""
    return Expected(keys, frozenset(required), list(words), what or schema.said_of(there))


def _option(name: str) -> str:
    """What a DHCP option is, by its registered name; empty if it has none."""
    known = REGISTRY.get(name)
    return f"option {known.code}, {MEANINGS[known.kind]}" if known is not None else ""


class _Schema:
    """A JSON Schema that is walked."""

    def __init__(self, whole: dict[str, Any]) -> None:
        self.whole = whole

    def nodes(self, node: Node) -> list[Node]:
        """A part as the alternatives that it consists of, references followed."""
        found: list[Node] = [node]
        if "$ref" in node:
            found += self.nodes(self.whole["$defs"][node["$ref"].rpartition("/")[2]])
        for alternatives in (node.get("anyOf"), node.get("oneOf"), node.get("allOf")):
            for each in alternatives or ():
                found += self.nodes(each)
        return found

    def below(self, node: Node, step: str | int) -> Iterator[Node]:
        """What a part says of a key or a position."""
        if isinstance(step, int):
            yield from self.nodes(node["items"]) if "items" in node else [node]
        elif step in node.get("properties", {}):
            yield from self.nodes(node["properties"][step])
        elif isinstance(node.get("additionalProperties"), Mapping):
            yield from self.nodes(node["additionalProperties"])

    def with_items(self, nodes: Sequence[Node]) -> Iterator[Node]:
        """Some parts, and those of lists' items."""
        for node in nodes:
            yield node
            if "items" in node:
                yield from self.nodes(node["items"])

    def said_of(self, nodes: Sequence[Node]) -> str:
        """What is said of a value: by the first that says something."""
        for node in self.with_items(nodes):
            if "description" in node:
                return str(node["description"])
        for node in nodes:
            if isinstance(node.get("additionalProperties"), Mapping):
                return self.said_of(self.nodes(node["additionalProperties"]))
            if node.get("type") == "integer" and "maximum" in node:
                return f"a number from {node['minimum']} to {node['maximum']}"
            if node.get("type") == "boolean":
                return "yes or no"
        return ""


@cache
def _schema() -> _Schema:
    """The plan's schema; each key has what stands below its field where it is defined.

    Pydantic would take that from the source whenever the program starts; here it is taken when it
    is asked for.
    """
    schema = _Schema(PlanFile.model_json_schema())
    parts = {"PlanFile": schema.whole, **schema.whole["$defs"]}
    for model in set(_models(Part)):
        for field, doc in _docs(model).items():
            known = model.model_fields.get(field)
            if known is not None and model.__name__ in parts:
                described = parts[model.__name__]["properties"][known.alias or field]
                written = schema.said_of(schema.nodes(described))
                described["description"] = f"{doc}\n\n{written}" if written else doc
    return schema


def _models(model: type[BaseModel]) -> Iterator[type[BaseModel]]:
    """All models that are made of one."""
    for inner in model.__subclasses__():
        yield inner
        yield from _models(inner)


def _docs(model: type[BaseModel]) -> Mapping[str, str]:
    """What stands below the fields of a model, or else of those that it is made of."""
    found: dict[str, str] = {}
    for each in model.__mro__:
        if each is Part or not issubclass(each, Part):
            continue
        (definition,) = ast.parse(textwrap.dedent(inspect.getsource(each))).body
        assert isinstance(definition, ast.ClassDef)
        for field, below in pairwise(definition.body):
            match field, below:
                case (
                    ast.AnnAssign(target=ast.Name(id=name)),
                    ast.Expr(value=ast.Constant(value=str(doc))),
                ):
                    found.setdefault(name, inspect.cleandoc(doc))
    return found
