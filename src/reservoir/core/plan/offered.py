"""The table of what clients can be offered: each key once, with all that the program knows of it.

A key stands here and in the model of the plan; dialects add a line to their sheets. Everything
else, from the pools to what is read back, compared and written, follows from this table.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping
from typing import Any, NamedTuple

from reservoir.core.values import options as dhcp_options
from reservoir.core.values.addresses import MalformedValueError, format_address
from reservoir.core.values.durations import format_duration


class ValueType(NamedTuple):
    """A type of value: as people read it, and as the bytes of a DHCP option."""

    text: Callable[[Any], str]
    encode: Callable[[Any], bytes]
    decode: Callable[[bytes], Any]
    """Raises MalformedValueError if the bytes are not such a value."""


class OfferedField(NamedTuple):
    """A key of the plan with something that clients are offered."""

    key: str
    """The key in a network, the field of a pool's facts, the name in outputs."""
    title: str
    """What people call it."""
    type: str
    """The type of its value, as sheets write it: one of ``TYPES``."""
    option: int | None = None
    """The DHCP option that carries it (RFC 2132), if one does."""
    has_default: bool = True
    """Whether the plan's defaults may set it for all networks."""
    is_required: bool = False
    """Whether every pool has it in the end, since devices have a default."""
    server: str = ""
    """What the addresses belong to, if clients send requests there."""

    @property
    def nothing(self) -> Any:
        """The value where clients are offered none."""
        return () if self.type == "ips" else None

    def text(self, value: Any) -> str:
        """The value for people."""
        return TYPES[self.type].text(value)

    def encode(self, value: Any) -> bytes:
        """The bytes of the option that carries the value."""
        return TYPES[self.type].encode(value)

    def decode(self, data: bytes) -> Any:
        """The value of the option that carries it.

        Raises:
            MalformedValueError: the bytes are not such a value; the message names them.
        """
        try:
            return TYPES[self.type].decode(data)
        except MalformedValueError:
            raise MalformedValueError(f"{data.hex()} is not a {self.title}") from None

    def addresses(self, value: Any) -> tuple[int, ...]:
        """The addresses of the servers that the value names."""
        if not self.server or not value:
            return ()
        return value if isinstance(value, tuple) else (value,)


def _encode_addresses(addresses: tuple[int, ...]) -> bytes:
    return b"".join(address.to_bytes(4, "big") for address in addresses)


def _decode_addresses(data: bytes) -> tuple[int, ...]:
    if not data or len(data) % 4:
        raise MalformedValueError(data.hex())
    return tuple(int.from_bytes(data[at : at + 4], "big") for at in range(0, len(data), 4))


def _decode_word(data: bytes) -> str:
    try:
        text = data.decode()
    except UnicodeDecodeError:
        text = ""
    if not text.isprintable() or not text or " " in text:
        raise MalformedValueError(data.hex())
    return text


def _decode_seconds(data: bytes) -> int:
    if len(data) != 4 or not any(data):
        raise MalformedValueError(data.hex())
    return int.from_bytes(data, "big")


TYPES: Mapping[str, ValueType] = {
    "ip": ValueType(
        format_address,
        lambda address: _encode_addresses((address,)),
        lambda data: _decode_addresses(data)[0],
    ),
    "ips": ValueType(
        lambda addresses: " ".join(map(format_address, addresses)),
        _encode_addresses,
        _decode_addresses,
    ),
    "text": ValueType(str, str.encode, _decode_word),
    "duration": ValueType(
        format_duration, lambda seconds: seconds.to_bytes(4, "big"), _decode_seconds
    ),
}
"""The types of what clients are offered."""

OFFERED: Mapping[str, OfferedField] = {
    field.key: field
    for field in (
        OfferedField("gateway", "gateway", "ip", 3, has_default=False),
        OfferedField("dns", "DNS server", "ips", 6, server="DNS server"),
        OfferedField("domain", "domain", "text", 15),
        OfferedField("lease", "lease time", "duration", 51, is_required=True),
        OfferedField("next_server", "boot server", "ip", server="boot server"),
    )
}
"""What clients can be offered besides address, mask and options by number, by key."""

BY_OPTION: Mapping[int, OfferedField] = {
    field.option: field for field in OFFERED.values() if field.option is not None
}
"""The same by the option that carries it."""

DEFAULTS: tuple[str, ...] = tuple(field.key for field in OFFERED.values() if field.has_default)
"""The keys that a plan's defaults may have."""

SHORT_FOR: Mapping[str, int] = {"boot_file": 67, "hostname": 12}
"""Keys of the plan that are short for an option, which may be given by its name as well."""

_TITLES = {code: key.replace("_", " ") for key, code in SHORT_FOR.items()} | {12: "host name"}


def title_of(code: int) -> str:
    """What people call an option: by its key's title, or its registered name."""
    known = BY_OPTION.get(code)
    return known.title if known is not None else _TITLES.get(code) or dhcp_options.name_of(code)


NOT_OPTIONS: Mapping[int, str] = {
    **dhcp_options.MANAGED,
    **{code: f"use {field.key}" for code, field in BY_OPTION.items()},
}
"""Options that a plan doesn't set by number, with the reason."""
