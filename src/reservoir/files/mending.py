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
    file: str,
    check: Check,
    wanted: Callable[[Finding], bool] = attrgetter("is_mendable"),
    given: Mapping[str, str] | None = None,
) -> Mended:
    """Apply suggestions until none is left that is wanted and brings no new finding.

    Args:
        file: The plan's path.
        check: Runs the checks over a plan.
        wanted: Whether a finding's suggestion is; those that are unambiguous, if nobody says.
        given: Texts that count instead of what files of these names have.

    Raises:
        InputError: the plan can't be loaded.
    """
    mended, given = Mended(), given or {}
    loaded = load_plan(file, given)
    report = check(loaded)
    refused: set[tuple[str, object]] = set()
    doubtful: set[str | None] = set()
    for _ in range(ATTEMPTS):
        open_ = [finding for finding in report.findings if wanted(finding)]
        chosen = _chosen(open_, refused, doubtful)
        if not chosen:
            break
        texts = _with_fixes(loaded, chosen, mended, given)
        if not chosen:
            break
        attempt = _loaded(file, {**given, **texts})
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


def _with_fixes(
    loaded: LoadedPlan, chosen: list[Finding], mended: Mended, given: Mapping[str, str]
) -> dict[str, str]:
    """The texts with the fixes made; a finding whose edit has no place is taken off the list."""
    edits = _Edits(loaded, mended, given)
    for finding in list(chosen):
        try:
            edits.make(finding.suggestions[0])
        except NotEditableError:
            chosen.remove(finding)
    return edits.texts()


def text_with(loaded: LoadedPlan, edit: Edit, given: Mapping[str, str]) -> Mapping[str, str]:
    """The new text of the file that an edit changes, by the file's name.

    Args:
        loaded: The plan.
        edit: The edit.
        given: Texts that count instead of what files of these names have.

    Raises:
        NotEditableError: the text has no place for it, or it is in a table.
        InputError: the file can't be read.
    """
    edits = _Edits(loaded, Mended(), given)
    edits.make(edit)
    return edits.texts()


class _Edits:
    """Edits of a plan's files, each found in the texts as they are, all made at once."""

    def __init__(self, loaded: LoadedPlan, mended: Mended, given: Mapping[str, str]) -> None:
        self._places, self._mended, self._given = loaded.places, mended, given
        self._edits: dict[str, TextEdits] = {}

    def make(self, edit: Edit) -> None:
        """Make an edit.

        Raises:
            NotEditableError: the text has no place for it, or it is in a table.
        """
        if self._places.is_in_table(edit.path):
            raise NotEditableError("a table may be somebody else's, and is not edited")
        tree, there = self._places.tree_of(edit.path)
        self._of(tree.file).edit(Edit(there, edit.old, edit.new))

    def texts(self) -> dict[str, str]:
        """All texts that have been changed, these edits made."""
        return self._mended.after | {file: one.result() for file, one in self._edits.items()}

    def _of(self, file: str) -> TextEdits:
        before, after = self._mended.before, self._mended.after
        if file not in self._edits:
            if file not in before:
                before[file] = self._given[file] if file in self._given else read_text(file)
            self._edits[file] = TextEdits(after.get(file, before[file]))
        return self._edits[file]


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
