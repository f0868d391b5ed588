"""The table of facts: the kinds of things that a configuration states, and their fields.

Every sheet uses these kinds and fields and no others. What clients can be offered comes from the
plan's own table.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from reservoir.core.plan.offered import OFFERED, SHORT_FOR


class Field(NamedTuple):
    """A field of a kind of fact."""

    type: str
    """The type of its value: one of those in :mod:`reservoir.dialects.forms`."""
    is_identity: bool = False
    """Whether it tells a fact from the others in one place."""
    is_planned: bool = False
    """Whether the plan has it under the same key."""
    is_optional: bool = False
    """Whether a sound plan may lack it, so that no sheet may require it."""
    is_remark: bool = False
    """Whether only people read it: a dialect without it changes nothing for clients."""
    is_kept: bool = False
    """Whether the plan cannot model it, and keeps it to write it back unchanged."""
    is_derived: bool = False
    """Whether it only restates other fields, for sheets that have rows for it."""
    about_dhcp: bool = False
    """Whether it is about DHCP, of whatever kind of fact."""
    restates: str = ""
    """The field of another interface that it states from the other side, or the field of the same
    fact that it equals unless it is stated."""


class Kind(NamedTuple):
    """A kind of fact."""

    fields: Mapping[str, Field]
    about_dhcp: bool
    """Whether it is about DHCP, so that a line in it that isn't understood matters."""
    inside: tuple[str, ...]
    """Kinds of fact that it may be in; ``device`` is the top."""
    part: str = ""
    """The part of a sheet that its rows stand in; empty for the configuration itself."""

    @property
    def identity(self) -> tuple[str, ...]:
        """The fields by which a fact is told from the others in one place."""
        return tuple(name for name, field in self.fields.items() if field.is_identity)

    @property
    def kept(self) -> tuple[str, ...]:
        """The fields that the plan cannot model."""
        return tuple(name for name, field in self.fields.items() if field.is_kept)

    @property
    def planned(self) -> tuple[str, ...]:
        """The fields that the plan has under the same key."""
        return tuple(name for name, field in self.fields.items() if field.is_planned)


_PLACE = {"subnet": Field("prefix"), "interface": Field("text")}
_OFFER = {
    key: Field(offered.type, is_planned=True, is_optional=not offered.is_required)
    for key, offered in OFFERED.items()
}

_SHORT = {key: Field("text", is_optional=True, is_derived=True) for key in SHORT_FOR}
"""Options that a row may state by themselves."""

_WORDS = {
    "vendor_class": Field("text", is_optional=True),
    "user_class": Field("text", is_optional=True),
    "architecture": Field("numbers", is_optional=True),
    "mac_beginning": Field("mac_beginning", is_optional=True),
    "circuit": Field("text", is_optional=True),
    "remote": Field("text", is_optional=True),
}
"""What the members of a class say of themselves."""

LEASES = "leases"
"""The part of a sheet that says how the device prints its table of leases."""

LEASE_STATES = ("active", "ended", "reserved", "declined", "unclear")
"""What a lease may be: a client has it; had it; may have it, as its binding; nobody may; somebody
has it, of whom the table shows too little."""

