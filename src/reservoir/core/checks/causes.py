"""Cause and consequence: one mistake is one finding, with what follows from it folded under it."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable, Iterator, Mapping, Sequence
from dataclasses import replace

from reservoir.core.checks.rule import Rule
from reservoir.core.findings import Finding
from reservoir.core.plan.model import PlanPath

Key = tuple[str, str, Hashable]
"""A rule or what is blamed, a relation (``networks``, ``place`` or ``address``), and what is
related; or what a line states that was not understood, ``network`` or ``device``, and of which."""

Touching = Callable[[str], Iterable[str]]
"""The devices that serve a network or are in it, by its name."""


def with_causes(
    found: Sequence[Finding], rules: Mapping[str, Rule], touching: Touching
) -> list[Finding]:
    """Point each consequence to the finding that it follows from in the end.

    A finding follows from one that blames what its rule rests on, or whose rule its rule names: at
    the same place, shown by the same address, or on the same network. What is wrong between two
    networks is the cause only of what concerns both; what is wrong at a device, of what concerns
    any network that it touches. What rests on something follows from a line about that, of its
    network or of a device that touches it, which was not understood. Of a chain of causes the first
    is the cause of all.
    Linear in the number of findings.
    """
    first: dict[Key, int] = {}
    for number, finding in enumerate(found):
        for key in _offered(finding, rules):
            first.setdefault(key, number)
    wanted = _Wanted(rules, touching if any(f.states for f in found) else None)
    direct = [
        next((first[key] for key in wanted.by(f) if first.get(key, number) != number), None)
        for number, f in enumerate(found)
    ]
    result = list(found)
    for number in range(len(found)):
        root = _root(number, direct)
        if root != number:
            result[number] = replace(found[number], cause=found[root])
    return result


def _offered(finding: Finding, rules: Mapping[str, Rule]) -> Iterator[Key]:
    """The keys under which other findings may name this one as their cause."""
    about, rule = _networks(finding), rules.get(finding.rule)
    for name in (finding.rule, *(rule.blames if rule is not None else ())):
        yield name, "networks", about
        if finding.at[:1] == ("devices",):
            yield from ((name, "networks", frozenset({network})) for network in about)
        yield name, "place", _thing(finding.at)
        if finding.witness is not None and finding.witness.address is not None:
            yield name, "address", finding.witness.address
    for what in finding.states:
        if finding.network is None:
            yield what, "device", finding.at[1]
        else:
            yield what, "network", finding.network


class _Wanted:
    """The keys of what may be the cause of a finding, the likeliest first."""

    def __init__(self, rules: Mapping[str, Rule], touching: Touching | None) -> None:
        self._rules = rules
        self._touching = touching
        """None if every line was understood."""

    def by(self, finding: Finding) -> Iterator[Key]:
        rule = self._rules.get(finding.rule)
        if rule is None:
            return
        about = _networks(finding)
        if self._touching is not None and rule.rests_on:
            yield from self._not_understood(finding, rule.rests_on, self._touching)
        itself = {rule.follows_itself: (rule.name,)}
        for name in (*rule.rests_here, *rule.follows_here, *itself.get("place", ())):
            yield name, "place", _thing(finding.at)
        if finding.witness is not None and finding.witness.address is not None:
            for name in rule.rests_at:
                yield name, "address", finding.witness.address
        scopes = [about, *(frozenset({network}) for network in sorted(about))] if about else []
        for name in (*rule.rests_on, *rule.follows, *itself.get("network", ())):
            for scope in scopes:
                yield name, "networks", scope

    def _not_understood(
        self, finding: Finding, rests_on: Iterable[str], touching: Touching
    ) -> Iterator[Key]:
        about = sorted(_networks(finding))
        devices = {device for network in about for device in touching(network)}
        if finding.at[:1] == ("devices",):
            devices.add(str(finding.at[1]))
        for what in rests_on:
            yield from ((what, "network", network) for network in about)
            yield from ((what, "device", device) for device in sorted(devices))


def _networks(finding: Finding) -> frozenset[str]:
    """The networks that a finding is about."""
    return frozenset(n for n in (finding.network, *finding.concerns) if n is not None)


def _thing(path: PlanPath) -> PlanPath:
    """What is at a path: of an interface all of it, since its lines are about one cable."""
    return path[:4] if path[2:3] == ("interfaces",) else path


def _root(number: int, direct: Sequence[int | None]) -> int:
    """The first of a chain of causes; of a circle the one with the smallest number."""
    seen = [number]
    while (cause := direct[seen[-1]]) is not None:
        if cause in seen:
            return min(seen[seen.index(cause) :])
        seen.append(cause)
    return seen[-1]
