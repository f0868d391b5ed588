"""What a line states of another fact than its own, or by another's help."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from reservoir.core.values.addresses import MalformedValueError, Prefix
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.forms.plain import HOST, with_other
from reservoir.dialects.notations.nodes import Node
from reservoir.dialects.sheet.model import Row


def facts_inside(row: Row, values: dict[str, Any], node: Node) -> list[Fact]:
    """The facts inside that a row's own line states, taken out of its values."""
    facts = []
    for kind in sorted(row.pattern.inner_kinds):
        names = [name for name in values if name.startswith(f"{kind}.")]
        fields = {name.partition(".")[2]: values.pop(name) for name in names}
        facts += [Fact(kind, fields, [], node.line, node.column)] if fields else []
    return facts


def put_inside(fact: Fact, stated: list[Fact]) -> None:
    """Put facts into another; one of which a part stood elsewhere becomes whole with it."""
    for new in stated:
        same = (child for child in fact.children if child.kind == new.kind)
        half = next((child for child in same if not child.fields.keys() & new.fields.keys()), None)
        if half is not None:
            half.fields.update(new.fields)
        else:
            fact.children.append(new)


def fill_made_of(row: Row, values: dict[str, Any]) -> None:
    """Give a fact the fields that are made of others, or those that another one is made of."""
    for name, made in row.made_of.items():
        whole = made.of(values)
        if name in values:
            for part, value in made.taken_apart(values[name]).items():
                values.setdefault(part, value)
        elif whole is not None:
            values[name] = whole


def counted_from_subnets(fact: Fact, subnet: Prefix | None = None) -> Iterator[tuple[Fact, str]]:
    """Make addresses of what counts from the first of a pool's subnet; what goes wrong, and where.

    What is in no pool with a subnet stays as it is, for the pool that it may be put into.
    """
    subnet = fact.get("subnet", subnet)
    for key in [key for key in fact.fields if key.endswith(f":{HOST}")] if subnet else ():
        try:
            address = with_other(HOST, fact.fields.pop(key), subnet)
            fact.fields[key.partition(":")[0]] = address
        except MalformedValueError as error:
            yield fact, f"{error}, in: {fact.label}"
    for child in fact.children:
        yield from counted_from_subnets(child, subnet)
