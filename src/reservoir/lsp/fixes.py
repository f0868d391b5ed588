"""Fixes as an editor's actions: one finding's, or all that are certain."""

from __future__ import annotations

import difflib
from collections.abc import Callable, Iterator, Mapping
from typing import NamedTuple

from lsprotocol import types

import reservoir
from reservoir.core.findings import Finding
from reservoir.core.plan.edits import Edit
from reservoir.core.plan.model import format_path
from reservoir.core.wording import shown
from reservoir.lsp.positions import Positions, uri_of
from reservoir.lsp.state import State

FIX_ALL = f"{types.CodeActionKind.SourceFixAll.value}.reservoir"

LONGEST_TITLE = 120
"""Characters of an action's title."""


class Fix(NamedTuple):
    """A fix that is offered: an edit, or all that are certain."""

    state: State
    title: str
    finding: Finding | None = None
    edit: Edit | None = None


def fixes_of(findings: list[Finding], state: State) -> Iterator[Fix]:
    """The fixes of some findings of a plan, and all that are certain if there are such.

    Args:
        findings: The findings, fixes tried.
        state: The plan.
    """
    for finding in findings:
        for edit in finding.suggestions:
            untried = "" if finding.is_tried else " (not tried; check again after making it)"
            if state.plan is None or state.plan.places.is_in_table(edit.path):
                continue  # a table may be somebody else's
            where = "" if edit.path == finding.at else f" at {format_path(edit.path)}"
            title = shown(f"Fix {finding.rule}: {edit.words}{where}")
            short = f"{title[: LONGEST_TITLE - 1]}…" if len(title) > LONGEST_TITLE else title
            yield Fix(state, f"{short}{untried}", finding, edit)


def fix_all(state: State) -> Fix | None:
    """The fix of all findings whose fix is certain; None if there are none."""
    certain = [finding for finding in state.tried or () if finding.is_mendable]
    has_some = any(True for _ in fixes_of(certain, state))
    return Fix(state, "Make all fixes that are certain") if has_some else None


def texts_after(fix: Fix) -> Mapping[str, str]:
    """The new texts of a plan's files once a fix is made; none if it can't be made."""
    state = fix.state
    assert state.plan is not None  # only plans have fixes
    if fix.edit is not None:
        return reservoir.fixed(state.plan, fix.edit, texts=state.texts)
    return reservoir.mend(state.main, texts=state.texts).after


def workspace_edit(
    after: Mapping[str, str], state: State, positions_of: Callable[[State, str], Positions]
) -> types.WorkspaceEdit:
    """Texts as edits of what is in the editor, for just the versions that they were made of."""
    changes: list[types.TextDocumentEdit] = []
    for file, text in after.items():
        positions = positions_of(state, file)
        edits = list(_edits(state.text(file), text, positions))
        version = state.versions.get(file)
        known = types.OptionalVersionedTextDocumentIdentifier(uri=uri_of(file), version=version)
        changes.append(types.TextDocumentEdit(known, list(edits)))
    return types.WorkspaceEdit(document_changes=list(changes))


def _edits(before: str, after: str, positions: Positions) -> Iterator[types.TextEdit]:
    """The lines in which two texts differ, as edits of the first."""
    old, new = before.splitlines(keepends=True), after.splitlines(keepends=True)
    same = 0
    while same < min(len(old), len(new)) and old[same] == new[same]:
        same += 1
    behind = 0
    while behind < min(len(old), len(new)) - same and old[-1 - behind] == new[-1 - behind]:
        behind += 1
    middle = old[same : len(old) - behind], new[same : len(new) - behind]
    matcher = difflib.SequenceMatcher(None, *middle, autojunk=False)
    for tag, begin, end, first, last in matcher.get_opcodes():
        if tag != "equal":
            place = types.Range(positions.line(same + begin + 1), positions.line(same + end + 1))
            yield types.TextEdit(place, "".join(middle[1][first:last]))
