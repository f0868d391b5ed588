"""How what a draft reads from its sample agrees with the plan that was entered."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import NamedTuple

from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.facts.kinds import WORDS
from reservoir.dialects.learning.entered import Known

_UNSAID = frozenset({"service", "active", "count", "offset", "enabled", "interface"})
"""Fields that a device need not be told of."""


class Otherwise(NamedTuple):
    """Something that is read and isn't so in the plan."""

    line: int
    what: str


@dataclass(frozen=True)
class Agreement:
    """What of a plan was read, what was not, and what was read otherwise."""

    right: int
    """Values of the plan that were read."""
    missing: tuple[str, ...]
    """What was not: ``zone admits, name`` if none of them was, else ``pool mess: lease``."""
    otherwise: tuple[Otherwise, ...]


def agreement(device: Fact, facts: Sequence[Known]) -> Agreement:
    """Hold what was read to what is known; the values of each known fact count once."""
    by_value: dict[tuple[str, str, object], list[Known]] = {}
    for each in facts:
        for name, value in each.fields.items():
            by_value.setdefault((each.kind, name, value), []).append(each)
    read: dict[Known, set[str]] = {}
    otherwise: list[Otherwise] = []
    for fact in (device, *device.walk()):
        known = _most_like(fact, by_value) if fact.fields else None
        if known is None:
            if fact.fields:
                otherwise.append(Otherwise(fact.line, f"there is no {fact.label} in the plan"))
            continue
        said = {name for name, value in fact.fields.items() if known.fields.get(name) == value}
        if len(said) > len(read.get(known, ())):
            read[known] = said
        otherwise += [
            Otherwise(fact.line_of(name), f"{fact.label}: the plan has another {name}")
            for name in fact.fields
            if name not in said and not (name in _UNSAID and name not in known.fields)
        ]
    right = sum(len(names - known.added) for known, names in read.items())
    return Agreement(right, tuple(_missing(facts, read)), tuple(sorted(otherwise)))


def _most_like(
    fact: Fact, by_value: Mapping[tuple[str, str, object], Sequence[Known]]
) -> Known | None:
    """The known fact with which one that was read has most in common; the planned before others."""
    agreeing: Counter[Known] = Counter()
    for name, value in fact.fields.items():
        agreeing.update(by_value.get((fact.kind, name, value), ()))
    return max(agreeing, key=lambda known: (agreeing[known], known.is_planned), default=None)


def _missing(facts: Sequence[Known], read: Mapping[Known, set[str]]) -> Iterator[str]:
    """What wasn't read: by kind what never was, else each by itself."""
    ever = {(known.kind, name) for known, names in read.items() for name in names}
    never: dict[str, dict[str, None]] = {}
    single: dict[Known, list[str]] = {}
    # Where other spans say which addresses are assigned, those of the plan need not be said.
    spans = ("range", "exclusion")
    otherwise = {known.pool for known in read if known.kind in spans and not known.is_planned}
    members = [known for known in read if known.pool and read[known] & {*WORDS}]
    told = {known.fields["name"] for known in members}
    by_pools = {known.fields["name"] for known in members if known.kind == "pool"}
    for known in facts:
        if not known.is_planned or (known.kind in spans and known.pool in otherwise):
            continue
        if known.kind == "class" and known.fields["name"] in (by_pools if known.pool else told):
            continue  # a pool says who is in it, or is its own
        for name in known.fields.keys() - known.added - _UNSAID - read.get(known, set()):
            if (known.kind, name) in ever:
                single.setdefault(known, []).append(name)
            else:
                never.setdefault(known.kind, {})[name] = None
    yield from (f"{kind} {', '.join(sorted(names))}" for kind, names in never.items())
    for known, names in single.items():
        yield f"{Fact(known.kind, known.fields).label}: {', '.join(sorted(names))}"
