"""Rehearsals from Python: simulated clients and devices."""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import replace

from reservoir.api.plans import OpenedPlan, Watch, check, pools_of, require_known, sheets_of
from reservoir.core.checks import Report
from reservoir.core.off import devices_and_interfaces
from reservoir.core.pools import Pools
from reservoir.core.subject import Subject
from reservoir.dialects.behaviour.serving import Serving
from reservoir.dialects.running.subject import ReadSubject
from reservoir.dialects.writing import write_device
from reservoir.rehearsal.day import rehearse_day
from reservoir.rehearsal.judgement.known import find_known
from reservoir.rehearsal.judgement.proof import with_proofs
from reservoir.rehearsal.judgement.result import Rehearsal
from reservoir.rehearsal.outage import rehearse_outage
from reservoir.rehearsal.rehearse import rehearse as rehearsal_of
from reservoir.rehearsal.wires.setting import start
from reservoir.rehearsal.wires.wires import UNDISTURBED, Disturbance


def served_by(subject: Subject) -> dict[str, Serving]:
    """What each device with a dialect serves once it has started from its configuration text.

    That is the text that was read of it, else what :func:`write` would write.

    Raises:
        InputError: a device's dialect is unknown, or its sheet has mistakes.
    """
    if isinstance(subject, OpenedPlan):
        pools, sheets = subject.pools, subject.sheets
    else:
        pools, sheets = Pools(subject.plan), sheets_of(subject)
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
    without: Sequence[str] = (),
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
        without: Devices, or ``DEVICE.INTERFACE``, that are to fail once all have their leases.
        capture: Called with the time in seconds and the bytes of each frame that is sent.
        watch: Called with the share of the clients that have come, 0 to 1.

    Raises:
        UnknownNameError: the plan has no such network, device or interface.
        InputError: a device's dialect is unknown, or its sheet has mistakes.
    """
    require_known("device or interface", without, devices_and_interfaces(subject.plan))
    require_known("network", (*networks, *listen), subject.plan.networks)
    pools, started = pools_of(subject), served_by(subject)
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
        find_known(rehearsed, check(subject).findings)
    if day:  # with nobody's leases
        is_complete = subject.is_complete
        rehearsed.days = rehearse_day(
            pools, started, complete=is_complete, only=networks, seed=seed, watch=watch
        )
    if without:
        rehearsed.outage = rehearse_outage(
            pools,
            started,
            without,
            complete=subject.is_complete,
            only=networks,
            clients=clients,
            seed=seed,
        )
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
    pools, started = pools_of(subject), served_by(subject)
    rehearsed = rehearsal_of(pools, started, complete=subject.is_complete)
    # A failure is given the finding that fits it best of all, not only of those asked for.
    find_known(rehearsed, check(subject).findings if report.is_partial else report.findings)
    is_complete = subject.is_complete
    proven = with_proofs(report.findings, pools, started, rehearsed, complete=is_complete)
    return replace(report, findings=tuple(proven))
