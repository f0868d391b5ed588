"""Holds the servers of one network against each other, as their configuration was read."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import NamedTuple

from reservoir.core.findings import Witness
from reservoir.core.plan.model import Network
from reservoir.core.values.addresses import Prefix, format_address
from reservoir.core.values.clients import format_client
from reservoir.core.wording import counted
from reservoir.dialects.reading import ConfigurationRead
from reservoir.dialects.running.devices import own_ranges

VrfSubnet = tuple[str, Prefix]


class Missing(NamedTuple):
    """What a server lacks that another one of the same network has."""

    subnet: VrfSubnet
    device: str
    line: int
    """That of its pool."""
    lacks: str
    """What it doesn't do, as a sentence without its subject."""
    other: str
    """The server that does."""
    witness: Witness


class _Served(NamedTuple):
    """A network as one device serves it."""

    read: ConfigurationRead
    network: Network
    line: int


def bindings_missing(reads: Sequence[ConfigurationRead]) -> Iterator[Missing]:
    """The servers that don't know a client which another one binds in the same network.

    Only those that would offer it another address instead: a server without ranges says nothing.
    """
    for subnet, served in _by_subnet(reads).items():
        known = {
            binding.client: (binding, there.read.lifted.name)
            for there in served
            for binding in there.network.bindings
        }
        for there in served:
            own = {binding.client for binding in there.network.bindings}
            missing = [found for client, found in known.items() if client not in own]
            if missing and own_ranges(there.network):
                binding, other = missing[0]
                bound = f"{format_client(binding.client)} to {format_address(binding.address)}"
                more = len(missing) - 1
                rest = f" and {counted(more, 'more client')} to theirs" if more else ""
                witness = Witness(
                    "binding-ignored",
                    address=binding.address,
                    client=binding.client,
                    name=binding.name,
                )
                lacks = f"doesn't bind {bound}{rest}"
                yield Missing(subnet, there.read.lifted.name, there.line, lacks, other, witness)


def _by_subnet(reads: Sequence[ConfigurationRead]) -> dict[VrfSubnet, list[_Served]]:
    """The networks that devices serve, those of one subnet of a VRF together."""
    found: dict[VrfSubnet, list[_Served]] = {}
    for read in reads:
        for name, network in read.lifted.networks.items():
            if network.servers:
                line = read.lifted.origins[name].pools[0].line
                key = network.vrf, network.subnet.subnet
                found.setdefault(key, []).append(_Served(read, network, line))
    return found
