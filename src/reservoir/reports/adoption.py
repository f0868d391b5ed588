"""What becomes of leases that are made bindings, for people and as JSON."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import TYPE_CHECKING

from reservoir.core.leases.adopting import Adopted, Adoption, LeftOut
from reservoir.core.leases.table import LeaseTable
from reservoir.core.values.addresses import format_address
from reservoir.core.values.clients import format_client
from reservoir.reports.frame import as_text, frame
from reservoir.reports.theme import moment, shown_moment

if TYPE_CHECKING:
    from reservoir.reports.outputs.adopt import AdoptedObject, NotAdopted, Output


def notes(adoption: Adoption, leases: LeaseTable, file: str) -> Iterator[str]:
    """Who changes its address and when; which leases are left out, and why."""
    for each in adoption.bindings:
        if each.address != each.present:
            by = f" by {shown_moment(each.changes_at)}" if each.changes_at is not None else ""
            was, is_now = format_address(each.present), format_address(each.address)
            yield f"{each.name or format_client(each.client)} changes from {was} to {is_now}{by}"
    for left in adoption.left_out:
        line, who = int(leases.line[left.row]), leases.label(left.row)
        yield f"{file}:{line}: {who} is left out: {left.reason}"


def as_json(adoption: Adoption, leases: LeaseTable, file: str, inputs: Sequence[str]) -> str:
    """One JSON object, whose fields are only ever added to."""
    output: Output = {
        **frame("adopt", inputs),
        "bindings": [_binding(each) for each in adoption.bindings],
        "left_out": [_left(each, leases, file) for each in adoption.left_out],
        "summary": {
            "leases": adoption.chosen,
            "bindings": len(adoption.bindings),
            "left_out": len(adoption.left_out),
        },
    }
    return as_text(output)


def _binding(each: Adopted) -> AdoptedObject:
    return {
        "network": each.network,
        "name": each.name,
        "client": format_client(each.client),
        "address": format_address(each.address),
        "present": format_address(each.present),
        "changes_at": moment(each.changes_at) if each.changes_at is not None else None,
        "hostname": each.hostname or None,
    }


def _left(each: LeftOut, leases: LeaseTable, file: str) -> NotAdopted:
    return {
        "client": leases.client_text(each.row),
        "name": leases.name[each.row],
        "address": format_address(int(leases.address[each.row])),
        "file": file,
        "line": int(leases.line[each.row]),
        "because": each.reason,
    }
