"""A pool's day: addresses taken, the risk, the capacity; and what each lease time would take."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from numpy.typing import NDArray

from reservoir.core.sizing.occupancy import Occupancy
from reservoir.core.sizing.size import Size
from reservoir.core.sizing.streams import DAY
from reservoir.core.values.durations import format_duration
from reservoir.core.wording import counted
from reservoir.reports.figures.style import INK, LOOKS, PAPER, RC, canvas, titled
from reservoir.reports.sizing import chance, lease_times
from reservoir.reports.theme import clock

if TYPE_CHECKING:
    from matplotlib.axes import Axes
    from matplotlib.figure import Figure

HOUR = 3_600

WORTH_NOTING = 0.001
"""A share of refused clients from which on a moment is marked."""


FEW_DECADES = 10**4
"""How many times the lowest number the highest may be for labels between powers of ten."""


def figure(size: Size, name: str, *, has_pool: bool) -> Figure:
    """Draw the day of a network, and lease times against addresses where clients come and go."""
    import matplotlib as mpl  # late: takes a second

    with mpl.rc_context(RC):
        found = canvas()
        if not size.demand.comes_and_goes:
            _day(found.subplots(), size, name, has_pool=has_pool)
            return found
        upper, lower = found.subplots(2, 1, height_ratios=(3, 2))
        _day(upper, size, name, has_pool=has_pool)
        _leases(lower, size, has_pool=has_pool)
        return found


def _day(axes: Axes, size: Size, name: str, *, has_pool: bool) -> None:
    occupancy = size.occupancy()
    shown = _busiest_day(occupancy)
    hours = np.append(occupancy.moments[shown] % DAY, DAY) / HOUR
    # The day goes on with the next one, which begins like this one where all are alike.
    after = shown[0] if size.crowd.first is None else shown[-1]
    mean = np.append(occupancy.mean[shown], occupancy.mean[after])
    upto = occupancy.quantile(1 - size.demand.risk)
    above = np.append(upto[shown], upto[after])
    look, band = LOOKS["taken"], LOOKS["band"]
    axes.fill_between(hours, mean, color=look.colour, label="taken on average", lw=0)
    axes.plot(hours, mean, color=INK, lw=1.4)
    if (above - mean).max() > max(1.0, 0.01 * mean.max()) and not size.crowd.is_known:
        label = f"exceeded at that moment with a chance of {chance(size.demand.risk)}"
        axes.fill_between(
            hours, mean, above, facecolor="none", edgecolor=band.colour, hatch=band.hatch,
            lw=0.8, label=label,
        )  # fmt: skip
    highest = max(float(above.max()), size.needed())
    if has_pool:
        axes.axhline(size.capacity, color=INK, lw=2, ls="--")
        axes.annotate(
            f"{counted(size.capacity, 'address')} for clients", (24, size.capacity),
            textcoords="offset points", xytext=(-4, 5), ha="right", fontweight="bold",
            bbox={"facecolor": PAPER, "edgecolor": "none", "pad": 1},
        )  # fmt: skip
        highest = max(highest, size.capacity)
        _refusals(axes, size, shown, hours[:-1], highest)
    axes.set_xlim(0, 24)
    axes.set_ylim(0, highest * 1.14 + 1)
    axes.set_xticks(range(0, 25, 3), [f"{hour:02}:00" for hour in range(0, 25, 3)])
    axes.set_ylabel("addresses taken")
    axes.yaxis.set_major_formatter("{x:,.0f}")
    axes.legend(loc="upper left", frameon=False, ncols=3)
    titled(
        axes, f"{name}: a lease of {format_duration(size.lease)}", _told(size, has_pool=has_pool)
    )


def _busiest_day(occupancy: Occupancy) -> NDArray[np.intp]:
    """The places of the moments of the day on which most is taken."""
    day = occupancy.moments // DAY
    return np.flatnonzero(day == occupancy.peak_at // DAY)


def _told(size: Size, *, has_pool: bool) -> str:
    at = "" if size.peak_at is None else f" at {clock(size.peak_at)}"
    at += f" on {size.peak_on}" if size.peak_on is not None else ""
    said = f"peak {counted(size.peak, 'address')}{at}; {size.needed():,} needed"
    if not size.crowd.is_known:
        said += f" for a chance of {chance(size.demand.risk)}"
    if has_pool:
        said += f"; chance of a refusal on a day {chance(size.risk)}"
    return said


def _refusals(
    axes: Axes, size: Size, shown: NDArray[np.intp], hours: np.ndarray, highest: float
) -> None:
    """Mark when clients are refused."""
    occupancy = size.occupancy()
    refused = occupancy.refused(size.capacity) >= WORTH_NOTING
    refused |= (occupancy.mean > size.capacity) & (occupancy.rate > 0)
    if not refused.any():
        return
    look = LOOKS["refused"]
    axes.fill_between(
        hours, highest * 1.03, highest * 1.06, where=refused[shown].tolist(), facecolor=look.colour,
        edgecolor=look.line, hatch=look.hatch, lw=0, label="clients are refused",
    )  # fmt: skip


def _leases(axes: Axes, size: Size, *, has_pool: bool) -> None:
    """Lease times against the addresses that they take, the present one marked."""
    times = sorted(lease_times(size))
    places = np.arange(len(times))
    needed = [needed for _, needed, _ in times]
    comfortable = [comfortable for *_, comfortable in times]
    axes.plot(places, needed, color=INK, marker="o", ms=5, lw=1.4, label="addresses needed")
    axes.plot(
        places, comfortable, color=INK, marker="s", ms=4, lw=1.2, ls=":",
        label=f"with {size.headroom:.0%} headroom",
    )  # fmt: skip
    now = next(place for place, (lease, *_) in enumerate(times) if lease == size.lease)
    axes.plot(
        now, needed[now], marker="D", ms=11, color=LOOKS["refused"].colour, mec=INK, ls="",
        label="now",
    )  # fmt: skip
    if has_pool:
        axes.axhline(size.capacity, color=INK, lw=2, ls="--")
    axes.set_yscale("log")
    from matplotlib.ticker import LogLocator, NullFormatter  # late: see above

    low, high = axes.get_ylim()
    subs = (1, 2, 5) if high < low * FEW_DECADES else (1,)
    axes.yaxis.set_major_locator(LogLocator(subs=subs))
    axes.yaxis.set_major_formatter("{x:,.0f}")
    axes.yaxis.set_minor_formatter(NullFormatter())
    axes.set_xticks(places, [format_duration(lease) for lease, *_ in times])
    axes.set_ylabel("addresses needed")
    axes.set_xlabel("lease time")
    axes.legend(loc="upper left", frameon=False, ncols=3)
