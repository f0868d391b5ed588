"""Names the rule of the checks that knows what went wrong for a client."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

from reservoir.core.findings import Finding, Severity
from reservoir.rehearsal.result import Failure, Rehearsal

_LOST = ("unanswered", "request-lost", "answer-lost", "not-relayed")
_TOLD_BY: Mapping[str, tuple[str, ...]] = {
    **dict.fromkeys(_LOST, _LOST),
    "assigned": ("assigned", "in-range", "in-both"),
    "binding-ignored": ("binding-ignored", "bound", "bound-to-two"),
    "bound": ("bound", "bound-to-two"),
    "offered": ("offered", "offered-only", "traffic-lost"),
}
"""The kinds of witness that tell of an event; of any other, only its own."""

_ABOUT_AN_ADDRESS = ("assigned", "binding-ignored", "bound", "offered", "held-twice")
"""Events that are not the same where they are about different addresses."""


def name_rules(rehearsal: Rehearsal, findings: Sequence[Finding]) -> None:
    """Give each failure the rule whose finding tells of it, or the gravest about its network.

    What follows from an accepted finding is accepted too. A failure that no finding tells of never
    is, whatever else is accepted there.

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


def _named(failure: Failure, findings: Sequence[tuple[Finding, bool]]) -> Failure:
    """A failure with the finding that fits it best, of its own network or of one on its LAN."""
    told = [pair for pair in findings if _tells(pair[0], failure)]
    if told:
        root = _root(max(told, key=lambda pair: _fit(failure, *pair))[0])
        return replace(failure, rule=root.rule, accepted=root.accepted, is_event=True)
    roots = ((_root(finding), is_own) for finding, is_own in findings)
    open_roots = [
        (r, own) for r, own in roots if r.accepted is None and r.severity > Severity.ADVICE
    ]
    if not open_roots:
        return failure
    root, _ = max(open_roots, key=lambda pair: (pair[1], pair[0].severity))
    return replace(failure, rule=root.rule)


def _fit(failure: Failure, finding: Finding, is_own: bool) -> tuple[bool, bool, bool, bool, int]:
    """How well a finding fits the failure that it tells of.

    By address first; where that doesn't tell, what isn't accepted comes before what is.
    """
    root, witness = _root(finding), finding.witness
    same_address = witness is not None and witness.address == failure.address is not None
    same_event = witness is not None and witness.kind == failure.event
    return same_address, root.accepted is None, same_event, is_own, root.severity


def _tells(finding: Finding, failure: Failure) -> bool:
    """Whether a finding's witness is what happened to the client."""
    witness = finding.witness
    if witness is None or witness.kind not in _TOLD_BY.get(failure.event, (failure.event,)):
        return False
    if witness.option and failure.option and witness.option != failure.option:
        return False
    addresses = {witness.address, failure.address} - {None}
    return len(addresses) < 2 or failure.event not in _ABOUT_AN_ADDRESS


def _root(finding: Finding) -> Finding:
    """What a finding follows from in the end."""
    while finding.cause is not None:
        finding = finding.cause
    return finding
