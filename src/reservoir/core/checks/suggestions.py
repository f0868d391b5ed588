"""Suggestions are tried before they are shown: each removes its finding and adds no error.

Each is tried by itself in a plan of ordinary size. Where that would take too long, suggestions for
different networks and devices are tried together, and those that fail are told by where they fail.
Then one that works only because another is made as well can slip through, and one that fails only
because of another is left out. What a check costs is counted; suggestions that were not tried when
as much is spent as may be are shown as such.
"""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Iterator, Sequence

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
    """The findings with those suggestions only that do what they should, or were not tried.

    Args:
        found: All findings of the plan.
        plan: The plan.
        check: Finds what is wrong in a plan.
    """
    tries = _Tries(found, plan, check)
    kept: dict[int, list[Edit]] = {}
    for trial in tries.trials():
        for number, suggestion in tries.successful(trial):
            kept.setdefault(number, []).append(suggestion)
    return [
        finding._replace(
            suggestions=tuple(kept.get(number, ())), is_tried=number not in tries.untried
        )
        if finding.suggestions
        else finding
        for number, finding in enumerate(found)
    ]


class _Tries:
    """Tries suggestions as long as work is left."""

    def __init__(self, found: Sequence[Finding], plan: Plan, check: Check) -> None:
        self._found = found
        self._plan = plan
        self._check = check
        self._said, self._errors = _said(found), _errors(found)
        self._work = _work_of_a_check(plan, found)
        self._left = MOST_WORK
        self.untried: set[int] = set()
        """The places of findings of which a suggestion was not tried."""

    def trials(self) -> Iterator[Trial]:
        """All suggestions, each by itself if that takes no more work than there is."""
        singly = [
            (n, each) for n, finding in enumerate(self._found) for each in finding.suggestions
        ]
        if self._work * len(singly) <= MOST_WORK:
            return iter([one] for one in singly)
        return _together(singly)

    def successful(self, trial: Trial) -> Trial:
        """Those of a trial that remove their finding and add no error, and all if no work is left.

        If some fail, the others are tried without them; if it doesn't show which, in halves.
        """
        if not trial:
            return []
        if self._left < self._work:
            self.untried.update(number for number, _ in trial)
            return trial
        failed, elsewhere = self._failed(trial)
        if not failed and not elsewhere:
            return trial
        if len(trial) == 1:
            return []
        if failed:
            return self.successful([each for each in trial if each not in failed])
        half = len(trial) // 2
        return [*self.successful(trial[:half]), *self.successful(trial[half:])]

    def _failed(self, trial: Trial) -> tuple[set[tuple[int, Edit]], bool]:
        """Those that fail, by what is said of their networks then; and whether others are worse."""
        changed, failed = self._plan, set[tuple[int, Edit]]()
        for number, suggestion in trial:
            try:
                changed = with_edit(changed, suggestion)
            except NotApplicableError:
                failed.add((number, suggestion))
        self._left -= self._work
        after = self._check(changed)
        gone = self._said - _said(after)
        new = {network for _, network in _errors(after) - self._errors}
        for number, suggestion in trial:
            finding = self._found[number]
            if not gone[_key(finding)] or finding.network in new:
                failed.add((number, suggestion))
        own = {self._found[number].network for number, _ in failed}
        return failed, not new <= own


def _work_of_a_check(plan: Plan, found: Sequence[Finding]) -> int:
    """How long a check of the plan takes, in ordinary networks."""
    networks = plan.networks.values()
    spans = sum(len(n.ranges) if n.ranges != "all" else 0 for n in networks)
    spans += sum(len(n.exclusions) for n in networks)
    bound = sum(len(n.bindings) + len(n.static) for n in networks)
    bound += len(plan.bulk_bindings) + len(plan.bulk_static)
    return len(networks) + spans // 2 + bound // 100 + len(found) // 10


def _together(singly: Trial) -> Iterator[Trial]:
    """All suggestions in as few trials as there can be, one for each network or device in each."""
    rounds: list[Trial] = []
    used: Counter[object] = Counter()
    for number, suggestion in singly:
        place = used[suggestion.path[:2]]
        used[suggestion.path[:2]] += 1
        if place == len(rounds):
            rounds.append([])
        rounds[place].append((number, suggestion))
    yield from rounds


def _key(finding: Finding) -> tuple[str, str]:
    return finding.rule, finding.message


def _said(found: Sequence[Finding]) -> Counter[tuple[str, str]]:
    return Counter(map(_key, found))


def _errors(found: Sequence[Finding]) -> Counter[tuple[str, str | None]]:
    return Counter((f.rule, f.network) for f in found if f.severity is Severity.ERROR)
