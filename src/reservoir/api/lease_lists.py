"""Leases from Python: read, in a list or as a device prints them; what they say of a plan."""

from __future__ import annotations

import time
from collections.abc import Callable, Mapping
from datetime import UTC, datetime

from reservoir.api.plans import behaviours_of, pools_of, require_known
from reservoir.core.leases.adopting import Adoption, Wanted
from reservoir.core.leases.adopting import adopt as adopted
from reservoir.core.leases.contradictions import LeasesChecked
from reservoir.core.leases.contradictions import check_leases as checked
from reservoir.core.leases.table import LeaseTable
from reservoir.core.problems import InputError, Problem
from reservoir.core.subject import Subject
from reservoir.dialects.lease_tables import read_lease_table
from reservoir.dialects.sheet.library import beside
from reservoir.files.lease_list import LeasesRead, is_lease_list, leases_of_cells
from reservoir.files.lease_list import read_leases as read_list
from reservoir.files.moments import PLAIN, ListNotation
from reservoir.files.plan_file import LoadedPlan
from reservoir.files.tables import LARGEST_TABLE
from reservoir.files.texts import read_utf8
from reservoir.rehearsal.messages.kept_answer import kept_answer

_NEITHER = (
    "no table of leases as a known dialect prints it (--printed-by DIALECT names what isn't "
    "understood), and no lease list"
)


def read_leases(
    file: str,
    notation: ListNotation = PLAIN,
    *,
    now: float | None = None,
    also: Mapping[str, str] | None = None,
    watch: Callable[[float], None] = lambda share: None,
) -> LeasesRead:
    """Read who has which address: a lease list, a device's table of leases, or a client's lease.

    Args:
        file: Its path, or ``-`` for standard input.
        notation: How a list writes what it has; which dialect's the table is, if that is known.
        now: When a table was printed, in seconds since 1970: a time left counts from there. By the
            clock if None, and then it is said.
        also: Other names of some columns of a list.
        watch: Called with the share of a list that has been read, 0 to 1.

    Raises:
        InputError: the file can't be read, is neither, or with everything in it that is wrong.
    """
    if (answer := kept_answer(file)) is not None:
        return LeasesRead(leases_of_cells(file, answer.columns, [1], notation), answer.notes)
    data = read_utf8(file, LARGEST_TABLE)
    if notation.printed_by is None and is_lease_list(data, notation, also):
        return read_list(file, notation, watch, also=also, data=data)
    library, at = beside(file), time.time() if now is None else now
    text = data.decode().replace("\r\n", "\n")
    cells = read_lease_table(text, file, library, at, notation.printed_by)
    if cells is None:
        try:
            return read_list(file, notation, watch, also=also, data=data)
        except InputError as error:
            first, *others = error.problems
            raise InputError(
                [Problem(first.place, f"{_NEITHER}: {first.message}"), *others]
            ) from None
    notes = [*cells.notes]
    if cells.counts_from_now and now is None:
        moment = datetime.fromtimestamp(at, UTC).isoformat(timespec="seconds")
        notes.append(f"time left counts from now, {moment}; --now says when it was printed")
    return LeasesRead(leases_of_cells(file, cells.columns, cells.lines, notation), notes)


def check_leases(
    subject: Subject, leases: LeaseTable, *, now: float | None = None
) -> LeasesChecked:
    """How full each network is by a lease list, and what in the list contradicts the plan.

    Args:
        subject: A plan, or configuration that was read.
        leases: Who has which address.
        now: The present time in seconds since 1970; by the clock if None.
    """
    return checked(pools_of(subject), leases, time.time() if now is None else now)


def adopt(
    plan: LoadedPlan,
    leases: LeaseTable,
    wanted: Wanted,
    *,
    now: float | None = None,
) -> Adoption:
    """Choose the leases that become bindings of a plan; no file is changed.

    Args:
        plan: The plan.
        leases: Who has which address.
        wanted: Whose leases, and with which addresses.
        now: The present time in seconds since 1970; by the clock if None.

    Raises:
        UnknownNameError: the plan has no such network.
    """
    require_known("network", wanted.networks, plan.plan.networks)
    at = time.time() if now is None else now
    return adopted(pools_of(plan), leases, wanted, at, behaviours_of(plan))
