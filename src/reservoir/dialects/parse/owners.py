"""Puts what names the fact that it belongs to into that fact, once all of a block is read."""

from __future__ import annotations

from copy import deepcopy
from typing import Any

from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.facts.kinds import EACH, LABEL
from reservoir.dialects.notations.nodes import Node
from reservoir.dialects.parse.diagnostics import Diagnostics
from reservoir.dialects.parse.open_fact import OpenFact
from reservoir.dialects.sheet.model import Row, Sheet

_Owners = dict[tuple[Any, ...], list[Fact]]


def put_into_owners(block: OpenFact, sheet: Sheet, diagnostics: Diagnostics) -> None:
    """Put what waits into the facts that it names; what a fact says itself counts before that.

    What is referred to by a label belongs to every fact that has it; a default, to all of its kind.
    """
    owners: dict[tuple[str, ...], _Owners] = {}
    defined: dict[str, set[object]] = {}
    waiting = ((*block.waiting_for[id(fact)], fact) for fact in block.waiting)
    for row, node, fact in sorted(waiting, key=lambda entry: _rank(entry[0])):
        if row.links not in owners:
            owners[row.links] = _by_link(block.fact, row.links)
        wanted = tuple([fact.fields.pop(link, None) for link in row.links])
        for link, value in zip(row.links, wanted, strict=True):
            defined.setdefault(link, set()).add(value)
        its = owners[row.links].get(wanted, [])
        if not its and not row.is_apart:
            diagnostics.ownerless(row, wanted, node, block)
        for owner in its:
            _put(fact if len(its) == 1 else deepcopy(fact), row, owner, node, diagnostics)
    if block.fact.kind == "device" and sheet.labels:
        _drop_labels(block.fact, sheet, defined, diagnostics)


def _rank(row: Row) -> tuple[bool, int]:
    """Defaults come last; what names a fact after what that belongs to."""
    return row.is_default, row.link_depth


def _by_link(block: Fact, links: tuple[str, ...]) -> _Owners:
    """The facts in a block of the kind that links name, by the fields that they name.

    Of those of which nothing but a label may be the same, only the first.
    """
    kind = links[0].partition(".")[0]
    names = [link.partition(".")[2] for link in links]
    found: _Owners = {}
    for fact in block.walk():
        if fact.kind == kind:
            key = tuple(None if name == EACH else fact.get(name) for name in names)
            if key not in found or names[0][:1] in (LABEL, EACH):
                found.setdefault(key, []).append(fact)
    return found


def _put(fact: Fact, row: Row, owner: Fact, node: Node, diagnostics: Diagnostics) -> None:
    if not row.adds_fields:
        owner.children.append(fact)
        return
    label = owner.label
    for name, value in fact.fields.items():
        if row.repeat == "*" and not row.is_apart:
            items = value if type(value) is tuple else (value,)
            owner.fields[name] = (*owner.fields.get(name, ()), *items)
        elif owner.fields.setdefault(name, value) != value and not row.is_apart:
            diagnostics.say(node, f"{label} already has its {name} (line {owner.line})")
    owner.children += fact.children


def _drop_labels(
    device: Fact, sheet: Sheet, defined: dict[str, set[object]], diagnostics: Diagnostics
) -> None:
    """Take labels from facts, and report those that nothing has."""
    for fact in device.walk():
        for name in [name for name in fact.fields if name.startswith(LABEL)]:
            value, link = fact.fields.pop(name), f"{fact.kind}.{name}"
            if link in sheet.labels and value not in defined.get(link, ()):
                message = f"{fact.label} refers to {value!r}, and nothing is called that"
                place = Node("", fact.line_of(name), fact.column)
                states = frozenset({fact.kind})
                diagnostics.say(place, message, states=states)
