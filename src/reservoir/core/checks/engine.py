"""Runs the rules over a plan: severities, acceptance, cause and consequence, order."""

from __future__ import annotations

import datetime
from collections.abc import Callable, Collection, Iterable, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import reduce
from typing import TYPE_CHECKING

import numpy as np

from reservoir.core.behaviour import DeviceBehaviour
from reservoir.core.checks.acceptance import accepts, is_at
from reservoir.core.checks.causes import causes
from reservoir.core.checks.rule import Rule, Site, families, rules
from reservoir.core.checks.suggestions import with_tried_suggestions
from reservoir.core.findings import Finding, Obstacle, Severity
from reservoir.core.plan.model import Plan, PlanPath
from reservoir.core.pools import Pool, Pools
from reservoir.core.values.address_set import AddressSet

if TYPE_CHECKING:
    from reservoir.core.checks.baseline import Baseline


@dataclass(frozen=True)
class Report:
    """The findings of a check, and the size of what was checked."""

    findings: tuple[Finding, ...]
    """By network in the plan's order, causes before their consequences."""
    networks: int
    devices: int
    assignable: int
    """Addresses that clients may get, over all networks."""
    is_partial: bool
    """Whether only some rules or paths were asked for."""
    servers: Mapping[str, Sequence[str]]
    """The devices that serve each network, named by it or the only ones that can be meant."""
    baseline: Baseline | None = None
    """What came of holding them to the findings of another day, if that was asked for."""

    def __iter__(self) -> Iterator[Finding]:
        return iter(self.findings)

    def __len__(self) -> int:
        return len(self.findings)

    def of_severity(self, severity: Severity) -> int:
        """How many findings have this severity and are not accepted."""
        return sum(f.severity is severity and f.accepted is None for f in self.findings)

    @property
    def accepted(self) -> int:
        """How many findings are accepted."""
        return sum(f.accepted is not None for f in self.findings)

    @property
    def worst(self) -> Severity | None:
        """The highest severity that is not accepted."""
        return max((f.severity for f in self.findings if f.accepted is None), default=None)


Fit = Callable[[Pools], Sequence[Obstacle]]
"""Finds what only dialects can tell about a plan's devices."""


def _nothing(_pools: Pools) -> Sequence[Obstacle]:
    return ()


def check_plan(
    pools: Pools,
    fit: Fit = _nothing,
    behaviours: Mapping[str, DeviceBehaviour] | None = None,
    complete: bool = True,
    *,
    today: datetime.date,
    select: Collection[str] = (),
    ignore: Collection[str] = (),
    at: Collection[str] = (),
    watch: Callable[[float], None] | None = None,
    try_fixes: bool = True,
) -> Report:
    """Run every rule over a plan.

    Args:
        pools: The plan, and its pools.
        fit: Finds what the plan's devices can't do, by fitting it to their dialects, and what is
            wrong in their configuration where that was read.
        behaviours: How each device behaves whose dialect is known, by the device's name.
        complete: Whether the plan has all relevant devices.
        today: The day on which acceptances count or have run out.
        select: Rules or families to report; all if empty.
        ignore: Rules or families to leave out.
        at: Patterns with ``*`` for the paths to report, such as ``networks.lab*``.
        watch: Called with the share of the rules that has been checked, 0 to 1.
        try_fixes: Whether suggestions are tried; else all are there, and shown as not tried.
    """
    plan = pools.plan

    def look(changed: Pools, watch: Callable[[float], None] | None = None) -> list[Finding]:
        return _found(Site(changed, today, tuple(fit(changed)), behaviours or {}, complete), watch)

    found = look(pools, watch)
    roots = causes(found, rules(), pools.topology.devices_touching)
    found = [
        finding if root is None else finding._replace(suggestions=())
        for finding, root in zip(found, roots, strict=True)
    ]  # what follows from another goes away with that one

    def look_again(changed: Plan) -> list[Finding]:
        # All rules have been run, but who watches may want no more of it.
        return look(Pools(changed), None if watch is None else lambda _share: watch(1.0))

    if try_fixes:
        found = with_tried_suggestions(found, plan, look_again)
    else:
        found = [f._replace(is_tried=False) if f.suggestions else f for f in found]
    if plan.accept:
        found = [_accepted(finding, plan, today) for finding in found]
    found = [
        finding if root is None else finding._replace(cause=found[root])
        for finding, root in zip(found, roots, strict=True)
    ]
    kept = [f for f in found if _wanted(f, select, ignore) and _placed(f, at)]
    return Report(
        findings=tuple(_ordered(kept, plan)),
        networks=len(plan.networks),
        devices=len(plan.devices),
        assignable=sum(map(_assignable, pools.by_network)),
        is_partial=bool(select or ignore or at),
        servers={
            name: [server.device for server in pools.topology.servers(name)]
            for name in plan.networks
        },
    )


