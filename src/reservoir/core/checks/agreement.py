"""Whether all else in the plan agrees on how a mistyped address is to be read.

Only then may it be put right unasked: where the subnet itself could be the typo, or the address
belongs somewhere, more than one reading is left.
"""

from __future__ import annotations

from functools import lru_cache

import numpy as np

from reservoir.core.checks.rule import Site
from reservoir.core.plan.hosts import HostTable
from reservoir.core.topology import Attachment
from reservoir.core.values.addresses import Prefix
from reservoir.core.values.by_subnet import BySubnet


def is_lone_typo(site: Site, name: str, address: int, table: HostTable | None = None) -> bool:
    """Whether an address in a network can only be a typo for one in its subnet.

    Args:
        site: The plan.
        name: The network.
        address: What is written there, and is outside the subnet.
        table: The hosts that it is one of; then no other of the network's may be outside.
    """
    if table is not None and _outside(site, table is site.pools.bindings).get(name, 0) > 1:
        return False
    return fits_its_subnet(site, name) and is_nowhere(site, address)


@lru_cache(maxsize=4096)
def fits_its_subnet(site: Site, name: str) -> bool:
    """Whether a network's gateway and ranges are in its subnet, and an interface or a range is."""
    network = site.plan.networks[name]
    subnet, ranges = network.subnet, network.ranges if network.ranges != "all" else ()
    if network.gateway is not None and not subnet.span.holds(network.gateway):
        return False
    if not all(subnet.span.holds(end) for span in ranges for end in (span.first, span.last)):
        return False
    return bool(ranges) or bool(site.topology.attachments(network))


def is_backed(site: Site, name: str) -> bool:
    """Whether something besides the gateway shows that a network's subnet is right."""
    network = site.plan.networks[name]
    spans = network.ranges if network.ranges != "all" else ()
    inside = [network.subnet.span.holds(end) for span in spans for end in (span.first, span.last)]
    return bool(site.topology.attachments(network)) or (bool(inside) and all(inside))


def is_nowhere(site: Site, address: int) -> bool:
    """Whether an address is in no network and on no link of the plan."""
    around = (Prefix(address, bits).subnet for bits in _lengths(site))
    return not any(subnet in _subnets(site) for subnet in around)


def is_astray(site: Site, attachment: Attachment) -> bool:
    """Whether an interface's address is in no network, and with nobody else on a link."""
    others = site.topology.subnets_around(attachment.address, but=attachment.device)
    return site.topology.home_of(attachment) is None and not others


def networks_met(site: Site, subnet: Prefix) -> int:
    """How many networks share an address with a subnet."""
    return len(_networks(site).meeting(subnet))


def networks_holding(site: Site, part: Prefix) -> list[str]:
    """The networks without a VRF whose subnets hold all of another subnet."""
    return [
        name
        for name in _networks(site).holding(part.network)
        if site.plan.networks[name].subnet.bits <= part.bits and not site.plan.networks[name].vrf
    ]


@lru_cache(maxsize=1)
def _networks(site: Site) -> BySubnet[str]:
    return BySubnet((network.subnet, name) for name, network in site.plan.networks.items())


@lru_cache(maxsize=1)
def _subnets(site: Site) -> frozenset[Prefix]:
    """The subnets of all networks and links."""
    linked = (attachment.prefix.subnet for attachment in site.topology.addressed)
    return frozenset((*(n.subnet.subnet for n in site.plan.networks.values()), *linked))


@lru_cache(maxsize=1)
def _lengths(site: Site) -> tuple[int, ...]:
    """The lengths of their prefixes."""
    return tuple({subnet.bits for subnet in _subnets(site)})


@lru_cache(maxsize=2)
def _outside(site: Site, are_bindings: bool) -> dict[str, int]:
    """How many hosts of each network are outside its subnet."""
    table = site.pools.bindings if are_bindings else site.pools.static
    places, counts = np.unique(table.network[site.pools.outside_subnet(table)], return_counts=True)
    return {site.pools.names[p]: int(n) for p, n in zip(places, counts, strict=True)}
