"""What the checks ask of a device's behaviour. Dialects answer; the core knows none of them."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Protocol

from reservoir.core.pools import Pool
from reservoir.core.topology import Topology
from reservoir.core.values.address_set import AddressSet


class DeviceBehaviour(Protocol):
    """How a device behaves whose dialect is known."""

    @property
    def default_lease(self) -> int:
        """The lease time in seconds where a pool has none."""

    @property
    def long_answer(self) -> str:
        """What becomes of options without room: ``overloaded``, ``left-out`` or ``silent``."""

    @property
    def headers_counted(self) -> int:
        """Bytes of headers that it takes off what a client takes that says nothing of it."""

    @property
    def assigns_halves(self) -> bool:
        """Whether of a pair each assigns half of the addresses."""

    @property
    def skips_own_address(self) -> bool:
        """Whether it never assigns an address that it holds itself."""

    @property
    def assigns_by_secondary(self) -> bool:
        """Whether it assigns from the pools of an interface's secondary addresses."""

    @property
    def binds_by_secondary(self) -> bool:
        """Whether it heeds bindings in the subnets of an interface's secondary addresses."""

    @property
    def answers_relays(self) -> bool:
        """Whether it answers relayed requests."""

    @property
    def offers_own_resolvers(self) -> bool:
        """Whether it offers the DNS servers that it uses itself where a pool has none."""

    @property
    def offers_host_names(self) -> bool:
        """Whether it can offer a bound client a host name of its own."""

    @property
    def refuses_bridge_members(self) -> bool:
        """Whether it refuses to serve DHCP on a member of a bridge."""

    @property
    def refuses_unreached_pools(self) -> bool:
        """Whether it refuses its whole configuration if no interface or relay leads to a pool."""

    @property
    def zone_must_admit_dhcp(self) -> bool:
        """Whether requests are dropped unless the interface's zone admits DHCP."""

    @property
    def answers_by_default(self) -> bool:
        """Whether it answers clients before it is configured: service on, with a default pool."""


def never_assigned(
    pool: Pool, topology: Topology, behaviours: Mapping[str, DeviceBehaviour]
) -> AddressSet:
    """Addresses in a network that its server holds, and so never assigns, as far as is known."""
    behaviour = behaviours.get(pool.server or "")
    if behaviour is None or not behaviour.skips_own_address:
        return AddressSet()
    there = topology.attachments(pool.network)
    return AddressSet.of_addresses([a.address for a in there if a.device == pool.server])
