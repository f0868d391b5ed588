"""Documents from Python: the change request's, and what a rule means."""

from __future__ import annotations

import importlib
from collections.abc import Callable, Sequence
from contextlib import AbstractContextManager, nullcontext
from typing import TYPE_CHECKING, Literal

from reservoir.api.comparisons import compare, notices
from reservoir.api.lease_lists import check_leases
from reservoir.api.plans import OpenedPlan, Watch, check, require_known, space, write
from reservoir.api.rehearsals import rehearse
from reservoir.api.sizing import size
from reservoir.core.checks import Report, Rule, rules
from reservoir.core.findings import Severity
from reservoir.core.leases.table import LeaseTable
from reservoir.core.problems import InputError, Place, Problem
from reservoir.core.subject import Subject
from reservoir.core.wording import hint
from reservoir.dialects.writing import DeviceConfiguration
from reservoir.files.texts import digest_of, read_text

if TYPE_CHECKING:
    from reservoir.reports.document.verified import VerifiedBefore

Stage = Callable[[str], AbstractContextManager[Watch]]
"""Is called with what comes next; what it gives is told of the share that is done."""


def _unwatched(_what: str) -> AbstractContextManager[Watch]:
    return nullcontext(lambda _share: None)


def report(
    plan: OpenedPlan,
    running: Subject | None = None,
    leases: LeaseTable | None = None,
    *,
    leases_name: str = "leases",
    now: float | None = None,
    verified: Sequence[str] = (),
    form: Literal["html", "markdown"] = "html",
    stage: Stage = _unwatched,
) -> str:
    """One document about a plan: what was checked and found, and what will be done.

    Args:
        plan: The plan.
        running: What the devices run: the document has what changes then.
        leases: Who has which address: the document has who notices.
        leases_name: What the lease list is called.
        now: The present time in seconds since 1970; by the clock if None.
        verified: Files with what `verify --format json` printed.
        form: HTML in one page that needs nothing else, or Markdown.
        stage: Called before each part of the work.

    Raises:
        InputError: a device's dialect is unknown, or its sheet has mistakes; a file of ``verified``
            is something else, or of another plan.
    """
    from reservoir.reports.comparison import Clients  # late: drawing costs a second
    from reservoir.reports.document.building import Contents, document
    from reservoir.reports.leases import LeasesSeen

    asked = [_asked_before(plan, file) for file in verified]

    with stage("checking") as watch:
        checked = check(plan, watch=watch)
    with stage("rehearsing") as watch:
        rehearsal = rehearse(plan, watch=watch)
    clients = seen = None
    if leases is not None:
        seen = LeasesSeen(leases, leases_name, check_leases(plan, leases, now=now))
        if running is not None:
            clients = Clients(leases, notices(running, plan, leases, now=now))
    contents = Contents(
        subject=plan,
        report=checked,
        space=space(plan),
        sizing=size(plan),
        rehearsal=rehearsal,
        configurations=_configurations(plan, checked),
        comparison=compare(running, plan) if running is not None else None,
        clients=clients,
        leases=seen,
        verified=asked,
    )
    with stage("drawing"):
        made = document(contents)
    writer = importlib.import_module(f"reservoir.reports.document.{form}")
    return "".join(writer.pieces(made))


def _asked_before(plan: OpenedPlan, file: str) -> VerifiedBefore:
    """What real servers answered when they were asked.

    Raises:
        InputError: the file is something else, or of networks that the plan doesn't have.
    """
    from reservoir.reports.document.verified import VerifiedBefore
    from reservoir.reports.verification import read  # late: only for a report

    found = read(read_text(file), file)
    strange = [n["network"] for n in found["networks"] if n["network"] not in plan.plan.networks]
    if strange:
        near = hint(strange[0], plan.plan.networks)
        message = f"{strange[0]} was asked, which is no network of {plan.files[0]}{near}"
        raise InputError([Problem(Place(file), message)])
    return VerifiedBefore(found, file, is_same=found["files_digest"] == digest_of(plan.files))


def _configurations(plan: OpenedPlan, checked: Report) -> list[DeviceConfiguration]:
    """What will be written; nothing of a plan with errors, as `write` has it."""
    if checked.of_severity(Severity.ERROR):
        return []
    written = write(plan)
    return [] if any(one.losses or one.faults for one in written) else written


def explain(rule: str) -> Rule:
    """A rule: its ``manual`` (summary, why, remedy), a ``failing`` and a ``passing`` example.

    Raises:
        UnknownNameError: there is no such rule.
    """
    require_known("rule", [rule], rules())
    return rules()[rule]
