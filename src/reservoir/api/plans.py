"""Plans from Python: load, check, mend and write them."""

from __future__ import annotations

import datetime
import json
from collections import Counter
from collections.abc import Callable, Collection, Iterable, Mapping
from functools import cached_property
from os import PathLike

from reservoir.core.checks import Report, check_plan, rules
from reservoir.core.checks.acceptance import is_at
from reservoir.core.findings import Finding, Obstacle
from reservoir.core.plan.edits import Edit
from reservoir.core.plan.selection import only_networks
from reservoir.core.pools import Pools
from reservoir.core.problems import UnknownNameError
from reservoir.core.space import Space
from reservoir.core.subject import Subject
from reservoir.dialects.behaviour.device import Behaviour
from reservoir.dialects.sheet.library import beside
from reservoir.dialects.sheet.model import Sheet
from reservoir.dialects.writing import (
    DeviceConfiguration,
    anywhere,
    obstacles_to,
    write_device,
)
from reservoir.files import mending
from reservoir.files.kept import Kept
from reservoir.files.mending import Mended
from reservoir.files.plan_edits import NotEditableError
from reservoir.files.plan_file import LoadedPlan, load_plan

File = str | PathLike[str]
"""A path; ``-`` is standard input."""

Watch = Callable[[float], None]
"""Is called with the share of some work that is done, 0 to 1."""

INLINE = "plan.yaml"
"""The name that places have in a plan without a file."""


class OpenedPlan(LoadedPlan):
    """A plan that was loaded, with where each part of it is; pools and sheets are built once."""

    @cached_property
    def pools(self) -> Pools:
        """What each server may assign in each network, and what clients are offered."""
        return Pools(self.plan)

    @cached_property
    def sheets(self) -> dict[str, Sheet]:
        """The sheet of each device that has a dialect.

        Raises:
            InputError: a device's dialect is unknown, or its sheet has mistakes.
        """
        return sheets_of(self)

    def check(
        self,
        *,
        today: datetime.date | None = None,
        select: Collection[str] = (),
        ignore: Collection[str] = (),
        at: Collection[str] = (),
        watch: Watch | None = None,
    ) -> Report:
        """Run the checks; see :func:`check`."""
        return check(self, today=today, select=select, ignore=ignore, at=at, watch=watch)

    def write(
        self,
        devices: Collection[str] = (),
        into: Mapping[str, str] | None = None,
        remove_others: bool = False,
        only: Collection[str] = (),
    ) -> list[DeviceConfiguration]:
        """Write the configuration of the plan's devices; see :func:`write`."""
        return write(self, devices, into, remove_others, only)


def load(
    source: File | Mapping[str, object],
    watch: Watch | None = None,
    *,
    texts: Mapping[str, str] | None = None,
    kept: Kept | None = None,
) -> OpenedPlan:
    """Load a plan with everything that it includes.

    Args:
        source: Path of the plan, ``-`` for standard input, or the plan itself as a mapping with
            the keys of a plan file.
        watch: Called with the share of the tables that has been read.
        texts: Texts that count instead of what files of these names have, as in an editor.
        kept: What was read before: what is in it and is the same isn't read again.

    Raises:
        InputError: the plan can't be used; every problem is listed with its place.
    """
    if isinstance(source, Mapping):
        return loads(json.dumps(source, default=str, indent=2, ensure_ascii=False))
    return opened(load_plan(str(source), texts, watch, kept))


def loads(text: str, name: File = INLINE) -> OpenedPlan:
    """Load a plan from its text.

    Args:
        text: The text of the plan file.
        name: The path that the text would have: what it includes is looked for beside it.

    Raises:
        InputError: the plan can't be used; every problem is listed with its place.
    """
    return opened(load_plan(str(name), {str(name): text}))


def opened(loaded: LoadedPlan) -> OpenedPlan:
    """A plan that was loaded, with what is built of it once."""
    return OpenedPlan(loaded.plan, loaded.places, loaded.files)


def check(
    subject: Subject,
    *,
    today: datetime.date | None = None,
    select: Collection[str] = (),
    ignore: Collection[str] = (),
    at: Collection[str] = (),
    written: Collection[DeviceConfiguration] = (),
    watch: Watch | None = None,
    try_fixes: bool = True,
) -> Report:
    """Run the checks.

    Args:
        subject: A plan, or configuration that was read, perhaps with a plan (:func:`combine`).
        today: The day on which acceptances are valid or expired; the present day if None.
        select: Rules or families to report; all if empty.
        ignore: Rules or families to leave out.
        at: Patterns of plan paths to report, such as ``networks.lab*``.
        written: What :func:`write` made of the whole plan, so that it isn't written once more to
            see what can't be.
        watch: Called with the share of the rules that has been checked.
        try_fixes: Whether suggestions are tried, which may take longer than all else; if not, all
            are there, and shown as not tried.

    Raises:
        UnknownNameError: there is no such rule or family.
        InputError: a device's dialect is unknown, or its sheet has mistakes.
    """
    known = dict.fromkeys(name for rule in rules().values() for name in (rule.name, rule.family))
    require_known("rule or family", (*select, *ignore), known)
    if isinstance(subject, OpenedPlan):
        pools, sheets = subject.pools, subject.sheets
    else:
        pools, sheets = Pools(subject.plan), sheets_of(subject)

    done = {configuration.device: configuration for configuration in written}

    def fit(changed: Pools) -> list[Obstacle]:
        # What a suggestion is tried on has been written already but for one edit.
        obstacles = (
            obstacles_to(changed, sheets, written=done)
            if changed is pools
            else obstacles_to(changed, sheets, by_writing=False)
        )
        return [*obstacles, *subject.obstacles]

    return check_plan(
        pools,
        fit,
        {name: Behaviour(sheet) for name, sheet in sheets.items()},
        subject.is_complete,
        today=today or datetime.date.today(),
        select=select,
        ignore=ignore,
        at=at,
        watch=watch,
        try_fixes=try_fixes,
    )


