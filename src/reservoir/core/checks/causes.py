"""Cause and consequence: one mistake is one finding, with what follows from it folded under it."""

from __future__ import annotations

from collections.abc import Callable, Hashable, Iterable, Iterator, Mapping, Sequence, Set

from reservoir.core.checks.rule import Rule
from reservoir.core.findings import Finding
from reservoir.core.plan.model import PlanPath

Key = tuple[str, str, Hashable]
"""A rule or what is blamed, a relation (``networks``, ``place`` or ``address``), and what is
related; or what a line states that was not understood, ``network`` or ``device``, and of which."""

Touching = Callable[[str], Iterable[str]]
"""The devices that serve a network or are in it, by its name."""


def causes(
    found: Sequence[Finding], rules: Mapping[str, Rule], touching: Touching
) -> list[int | None]:
    """For each finding the place of the one that it follows from in the end, if there is one.

    A finding follows from one that blames what its rule rests on, or whose rule its rule names: at
    the same place, shown by the same address, or on the same network. What is wrong between two
    networks is the cause only of what concerns both; what is wrong at a device, of what concerns
    any network that it touches. What rests on something follows from a line about that, of its
    network or of a device that touches it, which was not understood. Of a chain of causes the first
    is the cause of all.
    Linear in the number of findings.
    """
    wanted = _Wanted(rules, touching if any(f.states for f in found) else None)
    known = {finding.rule: rules.get(finding.rule) for finding in found}
    names = {name for rule in known.values() if rule is not None for name in wanted.names(rule)}
    first: dict[Key, int] = {}
    for number, finding in enumerate(found):
        for key in _offered(finding, known[finding.rule], names):
            first.setdefault(key, number)
    offered = {name for name, *_ in first}
    following = {
        name
        for name, rule in known.items()
        if rule is not None and not offered.isdisjoint(wanted.names(rule))
    }
    direct = [
        next((first[key] for key in wanted.by(f) if first.get(key, number) != number), None)
        if f.rule in following
        else None
        for number, f in enumerate(found)
    ]
    roots = (_root(number, direct) for number in range(len(found)))
    return [root if root != number else None for number, root in enumerate(roots)]


def _offered(finding: Finding, rule: Rule | None, wanted: Set[str]) -> Iterator[Key]:
    """The keys under which findings that want a name may name this one as their cause."""
    names = [n for n in (finding.rule, *(rule.blames if rule is not None else ())) if n in wanted]
    if not names and not finding.states:
        return
    about = _networks(finding)
    for name in names:
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

    def names(self, rule: Rule) -> Iterator[str]:
        """The rules, and what is blamed, that findings of a rule may follow from."""
        yield from (*rule.rests_on, *rule.rests_here, *rule.rests_at)
        yield from (*rule.follows, *rule.follows_here)
        if rule.follows_itself:
            yield rule.name

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
            yield name, "place", _thing(finding.rests_at)
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
