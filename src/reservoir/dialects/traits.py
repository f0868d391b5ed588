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


TRAITS: Mapping[str, Trait] = {
    "lends": Trait(
        "What a pool lends.",
        {
            "subnet-less-exclusions": "Every host address of its subnet that isn't excluded.",
            "ranges": "What its ranges name, from first to last address.",
        },
        "ranges",
    ),
    "exclusions": Trait(
        "Where addresses are kept out.",
        {
            "in-pool": "Each pool has exclusions of its own.",
            "device-wide": "One list of exclusions serves all pools of the device.",
            "none": "Nowhere; ranges are split around what is kept out.",
        },
        "none",
    ),
    "bindings": Trait(
        "How a client is bound to an address.",
        {
            "table": "One table for the device; the client is told what its address's pool tells.",
            "one-address-pool": "Each by a pool of its own, which says what the client is told.",
        },
        "table",
    ),
    "bound-address": Trait(
        "Where a bound address must lie.",
        {
            "anywhere": "Anywhere in the subnet; it isn't lent to anybody else.",
            "excluded": "Among the excluded addresses.",
            "outside-ranges": "Outside every range.",
        },
        "anywhere",
    ),
    "pool-found-by": Trait(
        "How the device finds the pool for a client.",
        {
            "subnet-or-relay": "By the subnet of the interface or of the relay address.",
            "joined-interface": "By the interface that the pool names, or the relay address.",
        },
        "subnet-or-relay",
    ),
    "own-address": Trait(
        "Whether the device would lend an address that it holds itself.",
        {"lent": "It would, unless it is excluded.", "skipped": "It never does."},
        "lent",
    ),
    "blank-gateway": Trait(
        "What clients are told where a pool names no gateway.",
        {"nothing": "Nothing.", "own-address": "The address of the device's interface."},
        "nothing",
    ),
    "blank-dns": Trait(
        "What clients are told where a pool names no DNS server.",
        {"nothing": "Nothing.", "refused": "The device refuses the pool."},
        "nothing",
    ),
    "blank-lease": Trait("The lease time where a pool names none.", {}, "1d"),
    "service": Trait(
        "What switches lending on.",
        {
            "on-from-factory": "It is on unless it is switched off.",
            "master-and-interface": "A master switch, and one at each interface.",
        },
        "on-from-factory",
    ),
    "order": Trait(
        "In which order addresses are lent.",
        {
            "lowest-first": "From the lowest address upwards.",
            "highest-first": "From the highest address downwards.",
        },
        "lowest-first",
    ),
}
"""Every trait by name."""

LIMITS: Mapping[str, str] = {
    "pool.dns": "DNS servers for a pool",
    "device.exclusion": "exclusions on the device",
}
"""What a sheet may limit, and what that counts; lowering and fitting keep within it."""
