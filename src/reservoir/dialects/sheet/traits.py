"""Traits: how families of devices behave, in general words, with closed sets of values.

A sheet's header picks one value of each. Lowering, lifting and the device checks ask the trait,
never the dialect's name; so a new family is a new combination of these.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple


class Trait(NamedTuple):
    """One behaviour in which families differ."""

    sentence: str
    values: Mapping[str, str]
    """Each value and what it means; empty where the value is a lease time."""
    default: str
    needs: Mapping[str, tuple[str, ...]] = {}
    """For a value, the rows without which a sheet can't have it: a kind, ``KIND in KIND``, or
    ``KIND.FIELD`` for one that states the field; apart by ``or`` where one of some is enough."""


_AT_INTERFACE = "pool.interface or pool in interface"

TRAITS: Mapping[str, Trait] = {
    "lends": Trait(
        "What a pool lends.",
        {
            "subnet-less-exclusions": "Every host address of its subnet that isn't excluded.",
            "interface-subnet-less-exclusions": (
                "Every host address of its interface's subnet that isn't excluded."
            ),
            "ranges": "What its ranges name, from first to last address.",
        },
        "ranges",
        {
            "subnet-less-exclusions": ("exclusion",),
            "interface-subnet-less-exclusions": ("exclusion", _AT_INTERFACE),
            "ranges": ("range",),
        },
    ),
    "more-ranges": Trait(
        "What becomes of more ranges than a pool holds.",
        {
            "refused": "The device refuses them.",
            "more-pools": "They go into further pools of the subnet.",
        },
        "refused",
    ),
    "exclusions": Trait(
        "Where addresses are kept out.",
        {
            "in-pool": "Each pool has exclusions of its own.",
            "device-wide": "One list of exclusions serves all pools of the device.",
            "in-pool-and-device-wide": "Each pool has its own, and one list serves all pools too.",
            "none": "Nowhere; ranges are split around what is kept out.",
        },
        "none",
        {
            "in-pool": ("exclusion in pool",),
            "device-wide": ("exclusion in device",),
            "in-pool-and-device-wide": ("exclusion in pool", "exclusion in device"),
        },
    ),
    "bindings": Trait(
        "How a client is bound to an address.",
        {
            "table": "One table for the device; the client is told what its address's pool tells.",
            "in-pool": "In the pool, which says what the client is told.",
            "one-address-pool": "Each by a pool of its own, which says what the client is told.",
        },
        "table",
        {
            "table": ("binding in device",),
            "in-pool": ("binding in pool or binding in interface",),
            "one-address-pool": ("binding in device", "binding.subnet"),
        },
    ),
    "bound-address": Trait(
        "Where a bound address must lie.",
        {
            "anywhere": "Anywhere in the subnet; it isn't lent to anybody else.",
            "excluded": "Among the excluded addresses.",
            "inside": "Inside what the pool lends, and not excluded; nobody else is lent it.",
            "outside-ranges": "Outside every range.",
        },
        "anywhere",
    ),
    "pool-found-by": Trait(
        "How the device finds the pool for a client.",
        {
            "subnet-or-relay": "By the subnet of the interface or of the relay address.",
            "joined-interface": "By the interface that the pool names, or the relay address.",
            "interface": "By the interface; it answers no relay.",
            "order": "It takes the first that has an address left; it answers no relay.",
        },
        "subnet-or-relay",
        {"joined-interface": (_AT_INTERFACE,), "interface": (_AT_INTERFACE,)},
    ),
    "unreached-pool": Trait(
        "What becomes of a pool that neither an interface nor a relay leads to.",
        {
            "idle": "Nobody is ever lent anything from it.",
            "configuration-refused": "The device refuses the whole configuration.",
        },
        "idle",
    ),
    "overlapping-pools": Trait(
        "What becomes of pools that share addresses.",
        {"accepted": "The device takes them.", "refused": "The device refuses the second."},
        "accepted",
    ),
    "bridge-member": Trait(
        "Whether lending can be switched on at an interface that is part of a bridge.",
        {"accepted": "It can, to no avail.", "refused": "The device refuses."},
        "accepted",
    ),
    "zone": Trait(
        "Whether a client's request has to be let in by the interface's zone.",
        {"open": "Zones don't matter.", "must-admit-dhcp": "The zone must admit dhcp."},
        "open",
        {"must-admit-dhcp": ("zone.admits", "interface.zone")},
    ),
    "own-address": Trait(
        "Whether the device would lend an address that it holds itself.",
        {"lent": "It would, unless it is excluded.", "skipped": "It never does."},
        "lent",
    ),
    "probe": Trait(
        "Whether an address is tried before it is lent, in case somebody holds it.",
        {"never": "It isn't.", "if-told": "It is where the pool says so."},
        "never",
        {"if-told": ("pool.probe",)},
    ),
    "blank-gateway": Trait(
        "What clients are told where a pool names no gateway.",
        {"nothing": "Nothing.", "own-address": "The address of the device's interface."},
        "nothing",
    ),
    "blank-dns": Trait(
        "What clients are told where a pool names no DNS server.",
        {
            "nothing": "Nothing.",
            "own-address": "The address of the device's interface.",
            "own-resolvers": "The servers that the device itself asks.",
            "refused": "The device refuses the pool.",
        },
        "nothing",
    ),
    "blank-lease": Trait("The lease time where a pool names none.", {}, "1d"),
    "service": Trait(
        "What switches lending on.",
        {
            "on-from-factory": "It is on unless it is switched off.",
            "master": "A master switch.",
            "interface": "A switch at each interface.",
            "master-and-interface": "A master switch, and one at each interface.",
            "pool": "A switch at each pool.",
        },
        "on-from-factory",
        {
            "master": ("device.service",),
            "interface": ("interface.service",),
            "master-and-interface": ("device.service", "interface.service"),
            "pool": ("pool.active",),
        },
    ),
    "factory-pool": Trait(
        "Whether the device comes with a pool.",
        {"none": "It has none.", "kept": "The first is there already; it can't be removed."},
        "none",
    ),
    "order": Trait(
        "In which order addresses are lent.",
        {
            "lowest-first": "From the lowest address upwards.",
            "highest-first": "From the highest address downwards.",
            "least-recently-used": "Those never lent first, then the one given back longest ago.",
            "by-client": "Each client has its place, worked out from its identity.",
        },
        "lowest-first",
    ),
}
"""Every trait by name."""

LIMITS: Mapping[str, str] = {
    "pool.dns": "DNS servers for a pool",
    "pool.range": "Ranges in a pool",
    "pool.exclusion": "Exclusions in a pool",
    "interface.pool": "Pools at an interface",
    "device.pool": "Pools on the device",
    "device.exclusion": "Exclusions on the device",
    "device.binding": "Bindings on the device",
}
"""What a sheet may limit, and what that counts; fitting keeps within it."""
