"""The public interface, as :mod:`reservoir` offers it: what people do with plans from Python.

No function prints or changes a file. Files that can't be used raise :class:`InputError`, unknown
names of rules, devices or dialects :class:`UnknownNameError`.
"""

from __future__ import annotations

import datetime
import json
from collections.abc import Callable, Collection, Iterable, Mapping, Sequence
from dataclasses import replace
from functools import cached_property
from os import PathLike

from reservoir.configurations import configuration_text, each_device
from reservoir.core.checks import Report, check_plan, rules
from reservoir.core.findings import Finding, Obstacle, Proof, Severity, Witness
from reservoir.core.plan.edits import Edit
from reservoir.core.pools import Pools
from reservoir.core.problems import InputError, Place, Problem, UnknownNameError
from reservoir.core.subject import Subject
from reservoir.dialects.behaviour.device import Behaviour
from reservoir.dialects.behaviour.serving import Serving
from reservoir.dialects.converting import convert_read
from reservoir.dialects.reading import ConfigurationRead, read_device
from reservoir.dialects.running.subject import ReadSubject
from reservoir.dialects.sheet.library import beside
from reservoir.dialects.sheet.model import Sheet
from reservoir.dialects.writing import DeviceConfiguration, obstacles_to, write_device
from reservoir.files import mending
from reservoir.files.mending import Mended
from reservoir.files.plan_file import LoadedPlan, load_plan
from reservoir.files.recognising import require_no_plan
from reservoir.rehearsal.day import rehearse_day
from reservoir.rehearsal.known import name_rules
from reservoir.rehearsal.proof import with_proofs
from reservoir.rehearsal.rehearse import rehearse as rehearsal_of
from reservoir.rehearsal.result import Rehearsal
from reservoir.rehearsal.setting import start
from reservoir.rehearsal.wires import UNDISTURBED, Disturbance

__all__ = [
    "ConfigurationRead",
    "DeviceConfiguration",
    "Disturbance",
    "Edit",
    "Finding",
    "InputError",
    "Mended",
    "Place",
    "Plan",
    "Problem",
    "Proof",
    "Rehearsal",
    "Report",
    "Severity",
    "UnknownNameError",
    "Witness",
    "check",
    "combine",
    "configuration_text",
    "convert",
    "load",
    "loads",
    "mend",
    "prove",
    "read",
    "rehearse",
    "served_by",
    "write",
]

File = str | PathLike[str]
"""A path; ``-`` is standard input."""

Watch = Callable[[float], None]
"""Is called with the share of some work that is done, 0 to 1."""

INLINE = "plan.yaml"
"""The name that places have in a plan without a file."""


class Plan(LoadedPlan):
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
        return _sheets(self)

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
    ) -> list[DeviceConfiguration]:
        """Write the configuration of the plan's devices; see :func:`write`."""
        return write(self, devices, into, remove_others)


def load(source: File | Mapping[str, object], watch: Watch | None = None) -> Plan:
    """Load a plan with everything that it includes.

    Args:
        source: Path of the plan, ``-`` for standard input, or the plan itself as a mapping with
            the keys of a plan file.
        watch: Called with the share of the tables that has been read.

    Raises:
        InputError: the plan can't be used; every problem is listed with its place.
    """
    if isinstance(source, Mapping):
        return loads(json.dumps(source, default=str, indent=2, ensure_ascii=False))
    return _opened(load_plan(str(source), watch=watch))


def loads(text: str, name: File = INLINE) -> Plan:
    """Load a plan from its text.

    Args:
        text: The text of the plan file.
        name: The path that the text would have: what it includes is looked for beside it.

    Raises:
        InputError: the plan can't be used; every problem is listed with its place.
    """
    return _opened(load_plan(str(name), {str(name): text}))


def _opened(loaded: LoadedPlan) -> Plan:
    return Plan(loaded.plan, loaded.places, loaded.files)


def check(
    subject: Subject,
    *,
    today: datetime.date | None = None,
    select: Collection[str] = (),
    ignore: Collection[str] = (),
    at: Collection[str] = (),
    watch: Watch | None = None,
) -> Report:
    """Run the checks.

    Args:
        subject: A plan, or configuration that was read, perhaps with a plan (:func:`combine`).
        today: The day on which acceptances are valid or expired; the present day if None.
        select: Rules or families to report; all if empty.
        ignore: Rules or families to leave out.
        at: Patterns of plan paths to report, such as ``networks.lab*``.
        watch: Called with the share of the rules that has been checked.

    Raises:
        UnknownNameError: there is no such rule or family.
        InputError: a device's dialect is unknown, or its sheet has mistakes.
    """
    known = dict.fromkeys(name for rule in rules().values() for name in (rule.name, rule.family))
    _require_known("rule or family", (*select, *ignore), known)
    if isinstance(subject, Plan):
        pools, sheets = subject.pools, subject.sheets
    else:
        pools, sheets = Pools(subject.plan), _sheets(subject)

    def fit(changed: Pools) -> list[Obstacle]:
        # What a suggestion is tried on has been written already but for one edit.
        obstacles = obstacles_to(changed, sheets, by_writing=changed is pools)
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
    )


def mend(file: File) -> Mended:
    """Apply the fixes that are unambiguous and add no finding; no file is changed.

    Args:
        file: Path of the plan. The new texts of its files are in the result's ``after``.

    Raises:
        InputError: the plan can't be used.
    """
    return mending.mend(str(file), check)


