"""Options as devices state them: by type and value, and by number what has a field of its own."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any

from reservoir.core.values import options as dhcp_options
from reservoir.core.values.addresses import MalformedValueError
from reservoir.dialects.facts.fact import Fact


def _addresses(data: bytes) -> tuple[int, ...]:
    if not data or len(data) % 4:
        raise MalformedValueError(f"{data.hex()} is not IPv4 addresses")
    return tuple(int.from_bytes(data[at : at + 4], "big") for at in range(0, len(data), 4))


def _word(data: bytes) -> str:
    try:
        text = data.decode()
    except UnicodeDecodeError:
        text = ""
    if not text.isprintable() or not text or " " in text:
        raise MalformedValueError(f"{data.hex()} is not a domain name")
    return text


def _seconds(data: bytes) -> int:
    if len(data) != 4 or not any(data):
        raise MalformedValueError(f"{data.hex()} is not a lease time")
    return int.from_bytes(data, "big")


FIELD_OF_OPTION: Mapping[int, tuple[str, Callable[[bytes], Any]]] = {
    3: ("gateway", lambda data: _addresses(data)[0]),
    6: ("dns", _addresses),
    15: ("domain", _word),
    51: ("lease", _seconds),
}
"""Fields of a pool that a device may state by option number too (RFC 2132)."""


def option_data(fact: Fact) -> bytes:
    """The bytes of an option that is given by type and value.

    Raises:
        MalformedValueError: there is no such type, or the value is none of it.
    """
    kind, value = fact.get("type"), fact.get("value")
    if kind not in dhcp_options.KINDS:
        raise MalformedValueError(f"there is no type {kind!r}")
    if value is None:
        raise MalformedValueError("it has no value")
    items = value.split(",") if kind in dhcp_options.LISTS else [value]
    return dhcp_options.encode(kind, items)
