"""The answer of a server that a DHCP client has kept in a file, byte for byte: its own lease."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from pathlib import Path
from typing import NamedTuple

from reservoir.core.problems import InputError, Place, Problem
from reservoir.core.values.addresses import format_address
from reservoir.core.values.durations import INFINITE
from reservoir.files.texts import STANDARD_INPUT, beginning
from reservoir.rehearsal.messages.message import Kind, MalformedMessageError, Option, decode

_LONGEST = 1 << 16
"""Bytes of a datagram at most."""

_COOKIE, _AT = bytes.fromhex("63825363"), 236
"""What begins the options of a DHCP message (RFC 2131 section 3), and where it stands."""


class KeptAnswer(NamedTuple):
    """The cells of a lease list with one lease."""

    columns: Mapping[str, Sequence[str]]
    notes: Sequence[str]


def kept_answer(file: str) -> KeptAnswer | None:
    """The lease in a client's file; None of any other file.

    It began when the file was last written, which standard input doesn't tell: it is none.

    Raises:
        InputError: it is such a file, and damaged, or gives no address.
    """
    if file == STANDARD_INPUT:
        return None
    data = beginning(file, _LONGEST)
    if data[_AT : _AT + 4] != _COOKIE:
        return None
    try:
        message = decode(data)
    except MalformedMessageError as error:
        raise InputError([Problem(Place(file), f"a client's lease, damaged: {error}")]) from None
    if message.kind != Kind.ACK:
        what = f"the message of a server that gives no address: {message.kind.name}"
        raise InputError([Problem(Place(file), what)])
    identifier = message.options.get(Option.CLIENT_IDENTIFIER)
    columns = {
        "address": [format_address(message.your_address)],
        "mac": [str(message.mac)],
        "client_id": [f"hex:{identifier.hex()}" if identifier else ""],
    }
    began = int(Path(file).stat().st_mtime)
    columns["starts"] = [str(began)]
    if (lease := message.number(Option.LEASE_TIME)) is not None:
        columns["expires"] = ["never" if lease == INFINITE else str(began + lease)]
    note = "read as a client keeps its server's answer; it began when the file was written"
    return KeptAnswer(columns, [note])
