"""Things that have a subnet each, found by an address or by another subnet."""

from __future__ import annotations

from bisect import bisect_left, insort
from collections.abc import Iterable
from typing import Generic, TypeVar

from reservoir.core.values.addresses import Prefix, mask_of

Thing = TypeVar("Thing")


class BySubnet(Generic[Thing]):
    """Things by their subnets, of which some may be inside others.

    Finding those that hold an address takes a step for each prefix length in use, however many
    things there are.
    """

    def __init__(self, things: Iterable[tuple[Prefix, Thing]] = ()) -> None:
        """Begin with some things, each with its subnet."""
        self._count = 0
        self._by_bits: dict[int, dict[int, list[tuple[int, Thing]]]] = {}
        self._networks: dict[int, list[int]] = {}
        """The keys of each of these, ascending."""
        for subnet, thing in things:
            self.add(subnet, thing)

    def add(self, subnet: Prefix, thing: Thing) -> None:
        """Add a thing; its subnet's host bits don't matter."""
        by_network = self._by_bits.setdefault(subnet.bits, {})
        network = subnet.network
        if network not in by_network:
            insort(self._networks.setdefault(subnet.bits, []), network)
        by_network.setdefault(network, []).append((self._count, thing))
        self._count += 1

    def holding(self, address: int) -> list[Thing]:
        """The things whose subnets hold an address, in the order in which they were added."""
        return _in_order(
            found
            for bits, by_network in self._by_bits.items()
            for found in by_network.get(address & mask_of(bits), ())
        )

    def meeting(self, subnet: Prefix) -> list[Thing]:
        """The things whose subnets share an address with one, in the order of their addition."""
        first, last = subnet.span
        found: list[tuple[int, Thing]] = []
        for bits, by_network in self._by_bits.items():
            if bits <= subnet.bits:
                found += by_network.get(first & mask_of(bits), ())
                continue
            networks = self._networks[bits]
            inside = networks[bisect_left(networks, first) : bisect_left(networks, last + 1)]
            found += (each for network in inside for each in by_network[network])
        return _in_order(found)


def _in_order(found: Iterable[tuple[int, Thing]]) -> list[Thing]:
    return [thing for _, thing in sorted(found, key=_number)]


def _number(found: tuple[int, object]) -> int:
    return found[0]