def new_findings(before: Report, after: Report) -> list[Finding]:
    """What a change would bring: findings, accepted ones aside, that say what none said before.

    Of findings that say the same, though of other lines, those that there are more of.
    """
    known = Counter((finding.rule, anywhere(finding.message)) for finding in before)
    new: list[Finding] = []
    for finding in after:
        if finding.accepted is None:
            said = finding.rule, anywhere(finding.message)
            known[said] -= 1
            if known[said] < 0:
                new.append(finding)
    return new


def mend(
    file: File,
    fix: Collection[str] = (),
    at: Collection[str] = (),
    *,
    texts: Mapping[str, str] | None = None,
) -> Mended:
    """Apply the fixes that are unambiguous and add no finding; no file is changed.

    Args:
        file: Path of the plan. The new texts of its files are in the result's ``after``.
        fix: Rules of whose findings the fix is taken where there is one, unambiguous or not.
        at: Patterns of plan paths, such as ``networks.lab*``, where; everywhere if empty.
        texts: Texts that count instead of what files of these names have, as in an editor.

    Raises:
        InputError: the plan can't be used.
        UnknownNameError: there is no such rule.
    """
    require_known("rule", fix, rules())

    def wanted(finding: Finding) -> bool:
        if at and not any(is_at(finding, pattern) for pattern in at):
            return False
        is_one = finding.accepted is None and len(finding.suggestions) == 1
        return finding.is_mendable if not fix else is_one and finding.rule in fix

    return mending.mend(str(file), check, wanted, texts)


def fixed(
    plan: LoadedPlan, edit: Edit, *, texts: Mapping[str, str] | None = None
) -> Mapping[str, str]:
    """The text of the file that an edit changes, with the edit made; no file is changed.

    Args:
        plan: The plan.
        edit: A finding's suggestion.
        texts: Texts that count instead of what files of these names have, as in an editor.

    Returns:
        The new text by the file's name; nothing if the text has no place for the edit, or it is in
        a table, which may be somebody else's.

    Raises:
        InputError: the file can't be read.
    """
    try:
        return mending.text_with(plan, edit, texts or {})
    except NotEditableError:
        return {}


def write(
    plan: LoadedPlan,
    devices: Collection[str] = (),
    into: Mapping[str, str] | None = None,
    remove_others: bool = False,
    only: Collection[str] = (),
) -> list[DeviceConfiguration]:
    """Write the configuration of a plan's devices; no file is touched.

    Each text has been read back and compared with the plan. What came back differently is in its
    ``faults``, what the dialect can't express in its ``losses``.

    Args:
        plan: The plan.
        devices: The devices to write; all that have a dialect if empty.
        into: The present configuration of devices, by their names, as one text each. All stays in
            it that isn't about the networks that the device serves in the plan.
        remove_others: Whether such a device may serve no other networks.
        only: The networks that are written; all if empty.

    Raises:
        UnknownNameError: the plan has no such device or network.
        InputError: a device's dialect is unknown, or its sheet has mistakes.
    """
    whole = plan if isinstance(plan, OpenedPlan) else opened(plan)
    present = into or {}
    require_known("device", (*devices, *present), whole.plan.devices)
    require_known("network", only, whole.plan.networks)
    pools = Pools(only_networks(whole.plan, only)) if only else whole.pools
    return [
        write_device(pools, device, sheet, present.get(device), remove_others)
        for device, sheet in whole.sheets.items()
        if not devices or device in devices
    ]


def pools_of(subject: Subject) -> Pools:
    """The pools of a subject; a plan's are built once."""
    return subject.pools if isinstance(subject, OpenedPlan) else Pools(subject.plan)


def space(subject: Subject, only: Collection[str] = ()) -> Space:
    """What each address of a subject is for, and what is free.

    Args:
        subject: A plan, or configuration that was read, perhaps with a plan.
        only: Networks that have to be in it.

    Raises:
        UnknownNameError: there is no such network.
        InputError: a device's dialect is unknown, or its sheet has mistakes.
    """
    require_known("network", only, subject.plan.networks)
    return Space(pools_of(subject), behaviours_of(subject))


def behaviours_of(subject: Subject) -> Mapping[str, Behaviour]:
    """How the devices of a subject behave whose dialects are known."""
    return {name: Behaviour(sheet) for name, sheet in sheets_of(subject).items()}


def sheets_of(subject: Subject) -> dict[str, Sheet]:
    """The sheet of each device that has a dialect.

    Raises:
        InputError: a device's dialect is unknown, or its sheet has mistakes.
    """
    library = beside(subject.files[0])
    return {
        name: library.sheet(device.dialect, subject.place(("devices", name, "dialect")))
        for name, device in subject.plan.devices.items()
        if device.dialect is not None
    }


def require_known(kind: str, names: Iterable[str], known: Collection[str]) -> None:
    """Require that all names are known.

    Raises:
        UnknownNameError: one is not.
    """
    for name in names:
        if name not in known:
            raise UnknownNameError(kind, name, known)
