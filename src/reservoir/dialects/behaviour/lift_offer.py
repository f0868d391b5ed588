"""Lifting what a pool offers its clients: with the device's defaults made explicit."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import Any, Protocol

from reservoir.core.plan.offered import BY_OPTION, OFFERED, SHORT_FOR
from reservoir.core.values import options as dhcp_options
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import MalformedValueError
from reservoir.core.values.durations import format_duration
from reservoir.dialects.behaviour.device import Behaviour
from reservoir.dialects.behaviour.unsaid import is_unsaid
from reservoir.dialects.facts.fact import NOTHING, Fact
from reservoir.dialects.facts.options import option_data


class LeaveOut(Protocol):
    """Reports a fact that a plan can't say, why, and what it seems to state."""

    def __call__(
        self, fact: Fact, why: object, *states: str, within: Fact | None = None
    ) -> None: ...


@dataclass(frozen=True)
class OfferLifter:
    """Tells what the pools of a device offer."""

    device: Fact
    behaviour: Behaviour
    note: Callable[[Fact, str], None]
    leave_out: LeaveOut

    def offered(self, pool: Fact, own: AddressSet) -> dict[str, Any]:
        options = self._options(pool)
        pool = Fact("pool", {**self._set_by_option(pool, options), **pool.fields}, pool.children)
        lease = self._lease(pool)
        if self.behaviour.offers_own_timezone and pool.get("own_timezone") is not False:
            self.note(pool, "clients that ask for it get the device's own time zone (option 101)")
        return {
            **{key: pool.get(key) for key in OFFERED},
            "gateway": self._gateway(pool, own),
            "dns": self._dns(pool, own),
            "lease": lease,
            "options": options,
        }

    def own(self, fact: Fact) -> dict[str, Any]:
        """What a fact states beside its pool's offer, by the keys of the plan."""
        if not fact.children and _OWN_KEYS.isdisjoint(fact.fields):  # there may be a million
            return {}
        options = self._options(fact)
        stated = {**self._set_by_option(fact, options), **fact.fields}
        own = {key: stated[key] for key in OFFERED if key in stated}
        if own.get("gateway") == NOTHING:
            own["gateway"] = None
        return with_short_keys(own, options)

    def _lease(self, pool: Fact) -> int:
        """The lease time in seconds that clients get that ask for none."""
        lease: int | None = pool.get("lease")
        if lease is None:
            lease = self.behaviour.default_lease
            self.note(pool, f"no lease: the device's default is {format_duration(lease)}")
        if not self.behaviour.grants_requested_lease:
            return lease
        longest: int = pool.get("longest") or self.behaviour.longest_lease
        if longest < lease:
            self.note(pool, f"no lease is longer than {format_duration(longest)}")
        elif pool.get("longest", lease) != lease:
            shown = format_duration(longest)
            self.note(pool, f"clients that ask for it get a lease of up to {shown}")
        return min(lease, longest)

    def _set_by_option(self, pool: Fact, options: dict[int, bytes]) -> dict[str, Any]:
        """The fields that the pool sets by option number; they are removed from the options."""
        fields: dict[str, Any] = {}
        for code in BY_OPTION.keys() & options.keys():
            data = options.pop(code)
            try:
                fields[BY_OPTION[code].key] = BY_OPTION[code].decode(data)
            except MalformedValueError as error:
                its = next(fact for fact in pool.of_kind("option") if fact.get("code") == code)
                self.leave_out(its, error, "option", within=pool)
        return fields

    def _gateway(self, pool: Fact, own: AddressSet) -> int | None:
        gateway = pool.get("gateway")
        if is_unsaid(pool, "gateway"):
            return None
        if gateway is not None:
            return None if gateway == NOTHING else int(gateway)
        if self.behaviour.offers_own_gateway and own:
            self.note(pool, "no gateway: the device offers its own address")
            return own.first
        return None

    def _dns(self, pool: Fact, own: AddressSet) -> tuple[int, ...]:
        dns: tuple[int, ...] | None = pool.get("dns")
        if is_unsaid(pool, "dns"):
            return ()
        if dns is not None:
            return dns
        if self.behaviour.offers_own_dns and own:
            self.note(pool, "no DNS server: the device offers its own address")
            return (own.first,)
        if self.behaviour.offers_own_resolvers:
            self.note(pool, "no DNS server: the device offers those that it uses itself")
            return tuple(self.device.get("resolvers", ()))
        return ()

    def _options(self, pool: Fact) -> dict[int, bytes]:
        options = {}
        for fact in pool.of_kind("option"):
            code, data = fact.get("code"), fact.get("data")
            try:
                if code in dhcp_options.MANAGED:
                    raise MalformedValueError(dhcp_options.MANAGED[code])
                options[code] = option_data(fact) if data is None else data
                if len(options[code]) > dhcp_options.LONGEST:
                    long = len(options.pop(code))
                    raise MalformedValueError(f"its value has {long} bytes, more than 255")
            except MalformedValueError as error:
                self.leave_out(fact, error, "option", within=pool)
        for key, code in SHORT_FOR.items():
            if pool.get(key) is not None:
                options[code] = str(pool.get(key)).encode()
        options.pop(None, None)
        return options


_OWN_KEYS = frozenset((*OFFERED, *SHORT_FOR))


def with_short_keys(own: dict[str, Any], options: dict[int, bytes]) -> dict[str, Any]:
    """A client's own values with its options, by the keys that are short for some of these."""
    for key, code in SHORT_FOR.items():
        if code in options and dhcp_options.decode(code, options[code])[0] == "text":
            own[key] = options.pop(code).decode()
    return own | ({"options": options} if options else {})


def apart(offered: Mapping[str, Any], its: Mapping[str, Any]) -> dict[str, Any]:
    """What one pool offers otherwise than another, as a plan's keys have it."""
    usual, own = offered["options"], its["options"]
    options = {code: own.get(code, b"") for code in (*usual, *own)}
    changed = {code: data for code, data in options.items() if usual.get(code) != data}
    values = {key: its[key] for key in OFFERED if its[key] != offered[key]}
    return with_short_keys({k: _or_none(k, v) for k, v in values.items()}, changed)


def _or_none(key: str, value: Any) -> Any:
    """A value as a plan's key has it, where what is falsy says that there is none."""
    if value is not None or key == "gateway":
        return value
    return 0 if OFFERED[key].type in ("ip", "duration") else ""
