"""Finds what a device's configuration does otherwise than the plan wants, network by network."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import replace
from typing import NamedTuple

from reservoir.core.compare.differences import (
    Assignable,
    Attached,
    Bound,
    Difference,
    Offered,
    Paired,
    Relayed,
    Served,
    Unserved,
    differences,
)
from reservoir.core.compare.facts import interface_differences
from reservoir.core.compare.pairing import as_planned
from reservoir.core.findings import Witness
from reservoir.core.plan.offered import OFFERED
from reservoir.core.pools import Pools
from reservoir.core.values.addresses import format_address
from reservoir.core.wording import counted
from reservoir.dialects.behaviour.lower import lower
from reservoir.dialects.reading import ConfigurationRead

SHOWN = 3
"""Differences of a network that a message lists before it counts the rest."""


class Otherwise(NamedTuple):
    """A network that a device runs otherwise than planned."""

    network: str
    """Its name in the plan; its name on the device if the plan doesn't have it."""
    line: int
    """The line of its pool; 0 if the device has none for it."""
    message: str
    witness: Witness


def otherwise(pools: Pools, read: ConfigurationRead) -> Iterator[Otherwise]:
    """The networks that a device of the plan runs otherwise than planned.

    What it serves and the plan gives to another device is not among them: two servers are.

    Args:
        pools: Those of the plan alone.
        read: The device's configuration.
    """
    device, lifted = read.lifted.name, read.effect  # what it ignores, it doesn't do
    running = Pools(lifted.plan())
    known = as_planned(pools, running)
    old = {served.network: served for served in lower(pools, device, read.sheet).served.values()}
    new: dict[str, Served] = {}
    lines: dict[str, int] = {}
    for pool in running:
        name = known.get(pool.name, "")
        line = lifted.origins[pool.name].pools[0].line
        if name in old and pool.server is not None:
            new[name] = replace(Served.of(pool, running), network=name)
            lines[name] = line
        elif not name and pool.server is not None and pool.assignable:
            message = f"{device} serves {pool.network.subnet}, which is not in the plan"
            witness = Witness("assigned", pool.name, pool.assignable.first)
            yield Otherwise(pool.name, line, message, witness)
    found: dict[str, list[Difference]] = {}
    for difference in (*differences(old, new), *_interfaces_otherwise(pools, read)):
        found.setdefault(_network(difference), []).append(difference)
    for name, differing in found.items():
        message = f"{device} runs {name} otherwise than planned: {_listed(differing)}"
        yield Otherwise(name, lines.get(name, 0), message, _witness(differing[0], name, device))


_ATTACHING = ("vlan", "zone", "enabled")
"""What of an interface decides whether clients are heard there, besides its addresses."""


def _interfaces_otherwise(pools: Pools, read: ConfigurationRead) -> Iterator[Difference]:
    """Interfaces in the plan's networks that are missing, set otherwise, or relay elsewhere."""
    device = read.lifted.name
    planned, running = pools.plan.devices[device].interfaces, read.lifted.device.interfaces
    holders = {p.address: (name, p) for name, there in running.items() for p in there.addresses}
    told = [field for field in _ATTACHING if read.sheet.mentions("interface", field)]
    for network, described in pools.plan.networks.items():
        for attachment in pools.topology.attachments(described):
            if attachment.device != device:
                continue
            own, name = planned[attachment.interface], attachment.interface
            found, prefix = holders.get(attachment.address, (name, None))
            there = running.get(found)
            if prefix != attachment.prefix:
                is_now = str(prefix) if prefix is not None else None
                what = "address" if prefix is not None else ""
                yield Attached(network, name, what, str(attachment.prefix), is_now)
            elif there is not None:
                for what, was, is_now in interface_differences(own, there, told):
                    if was is not None:  # else the plan leaves it open
                        yield Attached(network, name, what, was, is_now)
            targets = tuple(there.relay_to) if there is not None else ()
            if sorted(targets) != sorted(own.relay_to):
                yield Relayed(network, tuple(own.relay_to), targets)


def _network(difference: Difference) -> str:
    return difference.interface if isinstance(difference, Relayed) else difference.network


def _listed(differing: Sequence[Difference]) -> str:
    """What differs, as it is now."""
    texts = [_now(each) for each in differing[:SHOWN]]
    more = len(differing) - SHOWN
    return "; ".join([*texts, counted(more, "more difference")] if more > 0 else texts)


def _now(difference: Difference) -> str:
    if isinstance(difference, Unserved):
        return "it doesn't serve it"
    text = str(difference).replace("would not be", "is not")
    return text.replace("would be", "is").replace("would relay", "relays")


def _witness(difference: Difference, network: str, device: str) -> Witness:
    """A client that notices."""
    match difference:
        case Assignable(addresses=addresses, is_new=True):
            return Witness("assigned", network, addresses.first, because="meant-excluded")
        case Assignable(addresses=addresses):
            return Witness("never-assigned", network, value=format_address(addresses.first))
        case Paired(old=old, new=new):
            pairing = old or new
            partner = format_address(pairing.partner) if pairing else ""
            return Witness("answered-twice", network, servers=(device, partner))
        case Bound(client=client, address=address, is_new=is_new):
            kind = "bound" if is_new else "binding-ignored"
            return Witness(kind, network, address, client=client)
        case Offered(what=what, old=old, new=new):
            option = OFFERED[what].title if what in OFFERED else what
            kind = "offered-none" if new is None else "offered"
            expected = old or "" if new is not None else ""
            return Witness(kind, network, option=option, value=new or "", expected=expected)
        case _:
            return Witness("unanswered", network)
