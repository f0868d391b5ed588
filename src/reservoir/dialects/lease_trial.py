"""Tries the parts of a sheet that say how leases are printed: a sample, written and read back."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from reservoir.core.values.addresses import parse_address
from reservoir.core.values.clients import parse_mac
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.facts.kinds import KINDS
from reservoir.dialects.forms.moments import MomentForm
from reservoir.dialects.parse.reader import read_configuration
from reservoir.dialects.render.writer import write_configuration
from reservoir.dialects.sheet.model import Sheet, every_row

_SAMPLES: Sequence[Mapping[str, Any]] = (
    {
        "address": parse_address("10.84.61.23"),
        "mac": parse_mac("00:00:5e:00:53:61"),
        "name": "kiosk",
        "left": 5_400,
        "state": "active",
    },
    {
        "address": parse_address("10.84.61.24"),
        "client_id": b"\x01\x00\x00\x5e\x00\x53\x62\x01",
        "name": "till",
        "left": 7_260,
        "state": "ended",
    },
)
"""Leases of which no two values are the same."""


@dataclass(frozen=True)
class LeasesTried:
    """A sample of a table of leases, as a part of a sheet writes it."""

    text: str
    faults: Sequence[str]
    """What is wrong with it: it can't be written, or is read back otherwise."""
    left_out: Sequence[str]
    """What the rows can't say of the sample."""
    uncovered: Sequence[str]
    """The fields of a lease that no row mentions."""


def try_leases(part: Sheet) -> LeasesTried:
    """Write two leases with a part of a sheet, and read them back."""
    slots = {slot.field: slot.form for row in every_row(part.rows) for slot in row.pattern.slots}
    facts = [
        fact
        for sample in _SAMPLES
        if (fact := _lease(sample, slots)).fields.keys() & {"mac", "client_id"}
        or not slots.keys() & {"mac", "client_id"}
    ]
    device = {"name": "sample-box"} if "name" in part.mentioned["device"] else {}
    written = write_configuration(Fact("device", device, facts), part)
    refused = [(refusal.field, f"{refusal.what}: {refusal.reason}") for refusal in written.refusals]
    faults = [what for field, what in refused if not field]
    again = read_configuration(written.text, part)
    faults += [f"line {unread.line}: {unread.message}" for unread in again.not_understood]
    if not faults and again.device != written.expressed:
        faults.append("the sample's leases are read back otherwise")
    mentioned = part.mentioned["lease"]
    uncovered = [name for name in KINDS["lease"].fields if name not in mentioned]
    return LeasesTried(written.text, faults, [what for field, what in refused if field], uncovered)


def _lease(sample: Mapping[str, Any], slots: Mapping[str, object]) -> Fact:
    """A sample lease with the values that a slot holds."""
    fields = {name: value for name, value in sample.items() if name in slots}
    for name, hour in (("starts", 9), ("expires", 15)):
        if isinstance(form := slots.get(name), MomentForm):
            fields[name] = form.example(hour + sample["address"] % 2)
    return Fact("lease", fields)
