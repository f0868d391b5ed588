"""Traits: how families of devices behave, in general words, with closed sets of values.

A sheet's header picks one value of each. Lowering, lifting and the device checks ask the trait,
never the dialect's name; so a new family is a new combination of these.
"""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from reservoir.dialects.facts.kinds import WORDS


class Trait(NamedTuple):
    """One behaviour in which families differ."""

    sentence: str
    values: Mapping[str, str]
    """Each value and what it means; empty where the value is a lease time."""
    default: str
    needs: Mapping[str, tuple[str, ...]] = {}
    """For a value, the rows without which a sheet can't have it: a kind, ``KIND in KIND``, or
    ``KIND.FIELD`` for one that states the field; apart by ``or`` where one of some is enough."""
    only_with: Mapping[str, tuple[str, ...]] = {}
    """For a row, the values with which it means something; written as in :attr:`needs`, with
    ``KIND.FIELD=yes`` for one that doesn't only say no."""


_AT_INTERFACE = "pool.interface or pool in interface"
_OF_CLASS = " or ".join(f"pool.{word}" for word in WORDS)
_SEVERAL = "interface.secondary or interface.addresses"

TRAITS: Mapping[str, Trait] = {
    "assigns": Trait(
        "What a pool assigns.",
        {
            "subnet-less-exclusions": "Every host address of its subnet, less exclusions.",
            "interface-subnet-less-exclusions": (
                "Every host address of its interface's subnet, less exclusions."
            ),
            "ranges": "Its ranges, each from first to last address.",
        },
        "ranges",
        {
            "subnet-less-exclusions": ("exclusion",),
            "interface-subnet-less-exclusions": ("exclusion", _AT_INTERFACE),
            "ranges": ("range",),
        },
        {"range in pool": ("ranges",)},
    ),
    "more-ranges": Trait(
        "Ranges beyond a pool's limit.",
        {
            "refused": "The device refuses them.",
            "more-pools": "They go into more pools of the same subnet.",
        },
        "refused",
    ),
    "exclusions": Trait(
        "Where addresses are excluded.",
        {
            "in-pool": "Each pool has its own exclusions.",
            "device-wide": "One list of exclusions for all pools of the device.",
            "in-pool-and-device-wide": "Each pool has its own, and one list is for all pools.",
            "none": "Nowhere; ranges are split around excluded addresses.",
        },
        "none",
        {
            "in-pool": ("exclusion in pool",),
            "device-wide": ("exclusion in device",),
            "in-pool-and-device-wide": ("exclusion in pool", "exclusion in device"),
        },
        {
            "exclusion in pool": ("in-pool", "in-pool-and-device-wide"),
            "exclusion in device": ("device-wide", "in-pool-and-device-wide"),
        },
    ),
    "bindings": Trait(
        "How a client is bound to an address.",
        {
            "table": "One table for the device; the client gets the options of its address's pool.",
            "in-pool": "In the pool, whose options the client gets.",
            "one-address-pool": "Each by its own pool, whose options the client gets.",
        },
        "table",
        {
            "table": ("binding in device",),
            "in-pool": ("binding in pool or binding in interface",),
            "one-address-pool": ("binding in device", "binding.subnet"),
        },
        {
            "binding in pool": ("in-pool",),
            "binding in interface": ("in-pool",),
            "binding in device": ("table", "one-address-pool"),
        },
    ),
    "bound-address": Trait(
        "Where a bound address must be.",
        {
            "anywhere": "Anywhere in the subnet; no other client gets it.",
            "excluded": "Among the excluded addresses.",
            "inside": "In what the pool assigns, and not excluded; no other client gets it.",
            "outside-ranges": "Outside every range.",
        },
        "anywhere",
    ),
    "pool-found-by": Trait(
        "How the device finds the pool for a client.",
        {
            "subnet-or-relay": "By the subnet of the interface or of the relay address.",
            "joined-interface": "By the interface that the pool names, or the relay address.",
            "interface": "By the interface; it doesn't answer relays.",
            "arrival": "By the interface, also for what is relayed: whatever network it is from.",
            "order": "The first with a free address; it doesn't answer relays.",
        },
        "subnet-or-relay",
        dict.fromkeys(("joined-interface", "interface", "arrival"), (_AT_INTERFACE,)),
    ),
    "classes": Trait(
        "What the device makes of kinds of client.",
        {
            "none": "Nothing: all clients of a pool get the same.",
            "in-pool": "A pool says what the members of a class get, and whom it serves.",
            "own-pool": "A pool that names a class serves its members alone, and they no other.",
        },
        "none",
        {"in-pool": ("class in pool",), "own-pool": (_OF_CLASS, "range in pool")},
        {
            "class in pool": ("in-pool",),
            **dict.fromkeys((f"pool.{word}" for word in WORDS), ("own-pool",)),
        },
    ),
    "pair": Trait(
        "How two devices serve one network with their leases in step.",
        {
            "none": "They can't.",
            "one-active": "The first answers; the second does once it doesn't reach the first.",
            "shared": "Each new client is answered by one of both; by either if the other is gone.",
            "halves": (
                "Each assigns half of the addresses and renews any lease; after a time, if one is "
                "stated, one that is left assigns both halves."
            ),
        },
        "none",
        dict.fromkeys(("one-active", "shared", "halves"), ("pool.partner", "pool.leads")),
        dict.fromkeys(
            ("pool.partner", "pool.leads", "pool.after"), ("one-active", "shared", "halves")
        ),
    ),
    "offer": Trait(
        "What an offer says.",
        {
            "whole": "All that the acknowledgement says.",
            "without-dns": "All but the DNS servers, which the acknowledgement adds.",
        },
        "whole",
    ),
    "subnet-named": Trait(
        "A request that names the subnet (RFC 3527, RFC 3011), or a server address (RFC 5107).",
        {"ignored": "The relay's address counts.", "heeded": "What the request names counts."},
        "ignored",
    ),
    "agent-information": Trait(
        "What the device adds to requests that it relays (RFC 3046).",
        {"none": "Nothing.", "interface": "The interface at which they came in."},
        "none",
    ),
    "shared-segment": Trait(
        "Which pools serve a LAN on which the device has several addresses.",
        {
            "primary-only": "That of the primary address's subnet; no other.",
            "in-order": "That of the primary address; when it is full, the next.",
            "alike": "All of them alike.",
            "bindings-only": "That of the primary address; the others serve only bound clients.",
        },
        "primary-only",
        dict.fromkeys(("in-order", "alike", "bindings-only"), (_SEVERAL,)),
    ),
    "unreached-pool": Trait(
        "A pool that neither an interface nor a relay leads to.",
        {
            "idle": "No client ever gets an address from it.",
            "configuration-refused": "The device refuses the whole configuration.",
        },
        "idle",
    ),
    "overlapping-pools": Trait(
        "Pools that share addresses.",
        {"accepted": "The device accepts them.", "refused": "The device refuses the second."},
        "accepted",
    ),
    "impossible-pool": Trait(
        "A pool whose range leaves its subnet, or that binds two clients to one address.",
        {
            "served-in-part": "The device serves what is in the subnet, and the first client.",
            "refused": "The device doesn't serve the pool.",
        },
        "served-in-part",
    ),
    "bridge-member": Trait(
        "DHCP service on an interface that is a bridge member.",
        {"accepted": "It can be enabled, but has no effect.", "refused": "The device refuses."},
        "accepted",
    ),
    "zone": Trait(
        "Whether the interface's zone must admit DHCP.",
        {"open": "No; zones don't matter.", "must-admit-dhcp": "Yes, or requests are dropped."},
        "open",
        {"must-admit-dhcp": ("zone.admits", "interface.zone")},
    ),
    "own-address": Trait(
        "Whether the device assigns an address that it holds itself.",
        {"assigned": "It does, unless the address is excluded.", "skipped": "Never."},
        "assigned",
    ),
    "probe": Trait(
        "Whether an address is probed before it is offered, in case it is in use.",
        {"never": "Never.", "if-enabled": "If the pool enables it."},
        "never",
        {"if-enabled": ("pool.probe",)},
    ),
    "blank-range": Trait(
        "What a pool assigns that has no range.",
        {
            "nothing": "Nothing to clients without a binding.",
            "whole-subnet": "The subnet of its interface; so does one that serves without a pool.",
        },
        "nothing",
    ),
    "blank-gateway": Trait(
        "The gateway that clients are offered if a pool has none.",
        {"nothing": "None.", "own-address": "The address of the device's interface."},
        "nothing",
    ),
    "blank-dns": Trait(
        "The DNS servers that clients are offered if a pool has none.",
        {
            "nothing": "None.",
            "own-address": "The address of the device's interface.",
            "own-resolvers": "Those that the device uses itself.",
            "refused": "None: the device refuses the pool.",
        },
        "nothing",
    ),
    "blank-lease": Trait("The lease time if a pool has none.", {}, "1d"),
    "requested-lease": Trait(
        "Whether a client gets the lease time that it asks for.",
        {"ignored": "No: always the pool's.", "granted": "Yes, up to the longest of the pool."},
        "ignored",
    ),
    "blank-longest": Trait("The longest lease time that is granted if a pool has none.", {}, "1d"),
    "smallest-message": Trait(
        "How the 576 bytes are counted that a client takes which says nothing of it.",
        {
            "with-headers": "With the IP and UDP headers (RFC 2131, section 2).",
            "without-headers": "Without them: a client may not take what it is sent.",
        },
        "with-headers",
    ),
    "long-answer": Trait(
        "What becomes of options that a client's message has no room for.",
        {
            "overloaded": "The fields for a boot file and a name take them, or they are left out.",
            "left-out": "The last ones are left out.",
            "silent": "Nothing is sent.",
        },
        "left-out",
    ),
    "service": Trait(
        "How the DHCP service is enabled.",
        {
            "on-from-factory": "Enabled by default.",
            "master": "For the whole device.",
            "interface": "On each interface.",
            "master-and-interface": "For the whole device, and on each interface.",
            "pool": "For each pool.",
        },
        "on-from-factory",
        {
            "master": ("device.service",),
            "interface": ("interface.service",),
            "master-and-interface": ("device.service", "interface.service"),
            "pool": ("pool.active",),
        },
        {
            "device.service=yes": ("master", "master-and-interface"),
            "interface.service=yes": ("interface", "master-and-interface"),
            "pool.active=yes": ("pool",),
        },
    ),
    "factory-pool": Trait(
        "Whether the device comes with a default pool.",
        {"none": "No.", "kept": "Yes; it can be changed but not removed."},
        "none",
    ),
    "order": Trait(
        "The order in which addresses are assigned.",
        {
            "lowest-first": "Lowest address first.",
            "highest-first": "Highest address first.",
            "least-recently-used": "Addresses never used first, then the one released longest ago.",
            "by-client": "Each client's own place, by a hash; if it is taken, the next free above.",
        },
        "lowest-first",
    ),
    "requested-address": Trait(
        "Whether a new client is offered the address that it asks for.",
        {"offered": "It is, if the address is free.", "ignored": "No: it is offered the next."},
        "offered",
    ),
    "offered-address": Trait(
        "Whether an address is kept for the client to which it was offered.",
        {
            "kept": "For a minute.",
            "not-kept": "No: a new client gets any free address that it asks for, offered or not.",
        },
        "kept",
    ),
    "refused-request": Trait(
        "Which clients are told that they can't have the address that they ask for.",
        {
            "answered": "All but those that it doesn't know, which hear nothing.",
            "answered-on-return": (
                "Those that come back with an address; those with an offer or a lease hear nothing."
            ),
        },
        "answered",
    ),
    "former-address": Trait(
        "Whether a client whose lease has ended is offered the address that it had.",
        {"offered": "It is, if the address is free.", "forgotten": "No: it is a new client."},
        "offered",
    ),
    "declined-for": Trait(
        "How long an address that was declined is assigned to nobody, if it is abandoned.", {}, "1d"
    ),
    "declined-address": Trait(
        "What becomes of an address that a client declines, as another machine has it.",
        {"abandoned": "Nobody gets it for a while.", "kept": "Its client is offered it again."},
        "abandoned",
    ),
    "inform": Trait(
        "Whether clients with addresses of their own are told the options.",
        {"answered": "Yes.", "ignored": "No."},
        "answered",
    ),
}
"""Every trait by name."""

LIMITS: Mapping[str, str] = {
    "pool.dns": "DNS servers per pool",
    "pool.range": "Ranges per pool",
    "pool.exclusion": "Exclusions per pool",
    "interface.pool": "Pools per interface",
    "device.pool": "Pools per device",
    "device.exclusion": "Exclusions per device",
    "device.binding": "Bindings per device",
}
"""What a sheet may limit, and what that counts."""
