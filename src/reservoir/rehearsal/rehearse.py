"""The rehearsal of a plan: every network's clients ask for their addresses, and use them."""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import partial
from itertools import islice

from reservoir.core.plan.model import Network
from reservoir.core.pools import Pools
from reservoir.core.sizing.size import clients_expected
from reservoir.core.values.addresses import format_address
from reservoir.core.values.clients import Client as Name
from reservoir.core.values.clients import Mac
from reservoir.core.values.durations import INFINITE
from reservoir.dialects.behaviour.serving import Serving
from reservoir.files.lease_list import LeaseRow
from reservoir.rehearsal.client import MOST_TRIES, Client
from reservoir.rehearsal.judging import judge, not_renewed
from reservoir.rehearsal.kinds import Kind, kinds_of
from reservoir.rehearsal.result import NetworkRehearsed, Rehearsal
from reservoir.rehearsal.setting import connect_devices, lease_in
from reservoir.rehearsal.wires import UNDISTURBED, Disturbance, Event, Wires

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

APART = 0.02
"""Seconds between two clients that are switched on."""

PATIENCE = 180.0
"""Seconds after which every client has an address or has given up."""

TRIES_IF_DISTURBED = 20
"""Messages without an answer after which a client gives up where messages are lost."""

PATIENCE_IF_DISTURBED = 1_800.0
"""Seconds after which even those have an address or have given up."""


@dataclass
class _Cast:
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


def rehearse(
    pools: Pools,
    started: Mapping[str, Serving],
    *,
    complete: bool = True,
    clients: int | None = None,
    only: Collection[str] = (),
    listen: Collection[str] = (),
    seed: int = 0,
    disturbance: Disturbance = UNDISTURBED,
    capture: Callable[[float, bytes], None] | None = None,
    watch: Callable[[float], None] | None = None,
) -> Rehearsal:
    """Let the clients of a plan's networks ask for addresses, and look at what they get.

    Args:
        pools: The plan.
        started: What each device serves that was started from its configuration.
        complete: Whether all devices that matter are in the plan; else nothing is claimed of
            what others may do.
        clients: Clients without a binding in each network; as many as the plan expects if None.
        only: The networks to rehearse; all if empty.
        listen: The networks of which the whole conversation is kept.
        seed: What chance begins with: the same seed gives the same messages.
        disturbance: What goes wrong under way.
        capture: Called with the time and the bytes of each frame that is sent.
        watch: Called with the share of the clients that have come, 0 to 1.

    Returns:
        What the clients got, network by network, in the plan's order.
    """
    planned = pools
    if not complete and not only:  # a plan's relays that lead nowhere are the checks' affair
        pools = _with_relayed(pools, started)
    wires = Wires(pools, seed, disturbance, complete=complete)
    wires.capture = capture
    connect_devices(wires, pools, started, complete=complete)
    tries = TRIES_IF_DISTURBED if disturbance else MOST_TRIES
    names = [name for name in pools.names if not only or name in only]
    unplanned = set(pools.names) - set(planned.names)
    asked = dict.fromkeys(unplanned, 1)
    if clients is not None:  # nobody comes where nobody is meant to be served, or only the bound
        asked |= {name: 0 for name in planned.names if not _is_meant(planned, name)}
    left_out = {
        name: why
        for name in names
        if name not in unplanned
        if (why := _why_not(pools, name, started, complete))
        or (why := _too_many(pools, name, started) if clients is None else "")
    }
    casts = [
        _cast(pools, name, started, wires, asked.get(name, clients), tries)
        for name in names
        if name not in left_out
    ]
    conversations = _listen(wires, casts, listen)
    _let_come(wires, casts, PATIENCE_IF_DISTURBED if disturbance else PATIENCE, watch)
    networks = [
        judge(cast.network, cast.bound, cast.expected, cast.filling, wires, pools, complete)
        for cast in casts
    ]
    leases = [row for cast in casts for row in _leases_of(cast, pools)]
    _let_renew(wires, casts, networks)
    for each, cast in zip(networks, casts, strict=True):
        room = len(pools.assignable_in(pools.place_of(cast.network)))
        each.is_too_large = clients is None and room > MOST_FILLED
        each.conversation = conversations.get(each.network, [])
        each.called = {client.mac: _called(client) for client in cast.everybody if client.kind}
    return Rehearsal(
        networks=networks,
        left_out=left_out,
        ignored={name: serving.ignored for name, serving in started.items() if serving.ignored},
        exchanges=sum(1 for cast in casts for _ in cast.everybody),
        seconds=wires.clock.now,
        leases=leases,
    )


def _called(client: Client) -> str:
    return f"{client.mac}, of class {client.kind}"


def _with_relayed(pools: Pools, started: Mapping[str, Serving]) -> Pools:
    """The pools, with a network by the name of each interface that relays from none to a server.

    Its clients ask, and the server has no pool for them.
    """
    topology, added = pools.topology, dict[str, Network]()
    for attachment in topology.addressed:
        targets = topology.interface(attachment).relay_to
        asked = {holder.device for target in targets for holder in topology.holders(target)}
        is_lost = topology.home_of(attachment) is None and topology.is_up(attachment)
        if is_lost and asked & started.keys():
            vrf = topology.interface(attachment).vrf
            subnet = attachment.prefix.subnet
            added[str(attachment)] = Network(subnet=subnet, vrf=vrf, served_by=())
    if not added:
        return pools
    return Pools(replace(pools.plan, networks={**pools.plan.networks, **added}))


