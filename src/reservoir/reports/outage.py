"""What clients noticed while something was off, for people and as JSON."""

from __future__ import annotations

from collections.abc import Iterator
from typing import TYPE_CHECKING

from reservoir.core.values.durations import format_duration
from reservoir.core.wording import counted, listed
from reservoir.rehearsal.outage import NOBODY_ANSWERS, NetworkOutage, Outage
from reservoir.reports.theme import columns, styled, wrapped

if TYPE_CHECKING:
    from reservoir.reports.outputs.rehearse import OutageObject

HEADINGS = ("network", "clients", "kept", "lost", "first after", "without", "back", "a new client")
_LEFT = (0, 4, 7)


def outage_table(outage: Outage, width: int) -> Iterator[str]:
    """A line for each network, and a closing line."""
    yield styled(f"Without {listed(outage.off)}, until the leases have ended", "heading")
    heading, *lines = columns([HEADINGS, *map(_row, outage.networks)], left=_LEFT)
    yield styled(heading, "heading")
    for one, line in zip(outage.networks, lines, strict=True):
        yield styled(line, "error") if one.lost or not one.is_newcomer_served else line
        if not one.is_newcomer_served and one.newcomer != NOBODY_ANSWERS:
            yield from wrapped(f"a new client gets no answer: {one.newcomer}", width, "    ")
    yield ""
    for name, why in outage.left_out.items():
        yield f"{name} was not looked at: {why}."
    for pair in outage.apart:
        alone = (
            f"{listed(pair)} don't reach each other: each goes on as if the other were down, and "
        )
        yield from wrapped(
            f"{alone}may assign an address that a client of the other has.", width, ""
        )
    lost = sum(len(one.lost) for one in outage.networks)
    clients = sum(one.clients for one in outage.networks)
    bad = sum(not one.is_newcomer_served for one in outage.networks)
    said = f"{lost:,} of {counted(clients, 'client')} lost the address; new clients are served in "
    said += f"{len(outage.networks) - bad:,} of {counted(len(outage.networks), 'network')}."
    yield from wrapped(said, width, "")


def _row(one: NetworkOutage) -> tuple[str, ...]:
    first = "-" if one.first_lost is None else _shown(one.first_lost)
    numbers = (one.clients, one.kept, len(one.lost))
    newcomer = one.newcomer if one.is_newcomer_served else "no answer"
    texts = [f"{number:,}" for number in numbers]
    return (one.network, *texts, first, f"{one.without:,}", f"{one.back:,}", newcomer)


def _shown(seconds: float) -> str:
    """A time to the minute."""
    return format_duration(max(60, round(seconds / 60) * 60))


def as_object(outage: Outage) -> OutageObject:
    """The same as JSON has it."""
    return {
        "without": list(outage.off),
        "seconds": round(outage.seconds),
        "networks": [
            {
                "network": one.network,
                "seconds": round(one.seconds),
                "clients": one.clients,
                "kept": one.kept,
                "lost": len(one.lost),
                "first_lost": None if one.first_lost is None else round(one.first_lost),
                "without": one.without,
                "back": one.back,
                "newcomer_served": one.is_newcomer_served,
                "newcomer": one.newcomer,
            }
            for one in outage.networks
        ],
        "apart": [list(pair) for pair in outage.apart],
        "left_out": [{"network": name, "because": why} for name, why in outage.left_out.items()],
    }