KINDS: Mapping[str, Kind] = {
    "device": Kind(
        {
            "name": Field("text", is_remark=True),
            "service": Field("bool", about_dhcp=True),
            "resolvers": Field("ips", is_kept=True),
        },
        False,
        (),
    ),
    "interface": Kind(
        {
            "name": Field("text", is_identity=True),
            "address": Field("prefix", is_optional=True),
            "secondary": Field("prefixes", is_optional=True),
            "addresses": Field("prefixes", is_optional=True, is_derived=True),
            "parent": Field("text", is_planned=True, is_optional=True),
            "vlan": Field("vlan", is_planned=True, is_optional=True),
            "members": Field("texts", is_planned=True, is_optional=True),
            "zone": Field("text", is_planned=True, is_optional=True),
            "vrf": Field("text", is_planned=True),
            "relay_to": Field("ips", is_planned=True, about_dhcp=True),
            "enabled": Field("bool"),
            "service": Field("bool", about_dhcp=True),
            "subinterfaces": Field("texts", is_derived=True, restates="parent"),
            "member_of": Field("text", is_derived=True, restates="members"),
            "is_bridge": Field("bool", is_derived=True),
            "file": Field("text", is_derived=True, is_kept=True, restates="name"),
        },
        False,
        ("device",),
    ),
    "zone": Kind(
        {"name": Field("text", is_identity=True), "admits": Field("texts")}, False, ("device",)
    ),
    "route": Kind(
        {"to": Field("prefix", is_identity=True), "via": Field("ip")},
        False,
        ("device", "interface"),
    ),
    "pool": Kind(
        {"name": Field("text", is_identity=True)}
        | _PLACE
        | _OFFER
        | {"boot_file": _SHORT["boot_file"]}
        | _WORDS
        | {
            "admits": Field("texts", is_optional=True),
            "partner": Field("ip", is_optional=True),
            "leads": Field("bool", is_optional=True),
            "after": Field("duration", is_optional=True),
            "longest": Field("duration", is_derived=True, is_kept=True, restates="lease"),
            "active": Field("bool"),
            "own_timezone": Field("bool", is_optional=True),
            "says_gateway": Field("bool", is_derived=True),
            "says_dns": Field("bool", is_derived=True),
            "unsaid_gateway": Field("ip", is_kept=True),
            "unsaid_dns": Field("ips", is_kept=True),
            "probe": Field("bool", is_kept=True),
        },
        True,
        ("device", "interface"),
    ),
    "range": Kind(
        {
            "first": Field("ip", is_identity=True),
            "last": Field("ip"),
            "count": Field("number", is_derived=True),
            "offset": Field("number", is_identity=True, is_derived=True),
        },
        True,
        ("pool", "class"),
    ),
    "exclusion": Kind(
        {
            "first": Field("ip", is_identity=True),
            "last": Field("ip", is_identity=True),
            "note": Field("text", is_optional=True, is_remark=True),
        },
        True,
        ("pool", "device"),
    ),
    "option": Kind(
        {
            "code": Field("code", is_identity=True),
            "type": Field("text"),
            "value": Field("text"),
            "data": Field("bytes", is_derived=True),
        },
        True,
        ("pool", "binding", "class"),
    ),
    "class": Kind(
        {"name": Field("text", is_identity=True)}
        | _WORDS
        | {key: field._replace(is_planned=False) for key, field in _OFFER.items()}
        | {"boot_file": _SHORT["boot_file"]},
        True,
        ("device", "pool"),
    ),
    "binding": Kind(
        {
            "name": Field("text", is_remark=True),
            "address": Field("ip", is_identity=True),
            "mac": Field("mac"),
            "client_id": Field("identifier"),
            "pool": Field("text"),
        }
        | _PLACE
        | _OFFER
        | _SHORT,
        True,
        ("device", "pool", "interface"),
    ),
    "lease": Kind(
        {
            "address": Field("ip", is_identity=True),
            "mac": Field("mac"),
            "client_id": Field("identifier"),
            "name": Field("text", is_optional=True),
            "starts": Field("moment", is_optional=True),
            "expires": Field("moment", is_optional=True),
            "left": Field("duration", is_optional=True),
            "state": Field("state", is_optional=True),
            "server": Field("text", is_optional=True),
        },
        True,
        ("device",),
        LEASES,
    ),
}
"""Every kind of fact, with its fields."""

ITEMS = {"ips": "ip", "texts": "text", "prefixes": "prefix", "numbers": "number"}
"""The type of the items of each type of list."""

RUNNING_NUMBER = "#"
"""The field of a slot that counts facts; it means nothing."""

WORDS = tuple(_WORDS)
"""The fields of what the members of a class say of themselves."""

DHCP_FIELDS = frozenset(
    name for kind in KINDS.values() for name, field in kind.fields.items() if field.about_dhcp
)
"""Fields that are about DHCP, of whatever kind of fact."""


LABEL = "@"
"""Begins the name of a field by which lines elsewhere refer to a fact; it means nothing else."""

EACH = "*"
"""Stands for a field in a link to every fact of a kind."""


def field_type(kind: str, name: str) -> str:
    """The type of a field; ``pool.name`` is a field of the pool that a fact belongs to.

    Raises:
        KeyError: there is no such field.
    """
    if name == RUNNING_NUMBER:
        return "number"
    owner, _, of_owner = name.rpartition(".")
    if of_owner.startswith(LABEL):
        return "text"
    return KINDS[owner or kind].fields[of_owner].type
