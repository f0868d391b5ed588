"""Applies the checks' suggestions to a plan's files, as far as they are unambiguous and safe."""

from __future__ import annotations

from collections import Counter
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from operator import attrgetter

from reservoir.core.checks import Report
from reservoir.core.findings import Finding, Severity
from reservoir.core.plan.edits import Edit
from reservoir.core.plan.model import PlanPath
from reservoir.core.problems import InputError
from reservoir.files.plan_edits import NotEditableError, TextEdits
from reservoir.files.plan_file import LoadedPlan, load_plan
from reservoir.files.texts import read_text

ATTEMPTS = 40
"""Suggestions may lead to others; after so many attempts it is left at that."""

Check = Callable[[LoadedPlan], Report]


@dataclass
class Mended:
    """The texts of a plan's files after mending."""

    before: dict[str, str] = field(default_factory=dict)
    after: dict[str, str] = field(default_factory=dict)
    applied: list[Finding] = field(default_factory=list)
    """The findings whose suggestions were applied."""


def mend(
    file: str, check: Check, wanted: Callable[[Finding], bool] = attrgetter("is_mendable")
) -> Mended:
    """Apply suggestions until none is left that is wanted and brings no new finding.

    Args:
        file: The plan's path.
        check: Runs the checks over a plan.
        wanted: Whether a finding's suggestion is; those that are unambiguous, if nobody says.

    Raises:
        InputError: the plan can't be loaded.
    """
    mended = Mended()
    loaded = load_plan(file)
    report = check(loaded)
    refused: set[tuple[str, object]] = set()
    doubtful: set[str | None] = set()
    for _ in range(ATTEMPTS):
        open_ = [finding for finding in report.findings if wanted(finding)]
        chosen = _chosen(open_, refused, doubtful)
        if not chosen:
            break
        texts = _with_edits(loaded, chosen, mended)
        if not chosen:
            break
        attempt = _loaded(file, texts)
        after = check(attempt) if attempt else None
        every = {finding.network for finding in chosen}
        new = every if after is None else _new(report, after)
        worse = new & every or every
        if attempt is None or after is None or new:
            # Where several edits together made it worse, each is tried by itself.
            refused |= {_key(f) for f in chosen if f.network in worse & doubtful}
            doubtful |= worse
            continue
        mended.after = texts
        mended.applied += chosen
        loaded, report = attempt, after
    return mended


def _key(finding: Finding) -> tuple[str, object]:
    return finding.rule, finding.at


def _chosen(
    wanted: list[Finding], refused: set[tuple[str, object]], doubtful: set[str | None]
) -> list[Finding]:
    """Those of the findings of which none is about a place that another one edits.

    In a network in which several together made it worse, one.
    """
    chosen: dict[object, Finding] = {}
    alone: set[str | None] = set()
    for finding in wanted:
        if _key(finding) in refused or finding.network in alone:
            continue
        if finding.network in doubtful:
            alone.add(finding.network)
        chosen.setdefault(finding.suggestions[0].path, finding)
    return list(chosen.values())


def _with_edits(loaded: LoadedPlan, chosen: list[Finding], mended: Mended) -> dict[str, str]:
    """The texts with the edits made; a finding whose edit has no place is taken off the list."""
    edits: dict[str, TextEdits] = {}

    def edits_of(file: str) -> TextEdits:
        if file not in edits:
            mended.before.setdefault(file, read_text(file))
            edits[file] = TextEdits(mended.after.get(file, mended.before[file]))
        return edits[file]

    for finding in list(chosen):
        suggestion = finding.suggestions[0]
        path = suggestion.path
        try:
            if loaded.places.is_in_table(path):
                raise NotEditableError("a table may be somebody else's, and is not edited")
            tree, there = loaded.places.tree_of(path)
            edit = Edit(there, suggestion.old, suggestion.new)
            edits_of(tree.file).edit(edit)
        except NotEditableError:
            chosen.remove(finding)
    return mended.after | {file: one.result() for file, one in edits.items()}


def _loaded(file: str, texts: Mapping[str, str]) -> LoadedPlan | None:
    try:
        return load_plan(file, texts)
    except InputError:
        return None


def _new(before: Report, after: Report) -> set[str | None]:
    """The networks that have findings which they didn't have, be it of a rule but elsewhere.

    Advice aside: what a mended network gives to think about, nobody could say before.
    """
    return {network for _, network, _ in _counted(after) - _counted(before)}


def _counted(report: Report) -> Counter[tuple[str, str | None, PlanPath]]:
    return Counter(
        (found.rule, found.network, found.at)
        for found in report.findings
        if found.severity > Severity.ADVICE
    )
