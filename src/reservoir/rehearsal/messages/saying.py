"""What clients say of themselves, in the options of their messages.

The vendor class (RFC 2132 section 9.13), the user class (RFC 3004), the architecture (RFC 4578
section 2.1), and what a relay or the switch at the client's port adds (RFC 3046).
"""

from __future__ import annotations

from reservoir.core.values.client_classes import Said
from reservoir.rehearsal.messages.agent import CIRCUIT, REMOTE, sub_options
from reservoir.rehearsal.messages.message import Message, Option


def said_by(message: Message, agent: bytes = b"") -> Said:
    """What the client of a message says.

    Args:
        message: Its message.
        agent: What a relay added before, where this message came without one.
    """
    options = message.options
    vendor, user = options.get(Option.VENDOR_CLASS), options.get(Option.USER_CLASS)
    numbers = options.get(Option.ARCHITECTURE, b"")
    told = sub_options(options.get(Option.RELAY_AGENT, agent))
    circuit, remote = told.get(CIRCUIT), told.get(REMOTE)
    return Said(
        message.mac,
        () if vendor is None else (_text(vendor),),
        () if user is None else _user_classes(user),
        tuple(int.from_bytes(numbers[at : at + 2], "big") for at in range(0, len(numbers) - 1, 2)),
        () if circuit is None else (_text(circuit),),
        () if remote is None else (_text(remote),),
    )


def options_of(said: Said) -> dict[int, bytes]:
    """The options in which a client says what it is."""
    options: dict[int, bytes] = {}
    if said.vendor_class:
        options[Option.VENDOR_CLASS] = said.vendor_class[0].encode()
    if said.user_class:
        options[Option.USER_CLASS] = b"".join(
            bytes((len(each.encode()),)) + each.encode() for each in said.user_class
        )
    if said.architecture:
        numbers = (number.to_bytes(2, "big") for number in said.architecture)
        options[Option.ARCHITECTURE] = b"".join(numbers)
    told = b"".join(
        bytes((code, len(text.encode()))) + text.encode()
        for code, texts in ((CIRCUIT, said.circuit), (REMOTE, said.remote))
        for text in texts
    )
    if told:
        options[Option.RELAY_AGENT] = told
    return options


def _user_classes(data: bytes) -> tuple[str, ...]:
    """The user classes: each behind its length, or else one that takes all of the option.

    Many clients send the bare text, against RFC 3004 section 4.
    """
    found, at = [], 0
    while at < len(data) and 0 < data[at] < len(data) - at:
        found.append(data[at + 1 : at + 1 + data[at]])
        at += 1 + data[at]
    return tuple(map(_text, found)) if at == len(data) else (_text(data),)


def _text(data: bytes) -> str:
    """Bytes as a text, some clients' with a zero at the end; in hexadecimal if they are none."""
    text = data.rstrip(b"\0").decode("utf-8", "replace")
    return text if text.isprintable() and "\ufffd" not in text else f"hex:{data.hex()}"
