"""The facts that a device's configuration states, whatever language it is written in.

Every sheet speaks of these kinds and fields and no others. Lowering makes facts of a plan,
a writer says them, a reader finds them again, lifting makes a plan of them.
"""

from __future__ import annotations

from collections.abc import Iterable, Iterator, Mapping
from dataclasses import dataclass, field
from typing import Any, NamedTuple

from reservoir.core.plan.model import PlanPath
from reservoir.core.values.addresses import format_address


class Kind(NamedTuple):
    """What a kind of fact has."""

    fields: Mapping[str, str]
    """Each field's type, one of those in :mod:`reservoir.dialects.forms`."""
    about_dhcp: bool
    """Whether it is about DHCP, so that a line in it that isn't understood matters."""
    inside: tuple[str, ...]
    """Kinds of fact that it may be in; ``device`` is the top."""


_WHAT_A_CLIENT_IS_TOLD = {
    "subnet": "prefix",
    "gateway": "ip",
    "dns": "ips",
    "domain": "text",
    "lease": "duration",
    "interface": "text",
}

KINDS: Mapping[str, Kind] = {
    "device": Kind({"name": "text", "service": "bool", "resolvers": "ips"}, False, ()),
    "interface": Kind(
        {
            "name": "text",
            "address": "prefix",
            "parent": "text",
            "vlan": "vlan",
            "members": "texts",
            "zone": "text",
            "vrf": "text",
            "enabled": "bool",
            "service": "bool",
            "relay_to": "ips",
            "subinterfaces": "texts",
            "member_of": "text",
            "is_bridge": "bool",
            "file": "text",
        },
        False,
        ("device",),
    ),
    "zone": Kind({"name": "text", "admits": "texts"}, False, ("device",)),
    "route": Kind({"to": "prefix", "via": "ip"}, False, ("device", "interface")),
    "pool": Kind(
        {"name": "text"}
        | _WHAT_A_CLIENT_IS_TOLD
        | {"longest": "duration", "active": "bool", "probe": "bool"},
        True,
        ("device", "interface"),
    ),
    "range": Kind(
        {"first": "ip", "last": "ip", "count": "number", "offset": "number"}, True, ("pool",)
    ),
    "exclusion": Kind({"first": "ip", "last": "ip", "note": "text"}, True, ("pool", "device")),
    "option": Kind(
        {"code": "code", "type": "text", "value": "text", "data": "bytes"},
        True,
        ("pool", "binding"),
    ),
    "binding": Kind(
        {
            "name": "text",
            "address": "ip",
            "mac": "mac",
            "client_id": "identifier",
            "pool": "text",
        }
        | _WHAT_A_CLIENT_IS_TOLD,
        True,
        ("device", "pool", "interface"),
    ),
}
"""Every kind of fact, with its fields."""


def field_type(kind: str, name: str) -> str:
    """The type of a field; ``pool.name`` is a field of the pool that a fact belongs to.

    Raises:
        KeyError: there is no such field.
    """
    if name == RUNNING_NUMBER:
        return "number"
    owner, _, of_owner = name.rpartition(".")
    return KINDS[owner or kind].fields[of_owner]


NOTHING: tuple[()] = ()
"""The value of a field that says that there is none, where leaving it out would say otherwise."""

RUNNING_NUMBER = "#"
"""The field of a slot that counts facts; it means nothing."""

DHCP_FIELDS = frozenset({"service", "relay_to"})
"""Fields that are about DHCP, of whatever kind of fact."""

IDENTITY: Mapping[str, tuple[str, ...]] = {
    "interface": ("name",),
    "zone": ("name",),
    "route": ("to",),
    "pool": ("name",),
    "range": ("first", "offset"),
    "exclusion": ("first", "last"),
    "option": ("code",),
    "binding": ("address",),
}
"""For each kind, the fields by which a fact is told from the others in one place."""

DERIVED: Mapping[str, frozenset[str]] = {
    "interface": frozenset({"subinterfaces", "member_of", "is_bridge", "file"}),
    "pool": frozenset({"longest"}),
    "range": frozenset({"count", "offset"}),
    "option": frozenset({"data"}),
}
"""Fields that say in another way what others say: stated only if a sheet has rows for them."""

KEPT: Mapping[str, tuple[str, ...]] = {
    "device": ("resolvers",),
    "interface": ("file",),
    "pool": ("longest", "probe"),
}
"""For each kind of fact, its fields that a plan cannot model."""

REMARKS = frozenset({("device", "name"), ("exclusion", "note"), ("binding", "name")})
"""Fields that only people read: a dialect without room for them changes nothing for clients."""


@dataclass(slots=True)
class Fact:
    """One thing that a configuration states."""

    kind: str
    fields: dict[str, Any]
    children: list[Fact] = field(default_factory=list)
    line: int = field(default=0, compare=False)
    column: int = field(default=0, compare=False)
    origin: PlanPath = field(default=(), compare=False)
    """Where it comes from in the plan, if it was made of one."""
    said: Mapping[str, int] | None = field(default=None, compare=False)
    """The line of each field that a line inside it states, where that is known."""

    def line_of(self, name: str) -> int:
        """The line of a field: its own if that is known, else the fact's."""
        return (self.said or {}).get(name, self.line)

    def get(self, name: str, otherwise: Any = None) -> Any:
        """A field's value, if it has one."""
        return self.fields.get(name, otherwise)

    def of_kind(self, kind: str) -> Iterator[Fact]:
        """The facts of a kind in it."""
        return (child for child in self.children if child.kind == kind)

    def walk(self) -> Iterator[Fact]:
        """The facts inside it, however deep."""
        for child in self.children:
            yield child
            yield from child.walk()

    @property
    def label(self) -> str:
        """What to call it in a message: ``pool crew``, ``exclusion 10.84.30.40``."""
        for name in ("name", *IDENTITY.get(self.kind, ())):
            value = self.fields.get(name)
            if value is not None:
                its_type = KINDS[self.kind].fields[name]
                return f"{self.kind} {format_address(value) if its_type == 'ip' else value}"
        return self.kind


def facts_at(
    kind: str, fields: Iterable[dict[str, Any]], lines: Iterable[int], column: int
) -> list[Fact]:
    """A fact of a kind for each of some fields, by the line that it is on.

    The same as ``Fact(kind, fields, [], line, column)`` for each, in a third of the time: a
    million calls of an ``__init__`` are what reading a million lines would mostly wait for.
    """
    made = []
    for its_fields, line in zip(fields, lines, strict=True):
        fact = object.__new__(Fact)
        fact.kind, fact.fields, fact.children = kind, its_fields, []
        fact.line, fact.column, fact.origin, fact.said = line, column, (), None
        made.append(fact)
    return made
