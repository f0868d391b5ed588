"""What clients are offered besides their address and mask."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any, cast

from reservoir.core.plan.model import Network, Plan
from reservoir.core.plan.offered import OFFERED
from reservoir.core.plan.own_values import OwnValues, options_of


@dataclass(frozen=True)
class Offer:
    """What a client is offered besides its address and mask."""

    values: Mapping[str, Any]
    """By the keys of :data:`OFFERED`; a key without a value leaves it to the device."""
    options: Mapping[int, bytes]
    """Other options, by their codes."""

    @property
    def gateway(self) -> int | None:
        """The address of the router."""
        return cast(int | None, self.values["gateway"])

    @property
    def dns(self) -> tuple[int, ...]:
        """The addresses of the DNS servers."""
        return cast(tuple[int, ...], self.values["dns"])

    @property
    def lease(self) -> int | None:
        """The lease time in seconds."""
        return cast(int | None, self.values["lease"])

    def with_value(self, key: str, value: object) -> Offer:
        """The same with another value of a key."""
        return replace(self, values={**self.values, key: value})

    def with_own(self, own: OwnValues) -> Offer:
        """The same with a client's own values laid over it."""
        options = {**self.options, **own.options}
        stated = {code: data for code, data in options.items() if data}
        return Offer({**self.values, **own.values}, stated)

    def encoded(self) -> dict[int, bytes]:
        """All of it that is sent as options, by their codes."""
        values = {
            field.option: field.encode(self.values[key])
            for key, field in OFFERED.items()
            if field.option is not None and self.values.get(key) not in (None, ())
        }
        return {**values, **self.options}


def offer_in(plan: Plan, network: Network) -> Offer:
    """What clients of a network are offered: its own values, else the plan's defaults."""
    defaults = plan.defaults
    values = {}
    for key, field in OFFERED.items():
        value = getattr(network, key)
        if value is None and field.has_default:
            value = getattr(defaults, key)
        values[key] = value or field.nothing  # what is falsy is `none`
    options = {**options_of(defaults), **options_of(network)}
    return Offer(values, {code: data for code, data in options.items() if data})
