"""What two sides do for one network, and what differs: by effect, as values.

Two configurations that assign, bind and offer the same compare equal, however they are written.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from reservoir.core.offers import Offer
from reservoir.core.pairing import Pairing, pairing_of
from reservoir.core.plan.model import option_text
from reservoir.core.plan.offered import OFFERED
from reservoir.core.pools import Pool, Pools
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import Prefix, format_address, mask_of
from reservoir.core.values.client_classes import ClassWords
from reservoir.core.values.clients import Client, format_client


class ServedClass(NamedTuple):
    """What a server does for the members of a class in one network."""

    name: str
    words: ClassWords
    assignable: AddressSet
    offer: Offer


@dataclass(frozen=True)
class Served:
    """What a server does for one network."""

    network: str
    subnet: Prefix
    assignable: AddressSet
    bindings: frozenset[tuple[Client, int]]
    offer: Offer
    own: Mapping[Client, Offer] = field(default_factory=dict)
    """What bound clients are offered, where that is not the same."""
    classes: tuple[ServedClass, ...] = ()
    """In the order in which they are tried; then ``assignable`` is for clients of none."""
    pairing: Pairing | None = None
    """With whom the server keeps its leases in step."""

    @classmethod
    def of(cls, pool: Pool, pools: Pools) -> Served:
        """What the server of a pool does."""
        bindings = frozenset(pools.clients_bound(pool))
        subnet, own = pool.network.subnet, pools.own_offers(pool)
        classes = pool.by_class.classes if pool.by_class is not None else ()
        served = tuple(ServedClass(c.name, c.words, c.assignable, c.offer) for c in classes)
        pairing = pairing_of(pool, pools.topology)
        return cls(pool.name, subnet, pool.common, bindings, pool.offer, own, served, pairing)


class Unserved(NamedTuple):
    """The network is served on one side only."""

    network: str
    is_new: bool
    """Whether it is served on the new side."""

    def __str__(self) -> str:
        return "the network is not in the plan" if self.is_new else "the network is not served"


class Assignable(NamedTuple):
    """Addresses that are assignable on one side only."""

    network: str
    addresses: AddressSet
    is_new: bool
    """Whether they are assignable on the new side."""

    def __str__(self) -> str:
        relation = "assignable but should not be" if self.is_new else "not assignable but should be"
        return f"{self.addresses} would be {relation}"


class ClassServed(NamedTuple):
    """Something that members of a class get differently."""

    network: str
    name: str
    """The class."""
    what: str
    """As of :class:`Offered`; ``assignable``, ``order``; empty for the class as a whole."""
    old: str | None
    new: str | None

    def __str__(self) -> str:
        what = f"{self.what} of class {self.name}" if self.what else f"class {self.name}"
        return f"{what} would be {self.new or 'left out'} instead of {self.old or 'left out'}"


class Paired(NamedTuple):
    """The server keeps its leases in step with another one."""

    network: str
    old: Pairing | None
    new: Pairing | None

    def __str__(self) -> str:
        return f"it would be {self.new or 'alone'} instead of {self.old or 'alone'}"


class Bound(NamedTuple):
    """A binding that is on one side only."""

    network: str
    client: Client
    address: int
    is_new: bool
    """Whether it is on the new side."""

    def __str__(self) -> str:
        relation = "would be" if self.is_new else "would not be"
        return f"{format_client(self.client)} {relation} bound to {format_address(self.address)}"


class Offered(NamedTuple):
    """Something that clients are offered differently."""

    network: str
    what: str
    """A key of ``OFFERED``, ``subnet mask``, or ``option`` and its number."""
    old: str | None
    """As a plan writes it; None if it is not offered."""
    new: str | None
    client: Client | None = None
    """The one client that is; all others if None."""

    def __str__(self) -> str:
        whose = f" of {format_client(self.client)}" if self.client is not None else ""
        new, old = self.new or "left out", self.old or "left out"
        return f"{self.what}{whose} would be {new} instead of {old}"


class Relayed(NamedTuple):
    """An interface that relays to other servers."""

    interface: str
    old: tuple[int, ...]
    new: tuple[int, ...]

    def __str__(self) -> str:
        old, new = (
            " ".join(map(format_address, targets)) or "no server"
            for targets in (self.old, self.new)
        )
        return f"{self.interface} would relay to {new} instead of {old}"


class Attached(NamedTuple):
    """An interface in a network that is set otherwise, or missing."""

    network: str
    interface: str
    what: str
    """``address``, ``vlan``, ``zone``, ``enabled``; empty for the interface as a whole."""
    old: str | None
    new: str | None

    def __str__(self) -> str:
        if self.what:
            old, new = self.old or "left out", self.new or "left out"
            return f"{self.what} of {self.interface} would be {new} instead of {old}"
        return f"{self.interface} with {self.old} would be missing"


Difference = Unserved | Assignable | ClassServed | Paired | Bound | Offered | Relayed | Attached
"""One thing that differs; its text tells what the new side would do instead of the old one."""


def differences(old: Mapping[str, Served], new: Mapping[str, Served]) -> Iterator[Difference]:
    """What differs between two sides, network by network.

    Args:
        old: What is wanted, or was there before, by a name that both sides know.
        new: What is compared with it.
    """
    for name, wanted in old.items():
        found = new.get(name)
        if found is None:
            yield Unserved(wanted.network, is_new=False)
        else:
            yield from _between(wanted, found)
    yield from (Unserved(name, is_new=True) for name in new if name not in old)


def _between(old: Served, new: Served) -> Iterator[Difference]:
    for addresses, is_new in (
        (new.assignable - old.assignable, True),
        (old.assignable - new.assignable, False),
    ):
        if addresses:
            yield Assignable(old.network, addresses, is_new)
    for client, address in sorted(old.bindings ^ new.bindings, key=lambda pair: pair[1]):
        yield Bound(old.network, client, address, (client, address) in new.bindings)
    for of_class in classes_differently(old.classes, new.classes):
        yield ClassServed(old.network, *of_class)
    if old.pairing != new.pairing:
        yield Paired(old.network, old.pairing, new.pairing)
    masks = [format_address(mask_of(served.subnet.bits)) for served in (old, new)]
    if masks[0] != masks[1]:
        yield Offered(old.network, "subnet mask", masks[0], masks[1])
    common = offered_differently(old.offer, new.offer)
    yield from (Offered(old.network, *difference) for difference in common)
    for client in {**old.own, **new.own}:
        offers = old.own.get(client, old.offer), new.own.get(client, new.offer)
        for difference in offered_differently(*offers):
            if difference not in common:
                yield Offered(old.network, *difference, client)


def classes_differently(
    old: Sequence[ServedClass], new: Sequence[ServedClass]
) -> Iterator[tuple[str, str, str | None, str | None]]:
    """What members of classes get differently: the class, what, and both values as texts.

    Classes are the same by what their members say, whatever they are called.
    """
    before, after = ({its.words: its for its in reversed(some)} for some in (old, new))
    for words in {its.words: None for its in (*old, *new)}:
        was, is_now = before.get(words), after.get(words)
        if was is None or is_now is None:
            there = was or is_now
            assert there is not None
            said = str(there.assignable) or "no address"
            yield there.name, "", said if was else None, said if is_now else None
            continue
        if was.assignable != is_now.assignable:
            earlier, later = (str(its.assignable) or None for its in (was, is_now))
            yield is_now.name, "assignable", earlier, later
        for what, earlier, later in offered_differently(was.offer, is_now.offer):
            yield is_now.name, what, earlier, later
    both = [[its for its in some if its.words in before and its.words in after]
            for some in (old, new)]  # fmt: skip
    orders = [list(dict.fromkeys(its.words for its in some)) for some in both]
    if orders[0] != orders[1]:
        earlier, later = (", ".join(dict.fromkeys(its.name for its in some)) for some in both)
        yield both[1][0].name, "order", earlier, later


def offered_differently(old: Offer, new: Offer) -> list[tuple[str, str | None, str | None]]:
    """What clients are offered differently: its name, and both values as a plan writes them."""
    before, after = _offered(old), _offered(new)
    return [
        (what, before.get(what), after.get(what))
        for what in {**before, **after}
        if before.get(what) != after.get(what)
    ]


def _offered(offer: Offer) -> dict[str, str]:
    """What clients are offered, as a plan writes it; without what they are not offered."""
    values = {
        key: OFFERED[key].text(value)
        for key, value in offer.values.items()
        if value != OFFERED[key].nothing
    }
    values |= {f"option {code}": option_text(code, data) for code, data in offer.options.items()}
    return values
