"""Demand by head-count: devices that are there now, and how they will have grown."""

from __future__ import annotations

import math

from reservoir.core.plan import Demand


def peak_devices(demand: Demand) -> int:
    """Devices at the end of the horizon: compound growth, rounded up to whole devices.

    A billionth is taken off before rounding, so that 100 devices at 10 % for a year are 110 and
    not, by the last bit of a binary fraction, 111.
    """
    grown = demand.devices * (1 + demand.growth) ** demand.horizon
    return math.ceil(float(grown) * (1 - 1e-9))
