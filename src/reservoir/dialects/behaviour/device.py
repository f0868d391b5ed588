"""What a device does, as its sheet's traits say. Nothing else asks a trait by its name."""

from __future__ import annotations

import hashlib
from dataclasses import dataclass
from typing import Protocol

from reservoir.core.plan.offered import OfferedField
from reservoir.core.values.durations import parse_duration
from reservoir.core.values.message_room import HEADERS
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.facts.kinds import KINDS
from reservoir.dialects.sheet.model import Sheet


class FreeAddresses(Protocol):
    """The assignable addresses that nobody has, in ascending order."""

    def __len__(self) -> int: ...

    def nth(self, place: int) -> int:
        """The address at this place."""

    def at_or_above(self, place: int) -> int:
        """The one at this place among all assignable addresses, free or not; else the next above.

        Both counted round: after the highest address comes the lowest.
        """

    def longest_unused(self) -> int:
        """One that nobody ever had, the lowest; else the one that was given back longest ago."""


@dataclass(frozen=True)
class Behaviour:
    """The behaviour of devices of one dialect."""

    sheet: Sheet

    def limit(self, what: str) -> int | None:
        """The most that the device holds, ``pool.dns`` for example; None if there is no limit."""
        return self.sheet.limits.get(what)

    # What a pool assigns.

    @property
    def assigns_ranges(self) -> bool:
        """Whether a pool assigns its ranges, rather than a whole subnet less exclusions."""
        return self.sheet.trait("assigns") == "ranges"

    @property
    def assigns_interface_subnet(self) -> bool:
        """Whether a pool assigns the subnet of its interface, whatever the plan's subnet is."""
        return self.sheet.trait("assigns") == "interface-subnet-less-exclusions"

    @property
    def spreads_ranges_over_pools(self) -> bool:
        """Whether ranges beyond a pool's limit go into further pools."""
        return self.sheet.trait("more-ranges") == "more-pools"

    @property
    def has_exclusions(self) -> bool:
        """Whether it has exclusions at all; else ranges are split around excluded addresses."""
        return self.sheet.trait("exclusions") != "none"

    @property
    def excludes_in_pool(self) -> bool:
        """Whether each pool has its own exclusions."""
        return self.sheet.trait("exclusions").startswith("in-pool")

    @property
    def excludes_device_wide(self) -> bool:
        """Whether one list of exclusions applies to all pools."""
        return self.sheet.trait("exclusions").endswith("device-wide")

    @property
    def skips_own_address(self) -> bool:
        """Whether it never assigns an address that it holds itself."""
        return self.sheet.trait("own-address") == "skipped"

    def probes(self, pool: Fact) -> bool:
        """Whether it probes an address before it offers it to a client of a pool."""
        return self.sheet.trait("probe") == "if-enabled" and bool(pool.get("probe"))

    def next_address(self, free: FreeAddresses, identifier: bytes) -> int | None:
        """The address that a client without a binding is offered.

        Args:
            free: The assignable addresses that nobody has.
            identifier: Who the client is.

        Returns:
            The address; None if none is free.
        """
        if not len(free):
            return None
        order = self.sheet.trait("order")
        if order == "highest-first":
            return free.nth(len(free) - 1)
        if order == "by-client":
            place = int.from_bytes(hashlib.sha256(identifier).digest()[:8], "big")
            return free.at_or_above(place)
        if order == "least-recently-used":
            return free.longest_unused()
        return free.nth(0)

    # What it makes of requests.

    @property
    def offers_requested_address(self) -> bool:
        """Whether a new client is offered the address that it asks for, if that is free."""
        return self.sheet.trait("requested-address") == "offered"

    @property
    def keeps_offers(self) -> bool:
        """Whether an address is kept for the client to which it was offered."""
        return self.sheet.trait("offered-address") == "kept"

    @property
    def refuses_returning_only(self) -> bool:
        """Whether only clients that come back with an address hear that they can't have it."""
        return self.sheet.trait("refused-request") == "answered-on-return"

    @property
    def abandons_declined(self) -> bool:
        """Whether an address that a client declines is not assigned again."""
        return self.sheet.trait("declined-address") == "abandoned"

    @property
    def answers_inform(self) -> bool:
        """Whether clients with addresses of their own are told the options."""
        return self.sheet.trait("inform") == "answered"

    # Bindings.

    @property
    def binds_by_pools(self) -> bool:
        """Whether each binding is a pool of its own, with one address."""
        return self.sheet.trait("bindings") == "one-address-pool"

    @property
    def binds_in_pool(self) -> bool:
        """Whether bindings are part of their pool."""
        return self.sheet.trait("bindings") == "in-pool"

    @property
    def offers_host_names(self) -> bool:
        """Whether it can offer a bound client a host name of its own."""
        by_number = self.sheet.stands_in("option", "binding")
        return by_number or self.sheet.mentions("binding", "hostname")

    @property
    def reserves_bound_addresses(self) -> bool:
        """Whether it keeps a bound address from other clients without an exclusion."""
        return self.sheet.trait("bound-address") in ("anywhere", "inside")

    @property
    def binds_anywhere(self) -> bool:
        """Whether a bound address may be anywhere in the subnet."""
        return self.sheet.trait("bound-address") == "anywhere"

    @property
    def binds_excluded_only(self) -> bool:
        """Whether a bound address must be excluded."""
        return self.sheet.trait("bound-address") == "excluded"

    @property
    def binds_inside_only(self) -> bool:
        """Whether a bound address must be in what the pool assigns, and not excluded."""
        return self.sheet.trait("bound-address") == "inside"

    @property
    def binds_outside_only(self) -> bool:
        """Whether a bound address must be outside every range."""
        return self.sheet.trait("bound-address") == "outside-ranges"

    # Pairs.

    @property
    def pairs(self) -> bool:
        """Whether it can keep its leases in step with another device of its family."""
        return self.sheet.trait("pair") != "none"

    @property
    def only_one_answers(self) -> bool:
        """Whether of a pair the first alone answers, while it is there."""
        return self.sheet.trait("pair") == "one-active"

    @property
    def shares_clients(self) -> bool:
        """Whether of a pair each answers some clients, while the other is there."""
        return self.sheet.trait("pair") == "shared"

    @property
    def assigns_halves(self) -> bool:
        """Whether of a pair each assigns half of the addresses."""
        return self.sheet.trait("pair") == "halves"

    # Which pool serves a client.

    @property
    def answers_by_class(self) -> bool:
        """Whether a pool says what members of a class get."""
        return self.sheet.trait("classes") == "in-pool"

    @property
    def serves_classes_by_pools(self) -> bool:
        """Whether a class is served by a pool of its own."""
        return self.sheet.trait("classes") == "own-pool"

    def tells_apart_by(self, word: str) -> bool:
        """Whether it knows clients by something that they say."""
        return self.sheet.mentions("class" if self.answers_by_class else "pool", word)

    @property
    def uses_pools_in_order(self) -> bool:
        """Whether it assigns from the first pool with a free address, whatever the network."""
        return self.sheet.trait("pool-found-by") == "order"

    @property
    def answers_relays(self) -> bool:
        """Whether it answers relayed requests."""
        return self.sheet.trait("pool-found-by") not in ("interface", "arrival", "order")

    @property
    def joins_pools_to_interfaces(self) -> bool:
        """Whether a pool names its interface."""
        return self.sheet.trait("pool-found-by") in ("joined-interface", "interface", "arrival")

    @property
    def names_interface_in_pools(self) -> bool:
        """Whether a pool serves the clients at the interface that it names, and at no other."""
        return self.sheet.trait("pool-found-by") == "joined-interface"

    @property
    def assigns_by_secondary(self) -> bool:
        """Whether it assigns from the pools of an interface's secondary addresses."""
        return self.sheet.trait("shared-segment") in ("in-order", "alike")

    @property
    def binds_by_secondary(self) -> bool:
        """Whether it heeds bindings in the subnets of an interface's secondary addresses."""
        return self.sheet.trait("shared-segment") != "primary-only"

    @property
    def refuses_unreached_pools(self) -> bool:
        """Whether it refuses its whole configuration if no interface or relay leads to a pool."""
        return self.sheet.trait("unreached-pool") == "configuration-refused"

    @property
    def refuses_overlapping_pools(self) -> bool:
        """Whether it refuses a pool that shares addresses with an earlier one."""
        return self.sheet.trait("overlapping-pools") == "refused"

    @property
    def refuses_bridge_members(self) -> bool:
        """Whether it refuses to serve DHCP on a member of a bridge."""
        return self.sheet.trait("bridge-member") == "refused"

    @property
    def zone_must_admit_dhcp(self) -> bool:
        """Whether requests are dropped unless the interface's zone admits DHCP."""
        return self.sheet.trait("zone") == "must-admit-dhcp"

    # What it offers where a pool says nothing.

    @property
    def default_lease(self) -> int:
        """The lease time in seconds where a pool has none."""
        return parse_duration(self.sheet.trait("blank-lease"))

    @property
    def offers_own_timezone(self) -> bool:
        """Whether clients that ask for a time zone get the device's own, unless told otherwise."""
        return self.sheet.mentions("pool", "own_timezone")

    @property
    def grants_requested_lease(self) -> bool:
        """Whether a client gets the lease time that it asks for, up to the longest."""
        return self.sheet.trait("requested-lease") == "granted"

    @property
    def longest_lease(self) -> int:
        """The longest lease time in seconds where a pool has none."""
        return parse_duration(self.sheet.trait("blank-longest"))

    @property
    def long_answer(self) -> str:
        """What becomes of options without room: ``overloaded``, ``left-out`` or ``silent``."""
        return self.sheet.trait("long-answer")

    @property
    def headers_counted(self) -> int:
        """Bytes of headers that it takes off what a client takes that says nothing of it."""
        return HEADERS if self.sheet.trait("smallest-message") == "with-headers" else 0

    @property
    def remembers_clients(self) -> bool:
        """Whether a client whose lease has ended is offered its former address, if it is free."""
        return self.sheet.trait("former-address") == "offered"

    @property
    def declined_for(self) -> int:
        """Seconds for which nobody is assigned an address that was declined."""
        return parse_duration(self.sheet.trait("declined-for"))

    @property
    def refuses_impossible_pools(self) -> bool:
        """Whether it refuses a pool that leaves its subnet, or binds an address twice."""
        return self.sheet.trait("impossible-pool") == "refused"

    @property
    def offers_without_dns(self) -> bool:
        """Whether only the acknowledgement says the DNS servers, not the offer before it."""
        return self.sheet.trait("offer") == "without-dns"

    @property
    def heeds_subnet_named(self) -> bool:
        """Whether it serves the subnet that a request names, and is known as the relay says."""
        return self.sheet.trait("subnet-named") == "heeded"

    @property
    def adds_circuit(self) -> bool:
        """Whether it adds to what it relays the interface at which that came in."""
        return self.sheet.trait("agent-information") == "interface"

    @property
    def assigns_by_arrival(self) -> bool:
        """Whether it answers a relayed request as if a client had sent it to its interface."""
        return self.sheet.trait("pool-found-by") == "arrival"

    @property
    def offers_own_gateway(self) -> bool:
        """Whether it offers its own address as the gateway where a pool has none."""
        return self.sheet.trait("blank-gateway") == "own-address"

    @property
    def assigns_whole_subnets(self) -> bool:
        """Whether it assigns the whole subnet where a pool has no range."""
        return self.sheet.trait("blank-range") == "whole-subnet"

    @property
    def offers_own_dns(self) -> bool:
        """Whether it offers its own address as the DNS server where a pool has none."""
        return self.sheet.trait("blank-dns") == "own-address"

    @property
    def offers_own_resolvers(self) -> bool:
        """Whether it offers the DNS servers that it uses itself where a pool has none."""
        return self.sheet.trait("blank-dns") == "own-resolvers"

    def fills_in(self, key: str) -> bool:
        """Whether it offers something of its own where a pool doesn't state a field."""
        filled = {
            "gateway": self.offers_own_gateway,
            "dns": self.offers_own_dns or self.offers_own_resolvers,
            "lease": True,
        }
        return filled.get(key, False)

    @property
    def refuses_pool_without_dns(self) -> bool:
        """Whether it refuses a pool without a DNS server."""
        return self.sheet.trait("blank-dns") == "refused"

    def offers_by_option(self, field: OfferedField) -> bool:
        """Whether it offers something by option number, since it has no line of its own for it."""
        has_options = "option" in self.sheet.homes and field.option is not None
        return has_options and not self.sheet.mentions("pool", field.key)

    def ignores(self, kind: str, name: str) -> bool:
        """Whether a fact of a kind, or a field of it, changes nothing for clients there."""
        about_zones = kind == "zone" or name == "zone"
        field = KINDS[kind].fields.get(name)
        is_remark = field is not None and field.is_remark
        return is_remark or (about_zones and not self.zone_must_admit_dhcp)

    # What turns the service on.

    @property
    def is_on_by_default(self) -> bool:
        """Whether its DHCP service is on unless it is turned off."""
        return self.sheet.trait("service") == "on-from-factory"

    @property
    def has_master_switch(self) -> bool:
        """Whether its DHCP service has to be turned on as a whole."""
        return self.sheet.trait("service").startswith("master")

    @property
    def has_interface_switches(self) -> bool:
        """Whether its DHCP service has to be turned on for each interface."""
        return self.sheet.trait("service").endswith("interface")

    @property
    def has_pool_switches(self) -> bool:
        """Whether each pool has to be turned on."""
        return self.sheet.trait("service") == "pool"

    @property
    def answers_by_default(self) -> bool:
        """Whether it answers clients before it is configured: service on, with a default pool."""
        return self.is_on_by_default and self.sheet.trait("factory-pool") == "kept"
