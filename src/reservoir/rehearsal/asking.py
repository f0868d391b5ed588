"""Who asks a network whether it answers as planned: each kind of client that it knows of."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from itertools import count

from reservoir.core.pools import Pools
from reservoir.core.values.client_classes import Said
from reservoir.core.values.clients import Mac
from reservoir.rehearsal.clients.client import WANTED, Client, Surroundings
from reservoir.rehearsal.clients.kinds import every_kind
from reservoir.rehearsal.devices.server import option_bytes

TRIES = 3
"""Requests of a client that nobody answers."""

WINDOW = 3.0
"""Seconds for which offers are collected."""

_LOCAL = 0x06
"""How the MAC addresses of clients begin that are made for this: locally administered."""


@dataclass(frozen=True, eq=False)
class Ask:
    """A client that asks for an address in a network."""

    network: str
    said: Said
    identifier: bytes | None = None
    """Its client identifier, if it sends one."""
    kind: str = ""
    """The class that it is of."""
    label: str = ""
    """What people call it; its MAC address if empty."""
    bound_to: int | None = None
    """The address that it is bound to, if it is."""
    row: int | None = None
    """The row of its binding."""
    is_expected: bool = True
    """Whether a device is to serve it, by the plan."""

    @property
    def may_take(self) -> bool:
        """Whether it may take what it is offered: who is bound may be online already."""
        return self.bound_to is None and self.is_expected


@dataclass(frozen=True)
class Asks:
    """Who asks, and who can't."""

    asked: Sequence[Ask]
    not_asked: Sequence[tuple[str, str, str]]
    """Network and client of those that are not asked as, and why."""


def asks_of(
    pools: Pools, networks: Sequence[str], own: Mac, *, tells_ports: bool, most: int
) -> Asks:
    """Who asks in some networks: a client without a binding, one of each class, each bound one.

    Args:
        pools: The plan.
        networks: Their names.
        own: A MAC address of this machine, of which those of the clients are made: so the same
            client asks each time, and another one from another desk.
        tells_ports: Whether what a relay tells of the client's port can be said.
        most: Clients at most.
    """
    made = _made_macs(own)
    found: list[Ask] = []
    not_asked: list[tuple[str, str, str]] = []
    for name in networks:
        for kind in every_kind(pools, pools.place_of(name)):
            title = f"a client of class {kind.name}" if kind.name else "a client without a binding"
            words = kind.words
            if (words.circuit or words.remote) and not tells_ports:
                why = "its relay tells its class, which can't be said from here"
                not_asked.append((name, title, why))
                continue
            said = next(kind.members(next(made)), None)
            if said is None:
                not_asked.append((name, title, "every client is of another class before"))
                continue
            is_served = bool(pools.topology.serving(name) and kind.assignable)
            found.append(Ask(name, said, kind=kind.name, label=title, is_expected=is_served))
    found += (ask for name in networks for ask in _bound_in(pools, name, made))
    room = max(most, 0)
    too_many = "no message is left for it (--most)"
    not_asked += ((ask.network, ask.label, too_many) for ask in found[room:])
    return Asks(found[:room], not_asked)


def _made_macs(own: Mac) -> Iterator[Mac]:
    base = _LOCAL << 40 | (own & 0xFFFFFFFF) << 8
    for number in count():
        yield Mac(base + number)


def _bound_in(pools: Pools, name: str, made: Iterator[Mac]) -> Iterator[Ask]:
    table = pools.bindings
    for row in pools.bound_rows(pools.place_of(name)).tolist():
        client = table.client_at(row)
        is_mac = isinstance(client, Mac)
        said = Said(client if isinstance(client, Mac) else next(made))
        yield Ask(
            name,
            said,
            None if is_mac else bytes(client),
            label=table.label(row),
            bound_to=int(table.address[row]),
            row=row,
            is_expected=bool(pools.topology.serving(name)),
        )


def client_of(ask: Ask, pools: Pools, surroundings: Surroundings) -> Client:
    """The client that asks; it takes nothing yet."""
    says = ask.said if ask.kind else None
    client = Client(ask.said.mac, surroundings, ask.identifier, TRIES, says)
    client.kind, client.row, client.label = ask.kind, ask.row, ask.label or str(ask.said.mac)
    client.window, client.takes = WINDOW, False
    client.wants = bytes(dict.fromkeys((*WANTED, *planned_options(ask, pools))))
    return client


def planned_options(ask: Ask, pools: Pools) -> dict[int, bytes]:
    """The options that the plan has for a client, as their bytes by code."""
    index = pools.place_of(ask.network)
    offer, own = pools.offers[index], pools.own_in(index)
    by_class = pools.by_network[index][0].by_class
    its = by_class.class_of(ask.said) if by_class is not None and ask.row is None else None
    if its is not None:
        offer = its.offer
    elif ask.row is not None and ask.row in own:
        offer = offer.with_own(own[ask.row])
    return option_bytes(offer, pools.networks[index].subnet.bits)
