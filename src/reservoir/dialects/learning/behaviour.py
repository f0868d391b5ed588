"""What the rows of a draft show of how the device behaves, and what no text shows."""

from __future__ import annotations

from collections.abc import Collection, Mapping, Sequence

from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import Span
from reservoir.dialects.facts.by_address import addresses_of
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.facts.kinds import WORDS
from reservoir.dialects.learning.rows import DraftRow
from reservoir.dialects.sheet.traits import TRAITS

_NOT_SHOWN = (
    "bound-address",
    "own-address",
    "blank-gateway",
    "blank-dns",
    "blank-lease",
    "service",
)
"""Traits that somebody has to be asked for, or look up; the likeliest to differ first."""

_LIKELIEST_PAIR = "one-active"


class _Stated:
    """Which kinds stand in which, and which fields each states."""

    def __init__(self, rows: Sequence[DraftRow]) -> None:
        self.inside: dict[str, set[str]] = {}
        self.fields: dict[str, set[str]] = {}
        self._walk(rows, "device")

    def _walk(self, rows: Sequence[DraftRow], around: str) -> None:
        for row in rows:
            kind = row.kind or around
            if row.kind:
                self.inside.setdefault(row.kind, set()).add(around)
            names = {slot.partition(":")[0] for slot in row.slots}
            if any(name.startswith("range.") for name in names):
                self.inside.setdefault("range", set()).add("pool")
            condition, sign, _ = row.margin.rpartition(" ")[2].partition("=")
            self.fields.setdefault(kind, set()).update(names, {condition} if sign else ())
            self._walk(row.rows, kind)

    def of(self, kind: str) -> set[str]:
        """The fields of a kind that are stated."""
        return self.fields.get(kind, set())


def shown(rows: Sequence[DraftRow]) -> Mapping[str, str]:
    """The traits that the rows show."""
    stated = _Stated(rows)
    pool, where = stated.of("pool"), stated.inside.get("exclusion", set())
    found: dict[str, str] = {}
    if "range" in stated.inside:
        found["assigns"] = "ranges"
    elif where:
        whose = "" if "subnet" in pool else "interface-"
        found["assigns"] = f"{whose}subnet-less-exclusions"
    if {"pool", "device"} <= where:
        found["exclusions"] = "in-pool-and-device-wide"
    elif where:
        found["exclusions"] = "in-pool" if "pool" in where else "device-wide"
    if bound := stated.inside.get("binding"):
        own = "subnet" in stated.of("binding")
        found["bindings"] = (
            "one-address-pool" if own else "table" if "device" in bound else "in-pool"
        )
    if "pool" in stated.inside.get("class", ()):
        found["classes"] = "in-pool"
    elif pool & {*WORDS}:
        found["classes"] = "own-pool"
    if "interface" in pool or stated.inside.get("pool") == {"interface"}:
        found["pool-found-by"] = "joined-interface" if "subnet" in pool else "interface"
    switches = [kind for kind in ("device", "interface") if "service" in stated.of(kind)]
    if switches:
        found["service"] = {"device": "master", "interface": "interface"}[switches[0]]
    if len(switches) > 1:
        found["service"] = "master-and-interface"
    elif "active" in pool:
        found["service"] = "pool"
    return found


def not_shown(rows: Sequence[DraftRow], told: Collection[str]) -> Mapping[str, str]:
    """The traits that have to be looked up, with what is taken until somebody has.

    Args:
        rows: All of a draft.
        told: The traits that are known.
    """
    found = {name: TRAITS[name].default for name in _NOT_SHOWN}
    if {"partner", "leads"} <= _Stated(rows).of("pool"):
        found["pair"] = _LIKELIEST_PAIR
    return {name: value for name, value in found.items() if name not in told}


def shown_by(device: Fact) -> Mapping[str, str]:
    """The traits that what was read shows."""
    return {**_where_bound(device), **_on_one_segment(device)}


def _where_bound(device: Fact) -> Mapping[str, str]:
    """Where bound addresses are, if all of them are among what is excluded or outside of ranges."""

    def spans(kind: str) -> AddressSet:
        facts = (fact for fact in device.walk() if fact.kind == kind)
        both = ((fact.get("first"), fact.get("last")) for fact in facts)
        return AddressSet(Span(a, b) for a, b in both if a is not None and b is not None and a <= b)

    bound = AddressSet.of_addresses(
        [
            f.fields["address"]
            for f in device.walk()
            if f.kind == "binding" and "address" in f.fields
        ]
    )
    excluded, ranges = spans("exclusion"), spans("range")
    if bound and bound <= excluded:
        return {"bound-address": "excluded"}
    return {"bound-address": "outside-ranges"} if bound and ranges and not bound & ranges else {}


def _on_one_segment(device: Fact) -> Mapping[str, str]:
    """Which pools serve a LAN on which the device has several addresses, if there is such a one."""
    legs = list(device.of_kind("interface"))
    others = {prefix.subnet for leg in legs for prefix in addresses_of(leg)[1:]}
    pools = {fact.get("subnet") for fact in device.walk() if fact.kind == "pool"}
    return {"shared-segment": "alike"} if others & pools else {}
