"""Pairs of servers that keep their leases in step, as one of the two has to be told of it."""

from __future__ import annotations

from typing import NamedTuple

from reservoir.core.pools import Pool
from reservoir.core.topology import Topology
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import Span, format_address
from reservoir.core.values.durations import format_duration


class Pairing(NamedTuple):
    """What a server knows of its pair in a network."""

    partner: int
    """The address at which it reaches the other one."""
    leads: bool
    """Whether it is the first of the two."""
    after: int | None
    """Seconds without the other one after which it takes over what is that one's; None: unsaid."""

    def __str__(self) -> str:
        place = "first" if self.leads else "second"
        after = f", after {format_duration(self.after)}" if self.after is not None else ""
        return f"{place} of the pair with {format_address(self.partner)}{after}"


def pairing_of(pool: Pool, topology: Topology) -> Pairing | None:
    """The pair of a pool's server; None if it has none, or its partner has no address."""
    serving = pool.serving
    if serving is None:
        return None
    partner = serving.partner_at
    if partner is None and serving.partner is not None:
        partner = address_between(topology, serving.device, serving.partner)
    return None if partner is None else Pairing(partner, serving.leads, serving.after)


def address_between(topology: Topology, device: str, partner: str) -> int | None:
    """The address at which a device reaches its partner: on a subnet of both, else its first.

    None if the partner has no address.
    """
    own = {attachment.prefix.subnet for attachment in topology.attachments_of(device)}
    theirs = topology.attachments_of(partner)
    shared = (a.address for a in theirs if a.prefix.subnet in own and topology.is_up(a))
    return next(shared, theirs[0].address if theirs else None)


class PairEnd(NamedTuple):
    """One server in a network, as far as its pair is concerned."""

    name: str
    pairing: Pairing | None
    addresses: AddressSet
    """Those that it holds."""
    assignable: AddressSet


def why_out_of_step(one: PairEnd, other: PairEnd) -> str:
    """Why two servers are not in step, of which the first names the other; empty if they are."""
    mine, its = one.pairing, other.pairing
    if its is None:
        return f"{other.name} names none"
    if its.partner not in one.addresses:
        return f"the partner of {other.name} is {format_address(its.partner)}"
    if mine is None or mine.partner not in other.addresses:
        return f"{one.name} doesn't name it"
    # What a server holds itself it may never assign, whatever its ranges are.
    differing = (one.assignable ^ other.assignable) - (one.addresses | other.addresses)
    whys = (
        (mine.leads == its.leads, "both are the first" if mine.leads else "neither is the first"),
        (mine.after != its.after, "they don't agree when one takes over"),
        (bool(differing), f"only one of them assigns {differing}"),
    )
    return next((why for applies, why in whys if applies), "")


def halves_of(assignable: AddressSet) -> tuple[AddressSet, AddressSet]:
    """The lower half of some addresses, which has one more if they are odd, and the upper."""
    if not assignable:
        return assignable, assignable
    middle = assignable.nth((len(assignable) + 1) // 2 - 1)
    lower = assignable.clipped(Span(0, middle))
    return lower, assignable - lower
