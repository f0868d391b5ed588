"""DHCP options as plans write them: by name or number, with typed values."""

from __future__ import annotations

import re
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from pydantic_core import PydanticCustomError

from reservoir.core.plan.offered import NOT_OPTIONS
from reservoir.core.plan.scalars import NONE, shape_of
from reservoir.core.values import options as dhcp_options
from reservoir.core.values.addresses import MalformedValueError
from reservoir.core.wording import hint

OPTIONS_SCHEMA = {
    "type": "object",
    "description": "DHCP options by registered name, or by number with a typed value",
    "propertyNames": {"anyOf": [{"enum": sorted(dhcp_options.REGISTRY)}, {"pattern": "^[0-9]+$"}]},
    "examples": [{"ntp": ["10.84.0.123"], "150": {"ip": "10.84.0.69"}}],
}


def read_options(value: Any) -> dict[int, bytes]:
    """Options as the plan file has them, to codes and bytes; no bytes for ``none``.

    Raises:
        PydanticCustomError: of type ``options``; its context lists (key, message) pairs.
    """
    if not isinstance(value, dict):
        raise MalformedValueError(f"expected a block of options, found {shape_of(value)}")
    read: dict[int, bytes] = {}
    problems: list[tuple[str, str]] = []
    for key, item in value.items():
        if isinstance(key, int) and isinstance(item, bytes):
            read[key] = item
            continue
        try:
            code, data = _read_option(str(key), item)
            if code in read:
                raise MalformedValueError(f"option {code} is already given")
            read[code] = data
        except MalformedValueError as error:
            problems.append((str(key), str(error)))
    if problems:
        raise PydanticCustomError("options", "wrong options", {"problems": problems})
    return read


def write_options(options: Mapping[int, bytes]) -> dict[str, Any]:
    """Codes and bytes as the plan file has them: by name where the registered kind fits."""
    written: dict[str, Any] = {}
    for code, data in options.items():
        if not data:
            written[dhcp_options.name_of(code)] = NONE
            continue
        kind, text = dhcp_options.decode(code, data)
        value: Any = text.split(",") if kind in dhcp_options.LISTS else text
        registered = kind == dhcp_options.kind_of(code)
        written[dhcp_options.name_of(code) if registered else str(code)] = (
            value if registered else {kind: value}
        )
    return written


def _read_option(key: str, value: Any) -> tuple[int, bytes]:
    code, kind = _option_key(key)
    if value == NONE:
        return code, b""
    return code, _typed(code, kind, value)[1]


def _typed(code: int, kind: str | None, value: Any) -> tuple[str, bytes]:
    """The type and the bytes of an option's value; ``kind`` is its registered type."""
    if isinstance(value, dict):
        if len(value) != 1 or next(iter(value)) not in dhcp_options.KINDS:
            kinds = ", ".join(dhcp_options.KINDS)
            raise MalformedValueError(f"a typed value is one of {kinds}, like {{ip: 10.84.0.69}}")
        kind, value = next(iter(value.items()))
    if kind is None:
        raise MalformedValueError(
            f"option {code} has no registered type: give it one, like {{ip: 10.84.0.69}}"
        )
    items = value if isinstance(value, list) else [value]
    if not items or not all(isinstance(item, str) for item in items):
        raise MalformedValueError(f"expected a value of type {kind}, found {shape_of(value)}")
    return kind, dhcp_options.encode(kind, items)


@dataclass(frozen=True)
class VendorOptions:
    """Options that mean what a vendor says: option 43, or option 125 of an enterprise."""

    values: Mapping[int, tuple[str, bytes]]
    """By their codes, the type and the bytes of each."""
    enterprise: int | None = None
    """The vendor's number in the IANA registry of private enterprises."""

    @property
    def code(self) -> int:
        """The option that holds them."""
        return VENDOR_INFORMATION if self.enterprise is None else VENDOR_IDENTIFYING

    @property
    def data(self) -> bytes:
        """Its bytes (RFC 2132 section 8.4, RFC 3925 section 4)."""
        inside = b"".join(
            bytes((code, len(data))) + data for code, (_, data) in self.values.items()
        )
        if self.enterprise is None:
            return inside
        return self.enterprise.to_bytes(4, "big") + bytes((len(inside),)) + inside


VENDOR_INFORMATION, VENDOR_IDENTIFYING = 43, 125

VENDOR_SCHEMA = {
    "type": "object",
    "description": (
        "Options of a vendor by number, each with a typed value; with the number of its enterprise "
        "in option 125, else in option 43"
    ),
    "properties": {"enterprise": {"type": ["string", "integer"]}},
    "patternProperties": {"^[0-9]+$": {"type": "object"}},
    "additionalProperties": False,
    "examples": [{"1": {"ip": "10.84.0.69"}}],
}


def read_vendor_options(value: Any) -> VendorOptions:
    """Options of a vendor as the plan file has them.

    Raises:
        PydanticCustomError: of type ``options``; its context lists (key, message) pairs.
    """
    if isinstance(value, VendorOptions):
        return value
    if not isinstance(value, dict):
        raise MalformedValueError(f"expected a block of options, found {shape_of(value)}")
    read: dict[int, tuple[str, bytes]] = {}
    enterprise: int | None = None
    problems: list[tuple[str, str]] = []
    for key, item in value.items():
        try:
            if key == "enterprise":
                enterprise = _number(item, 0xFFFF_FFFF, "an enterprise's number")
                continue
            code = _number(str(key), 254, "the number of a vendor's option")
            read[code] = _typed(code, None, item)
        except MalformedValueError as error:
            problems.append((str(key), str(error)))
    if problems:
        raise PydanticCustomError("options", "wrong options", {"problems": problems})
    vendor = VendorOptions(read, enterprise)
    if len(vendor.data) > dhcp_options.LONGEST or not read:
        long = f"{len(vendor.data)} bytes, more than {dhcp_options.LONGEST}"
        raise MalformedValueError(f"a vendor's options have {long if read else 'no option'}")
    return vendor


def write_vendor_options(vendor: VendorOptions) -> dict[str, Any]:
    """Options of a vendor as the plan file has them."""
    head = {} if vendor.enterprise is None else {"enterprise": str(vendor.enterprise)}
    written: dict[str, Any] = {}
    for code, (kind, data) in vendor.values.items():
        text = dhcp_options.KINDS[kind][1](data)
        written[str(code)] = {kind: text.split(",") if kind in dhcp_options.LISTS else text}
    return head | written


def _number(text: Any, most: int, what: str) -> int:
    if not isinstance(text, str) or not re.fullmatch("[0-9]{1,10}", text):
        raise MalformedValueError(f"{text!r} is not {what}")
    if not 1 <= int(text) <= most:
        raise MalformedValueError(f"{text} is not {what}: 1 to {most}")
    return int(text)


def _option_key(key: str) -> tuple[int, str | None]:
    registered = dhcp_options.REGISTRY.get(key)
    if registered is None and (not re.fullmatch("[0-9]{1,3}", key) or int(key) > 255):
        raise MalformedValueError(
            f"there is no option {key!r}{hint(key, dhcp_options.REGISTRY)}; "
            "a number from 1 to 254 works too"
        )
    code = int(key) if registered is None else registered.code
    if code in NOT_OPTIONS:  # an option is the same by its name, its number and a key of its own
        raise MalformedValueError(f"option {key} can't be set here: {NOT_OPTIONS[code]}")
    return code, dhcp_options.kind_of(code)
