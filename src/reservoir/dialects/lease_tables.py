"""Reads tables of leases as devices print them: recognised, parsed, said as a lease list says it.

What is read are the cells of a lease list, as texts: whoever reads lists reads them as its own, and
knows clocks, zones and the same client by two names.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from reservoir.core.problems import InputError, Place, Problem
from reservoir.core.values.addresses import format_address
from reservoir.core.values.durations import INFINITE
from reservoir.core.wording import counted, listed_briefly
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.forms.moments import NEVER
from reservoir.dialects.notations.nodes import all_nodes
from reservoir.dialects.parse.reader import Reading, read_configuration
from reservoir.dialects.sheet.library import Library
from reservoir.dialects.sheet.model import Sheet

SAMPLE = 500
"""Lines of a table by which the dialect is recognised."""

LEAST_SHARE = 0.3
"""Share of the sample's lines that a dialect must understand, as of configuration."""

_NAMES_SOMEBODY = re.compile(
    r"(?<![0-9.])[0-9]{1,3}(?:\.[0-9]{1,3}){3}(?![0-9.])"
    r"|(?<![0-9A-Fa-f])(?:[0-9A-Fa-f]{2}[:-]){5}[0-9A-Fa-f]{2}(?![0-9A-Fa-f])"
)
"""An IPv4 or a MAC address: a line with one may be a lease, so none is passed over."""

_LEFT_OUT = {
    "ended": "ended",
    "reserved": "reserved, without a lease",
    "declined": "declined: another machine has it",
    "unclear": "leased, to whom is shown only in part; more is taken than is counted",
}
"""Why nothing is made of a lease, by its state."""


@dataclass(frozen=True)
class LeaseCells:
    """The cells of a lease list, made of a table that a device printed."""

    columns: Mapping[str, Sequence[str]]
    """By the names of a lease list's columns: a cell for each lease, empty if nothing is said."""
    lines: Sequence[int]
    """The line of the table that each lease begins in."""
    notes: Sequence[str]
    """How it was read, and what was left out."""
    counts_from_now: bool
    """Whether ends were made of a time that is left."""


def read_lease_table(
    text: str, file: str, library: Library, now: float, dialect: str | None = None
) -> LeaseCells | None:
    """Read a table of leases as a device prints it.

    Args:
        text: The table.
        file: Where it is, for messages.
        library: The dialects within reach.
        now: When it was printed, in seconds since 1970: a time left counts from there.
        dialect: Whose it is; recognised if None.

    Returns:
        None if it is no table of a known dialect.

    Raises:
        InputError: the dialect prints no leases, two may have printed it, or with every line that
            may be a lease and isn't understood.
    """
    if dialect:
        return read_with(library.sheet(dialect), text, file, now)
    part = _recognised(text, file, library)
    return None if part is None else _read(part, text, file, now)


def read_with(sheet: Sheet, text: str, file: str, now: float) -> LeaseCells:
    """Read a table of leases as devices of a dialect print it; else as :func:`read_lease_table`.

    Raises:
        InputError: the dialect prints no leases, or with every line that may be a lease and isn't
            understood.
    """
    if not sheet.leases:
        raise InputError([Problem(Place(sheet.file), "the sheet has no part leases")])
    sample = _sample(text)
    return _read(max(sheet.leases, key=lambda part: _share(sample, part)), text, file, now)


def _read(part: Sheet, text: str, file: str, now: float) -> LeaseCells:
    reading = read_configuration(text, part)
    unread = _unread(reading, text)
    if unread.wrong:
        raise InputError([Problem(Place(file, line, at), what) for line, at, what in unread.wrong])
    every = [fact for fact in reading.device.of_kind("lease") if "address" in fact.fields]
    facts = [*_later_ones(every)] if part.is_journal else every
    present = [fact for fact in facts if fact.get("state", "active") == "active"]
    notes = [f"read as {part.name} prints its leases"]
    if earlier := len(every) - len(facts):
        notes.append(f"{counted(earlier, 'lease')} left out: the same address comes again below")
    notes += _left_out(facts)
    if unread.beside:
        some = listed_briefly(map(repr, unread.beside), 3)
        notes.append(f"{counted(len(unread.beside), 'line')} without an address left alone: {some}")
    return LeaseCells(
        _columns(present, reading.device, now),
        [fact.line for fact in present],
        notes,
        any("left" in fact.fields and "expires" not in fact.fields for fact in present),
    )


