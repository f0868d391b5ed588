"""The clients of a network that is rehearsed: who comes, and how many."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from itertools import islice

from reservoir.core.pools import Pools
from reservoir.core.sizing.size import clients_expected
from reservoir.core.values.clients import Client as Name
from reservoir.core.values.clients import Mac
from reservoir.dialects.behaviour.serving import Serving
from reservoir.rehearsal.clients.client import Client
from reservoir.rehearsal.clients.kinds import Kind, kinds_of
from reservoir.rehearsal.wires.setting import lease_in
from reservoir.rehearsal.wires.wires import Wires

FIRST_CLIENT_MAC = 0x020100000000
"""The hardware address of the first client without a binding. Locally administered."""

IDENTIFIED_CLIENT_MAC = 0x020200000000
"""The hardware address of the first client that is bound by its identifier."""

WITHOUT_DEMAND = 4
"""Clients of a network for which the plan states no demand."""

SHORT_LEASE = 3_600
"""Seconds: clients with shorter leases renew them while the others come."""

MOST_EXPECTED = 100_000
"""Clients of a network that are let come without being asked for: half a minute's work."""

MOST_FILLED = 4_096
"""Addresses of the largest network that is filled to see what happens to one client more."""


@dataclass
class Cast:
    """The clients of one network."""

    network: str
    bound: list[tuple[Client, int]] = field(default_factory=list)
    """With the address to which each is bound."""
    expected: list[Client] = field(default_factory=list)
    """As many as the plan expects, the bound ones aside."""
    filling: list[Client] = field(default_factory=list)
    """Those that come until the pool is full, and one more."""

    def owners(self) -> list[Client]:
        """The bound clients."""
        return [client for client, _ in self.bound]

    def expected_ones(self) -> list[Client]:
        """Those that the plan expects."""
        return self.expected

    def filling_ones(self) -> list[Client]:
        """Those that fill the pool; nobody where none before them got an address."""
        if self.expected and not any(client.is_online for client in self.expected):
            self.filling.clear()
        return self.filling

    @property
    def everybody(self) -> Iterator[Client]:
        """All of them, in the order in which they come."""
        yield from self.owners()
        yield from self.expected
        yield from self.filling


def expected_in(
    pools: Pools, name: str, started: Mapping[str, Serving], kind: str = ""
) -> int | None:
    """Clients of a class that the plan expects in a network; None if it doesn't say.

    For those of no class, bound ones too.
    """
    network = pools.plan.networks[name]
    given = network.by_class.get(kind) if kind else network
    if given is None or given.demand is None:
        return None
    return clients_expected(given.demand, lease_in(pools, name, started, kind))


def cast_of(
    pools: Pools,
    name: str,
    started: Mapping[str, Serving],
    wires: Wires,
    clients: int | None,
    tries: int,
) -> Cast:
    """The clients of a network, connected to it."""
    cast, index, table = Cast(name), pools.place_of(name), pools.bindings
    is_short = lease_in(pools, name, started) < SHORT_LEASE
    for row in pools.bound_rows(index).tolist():
        client = _bound_client(table.client_at(row), row, wires, tries)
        wires.connect(client, name)
        client.keeps, client.label, client.row = is_short, table.label(row), row
        cast.bound.append((client, int(table.address[row])))
    first = Mac(FIRST_CLIENT_MAC + (index << 20))
    for kind, wanted, more in _numbers(cast, pools, started, clients):
        is_short = lease_in(pools, name, started, kind.name) < SHORT_LEASE
        for number, said in enumerate(islice(kind.members(first), wanted + more)):
            client = Client(said.mac, wires, patience=tries, said=said if kind.name else None)
            client.kind, client.keeps = kind.name, is_short
            wires.connect(client, name)
            (cast.expected if number < wanted else cast.filling).append(client)
            first = Mac(max(first, said.mac) + 1) if kind.words.mac is None else first
    for sample in islice(cast.everybody, 1):
        if not sample.keeps:
            sample.keeps, sample.on_bound = True, _renew_once
    return cast


def _numbers(
    cast: Cast, pools: Pools, started: Mapping[str, Serving], clients: int | None
) -> Iterator[tuple[Kind, int, int]]:
    """How many clients of each kind are expected, and how many more fill what they get."""
    name = cast.network
    kinds = kinds_of(pools, pools.place_of(name))
    wanted = []
    for kind in kinds:
        room = len(kind.assignable)
        expected = expected_in(pools, name, started, kind.name)
        if expected is not None and not kind.name:
            expected = max(expected - len(cast.bound), 0)
        usual = min(WITHOUT_DEMAND, room) if expected is None else expected
        wanted.append(usual if clients is None else clients)
    sharing = [at for at, kind in enumerate(kinds) if not kind.has_own]
    for at, kind in enumerate(kinds):
        room, there = len(kind.assignable), wanted[at]
        if sharing and at == sharing[-1]:  # the last fills what they share
            there = sum(wanted[other] for other in sharing)
        is_filled = clients is None and 0 < room <= MOST_FILLED
        is_filled &= kind.has_own or at == sharing[-1]
        yield kind, wanted[at], max(room + 1 - there, 0) if is_filled else 0


def _bound_client(name: Name, row: int, wires: Wires, tries: int) -> Client:
    if isinstance(name, Mac):
        return Client(name, wires, patience=tries)
    return Client(Mac(IDENTIFIED_CLIENT_MAC + row), wires, name, patience=tries)


def _renew_once(client: Client) -> None:
    client.keeps = not client.renewals