def errors_of(site: Site) -> list[Finding]:
    """The errors that all rules find, without causes and suggestions."""
    return [finding for finding in _found(site) if finding.severity is Severity.ERROR]


def _found(site: Site, watch: Callable[[float], None] | None = None) -> list[Finding]:
    """What all rules find, as severe as the plan grades it."""
    found: list[Finding] = []
    for number, rule in enumerate(rules().values()):
        if not rule.comes_last:
            found += _run(rule, site)
        if watch is not None:
            watch((number + 1) / len(rules()))
    found = list(_each_once(found))
    last = replace(site, found=tuple(found))
    found += [f for rule in rules().values() if rule.comes_last for f in _run(rule, last)]
    return _with_severities(found, site.plan)


def _each_once(found: Iterable[Finding]) -> Iterable[Finding]:
    """The findings without those that say the same of the same place, as of several servers."""
    first: dict[tuple[str, PlanPath, str], Finding] = {}
    for finding in found:
        first.setdefault((finding.rule, finding.at, finding.message), finding)
    return first.values()


def _run(rule: Rule, site: Site) -> list[Finding]:
    try:
        return list(rule.check(site))
    except Exception as error:  # a rule that fails must not silence the others
        message = (
            f"this check itself failed ({type(error).__name__}: {error}); "
            "that is a defect in Reservoir, please report it"
        )
        return [Finding(rule.name, rule.family, Severity.ERROR, message, ())]


def _with_severities(found: list[Finding], plan: Plan) -> list[Finding]:
    changed = plan.checks.severity
    if not changed:
        return found
    return [
        finding._replace(severity=Severity[changed[finding.rule].upper()])
        if finding.rule in changed
        else finding
        for finding in found
    ]


def _wanted(finding: Finding, select: Collection[str], ignore: Collection[str]) -> bool:
    names = {finding.rule, finding.family}
    return (not select or bool(names & set(select))) and not names & set(ignore)


def _placed(finding: Finding, patterns: Collection[str]) -> bool:
    return not patterns or any(is_at(finding, pattern) for pattern in patterns)


def _accepted(finding: Finding, plan: Plan, today: datetime.date) -> Finding:
    for acceptance in plan.accept:
        if acceptance.holds_on(today) and accepts(acceptance, finding):
            return finding._replace(accepted=acceptance.because)
    return finding


def _ordered(found: list[Finding], plan: Plan) -> list[Finding]:
    """By network, then severity, then family; consequences behind their cause.

    A cause is as severe as the worst that follows from it.
    """
    ranks = {family: number for number, family in enumerate(families())}
    networks = {name: number for number, name in enumerate(plan.networks)}
    numbers = {id(finding): number for number, finding in enumerate(found)}
    leaders = [numbers.get(id(finding.cause), number) for number, finding in enumerate(found)]
    worst: dict[int, Severity] = {}
    for finding, leader in zip(found, leaders, strict=True):
        worst[leader] = max(worst.get(leader, Severity.ADVICE), finding.severity)

    keys = (
        [-1 if leader == number else number for number, leader in enumerate(leaders)],
        leaders,
        [ranks[found[leader].family] for leader in leaders],
        [-worst[leader] for leader in leaders],
        [networks.get(found[leader].network or "", len(networks)) for leader in leaders],
    )  # for lexsort, the last counts first
    return [found[number] for number in np.lexsort(keys)]


def _assignable(pools: Sequence[Pool]) -> int:
    """Addresses of a network that any of its servers assigns."""
    if len(pools) == 1:
        return len(pools[0].assignable)
    return len(reduce(AddressSet.__or__, (pool.assignable for pool in pools)))
