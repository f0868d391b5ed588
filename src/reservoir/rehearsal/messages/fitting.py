"""What becomes of an answer's options that the client has no room for."""

from __future__ import annotations

from collections.abc import Collection
from typing import NamedTuple

from reservoir.core.values.message_room import in_fields, left_out, size_of
from reservoir.core.wording import listed
from reservoir.rehearsal.messages.message import list_of_options, option_name


class Fitting(NamedTuple):
    """What becomes of the options of an answer that a client has no room for."""

    moved: Collection[int] = ()
    """Those that are not among the options, by code."""
    fields: tuple[bytes, bytes] = (b"", b"")
    """Those that are sent in other fields."""
    overload: int = 0
    """What says so (RFC 2132 section 9.3)."""
    said: str = ""
    why_not: str = ""
    """Why nothing is sent; empty if something is."""


def fitted(options: dict[int, bytes], room: int, how: str) -> Fitting:
    """Find what to do with options.

    Args:
        options: The options of the answer, as their bytes.
        room: Bytes that the client has for them.
        how: What the device does where they need more: see the trait ``long-answer``.
    """
    needed = sum(map(size_of, options.values()))
    if needed <= room:
        return Fitting()
    if how == "silent":
        why = f"sends nothing: the options need {needed - room} bytes more than the client takes"
        return Fitting(why_not=why)
    fields, moved, overload = [b"", b""], set[int](), 0
    if how == "overloaded":
        for field, codes in enumerate(in_fields(options, room)):
            if codes:
                fields[field] = list_of_options({code: options[code] for code in codes})
                moved |= set(codes)
                overload |= field + 1
    stay = {code: data for code, data in options.items() if code not in moved}
    gone = left_out(stay, room - (size_of(b"0") if overload else 0))
    said = f"; leaves out {listed(map(option_name, gone))}: no room" if gone else ""
    return Fitting({*moved, *gone}, (fields[0], fields[1]), overload, said)
