"""Tells which addresses a fact of a device is about."""

from __future__ import annotations

from typing import cast

from reservoir.core.values.addresses import Prefix, Span
from reservoir.dialects.facts.by_address import addresses_of
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.facts.spans import each_span


class Whereabouts:
    """The addresses that the facts of a device are about."""

    def __init__(self, device: Fact) -> None:
        """Note which pool, which binding by itself and which interface each fact is in."""
        self._interfaces = {fact.get("name"): fact for fact in device.of_kind("interface")}
        self._homes: dict[int, Fact] = {}
        for fact in device.walk():
            if fact.kind == "pool" or (fact.kind == "binding" and id(fact) not in self._homes):
                self._homes |= {id(inner): fact for inner in fact.walk()}
        for interface in self._interfaces.values():
            for fact in interface.of_kind("pool"):
                self._homes[id(fact)] = interface

    def of(self, fact: Fact) -> Span | None:
        """The addresses that a fact is about: those of its pool's subnet, its own, none."""
        if fact.kind == "interface":
            held = addresses_of(fact)
            return Span(held[0].address, held[0].address) if held else None
        if fact.kind == "pool":
            return self._of_pool(fact)
        home = self._homes.get(id(fact))
        if home is not None:
            return self.of(home)
        if fact.kind == "binding" and fact.get("address") is not None:
            return Span(fact.get("address"), fact.get("address"))
        if fact.kind == "exclusion":
            return next(iter(each_span([fact])), None)
        return None

    def _of_pool(self, pool: Fact) -> Span | None:
        if pool.get("subnet") is not None:
            return cast(Prefix, pool.get("subnet")).span
        interface = self._homes.get(id(pool)) or self._interfaces.get(pool.get("interface"))
        held = addresses_of(interface) if interface is not None else ()
        return held[0].span if held else None
