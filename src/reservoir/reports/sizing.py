"""How large pools must be: a line a network, a page for one, and JSON."""

from __future__ import annotations

import datetime
from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from reservoir.api.sizing import Sizing
from reservoir.core.sizing.networks import Sized
from reservoir.core.sizing.observed import Observed
from reservoir.core.sizing.size import USUAL, Size
from reservoir.core.values.durations import format_duration
from reservoir.core.wording import be, counted, listed
from reservoir.reports.alike import alike, left_out
from reservoir.reports.frame import as_text, frame
from reservoir.reports.theme import clock, columns, shown_moment, styled, wrapped

if TYPE_CHECKING:
    from reservoir.reports.outputs.size import NetworkSized, Output, SizeFields, SizeSummary

HEADINGS = ("network", "addresses", "peak", "at", "refusal", "refused a day", "needed",
            "with headroom", "lease", "longest", "prefix")  # fmt: skip

DAYS_SHOWN = 14
"""Observed days that are listed; the last ones."""

LABEL = 16
"""Characters of the labels at the left of a page."""


def table(sizing: Sizing, width: int, *, only_failed: bool = False) -> Iterator[str]:
    """A line for each network, then those that were not sized; a closing line with counts.

    Args:
        sizing: What was sized.
        width: Columns of the output.
        only_failed: Whether networks that are large enough are only counted.
    """
    networks = [one for one in sizing.networks if not (only_failed and is_enough(one.size))]
    if sizing.without:
        yield styled(f"While {_are_down(sizing.without)}", "heading")
    if networks:
        shown = alike(list(map(row, networks)), {n for n, one in enumerate(networks) if one.gone})
        heading, *drawn = columns([HEADINGS, *(cells for _, cells in shown)])
        yield styled(heading, "heading")
        for (place, _), line in zip(shown, drawn, strict=True):
            means = meaning(networks[place].size)
            yield styled(line, means) if means else line
        yield ""
    for one in sizing.networks:
        if one.gone:
            yield from wrapped(f"{one.label}: {while_down(one, sizing.without)}.", width, "  ", "")
    if sizing.without and not any(one.gone for one in sizing.networks):
        yield "Each network is still reached by all its servers."
    if sizing.without:
        yield ""
    yield from left_out(sizing.left_out, "sized", width)
    if sizing.left_out:
        yield ""
    yield from wrapped(summary(sizing), width, "")


def while_down(one: Sized, without: Sequence[str]) -> str:
    """What is left while something is down, and for how long; empty if it loses no server."""
    if not one.gone:
        return ""
    room = counted(one.capacity, "address") if one.capacity else "no address"
    half = f", the half of {listed(one.half_at)}" if one.half_at else ""
    renewed = "leases are renewed by the partner"
    if one.kept_for is not None:
        least, most = map(format_duration, one.kept_for)
        renewed = f"a client keeps its address for {least} to {most}"
    return f"{room} {be(one.capacity or 1)} left while {_are_down(without)}{half}; {renewed}"


def _are_down(servers: Sequence[str]) -> str:
    return f"{listed(servers)} {be(len(servers))} down"


def meaning(size: Size) -> str:
    """How grave it is: ``error`` if the pool is too small, ``warning`` without headroom."""
    if not is_enough(size):
        return "error"
    return "warning" if size.comfortable() > size.capacity else ""


def is_enough(size: Size) -> bool:
    """Whether the pool meets the accepted risk."""
    return size.needed() <= size.capacity


def row(one: Sized) -> tuple[str, ...]:
    """A network in the cells of a table: see :data:`HEADINGS`."""
    size = one.size
    return (
        one.label,
        f"{one.capacity:,}",
        f"{size.peak:,}",
        "-" if size.peak_at is None else clock(size.peak_at),
        chance(size.risk),
        amount(size.refused_per_day),
        f"{size.needed():,}",
        f"{size.comfortable():,}",
        format_duration(one.lease),
        longest(size),
        "-" if (prefix := size.prefix(one.kept)) is None else f"/{prefix}",
    )


def summary(sizing: Sizing) -> str:
    """How many networks were sized, and how many are too small."""
    sizes = [one.size for one in sizing.networks]
    short = sum(not is_enough(size) for size in sizes)
    tight = sum(is_enough(size) and size.comfortable() > size.capacity for size in sizes)
    said = [f"{counted(len(sizes), 'network')} sized"]
    said += [f"{short:,} too small"] if short else []
    said += [f"{tight:,} without the headroom asked for"] if tight else []
    said += ["each is large enough"] if sizes and not short and not tight else []
    return ", ".join(said) + "."