def _is_meant(pools: Pools, name: str) -> bool:
    """Whether clients without a binding are to be served, and not only those with one."""
    index = pools.place_of(name)
    has_ranges = any(pool.named or pool.by_class is not None for pool in pools.of(name))
    is_for_bound = len(pools.bound_rows(index)) > 0 and not has_ranges
    served = pools.topology.serving(name) or pools.assignable_in(index)
    return bool(served) and not is_for_bound


def _why_not(pools: Pools, name: str, started: Mapping[str, Serving], complete: bool) -> str:
    """Why a network can't be rehearsed; empty if it can."""
    if not complete and not pools.topology.attachments(pools.plan.networks[name]):
        return "no device of these files is in it, so nothing is known of its relay"
    servers = sorted(pools.topology.serving(name))
    unknown = [server for server in servers if server not in started]
    if not servers and not pools.plan.networks[name].ranges and not pools.offer_in(name).gateway:
        return "no device serves it"
    if unknown and len(unknown) == len(servers):
        return f"{unknown[0]} has no dialect, so there is no configuration to start it from"
    return ""


def _too_many(pools: Pools, name: str, started: Mapping[str, Serving]) -> str:
    """That so many clients are expected that they would come for minutes; empty if not."""
    kinds = kinds_of(pools, pools.place_of(name))
    expected = sum(_expected(pools, name, started, kind.name) or 0 for kind in kinds)
    if expected <= MOST_EXPECTED:
        return ""
    return (
        f"it expects {expected:,} clients, and a rehearsal has {MOST_EXPECTED:,} at most; "
        "rehearse --clients N lets fewer come"
    )


def _expected(
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


def _cast(
    pools: Pools,
    name: str,
    started: Mapping[str, Serving],
    wires: Wires,
    clients: int | None,
    tries: int,
) -> _Cast:
    """The clients of a network, connected to it."""
    cast, index, table = _Cast(name), pools.place_of(name), pools.bindings
    is_short = lease_in(pools, name, started) < SHORT_LEASE
    for row in pools.bound_rows(index).tolist():
        client = _bound_client(table.client_at(row), row, wires, tries)
        wires.connect(client, name)
        client.keeps, client.label = is_short, table.label(row)
        cast.bound.append((client, int(table.address[row])))
    first = Mac(FIRST_CLIENT_MAC + (index << 20))
    for kind, wanted, more in _numbers(cast, pools, started, clients):
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
    cast: _Cast, pools: Pools, started: Mapping[str, Serving], clients: int | None
) -> Iterator[tuple[Kind, int, int]]:
    """How many clients of each kind are expected, and how many more fill what they get."""
    name = cast.network
    kinds = kinds_of(pools, pools.place_of(name))
    wanted = []
    for kind in kinds:
        room = len(kind.assignable)
        expected = _expected(pools, name, started, kind.name)
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


def _leases_of(cast: _Cast, pools: Pools) -> Iterator[LeaseRow]:
    """What the clients of a network have."""
    for client in cast.everybody:
        if client.is_online:
            holders = pools.topology.holders(client.server)
            server = holders[0].device if holders else format_address(client.server)
            whose = (client.mac, client.identifier, client.address)
            yield LeaseRow(*whose, cast.network, server, None)


def _let_come(
    wires: Wires, casts: list[_Cast], patience: float, watch: Callable[[float], None] | None
) -> None:
    """Switch every client on: first those that are expected, then those that fill the pools."""
    count, come = sum(1 for cast in casts for _ in cast.everybody), 0
    for turn in (_Cast.owners, _Cast.expected_ones, _Cast.filling_ones):
        for client in [client for cast in casts for client in turn(cast)]:
            client.switch_on()
            come += 1
            wires.clock.run(wires.clock.now + APART)
            if watch is not None and not come % 256:
                watch(come / count)
        wires.clock.run(wires.clock.now + patience)


def _let_renew(wires: Wires, casts: list[_Cast], networks: Sequence[NetworkRehearsed]) -> None:
    """Wait until the first client of each network has renewed its lease, or could not."""
    samples: list[tuple[Client, NetworkRehearsed]] = []
    for cast, result in zip(casts, networks, strict=True):
        everybody = list(cast.everybody)
        for client in everybody[1:]:
            client.keeps = False
        first = everybody[0] if everybody else None
        if (
            first is not None
            and first.is_online
            and result.lease is not None
            and result.lease < INFINITE
        ):
            samples.append((first, result))
    lease = max((result.lease or 0 for _, result in samples), default=0)
    if lease:
        wires.clock.run(wires.clock.now + lease)
    for client, result in samples:
        result.renewed = client.renewals > 0
        if not result.renewed:
            result.failures.append(not_renewed(client, wires))


def _renew_once(client: Client) -> None:
    client.keeps = not client.renewals


def _listen(wires: Wires, casts: list[_Cast], listen: Collection[str]) -> dict[str, list[Event]]:
    """Keep what is said of the clients of some networks."""
    conversations: dict[str, list[Event]] = {name: [] for name in listen}
    whose = {
        client.mac: conversations[cast.network]
        for cast in casts
        if cast.network in conversations
        for client in cast.everybody
    }
    if whose:
        wires.watch = partial(_keep, whose)
    return conversations


def _keep(whose: Mapping[Mac, list[Event]], event: Event) -> None:
    if event.client in whose:
        whose[event.client].append(event)