def _recognised(text: str, file: str, library: Library) -> Sheet | None:
    """The part of a dialect that understands most of a text; None if none understands enough.

    Raises:
        InputError: two understand it alike, and not the same of it.
    """
    sample = _sample(text)
    sheets, _ = library.usable
    shares = [(_share(sample, part), part) for sheet in sheets for part in sheet.leases]
    best = max((share for share, _ in shares), default=0.0)
    if best < LEAST_SHARE:
        return None
    first, *others = [part for share, part in shares if share == best]
    said = _read_off(sample, first)
    for other in others:
        if _read_off(sample, other) != said:
            message = (
                f"{first.name} and {other.name} may both print leases like this, and mean other "
                f"things: --printed-by {first.name} or --printed-by {other.name} says it"
                if first.name != other.name
                else f"two parts leases of {first.name} read it, each otherwise"
            )
            raise InputError([Problem(Place(file), message)])
    return first


def _sample(text: str) -> str:
    return "\n".join(text.split("\n", SAMPLE)[:SAMPLE])


def _share(sample: str, part: Sheet) -> float:
    """The share of a table's lines that a dialect understands; 0 if it finds no lease.

    Lines that can't be a lease don't count: what was on the terminal before, a line of totals.
    """
    reading = read_configuration(sample, part)
    known = reading.understood + reading.left_alone
    unknown = len(_unread(reading, sample).wrong)
    return known / (known + unknown) if reading.device.children else 0.0


def _read_off(sample: str, part: Sheet) -> list[Mapping[str, Any]]:
    """What a dialect reads off a table, without the words that are its own."""
    return [fact.fields for fact in read_configuration(sample, part).device.of_kind("lease")]


@dataclass(frozen=True)
class _Unread:
    """The lines of a table that no row is for."""

    wrong: Sequence[tuple[int, int, str]]
    """Those that may be leases, or break the table: line, column and what is wrong."""
    beside: Sequence[str]
    """Those that can't be leases: a prompt, a heading, a line of totals."""


def _unread(reading: Reading, text: str) -> _Unread:
    """The lines that weren't understood, sorted by whether they may be leases."""
    lines = text.split("\n")
    wrong, beside = list[tuple[int, int, str]](), list[str]()
    for unread in reading.not_understood:
        its = lines[unread.line - 1 : unread.line - 1 + unread.lines]
        block = unread.within
        # A line by itself: it stands in no block, or is one that was taken for a table's row.
        is_apart = block is not None and (block.kind == "device" or block.line == unread.line)
        if is_apart and not any(map(_NAMES_SOMEBODY.search, its)):
            beside.append(its[0].strip())
        else:
            wrong.append((unread.line, unread.column, unread.message))
    for other in reading.others:
        for node in (other.node, *all_nodes(other.node.children)):
            if _NAMES_SOMEBODY.search(node.text):
                message = f"not understood, and it may be a lease: {node.text!r}"
                wrong.append((node.line, node.column, message))
            else:
                beside.append(node.text)
    return _Unread(sorted(wrong), list(dict.fromkeys(beside)))


def _later_ones(facts: Sequence[Fact]) -> list[Fact]:
    """Of leases of the same address the last, in the order in which they stand."""
    last = {fact.get("address"): fact for fact in facts}
    return [fact for fact in facts if last[fact.get("address")] is fact]


def _left_out(facts: Sequence[Fact]) -> Iterator[str]:
    """What is said of addresses that nobody has a lease of at present."""
    for state, why in _LEFT_OUT.items():
        which = [fact.get("address") for fact in facts if fact.get("state") == state]
        if which:
            addresses = listed_briefly(map(format_address, which), 3)
            yield f"{counted(len(which), 'address')} left out ({why}): {addresses}"


def _columns(facts: Sequence[Fact], device: Fact, now: float) -> Mapping[str, Sequence[str]]:
    """The cells of each column of a lease list that the facts say anything of."""
    server = device.get("name", "")
    columns = {
        "address": [format_address(fact.get("address")) for fact in facts],
        "mac": [str(fact.get("mac", "")) for fact in facts],
        "client_id": [_identifier(fact.get("client_id")) for fact in facts],
        "name": [fact.get("name", "") for fact in facts],
        "server": [fact.get("server", server) for fact in facts],
        "starts": [fact.get("starts", "") for fact in facts],
        "expires": [_expires(fact, now) for fact in facts],
    }
    return {name: cells for name, cells in columns.items() if any(cells) or name == "address"}


def _identifier(data: bytes | None) -> str:
    return "" if data is None else f"hex:{data.hex()}"


def _expires(fact: Fact, now: float) -> str:
    """When a lease ends, as a lease list writes it; empty if nothing says so."""
    expires: str = fact.get("expires", "")
    if expires or (left := fact.get("left")) is None:
        return expires
    return NEVER if left == INFINITE else str(round(now) + left)
