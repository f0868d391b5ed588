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

    It began when the file was last written. What comes by standard input doesn't say when.

    Raises:
        InputError: it is such a file, and damaged, or gives no address.
    """
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
    began = None if file == STANDARD_INPUT else int(Path(file).stat().st_mtime)
    lease = message.number(Option.LEASE_TIME)
    if began is not None:
        columns["starts"] = [str(began)]
    if lease is not None and lease == INFINITE:
        columns["expires"] = ["never"]
    elif lease is not None and began is not None:
        columns["expires"] = [str(began + lease)]
    note = "read as a client keeps its server's answer; it began when the file was written"
    return KeptAnswer(columns, [note])
