"""Values that a pool states and, by a switch beside them, doesn't offer.

A plan says that there is none; the value is kept with the device, and written back beside the
switch.
"""

from __future__ import annotations

from dataclasses import replace

from reservoir.dialects.facts.fact import Fact

SWITCHED = ("gateway", "dns")
"""What a pool may have a switch for."""


def is_unsaid(pool: Fact, key: str) -> bool:
    """Whether a pool says that it doesn't offer something, whatever it states."""
    return pool.get(f"says_{key}") is False


def with_unsaid_apart(fact: Fact) -> Fact:
    """A fact in which all pools have what they don't offer under a name of its own."""
    fields = dict(fact.fields)
    for key in SWITCHED:
        if key in fields and is_unsaid(fact, key):
            fields[f"unsaid_{key}"] = fields.pop(key)
    children = [
        with_unsaid_apart(child) if child.kind in _AROUND else child for child in fact.children
    ]
    is_same = fields == fact.fields and all(map(lambda a, b: a is b, children, fact.children))
    return fact if is_same else replace(fact, fields=fields, children=children)


_AROUND = ("interface", "pool")


def with_switches(pool: Fact) -> None:
    """Turn what a pool is not to offer into its switch, beside what is kept of the value."""
    for key in SWITCHED:
        if f"unsaid_{key}" in pool.fields:
            pool.fields[key] = pool.fields.pop(f"unsaid_{key}")