def chance(share: float) -> str:
    """A chance for people: not more digits than count, and never rounded to none or all."""
    if share in (0.0, 1.0):
        return f"{share:.0%}"
    if share < 1e-5:
        return "<0.001%"
    if share > 0.999:
        return ">99.9%"
    return f"{share * 100:.2g}%" if share < 0.1 else f"{share:.0%}"


def amount(number: float) -> str:
    """A number of clients for people."""
    if number == 0 or number >= 100:
        return f"{number:,.0f}"
    return "<0.01" if number < 0.01 else f"{number:.2g}"


def longest(size: Size) -> str:
    """The longest lease time that fits."""
    return "none" if size.longest_lease is None else format_duration(size.longest_lease)


def page(
    size: Size, name: str, kept: int, width: int, *, has_pool: bool, down: str = ""
) -> Iterator[str]:
    """All that is known of one network or demand.

    Args:
        size: Its size.
        name: What it is called.
        kept: Addresses of its subnet that are never assigned.
        width: Characters of a line.
        has_pool: Whether the size of its pool is known.
        down: What is left while servers are down.
    """
    room = f", {counted(size.capacity, 'address')} for clients" if has_pool else ""
    yield styled(f"{name}: a lease of {format_duration(size.lease)}{room}", "heading")
    yield ""
    facts = _facts(size, kept, has_pool=has_pool)
    for label, text in (*([("left", down)] if down else []), *facts):
        yield from wrapped(text, width, " " * LABEL, styled(label.ljust(LABEL), "name"))
    if size.observed is not None:
        yield ""
        yield from _days(size.observed)
    if size.demand.comes_and_goes:
        yield ""
        yield from _lease_table(size, has_pool=has_pool)


def _facts(size: Size, kept: int, *, has_pool: bool) -> Iterator[tuple[str, str]]:
    needed, risk = size.needed(), chance(size.demand.risk)
    at = "" if size.peak_at is None else f" at {clock(size.peak_at)}"
    at += f" on {size.peak_on}" if size.peak_on is not None else ""
    if size.observed is not None:
        yield "observed", _observed(size.observed)
    yield "peak", f"{counted(size.peak, 'address')} taken{at}, at the end of the horizon" if (
        size.demand.growth and size.demand.horizon
    ) else f"{counted(size.peak, 'address')} taken{at}"  # fmt: skip
    if has_pool:
        refused = amount(size.refused_per_day)
        yield (
            "refusal",
            f"{chance(size.risk)} chance that on a day a client gets no address"
            + (f"; {refused} a day on average" if size.risk else ""),
        )
    accepted = "" if size.crowd.is_known else f" for a chance of {risk}"
    yield (
        "smallest range",
        (
            f"{counted(needed, 'address')}{accepted}; "
            f"{size.comfortable():,} with {size.headroom:.0%} headroom"
        ),
    )
    if has_pool and size.demand.comes_and_goes:
        yield "longest lease", _longest_lease(size)
    prefix = size.prefix(kept)
    what = "no IPv4 subnet" if prefix is None else f"a /{prefix}"
    yield "prefix", f"{what} holds it, with headroom and what is never assigned"
    yield "renewals", f"{size.renewals_per_second:.3g} a second at the busiest time"
    half, most = format_duration(size.outage_survived), format_duration(size.lease)
    yield (
        "server outage",
        (f"for {half} nobody loses an address (T1); after {most} everybody has lost it"),
    )


def _longest_lease(size: Size) -> str:
    if size.longest_lease is None:
        return "no lease time in common use fits"
    return f"{format_duration(size.longest_lease)} fits, with headroom"


def _observed(seen: Observed) -> str:
    trend = f"{abs(seen.trend):.2g} addresses a day"
    steady = "steady" if abs(seen.trend) < 0.05 else (
        f"growing by {trend}" if seen.trend > 0 else f"falling by {trend}"
    )  # fmt: skip
    return (
        f"at most {counted(seen.peak, 'address')} taken, at {shown_moment(seen.peak_at)}; "
        f"in {counted(len(seen.days), 'day')} {steady}"
    )


def _days(seen: Observed) -> list[str]:
    """The most that was taken on each day, and a bar."""
    most = max(*seen.peaks, 1)
    rows = [
        (
            datetime.date.fromordinal(datetime.date(1970, 1, 1).toordinal() + day).isoformat(),
            f"{peak:,}",
            "#" * round(40 * peak / most),
        )
        for day, peak in list(zip(seen.days, seen.peaks, strict=True))[-DAYS_SHOWN:]
    ]
    heading, *lines = columns([("day", "most taken", ""), *rows], left=(0, 2))
    return [styled(heading, "heading"), *lines]


