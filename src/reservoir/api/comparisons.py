"""Comparisons from Python: what changes, and who notices."""

from __future__ import annotations

from reservoir.api.plans import pools_of, sheets_of
from reservoir.core.compare.comparing import compare as compared
from reservoir.core.compare.notice import Comparison
from reservoir.core.subject import Subject
from reservoir.dialects.running.sides import (
    Sides,
    sides_of_configurations,
    sides_of_plans,
    sides_with_plan,
)
from reservoir.dialects.running.subject import ReadSubject


def compare(old: Subject, new: Subject) -> Comparison:
    """What differs between two sides by effect, network by network, and who notices.

    Each side is a plan, or configuration that was read (:func:`combine` without a plan). Where one
    is a plan and the other configuration, only the devices whose configuration that is are
    compared.

    Args:
        old: What clients have now.
        new: What they are to have.

    Raises:
        InputError: a device's dialect is unknown, or its sheet has mistakes.
    """
    sides = _sides(old, new)
    unread = sum(
        read.lines_not_understood
        for side in (old, new)
        if isinstance(side, ReadSubject)
        for read in side.reads
    )
    return compared(sides.old, sides.new, sides.devices, unread)


def _sides(old: Subject, new: Subject) -> Sides:
    if isinstance(old, ReadSubject) and isinstance(new, ReadSubject):
        return sides_of_configurations(old.reads, new.reads)
    if isinstance(old, ReadSubject):
        return sides_with_plan(pools_of(new), sheets_of(new), old.reads, plan_is_old=False)
    if isinstance(new, ReadSubject):
        return sides_with_plan(pools_of(old), sheets_of(old), new.reads, plan_is_old=True)
    return sides_of_plans(pools_of(old), pools_of(new), [sheets_of(old), sheets_of(new)])
