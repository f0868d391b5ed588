"""DHCP options by their registered names, and their values as bytes on the wire.

Codes and names follow the IANA registry of BOOTP vendor extensions and DHCP options; the layout
of each value is that of RFC 2132 unless another RFC is named.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Mapping
from typing import NamedTuple

from reservoir.core.values.addresses import (
    MalformedValueError,
    Prefix,
    address_or_none,
    format_address,
    parse_address,
    parse_prefix,
)


class RegisteredOption(NamedTuple):
    """One row of the registry."""

    code: int
    kind: str
    server: str = ""
    """What the addresses of the option belong to, if clients send requests there."""


REGISTRY: Mapping[str, RegisteredOption] = {
    name: RegisteredOption(code, *known)
    for code, name, *known in (
        (2, "time_offset", "i32"),
        (4, "time_servers", "ips", "time server"),
        (5, "name_servers", "ips"),
        (7, "log_servers", "ips", "log server"),
        (9, "print_servers", "ips", "print server"),
        (12, "host_name", "text"),
        (13, "boot_file_size", "u16"),
        (16, "swap_server", "ip"),
        (17, "root_path", "text"),
        (19, "ip_forwarding", "bool"),
        (23, "default_ttl", "u8"),
        (26, "mtu", "u16"),
        (28, "broadcast_address", "ip"),
        (33, "static_route_pairs", "ips"),
        (35, "arp_timeout", "u32"),
        (37, "tcp_ttl", "u8"),
        (40, "nis_domain", "text"),
        (41, "nis_servers", "ips", "NIS server"),
        (42, "ntp", "ips", "time server"),
        (43, "vendor_information", "hex"),
        (44, "wins", "ips", "NetBIOS name server"),
        (46, "netbios_node_type", "u8"),
        (47, "netbios_scope", "text"),
        (60, "vendor_class", "text"),
        (66, "tftp_server_name", "text", "boot server"),
        (67, "boot_file", "text"),
        (69, "smtp_servers", "ips", "mail server"),
        (70, "pop3_servers", "ips", "mail server"),
        (72, "www_servers", "ips", "web server"),
        (100, "posix_timezone", "text"),  # RFC 4833
        (101, "tzdb_timezone", "text"),  # RFC 4833
        (108, "ipv6_only_wait", "u32"),  # RFC 8925
        (114, "captive_portal", "text", "captive portal"),  # RFC 8910
        (119, "domain_search", "hex"),  # RFC 3397, compressed names
        (121, "classless_routes", "routes"),  # RFC 3442
        (138, "capwap_controllers", "ips", "wireless controller"),  # RFC 5417
        (150, "tftp_server_addresses", "ips", "boot server"),  # RFC 5859
    )
}
_HOST = re.compile(rb"(?:[a-z]+://)?([0-9.]+)(?::[0-9]+)?(?:/.*)?", re.DOTALL)
"""A text that names a host by its address."""

_KIND_OF_CODE = {option.code: option.kind for option in REGISTRY.values()}
_NAME_OF_CODE = {option.code: name for name, option in REGISTRY.items()}
_SERVER_OF_CODE = {option.code: option.server for option in REGISTRY.values()}

MANAGED: Mapping[int, str] = {
    0: "it is padding",
    1: "the mask comes from the subnet",
    255: "it ends the options",
} | dict.fromkeys((50, 52, 53, 54, 55, 56, 57, 58, 59, 61, 82), "the DHCP protocol itself uses it")
"""Options that only the protocol itself sets, with the reason."""


def _whole(bits: int, lowest: int = 0) -> tuple[Callable[[str], bytes], Callable[[bytes], str]]:
    signed = lowest < 0
    highest = (1 << bits - 1) - 1 if signed else (1 << bits) - 1

    def encode(text: str) -> bytes:
        if not re.fullmatch("-?[0-9]{1,10}", text) or not lowest <= int(text) <= highest:
            raise MalformedValueError(f"{text!r} is not a whole number from {lowest} to {highest}")
        return int(text).to_bytes(bits // 8, "big", signed=signed)

    def decode(data: bytes) -> str:
        if len(data) != bits // 8:
            raise MalformedValueError(f"{len(data)} bytes are not a {bits}-bit number")
        return str(int.from_bytes(data, "big", signed=signed))

    return encode, decode


def _encode_address(text: str) -> bytes:
    return parse_address(text).to_bytes(4, "big")


def _decode_address(data: bytes) -> str:
    if len(data) != 4:
        raise MalformedValueError(f"{len(data)} bytes are not an IPv4 address")
    return format_address(int.from_bytes(data, "big"))


def _encode_text(text: str) -> bytes:
    if not text or not text.isprintable():
        raise MalformedValueError(f"{text!r} can't be sent as text")
    return text.encode()


def _decode_text(data: bytes) -> str:
    text = data.decode("utf-8", "strict")
    if not text or not text.isprintable():
        raise MalformedValueError("the bytes are not readable text")
    return text


def _encode_hex(text: str) -> bytes:
    if not re.fullmatch("(?:[0-9A-Fa-f]{2}[: -]?)+", text):
        raise MalformedValueError(f"{text!r} is not hexadecimal bytes")
    return bytes.fromhex(re.sub("[: -]", "", text))


def _encode_bool(text: str) -> bytes:
    if text not in ("true", "false", "yes", "no", "on", "off"):
        raise MalformedValueError(f"{text!r} is not true or false")
    return bytes([text in ("true", "yes", "on")])


def _decode_bool(data: bytes) -> str:
    if data not in (b"\0", b"\1"):
        raise MalformedValueError("a true or false value is one byte, 0 or 1")
    return "true" if data == b"\1" else "false"


def _encode_route(text: str) -> bytes:
    """One ``destination/bits via router``: the significant octets only (RFC 3442)."""
    destination, via, router = text.partition(" via ")
    if not via:
        raise MalformedValueError(
            f"{text!r} is not a route: write it like 10.84.8.0/24 via 10.84.20.1"
        )
    prefix = parse_prefix(destination.strip())
    if prefix.address != prefix.network:
        raise MalformedValueError(f"{text!r} has host bits set; {prefix.subnet} would be correct")
    octets = (prefix.bits + 7) // 8
    return (
        bytes([prefix.bits])
        + prefix.address.to_bytes(4, "big")[:octets]
        + _encode_address(router.strip())
    )


def _decode_routes(data: bytes) -> str:
    return ",".join(f"{to} via {format_address(router)}" for to, router in _routes(data))


def _routes(data: bytes) -> Iterator[tuple[Prefix, int]]:
    while data:
        bits, octets = data[0], (data[0] + 7) // 8
        if bits > 32 or len(data) < 5 + octets:
            raise MalformedValueError("the bytes are not a list of routes")
        destination = int.from_bytes(data[1 : 1 + octets].ljust(4, b"\0"), "big")
        yield Prefix(destination, bits), int.from_bytes(data[1 + octets : 5 + octets], "big")
        data = data[5 + octets :]


def _decode_addresses(data: bytes) -> str:
    if not data or len(data) % 4:
        raise MalformedValueError(f"{len(data)} bytes are not IPv4 addresses")
    return ",".join(_decode_address(data[i : i + 4]) for i in range(0, len(data), 4))


KINDS: Mapping[str, tuple[Callable[[str], bytes], Callable[[bytes], str]]] = {
    "ip": (_encode_address, _decode_address),
    "ips": (_encode_address, _decode_addresses),
    "text": (_encode_text, _decode_text),
    "hex": (_encode_hex, lambda data: data.hex()),
    "u8": _whole(8),
    "u16": _whole(16),
    "u32": _whole(32),
    "i32": _whole(32, lowest=-(2**31)),
    "bool": (_encode_bool, _decode_bool),
    "routes": (_encode_route, _decode_routes),
}
"""How a value of each kind is encoded (each item of a list) and decoded (whole)."""

MEANINGS: Mapping[str, str] = {
    "ip": "an IPv4 address",
    "ips": "IPv4 addresses",
    "text": "text",
    "hex": "bytes",
    "u8": "a number from 0 to 255",
    "u16": "a number from 0 to 65535",
    "u32": "a number from 0 to 4294967295",
    "i32": "a signed 32-bit number",
    "bool": "true or false",
    "routes": "routes",
}
"""What a value of each kind is, for people."""

LISTS = frozenset({"ips", "routes"})
"""The kinds whose value is a list."""

LONGEST = 255
"""Bytes in one option instance (RFC 2132 section 2)."""


def encode(kind: str, items: list[str]) -> bytes:
    """The bytes on the wire of a value of this kind; ``items`` holds one text unless it is a list.

    Raises:
        MalformedValueError: a wrong value, not one value where one is wanted, or too long.
    """
    if kind not in LISTS and len(items) != 1:
        raise MalformedValueError(f"expected one {kind} value, found a list of {len(items)}")
    data = b"".join(KINDS[kind][0](item) for item in items)
    if not 0 < len(data) <= LONGEST:
        raise MalformedValueError(f"the value has {len(data)} bytes; an option has 1 to 255")
    return data


def decode(code: int, data: bytes) -> tuple[str, str]:
    """The kind and text of an option's bytes; ``hex`` where they don't fit the registered kind.

    Lists are written with commas and no blanks.
    """
    kind = _KIND_OF_CODE.get(code, "hex")
    try:
        return kind, KINDS[kind][1](data)
    except (MalformedValueError, UnicodeDecodeError):
        return "hex", data.hex()


def routes_in(data: bytes) -> list[tuple[Prefix, int]]:
    """The destinations and routers of classless routes (RFC 3442); none if the bytes are none."""
    try:
        return list(_routes(data))
    except MalformedValueError:
        return []


def addresses_in(code: int, data: bytes) -> list[int]:
    """The addresses that an option of a registered kind holds; none if it holds no addresses.

    A server may be named by a text or a URL that is, or begins with, its address.
    """
    if kind_of(code) == "text" and _SERVER_OF_CODE.get(code):
        named = _HOST.fullmatch(data)
        address = address_or_none(named[1].decode()) if named else None
        return [] if address is None else [address]
    whole = len(data) == 4 if kind_of(code) == "ip" else len(data) % 4 == 0
    if kind_of(code) not in ("ip", "ips") or not whole:
        return []
    return [int.from_bytes(data[at : at + 4], "big") for at in range(0, len(data), 4)]


def kind_of(code: int) -> str | None:
    """The registered kind of an option, if it has one here."""
    return _KIND_OF_CODE.get(code)


def name_of(code: int) -> str:
    """The registered name of an option, or its number."""
    return _NAME_OF_CODE.get(code, str(code))


def servers_in(code: int, data: bytes) -> tuple[str, list[int]]:
    """What an option's servers are called, and their addresses; nothing if it names none."""
    server = _SERVER_OF_CODE.get(code, "")
    return server, addresses_in(code, data) if server else []
