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
    options = {code: str(said[key]).encode() for key, code in SHORT_FOR.items() if key in said}
    return OwnValues(values, {**said.get("options", {}), **options})


def options_of(part: Any) -> dict[int, bytes]:
    """The options of a part of the plan, by code, those included that have a key of their own."""
    short = {code: getattr(part, key, None) for key, code in SHORT_FOR.items()}
    said = {code: text.encode() for code, text in short.items() if text is not None}
    return {**part.options, **said} if said else dict(part.options)


def require_said_once(part: Any) -> None:
    """Refuse an option that is given by its key and by its name.

    Raises:
        MalformedValueError: one is.
    """
    for key, code in SHORT_FOR.items():
        if code in part.options and getattr(part, key, None) is not None:
            name = dhcp_options.name_of(code)
            raise MalformedValueError(f"{key} is option {code}: leave {name} out of the options")
