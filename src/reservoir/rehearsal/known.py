"""Names the rule of the checks that knows what went wrong for a client."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace

from reservoir.core.findings import Finding, Severity
from reservoir.rehearsal.result import Failure, Rehearsal


def name_rules(rehearsal: Rehearsal, findings: Sequence[Finding]) -> None:
    """Give each failure the rule whose finding shows it, or the gravest about its network.

    What follows from an accepted finding is accepted too.

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
        about = [(f, name == each.network) for name in each.lan for f in by_network.get(name, ())]
        named = [_named(failure, about) for failure in each.failures]
        each.failures = [failure for failure in named if failure.accepted is None]
        each.accepted = [failure for failure in named if failure.accepted is not None]


def _named(failure: Failure, findings: Iterable[tuple[Finding, bool]]) -> Failure:
    """A failure with the finding that fits it best, of its own network or of one on its LAN."""
    best = max(findings, key=lambda pair: _fit(failure, *pair), default=None)
    if best is None:
        return failure
    same_address, same_event, _, severity = _fit(failure, *best)
    if not (same_address or same_event or severity > Severity.ADVICE):
        return failure
    root = _root(best[0])
    is_event = same_address or same_event
    return replace(failure, rule=root.rule, accepted=root.accepted, is_event=is_event)


def _fit(failure: Failure, finding: Finding, is_own: bool) -> tuple[bool, bool, bool, Severity]:
    """How well a finding fits a failure: by address, event, network, gravity."""
    witness = finding.witness
    same_event = witness is not None and witness.kind == failure.event
    same_address = (
        witness is not None and failure.address is not None and witness.address == failure.address
    )
    return same_address, same_event, is_own, _root(finding).severity


def _root(finding: Finding) -> Finding:
    """What a finding follows from in the end."""
    while finding.cause is not None:
        finding = finding.cause
    return finding
