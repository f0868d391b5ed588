"""What is known of a plan, or of one device's configuration, as its texts stand in the editor."""

from __future__ import annotations

import contextlib
from collections.abc import Callable, Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path

import reservoir
from reservoir.api.whereabouts import Index
from reservoir.core.checks import Report
from reservoir.core.problems import InputError, Place, Problem
from reservoir.core.subject import Subject
from reservoir.dialects.running.subject import ReadSubject
from reservoir.files.kept import Kept
from reservoir.files.plan_file import named_files
from reservoir.files.plan_schema import expected_at
from reservoir.files.recognising import is_plan_text
from reservoir.files.texts import read_text
from reservoir.lsp.positions import Kind

MOST_LOOKED_AT = 100
"""Files of a folder that are looked into for a plan that names another."""

FOLDERS_UPWARD = 3
"""So many folders above a file are looked into for a plan that names it."""


class SupersededError(Exception):
    """What is being checked has been changed meanwhile."""


@dataclass
class State:
    """A plan or a configuration: what it is, what was found, or why it can't be used."""

    main: str
    """The plan's own file, or the configuration's."""
    texts: Mapping[str, str]
    """The texts of those files that were open in the editor."""
    versions: Mapping[str, int]
    """The editor's numbers of these texts."""
    files: tuple[str, ...] = ()
    """All files that it consists of, read or not."""
    subject: Subject | None = None
    report: Report | None = None
    """What was found, fixes not tried."""
    problems: tuple[Problem, ...] = ()
    """Why it can't be used."""
    note: str = ""
    """Why nothing of it was checked."""
    tried: Report | None = None
    """What was found, fixes tried."""
    others: dict[str, str] = field(default_factory=dict)
    """Texts of files that are not open, once they were asked for."""

    def text(self, file: str) -> str:
        """The text of one of its files when it was checked; empty if it can't be read."""
        if file in self.texts:
            return self.texts[file]
        if file not in self.others:
            self.others[file] = ""
            with contextlib.suppress(InputError):
                self.others[file] = read_text(file)
        return self.others[file]

    @cached_property
    def index(self) -> Index | None:
        """All that it names; None if it can't be used."""
        if self.subject is None or self.report is None:
            return None
        return Index(self.subject, report=self.report)

    @property
    def plan(self) -> reservoir.OpenedPlan | None:
        """The plan that it is, if it is one that can be used."""
        return self.subject if isinstance(self.subject, reservoir.OpenedPlan) else None

    @property
    def dialect(self) -> str | None:
        """The dialect of a configuration."""
        if isinstance(self.subject, ReadSubject):
            return self.subject.reads[0].dialect
        return None


def assess(
    state: State, kind: Kind, kept: Kept, dialect: str | None, is_superseded: Callable[[], bool]
) -> State:
    """Load and check what a state is to be of.

    Args:
        state: The state, so far with its main file and the texts.
        kind: What the main file is.
        kept: What was read before.
        dialect: The dialect of a configuration; recognised if None.
        is_superseded: Whether it has been changed meanwhile.

    Raises:
        SupersededError: it has.
    """

    def watch(_share: float) -> None:
        if is_superseded():
            raise SupersededError

    if kind == "table":
        state.files, state.note = (state.main,), "not checked: no plan near it names this table"
        return state
    try:
        if kind == "plan":
            state.files = (state.main,)
            state.subject = reservoir.load(state.main, texts=state.texts, kept=kept)
            state.files = state.subject.files
        else:
            state.files = (state.main,)
            read = reservoir.reads(state.texts[state.main], state.main, dialect)
            state.subject = reservoir.combine([read])
        state.report = reservoir.check(state.subject, watch=watch, try_fixes=False)
    except InputError as error:
        state.subject, state.problems = None, error.problems
        if kind == "plan":
            state.files = named_files(state.main, state.texts, kept)
    return state


def index(state: State) -> None:
    """Make what questions are answered from, so that the first one doesn't wait for it."""
    expected_at(())
    if state.index is not None:
        state.index.find(state.main)


def try_fixes(state: State, is_superseded: Callable[[], bool]) -> None:
    """Try the fixes of a plan's findings, so that they can be offered.

    Raises:
        SupersededError: it has been changed meanwhile.
    """

    def watch(_share: float) -> None:
        if is_superseded():
            raise SupersededError

    if state.plan is not None and state.report is not None and state.tried is None:
        has_fixes = any(finding.suggestions for finding in state.report)
        state.tried = reservoir.check(state.plan, watch=watch) if has_fixes else state.report


def plans_naming(file: str, texts: Mapping[str, str], kept: Kept) -> Iterator[str]:
    """The plans near a file that consist of it among others: beside it, and in folders above."""
    folder = Path(file).parent
    for near in [folder, *folder.parents][: FOLDERS_UPWARD + 1]:
        for candidate in _plans_in(near, texts):
            if candidate != file and file in named_files(candidate, texts, kept):
                yield candidate


def _plans_in(folder: Path, texts: Mapping[str, str]) -> Iterable[str]:
    """The plans of a folder that has few files; those in the editor as they stand there."""
    try:
        found = sorted(p for p in folder.iterdir() if p.suffix in (".yaml", ".yml"))
    except OSError:
        return
    for path in found[:MOST_LOOKED_AT]:
        name = str(path)
        try:
            if is_plan_text(texts[name] if name in texts else read_text(name)):
                yield name
        except InputError:
            continue


def places_of(state: State) -> Iterator[tuple[Place, str]]:
    """What is wrong with the input of a state, or why it was not checked, each with its place."""
    for problem in state.problems:
        yield problem.place, problem.message
    if state.note:
        yield Place(state.main), state.note
