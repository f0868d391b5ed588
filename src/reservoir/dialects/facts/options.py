"""Options as devices state them: by type and value."""

from __future__ import annotations

from reservoir.core.values import options as dhcp_options
from reservoir.core.values.addresses import MalformedValueError
from reservoir.dialects.facts.fact import Fact


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
