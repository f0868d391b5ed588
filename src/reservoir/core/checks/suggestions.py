"""Suggestions are tried before they are shown: each removes its finding and adds no error.

Each is tried by itself in a plan of ordinary size. Where that would take too long, suggestions for
different networks are tried together: the plan is checked again as often as its worst network has
suggestions, and only one that works because another is made as well can slip through.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterable, Iterator, Sequence

from reservoir.core.findings import Finding, Severity
from reservoir.core.plan.edits import Edit, NotApplicableError, with_edit
from reservoir.core.plan.model import Plan

MOST_WORK = 4_000
"""The work beyond which suggestions are left untried; ``mend`` tries them anyway.

Its unit is what checking an ordinary network takes, about half a millisecond.
"""

Check = Callable[[Plan], Sequence[Finding]]
Trial = list[tuple[int, Edit]]
"""The places of findings, each with a suggestion, that are tried at once."""


def with_tried_suggestions(found: Sequence[Finding], plan: Plan, check: Check) -> list[Finding]:
    """The findings with those suggestions only that do what they should.

    Args:
        found: All findings of the plan.
        plan: The plan.
        check: Finds what is wrong in a plan.
    """
    work = _work_of_a_check(plan)
    if work * _fewest_trials(found) > MOST_WORK:
        return list(found)
    singly: list[Trial] = [
        [(n, each)] for n, finding in enumerate(found) for each in finding.suggestions
    ]
    trials = singly if work * len(singly) <= MOST_WORK else list(_together(singly))
    kept: dict[int, list[Edit]] = {}
    for trial in trials:
        for number, suggestion in _successful(trial, found, plan, check):
            kept.setdefault(number, []).append(suggestion)
    return [
        finding._replace(suggestions=tuple(kept.get(number, ())))
        if finding.suggestions
        else finding
        for number, finding in enumerate(found)
    ]


def _work_of_a_check(plan: Plan) -> int:
    """How long a check of the plan takes, in ordinary networks."""
    networks = plan.networks.values()
    spans = sum(len(n.ranges) if n.ranges != "all" else 0 for n in networks)
    spans += sum(len(n.exclusions) for n in networks)
    bound = sum(len(n.bindings) + len(n.static) for n in networks)
    bound += len(plan.bulk_bindings) + len(plan.bulk_static)
    return len(networks) + spans // 2 + bound // 100


def _fewest_trials(found: Iterable[Finding]) -> int:
    """How often a plan has to be checked again if as much as may be is tried at once."""
    paths = Counter(each.path[:2] for finding in found for each in finding.suggestions)
    alone = sum(count for path, count in paths.items() if path[0] != "networks")
    return alone + max((n for path, n in paths.items() if path[0] == "networks"), default=0)


def _together(singly: Sequence[Trial]) -> Iterator[Trial]:
    """All suggestions in as few trials as there can be, one for each network in each."""
    rounds: list[Trial] = []
    used: Counter[object] = Counter()
    for trial in singly:
        ((_, suggestion),) = trial
        if suggestion.path[0] != "networks":
            yield trial
            continue
        place = used[suggestion.path[1]]
        used[suggestion.path[1]] += 1
        if place == len(rounds):
            rounds.append([])
        rounds[place] += trial
    yield from rounds


def _successful(trial: Trial, found: Sequence[Finding], plan: Plan, check: Check) -> Trial:
    """Those of a trial that remove their finding and add no error; if some fail, one by one."""
    try:
        changed = plan
        for _, suggestion in trial:
            changed = with_edit(changed, suggestion)
    except NotApplicableError:
        good = False
    else:
        after = check(changed)
        gone = _said(found) - _said(after)
        removed = all(gone[_key(found[number])] for number, _ in trial)
        good = removed and not _errors(after) - _errors(found)
    if good or len(trial) == 1:
        return trial if good else []
    half = len(trial) // 2
    parts = (trial[:half], trial[half:])
    return [entry for part in parts for entry in _successful(part, found, plan, check)]


def _key(finding: Finding) -> tuple[str, str]:
    return finding.rule, finding.message


def _said(found: Sequence[Finding]) -> Counter[tuple[str, str]]:
    return Counter(map(_key, found))


def _errors(found: Sequence[Finding]) -> Counter[tuple[str, str | None]]:
    return Counter((f.rule, f.network) for f in found if f.severity is Severity.ERROR)
