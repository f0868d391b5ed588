"""What some clients are offered otherwise than the others of their network."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from reservoir.core.plan.offered import OFFERED, SHORT_FOR
from reservoir.core.values import options as dhcp_options
from reservoir.core.values.addresses import MalformedValueError


@dataclass(frozen=True)
class OwnValues:
    """What is laid over the offer of a network, key by key."""

    values: Mapping[str, Any]
    """By keys of :data:`OFFERED`; what is falsy takes the network's value away."""
    options: Mapping[int, bytes]
    """Options by their codes; no bytes take the network's option away."""


def own_values_of(said: Mapping[str, Any]) -> OwnValues:
    """The own values that are said by the plan's keys."""
    values = {key: said[key] or field.nothing for key, field in OFFERED.items() if key in said}
    return OwnValues(values, _options(said))


def options_of(part: Any) -> dict[int, bytes]:
    """The options of a part of the plan, by code, those included that have a key of their own."""
    keys = ("options", VENDOR, *SHORT_FOR)
    return _options({key: value for key in keys if (value := getattr(part, key, None)) is not None})


VENDOR = "vendor_options"
"""The key of options 43 and 125 by what is inside them."""


def _options(said: Mapping[str, Any]) -> dict[int, bytes]:
    """The options that are said by the plan's keys."""
    short = {code: str(said[key]).encode() for key, code in SHORT_FOR.items() if key in said}
    vendor = said.get(VENDOR)
    inside = {vendor.code: vendor.data} if vendor is not None else {}
    return {**said.get("options", {}), **short, **inside}


def require_said_once(part: Any) -> None:
    """Refuse an option that is given by its key and by its name.

    Raises:
        MalformedValueError: one is.
    """
    keys = {key: code for key, code in SHORT_FOR.items() if getattr(part, key, None) is not None}
    vendor = getattr(part, VENDOR, None)
    if vendor is not None:
        keys[VENDOR] = vendor.code
    for key, code in keys.items():
        if code in part.options:
            name = dhcp_options.name_of(code)
            raise MalformedValueError(f"{key} is option {code}: leave {name} out of the options")
