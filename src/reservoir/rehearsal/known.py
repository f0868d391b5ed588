"""Names the rule of the checks that knows what went wrong for a client."""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Sequence
from dataclasses import replace

from reservoir.core.findings import Finding, Severity
from reservoir.rehearsal.result import Failure, Rehearsal


def name_rules(rehearsal: Rehearsal, findings: Sequence[Finding]) -> None:
    """Give each failure the rule whose finding shows it, or the gravest about its network.

    Args:
        rehearsal: What was rehearsed; its failures are replaced.
        findings: What the checks say of the same plan.
    """
    by_network: dict[str, list[Finding]] = {}
    for finding in findings:
        for name in dict.fromkeys((finding.network, *finding.concerns)):
            if name is not None:
                by_network.setdefault(name, []).append(finding)
    for each in rehearsal.networks:
        about = by_network.get(each.network, [])
        each.failures = [replace(one, rule=_rule(one, about)) for one in each.failures]


def _rule(failure: Failure, findings: Iterable[Finding]) -> str | None:
    """The rule of the finding that fits a failure best: its event, its address, its gravity."""
    roots: Iterator[tuple[tuple[bool, bool, Severity], str]] = (
        (_fit(failure, finding), _root(finding).rule) for finding in findings
    )
    best = max(roots, key=lambda pair: pair[0], default=None)
    if best is None:
        return None
    (same_address, same_event, severity), rule = best
    return rule if same_address or same_event or severity > Severity.ADVICE else None


def _fit(failure: Failure, finding: Finding) -> tuple[bool, bool, Severity]:
    """How well a finding fits a failure: the larger, the better."""
    witness = finding.witness
    same_event = witness is not None and witness.kind == failure.event
    same_address = (
        witness is not None and failure.address is not None and witness.address == failure.address
    )
    return same_address, same_event, _root(finding).severity


def _root(finding: Finding) -> Finding:
    """What a finding follows from in the end."""
    while finding.cause is not None:
        finding = finding.cause
    return finding
