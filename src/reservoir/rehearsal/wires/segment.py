"""A segment of the network that is rehearsed: who is on it, and what came of asking there."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import NamedTuple

from reservoir.core.values.clients import Mac
from reservoir.rehearsal.clients.client import Client


class Port(NamedTuple):
    """A device's interface on a segment."""

    device: str
    interface: str
    address: int
    """Its primary address."""


@dataclass(eq=False)
class Segment:
    """A broadcast domain: what is sent to everybody there is heard at each of its ports."""

    networks: Sequence[str]
    ports: Sequence[Port]
    held: Mapping[int, str]
    """The addresses that devices and static hosts there answer at, and who they are."""
    twice: Sequence[tuple[int, str, str]] = ()
    """Addresses at which two answer, and who they are."""
    elsewhere: str = ""
    """An interface with an address there that is in another network, which overlaps it."""
    clients: dict[Mac, Client] = field(default_factory=dict)
    online: dict[int, Client] = field(default_factory=dict)
    """Clients by the address that they use."""
    heard_by: set[str] = field(default_factory=set)
    """The devices that a client's message has reached."""
    rests_on: dict[tuple[str, int], dict[str, None]] = field(default_factory=dict)
    """By server and relay address, what isn't known of the ways there and back, in words."""
    answered: dict[str, set[int]] = field(default_factory=dict)
    """By server, the relay addresses that its answers came back to; 0 is none."""
    lost: dict[str, str] = field(default_factory=dict)
    """By server, why what it answers to a relay is lost."""

    def assumed(self, server: str) -> Iterator[str]:
        """What a server's answers rest on, by whichever relay; nothing, if one is sure."""
        found = [self.rests_on.get((server, relay), {}) for relay in self.answered.get(server, ())]
        if all(found):
            yield from dict.fromkeys(why for each in found for why in each)
