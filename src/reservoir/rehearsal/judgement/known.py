"""Finds what the checks know of what went wrong for a client."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

from reservoir.core.findings import Finding, Severity, Witness
from reservoir.rehearsal.judgement.result import Failure, Rehearsal

_LOST = ("unanswered", "request-lost", "answer-lost", "not-relayed")
_TOLD_BY: Mapping[str, tuple[str, ...]] = {
    **dict.fromkeys(_LOST, (*_LOST, "traffic-lost")),
    "never-assigned": ("never-assigned", "unanswered"),
    "assigned": ("assigned", "in-range"),
    "in-both": ("in-both", "answered-twice"),
    "binding-ignored": ("binding-ignored", "bound", "bound-to-two"),
    "bound": ("bound", "bound-to-two"),
    "offered": ("offered", "offered-only", "traffic-lost"),
}
"""The kinds of witness that tell of an event; of any other, only its own."""

_OF_ONE_CLIENT = ("bound", "bound-to-two", "binding-ignored")
"""Kinds of witness that tell of whatever happens to their client, once it is answered."""

_OF_ONE_ADDRESS = ("assigned", "binding-ignored", "bound", "bound-to-two", "offered", "held-twice")
"""Kinds of witness that tell of their own address only; that of others is one of many."""


def find_known(rehearsal: Rehearsal, findings: Sequence[Finding]) -> None:
    """Give each failure the finding that tells of it; else a suspect, the gravest of its network.

    What follows from an accepted finding is accepted too. A failure that no finding tells of never
    is, whatever else is accepted there.

    Args:
        rehearsal: What was rehearsed; its failures are replaced.
        findings: What the checks say of the same plan.
    """
    by_network: dict[str, list[Finding]] = {}
    for finding in findings:
        at = " ".join(map(str, finding.at[1:4:2])) if finding.at[:1] == ("devices",) else None
        for name in dict.fromkeys((finding.network, *finding.concerns, at)):
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
        best, _ = max(told, key=lambda pair: _fit(failure, *pair))
        return replace(failure, finding=_root(best))
    roots = ((_root(finding), is_own) for finding, is_own in findings)
    open_roots = [
        (r, own) for r, own in roots if r.accepted is None and r.severity > Severity.ADVICE
    ]
    if not open_roots:
        return failure
    root, _ = max(open_roots, key=lambda pair: (pair[1], pair[0].severity))
    return replace(failure, suspect=root.rule)


def _fit(failure: Failure, finding: Finding, is_own: bool) -> tuple[bool, bool, bool, bool, int]:
    """How well a finding fits the failure that it tells of.

    By address first; where that doesn't tell, what isn't accepted comes before what is.
    """
    root, witness = _root(finding), finding.witness
    assert witness is not None  # without a case it tells of nothing
    same_address = witness.address is not None and witness.address == failure.address
    return same_address, root.accepted is None, _is_event(witness, failure), is_own, root.severity


def _tells(finding: Finding, failure: Failure) -> bool:
    """Whether a finding's case is what happened to the client: by address, client or event."""
    witness = finding.witness
    if witness is None:
        return False
    if None not in (witness.address, failure.address):
        if witness.address == failure.address:
            return True
        if witness.kind in _OF_ONE_ADDRESS:
            return False
    is_client = witness.client == failure.client and witness.kind in _OF_ONE_CLIENT
    return (is_client and failure.event not in _LOST) or _is_event(witness, failure)


def _is_event(witness: Witness, failure: Failure) -> bool:
    """Whether a case is of the same kind as a failure."""
    if witness.option and failure.option and witness.option != failure.option:
        return False
    return witness.kind in _TOLD_BY.get(failure.event, (failure.event,))


def _root(finding: Finding) -> Finding:
    """What a finding follows from in the end."""
    while finding.cause is not None:
        finding = finding.cause
    return finding
