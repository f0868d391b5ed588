"""Runs the rules over a plan: severities, acceptance, cause and consequence, order."""

from __future__ import annotations

import datetime
from collections.abc import Collection, Sequence
from dataclasses import dataclass, replace
from fnmatch import fnmatchcase

from reservoir.core.checks.rule import Rule, Site, rules
from reservoir.core.findings import Finding, Obstacle, Severity
from reservoir.core.lending import Lending
from reservoir.core.plan import Plan, format_path


@dataclass(frozen=True)
class Report:
    """What the checks say of a plan, and how large the plan is."""

    findings: tuple[Finding, ...]
    """By network in the plan's order, causes before what follows from them."""
    networks: int
    devices: int
    lendable: int
    """Addresses that some client may be given, over all networks."""

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


def check_plan(
    lending: Lending,
    obstacles: Sequence[Obstacle] = (),
    *,
    today: datetime.date,
    select: Collection[str] = (),
    ignore: Collection[str] = (),
    at: Collection[str] = (),
) -> Report:
    """Run every rule over a plan.

    Args:
        lending: The plan, and what it lends.
        obstacles: What the plan's devices can't hold, as found by fitting it to their dialects.
        today: The day on which acceptances count or have run out.
        select: Rules or families to report; all if empty.
        ignore: Rules or families to leave out.
        at: Patterns with ``*`` for the paths to report, such as ``networks.lab*``.
    """
    plan, site = lending.plan, Site(lending, tuple(obstacles))
    found = [finding for rule in rules().values() for finding in _run(rule, site)]
    found = _with_causes(_with_severities(found, plan))
    kept = [
        _accepted(finding, plan, today)
        for finding in found
        if _wanted(finding, select, ignore) and _placed(finding, at)
    ]
    return Report(
        findings=tuple(_ordered(kept, plan)),
        networks=len(plan.networks),
        devices=len(plan.devices),
        lendable=sum(len(pool.lendable) for pool in lending.pools),
    )


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
    return [
        replace(finding, severity=Severity[changed[finding.rule].upper()])
        if finding.rule in changed
        else finding
        for finding in found
    ]


def _with_causes(found: list[Finding]) -> list[Finding]:
    """Point each consequence to the finding of the same place or network that it follows from."""
    first: dict[tuple[str, object], Finding] = {}
    for finding in found:
        first.setdefault((finding.rule, finding.at), finding)
        if finding.network is not None:
            first.setdefault((finding.rule, finding.network), finding)

    def cause_of(finding: Finding, depth: int = 0) -> Finding | None:
        rule = rules().get(finding.rule)
        causes: list[tuple[str, object]] = []
        if rule is not None:
            causes = [(name, finding.at) for name in rule.follows_here]
            causes += [(name, finding.network) for name in rule.follows]
        for key in causes:
            cause = first.get(key)
            if cause is not None and cause is not finding and depth < len(first):
                return cause_of(cause, depth + 1) or cause
        return None

    return [replace(finding, cause=cause_of(finding)) for finding in found]


def _wanted(finding: Finding, select: Collection[str], ignore: Collection[str]) -> bool:
    names = {finding.rule, finding.family}
    return (not select or bool(names & set(select))) and not names & set(ignore)


def _placed(finding: Finding, patterns: Collection[str]) -> bool:
    return not patterns or any(_matches(finding, pattern) for pattern in patterns)


def _matches(finding: Finding, pattern: str) -> bool:
    """Whether the finding stands at the pattern's path or below it, or is about a network there.

    So what is wrong in a table's row is found under the row's network too.
    """
    paths = [format_path(finding.at)]
    if finding.network is not None:
        paths.append(format_path(("networks", finding.network)))
    below = pattern.replace("[", "[[]")  # a list position is no set of characters
    forms = (below, below + ".*", below + "[[]*")
    return any(fnmatchcase(path, form) for path in paths for form in forms)


def _accepted(finding: Finding, plan: Plan, today: datetime.date) -> Finding:
    for acceptance in plan.accept:
        if (
            acceptance.rule == finding.rule
            and acceptance.holds_on(today)
            and _matches(finding, acceptance.at)
        ):
            return replace(finding, accepted=acceptance.because)
    return finding


FAMILY_ORDER = ("ranges", "gateways", "statics", "bindings", "capacity", "paths", "limits")
"""The order in which a person would put things right; other families follow."""


def _ordered(found: list[Finding], plan: Plan) -> list[Finding]:
    """By network, then severity, then family; consequences behind their cause."""
    families = {family: number for number, family in enumerate(FAMILY_ORDER)}
    order = {name: number for number, name in enumerate(plan.networks)}

    def network_place(finding: Finding) -> int:
        return order.get(finding.network or "", len(order))

    kept = {(f.rule, f.at, f.message) for f in found}

    def leader(finding: Finding) -> Finding:
        cause = finding.cause
        return cause if cause and (cause.rule, cause.at, cause.message) in kept else finding

    positions = {(f.rule, f.at, f.message): number for number, f in enumerate(found)}

    def key(finding: Finding) -> tuple[int, int, int, int, bool, int]:
        lead = leader(finding)
        return (
            network_place(finding),
            -lead.severity,
            families.get(lead.family, len(families)),
            positions[lead.rule, lead.at, lead.message],
            lead is not finding,
            positions[finding.rule, finding.at, finding.message],
        )

    return sorted(found, key=key)
