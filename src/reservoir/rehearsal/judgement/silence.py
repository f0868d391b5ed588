"""Why nobody answers in a network: what the plan says of the way of a request, to look at."""

from __future__ import annotations

from collections.abc import Iterator

from reservoir.core.pools import Pools
from reservoir.core.topology import Attachment
from reservoir.core.values.addresses import format_address


def why_silent(network: str, pools: Pools) -> str:
    """What to look at where nobody answers, the likeliest first."""
    return f"look at {'; '.join(_reasons(network, pools))}"


def _reasons(name: str, pools: Pools) -> Iterator[str]:
    network, topology = pools.plan.networks[name], pools.topology
    if network.vlan is not None:
        yield f"the port here, which should be in VLAN {network.vlan}"
    for server in dict.fromkeys(server.device for server in topology.servers(name)):
        reach = topology.reach(server, network)
        if reach is None:
            yield f"the way to {server}: the plan has no interface of it there, and no relay"
        elif reach.relay is not None:
            target = _target(reach.relay, server, pools)
            yield f"{reach.relay}, which should relay to {format_address(target)} ({server})"
            yield from _zone(reach.relay, pools)
            yield f"the way back from {server} to {format_address(reach.relay.address)}"
        else:
            yield f"{reach.through}, where {server} should serve"
            yield from _zone(reach.through, pools)
    yield "switches on the way that drop requests of clients other than their sender"


def _target(relay: Attachment, server: str, pools: Pools) -> int:
    """The address of a server that an interface relays to."""
    own = pools.topology.addresses_of(server)
    targets = pools.topology.interface(relay).relay_to
    return next((target for target in targets if target in own), next(iter(targets), 0))


def _zone(at: Attachment, pools: Pools) -> Iterator[str]:
    zone = pools.topology.interface(at).zone
    if zone is not None:
        yield f"zone {zone} of {at.device}, which should admit DHCP"
