"""Lease lists from Python: what they say of a plan, and bindings made of them."""

from __future__ import annotations

import time

from reservoir.api.plans import behaviours_of, pools_of, require_known
from reservoir.core.leases.adopting import Adoption, Wanted
from reservoir.core.leases.adopting import adopt as adopted
from reservoir.core.leases.contradictions import LeasesChecked
from reservoir.core.leases.contradictions import check_leases as checked
from reservoir.core.leases.table import LeaseTable
from reservoir.core.subject import Subject
from reservoir.files.plan_file import LoadedPlan


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
