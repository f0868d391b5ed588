"""Comparisons from Python: what changes, and who notices."""

from __future__ import annotations

import time
from collections import Counter

from reservoir.api.plans import Watch, pools_of, sheets_of
from reservoir.core.compare.comparing import compare as compared
from reservoir.core.compare.notice import Comparison
from reservoir.core.compare.present import ClientNotices
from reservoir.core.compare.present import notices as noticed
from reservoir.core.leases.table import LeaseTable
from reservoir.core.subject import Subject
from reservoir.dialects.running.sides import (
    Sides,
    sides_of_configurations,
    sides_of_plans,
    sides_with_plan,
)
from reservoir.dialects.running.subject import ReadSubject
from reservoir.dialects.writing import anywhere


def compare(old: Subject, new: Subject, *, watch: Watch | None = None) -> Comparison:
    """What differs between two sides by effect, network by network, and who notices.

    Each side is a plan, or configuration that was read (:func:`combine` without a plan). Where one
    is a plan and the other configuration, only the devices whose configuration that is are
    compared.

    Args:
        old: What clients have now.
        new: What they are to have.
        watch: Called with the share of the networks that has been compared, 0 to 1.

    Raises:
        InputError: a device's dialect is unknown, or its sheet has mistakes.
    """
    sides = sides_of(old, new)
    unread = [_not_understood(side) for side in (old, new)]
    lines = sum((unread[0] | unread[1]).values())  # what both have stands there once
    return compared(
        sides.old, sides.new, sides.devices, lines, sides.left_aside, watch or _unwatched
    )


def _not_understood(side: Subject) -> Counter[str]:
    """The lines of a side that are not understood, by device and what is said of them."""
    found = Counter[str]()
    for read in side.reads if isinstance(side, ReadSubject) else ():
        for each in read.not_understood:
            found[f"{read.lifted.name}: {anywhere(each.message)}"] += each.lines
    return found


def notices(
    old: Subject,
    new: Subject,
    leases: LeaseTable,
    *,
    now: float | None = None,
    watch: Watch | None = None,
) -> list[ClientNotices]:
    """What each client of a lease list notices when what it is served by changes, and when.

    Args:
        old: What clients have now.
        new: What they are to have.
        leases: Who has which address.
        now: The present time in seconds since 1970; by the clock if None.
        watch: Called with the share of the networks that has been looked at, 0 to 1.

    Raises:
        InputError: a device's dialect is unknown, or its sheet has mistakes.
    """
    sides = sides_of(old, new)
    present = time.time() if now is None else now
    told = noticed(sides.old, sides.new, leases, present, sides.devices, watch or _unwatched)
    return list(told)


def _unwatched(share: float) -> None:
    """Nobody wants to know how far it is."""


def sides_of(old: Subject, new: Subject) -> Sides:
    """The two sides of a comparison.

    Raises:
        InputError: a device's dialect is unknown, or its sheet has mistakes.
    """
    if isinstance(old, ReadSubject) and isinstance(new, ReadSubject):
        return sides_of_configurations(old.reads, new.reads)
    if isinstance(old, ReadSubject):
        return sides_with_plan(pools_of(new), sheets_of(new), old.reads, plan_is_old=False)
    if isinstance(new, ReadSubject):
        return sides_with_plan(pools_of(old), sheets_of(old), new.reads, plan_is_old=True)
    return sides_of_plans(pools_of(old), pools_of(new), [sheets_of(old), sheets_of(new)])
