"""Cause and consequence: one mistake is one finding, with what follows from it folded under it."""

from __future__ import annotations

from collections.abc import Hashable, Iterator, Mapping, Sequence
from dataclasses import replace

from reservoir.core.checks.rule import Rule
from reservoir.core.findings import Finding

Key = tuple[str, str, Hashable]
"""A rule, a relation (``networks``, ``place`` or ``address``), and what is related."""


def with_causes(found: Sequence[Finding], rules: Mapping[str, Rule]) -> list[Finding]:
    """Point each consequence to the finding that it follows from in the end.

    A finding follows from one of a rule that its own rule names: at the same place, shown by the
    same address, or on the same network. What is wrong between two networks is the cause only of
    what concerns both; what is wrong at a device, of what concerns any network that it touches.
    Of a chain of causes the first is the cause of all. Linear in the number of findings.
    """
    first: dict[Key, int] = {}
    for number, finding in enumerate(found):
        for key in _offered(finding):
            first.setdefault(key, number)
    direct = [_cause(number, finding, rules, first) for number, finding in enumerate(found)]
    result = list(found)
    for number in range(len(found)):
        root = _root(number, direct)
        if root != number:
            result[number] = replace(found[number], cause=found[root])
    return result


def _offered(finding: Finding) -> Iterator[Key]:
    """The keys under which other findings may name this one as their cause."""
    about = _networks(finding)
    yield finding.rule, "networks", about
    if finding.at[:1] == ("devices",):
        yield from ((finding.rule, "networks", frozenset({network})) for network in about)
    yield finding.rule, "place", finding.at
    if finding.witness is not None and finding.witness.address is not None:
        yield finding.rule, "address", finding.witness.address


def _cause(
    number: int, finding: Finding, rules: Mapping[str, Rule], first: Mapping[Key, int]
) -> int | None:
    rule = rules.get(finding.rule)
    if rule is None:
        return None
    address = finding.witness.address if finding.witness else None
    wanted: list[Key] = [(name, "place", finding.at) for name in rule.follows_here]
    wanted += [(name, "address", address) for name in rule.follows_address if address is not None]
    about = _networks(finding)
    scopes = [about, *(frozenset({network}) for network in sorted(about))] if about else []
    wanted += [(name, "networks", scope) for name in rule.follows for scope in scopes]
    return next((first[key] for key in wanted if first.get(key, number) != number), None)


def _networks(finding: Finding) -> frozenset[str]:
    """The networks that a finding is about."""
    return frozenset(n for n in (finding.network, *finding.concerns) if n is not None)


def _root(number: int, direct: Sequence[int | None]) -> int:
    """The first of a chain of causes; of a circle the one with the smallest number."""
    seen = [number]
    while (cause := direct[seen[-1]]) is not None:
        if cause in seen:
            return min(seen[seen.index(cause) :])
        seen.append(cause)
    return seen[-1]