def lease_times(size: Size) -> list[tuple[int, int, int]]:
    """Lease times in common use and the present one, longest first: seconds, needed, comfortable.

    A lease time that needs as much as the next longer one is left out, but for the present one.
    """
    found: list[tuple[int, int, int]] = []
    for lease in sorted({*USUAL, size.lease}, reverse=True):
        needed = size.needed(lease)
        if found and found[-1][1] == needed and found[-1][0] != size.lease and lease != size.lease:
            continue
        found.append((lease, needed, size.comfortable(lease)))
    return found


def _lease_table(size: Size, *, has_pool: bool) -> Iterator[str]:
    heads = ("lease", "addresses needed", "with headroom", "fits" if has_pool else "", "")
    rows = [
        (
            format_duration(lease),
            f"{needed:,}",
            f"{comfortable:,}",
            _fits(size, needed, comfortable) if has_pool else "",
            "<- now" if lease == size.lease else "",
        )
        for lease, needed, comfortable in lease_times(size)
    ]
    heading, *lines = columns([heads, *rows], left=(0, 3, 4))
    yield styled(heading, "heading")
    yield from lines


def _fits(size: Size, needed: int, comfortable: int) -> str:
    if comfortable <= size.capacity:
        return "yes"
    return "without headroom" if needed <= size.capacity else "no"


def as_json(
    sizing: Sizing, inputs: Sequence[str], *, detailed: bool, only_failed: bool = False
) -> str:
    """One JSON object, its summary of all networks; with their lease times if ``detailed``."""
    sizes = [one.size for one in sizing.networks]
    output: Output = {
        **frame("size", inputs),
        "networks": [
            {
                "network": one.name,
                "of_class": one.kind or None,
                "assignable": one.assignable,
                "bound": one.bound,
                "shared": one.shared,
                "kept_for": list(one.kept_for) if one.gone and one.kept_for else None,
                "lost": sorted(one.gone),
                **fields(one.size, one.kept, has_pool=True, detailed=detailed),
            }
            for one in sizing.networks
            if not (only_failed and is_enough(one.size))
        ],
        "left_out": [{"network": name, "because": why} for name, why in sizing.left_out.items()],
        "without": list(sizing.without),
        "summary": {
            "networks": len(sizes),
            "too_small": sum(not is_enough(size) for size in sizes),
        },
    }
    return as_text(output)


def demand_as_json(size: Size, inputs: Sequence[str], *, has_pool: bool) -> str:
    """The same of a demand that is in no plan: one network without a name."""
    own: NetworkSized = {
        "network": None,
        "of_class": None,
        "assignable": size.capacity if has_pool else None,
        "bound": 0,
        "shared": 0,
        "kept_for": None,
        "lost": [],
        **fields(size, 1, has_pool=has_pool, detailed=True),
    }
    short = int(has_pool and not is_enough(size))
    summary: SizeSummary = {"networks": 1, "too_small": short}
    output: Output = {
        **frame("size", inputs),
        "networks": [own],
        "left_out": [],
        "without": [],
        "summary": summary,
    }
    return as_text(output)


def fields(size: Size, kept: int, *, has_pool: bool, detailed: bool) -> SizeFields:
    """What is known of a size, as JSON has it."""
    found: SizeFields = {
        "peak": size.peak,
        "peak_at": None if size.peak_at is None else clock(size.peak_at),
        "peak_on": size.peak_on.isoformat() if size.peak_on is not None else None,
        "risk": round(size.risk, 12) if has_pool else None,
        "accepted_risk": size.demand.risk,
        "refused_per_day": round(size.refused_per_day, 6) if has_pool else None,
        "smallest_range": size.needed(),
        "with_headroom": size.comfortable(),
        "headroom": size.headroom,
        "lease": size.lease,
        "longest_lease": size.longest_lease if has_pool else None,
        "prefix": size.prefix(kept),
        "renewals_per_second": round(size.renewals_per_second, 6),
        "outage_survived": size.outage_survived,
    }
    if detailed and size.demand.comes_and_goes:
        found["lease_times"] = [
            {"lease": lease, "smallest_range": needed, "with_headroom": comfortable}
            for lease, needed, comfortable in lease_times(size)
        ]
    if size.observed is not None:
        found["observed"] = {
            "peak": size.observed.peak,
            "peak_at": size.observed.peak_at,
            "trend_per_day": round(size.observed.trend, 6),
            "days": [
                {"day": day, "peak": peak}
                for day, peak in zip(size.observed.days, size.observed.peaks, strict=True)
            ],
        }
    return found