def write(
    plan: LoadedPlan,
    devices: Collection[str] = (),
    into: Mapping[str, str] | None = None,
    remove_others: bool = False,
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

    Raises:
        UnknownNameError: the plan has no such device.
        InputError: a device's dialect is unknown, or its sheet has mistakes.
    """
    opened = plan if isinstance(plan, Plan) else _opened(plan)
    present = into or {}
    _require_known("device", (*devices, *present), opened.plan.devices)
    return [
        write_device(opened.pools, device, sheet, present.get(device), remove_others)
        for device, sheet in opened.sheets.items()
        if not devices or device in devices
    ]


def read(files: File | Iterable[File], dialect: str | None = None) -> list[ConfigurationRead]:
    """Read devices' configuration into the plan's terms.

    Args:
        files: A path or several; ``-`` is standard input. A folder is one device's configuration
            where its dialect has several files for a device, else each file in it is a device's.
        dialect: The dialect of all of them; recognised for each if None.

    Raises:
        InputError: a file can't be read, is in no known dialect, or belongs to a plan.
    """
    several = [files] if isinstance(files, str | PathLike) else files
    names = []
    for file in several:
        within = each_device(str(file), dialect)
        if dialect is None:
            for name in dict.fromkeys([str(file), *within]):
                require_no_plan(name)
        names += within
    return [read_device(configuration_text(name), name, beside(name), dialect) for name in names]


def served_by(subject: Subject) -> dict[str, Serving]:
    """What each device with a dialect serves once it has started from its configuration text.

    That is the text that was read of it, else what :func:`write` would write.

    Raises:
        InputError: a device's dialect is unknown, or its sheet has mistakes.
    """
    if isinstance(subject, Plan):
        pools, sheets = subject.pools, subject.sheets
    else:
        pools, sheets = Pools(subject.plan), _sheets(subject)
    present = subject.texts if isinstance(subject, ReadSubject) else {}
    return {
        name: start(
            present[name] if name in present else write_device(pools, name, sheet).text, sheet
        )
        for name, sheet in sheets.items()
    }


def rehearse(
    subject: Subject,
    *,
    networks: Collection[str] = (),
    clients: int | None = None,
    listen: Collection[str] = (),
    seed: int = 0,
    disturbance: Disturbance = UNDISTURBED,
    day: bool = False,
    capture: Callable[[float, bytes], None] | None = None,
    watch: Watch | None = None,
) -> Rehearsal:
    """Let simulated clients get their addresses from simulated devices.

    Each device starts from its configuration text: what was read of it, else what :func:`write`
    would write.

    Args:
        subject: A plan, or configuration that was read, perhaps with a plan (:func:`combine`).
        networks: The networks to rehearse; all if empty.
        clients: Clients without a binding in each network; as many as the plan expects if None.
        listen: The networks of which the conversation is kept.
        seed: What chance begins with: the same seed gives the same messages.
        disturbance: What goes wrong under way.
        day: Whether a virtual day passes too, with the comings and goings of the demand.
        capture: Called with the time in seconds and the bytes of each frame that is sent.
        watch: Called with the share of the clients that have come, 0 to 1.

    Raises:
        UnknownNameError: the plan has no such network.
        InputError: a device's dialect is unknown, or its sheet has mistakes.
    """
    _require_known("network", (*networks, *listen), subject.plan.networks)
    pools, started = _pools_of(subject), served_by(subject)
    rehearsed = rehearsal_of(
        pools,
        started,
        complete=subject.is_complete,
        only=networks,
        clients=clients,
        listen=listen,
        seed=seed,
        disturbance=disturbance,
        capture=capture,
        watch=watch,
    )
    if rehearsed.failed:
        name_rules(rehearsed, check(subject).findings)
    if day:  # with nobody's leases
        rehearsed.days = rehearse_day(pools, started, only=networks, seed=seed, watch=watch)
    return rehearsed


def prove(subject: Subject, report: Report) -> Report:
    """Replay the witness of every finding with simulated clients and devices.

    Args:
        subject: What was checked.
        report: What :func:`check` found there.

    Returns:
        The report, its findings with their ``proof``; those that follow from others have none.

    Raises:
        InputError: a device's dialect is unknown, or its sheet has mistakes.
    """
    pools, started = _pools_of(subject), served_by(subject)
    rehearsed = rehearsal_of(pools, started, complete=subject.is_complete)
    # A failure is given the rule that fits it best among all, not only among those asked for.
    name_rules(rehearsed, check(subject).findings if report.is_partial else report.findings)
    proven = with_proofs(report.findings, pools, started, rehearsed)
    return replace(report, findings=tuple(proven))


def _pools_of(subject: Subject) -> Pools:
    return subject.pools if isinstance(subject, Plan) else Pools(subject.plan)


def combine(reads: Sequence[ConfigurationRead], plan: LoadedPlan | None = None) -> Subject:
    """Several devices' configuration as one, for :func:`check`.

    Args:
        reads: The configuration, as :func:`read` gives it.
        plan: A plan that it is checked with, if there is one. What the plan states about a
            device or a network counts; what only the configuration has is added.

    Raises:
        InputError: two files are the configuration of one device.
    """
    return ReadSubject(reads, plan)


def convert(read: ConfigurationRead, dialect: str) -> DeviceConfiguration:
    """Convert one device's configuration to another dialect; what is lost is in the result.

    Args:
        read: The configuration, as :func:`read` gives it.
        dialect: The dialect to convert to.

    Raises:
        InputError: the dialect is unknown, or its sheet has mistakes.
    """
    return convert_read(read, beside(read.file).sheet(dialect))


def _sheets(subject: Subject) -> dict[str, Sheet]:
    library = beside(subject.files[0])
    return {
        name: library.sheet(device.dialect, subject.place(("devices", name, "dialect")))
        for name, device in subject.plan.devices.items()
        if device.dialect is not None
    }


def _require_known(kind: str, names: Iterable[str], known: Collection[str]) -> None:
    for name in names:
        if name not in known:
            raise UnknownNameError(kind, name, known)
