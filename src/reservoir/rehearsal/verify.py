"""Verifying: clients ask the real servers, and what they answer is held to the plan."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from copy import copy
from dataclasses import dataclass
from functools import partial

from reservoir.core.leases.holders import Holders
from reservoir.core.pools import Pools
from reservoir.dialects.behaviour.serving import Serving
from reservoir.rehearsal.asking import TRIES, WINDOW, Ask, Asks, client_of
from reservoir.rehearsal.clients.client import Client, State
from reservoir.rehearsal.judgement.judging import judge
from reservoir.rehearsal.judgement.received import gateway_used, resolvers_in
from reservoir.rehearsal.judgement.result import NetworkRehearsed
from reservoir.rehearsal.judgement.seeing import Asked, PlannedServers, Seen, Used, planned_servers
from reservoir.rehearsal.judgement.verified import NetworkVerified, Verification
from reservoir.rehearsal.messages.message import Message, Option
from reservoir.rehearsal.wires.laying import on_one_lan
from reservoir.rehearsal.wires.live import Live
from reservoir.rehearsal.wires.on_lan import OnLan
from reservoir.rehearsal.wires.setting import connect_devices
from reservoir.rehearsal.wires.wires import Wires

MOST_OF_A_TAKER = 40
"""Messages at most of a client that takes its address, its three requests aside.

Four REQUESTs; questions who has the address, the gateway and the way to the server; queries to
DNS servers; renewals, the release, and answers to neighbours who ask for it.
"""

KEPT_FOR_A_TAKER = 4
"""Those of them that are kept for giving the address back."""

MOST_RESOLVERS = 4
"""DNS servers that a client asks."""

RENEWALS = 3
"""How often a client asks to keep its address, if nobody answers."""

_TURN = 0.05
"""Seconds between two looks at what is done."""

_LAST_TRY = 15.0
"""Seconds after which a client has sent its last request (RFC 2131 section 4.1: after 4 and 8 more,
each a second more at most), and one for those that wait until they may be sent."""

_SIMULATED = 60.0
"""Seconds of virtual time in which all are answered."""


@dataclass(frozen=True)
class Verifying:
    """What is to be asked, of the plan that the answers are held to."""

    pools: Pools
    started: Mapping[str, Serving]
    """What each device serves that was started from its configuration."""
    is_complete: bool
    networks: Sequence[str]
    asks: Asks
    takes: bool
    """Whether who has no binding takes the address, uses it and gives it back."""
    on: str
    """The interface, or this machine's address."""
    targets: int = 1
    """To how many each request is sent."""
    left_out: Sequence[tuple[str, str]] = ()
    """Networks of which nothing can be asked, and why."""
    holders: Holders | None = None
    """Who has which address at present, if a lease list says so."""

    @property
    def takers(self) -> list[Ask]:
        """Those who take their address."""
        return [ask for ask in self.asks.asked if self.takes and ask.may_take]

    @property
    def most(self) -> int:
        """Messages that are sent at most."""
        requests = TRIES * len(self.asks.asked) * self.targets
        return requests + MOST_OF_A_TAKER * len(self.takers)

    @property
    def kept_back(self) -> int:
        """How many of them are kept for giving addresses back."""
        return KEPT_FOR_A_TAKER * len(self.takers)

    # The rehearsal.

    def predicted(self) -> tuple[dict[Ask, Client], dict[str, NetworkRehearsed], dict[str, str]]:
        """The same clients in the rehearsal, what they get there, and why some aren't in it."""
        wires = Wires(self.pools, complete=self.is_complete)
        connect_devices(wires, self.pools, self.started, complete=self.is_complete)
        missing = {name: why for name in self.networks if (why := self._why_not(name))}
        clients: dict[Ask, Client] = {}
        for ask in self.asks.asked:
            if ask.network not in missing:
                client = client_of(ask, self.pools, wires)
                wires.connect(client, ask.network)
                client.takes = self.takes and ask.may_take
                clients[ask] = client
                client.switch_on()
                wires.clock.run(wires.clock.now + 0.1)
        wires.clock.run(wires.clock.now + _SIMULATED)
        results = {}
        for name in self.networks:
            if name in missing:
                continue
            mine = [(ask, client) for ask, client in clients.items() if ask.network == name]
            bound = [(c, ask.bound_to) for ask, c in mine if ask.bound_to is not None]
            free = [c for ask, c in mine if ask.bound_to is None and ask.is_expected]
            results[name] = judge(
                name, bound, free, [], wires, self.pools, self.is_complete, got="was offered"
            )
        takers = [(ask, client) for ask, client in clients.items() if client.is_online]
        for _, client in takers:
            client.renew()
        wires.clock.run(wires.clock.now + _SIMULATED)
        for ask, client in takers:
            result = results[ask.network]
            result.renewed = client.renewals > 0 and result.renewed is not False
        return clients, results, missing

    def _why_not(self, name: str) -> str:
        servers = sorted(self.pools.topology.serving(name))
        if servers and not any(server in self.started for server in servers):
            return f"{servers[0]} has no dialect, so there is no configuration to start it from"
        return ""

    # The real network.

    def verified(self, live: Live, watch: Callable[[float], None] | None = None) -> Verification:
        """Ask, and hold what is answered to the plan.

        Args:
            live: What carries the requests.
            watch: Called with the share of the clients that have asked, 0 to 1.
        """
        rehearsed, predicted, missing = self.predicted()
        asking, clients, used = self._ask(live, rehearsed, watch)
        networks = []
        for name in self.networks:
            asked = [
                Asked(
                    ask,
                    clients[ask],
                    rehearsed.get(ask),
                    live.answers.get(asking[ask], ()),
                    live.unreadable.get(asking[ask], ""),
                    used.get(ask),
                )
                for ask in self.asks.asked
                if ask.network == name
            ]
            lan = on_one_lan(self.pools, name)
            own = any(
                self.started[server].behaviour.offers_own_resolvers
                for server in self.pools.topology.serving(name) & self.started.keys()
            )
            seen = Seen(
                name,
                asked,
                predicted.get(name),
                self.pools,
                lan,
                have_own_resolvers=own,
                holders=self.holders,
            )
            result = seen.judged()
            networks.append(
                NetworkVerified(
                    name, predicted.get(name), missing.get(name, ""), result, seen.servers
                )
            )
        return Verification(
            on=self.on,
            networks=networks,
            not_asked=self.asks.not_asked,
            left_out=self.left_out,
            sent=live.sent,
            has_taken=self.takes,
            answered=len(live.answers),
        )

    def _ask(
        self,
        live: Live,
        rehearsed: Mapping[Ask, Client],
        watch: Callable[[float], None] | None,
    ) -> tuple[dict[Ask, Client], dict[Ask, Client], dict[Ask, Used]]:
        """Let the clients ask, those that take nothing first; the others one after the other.

        Returns:
            The clients; the same as they were while they had an address; what they found then.
        """
        clients = {ask: client_of(ask, self.pools, live) for ask in self.asks.asked}
        for ask, client in clients.items():
            live.connect(client, ask.network)
        for name in self.networks:
            lan = on_one_lan(self.pools, name)
            there = [its for ask, its in rehearsed.items() if ask.network in lan]
            planned = planned_servers(self.pools, lan, there)
            for ask, client in clients.items():
                if ask.network == name:
                    client.prefers = partial(_is_by, planned)
        takers = self.takers
        others = [ask for ask in self.asks.asked if ask not in takers]
        for number, ask in enumerate(others):
            _until(live, lambda: live.is_free)
            clients[ask].switch_on()
            if watch is not None:
                watch(number / len(clients))
        _until(live, lambda: not any(clients[ask].is_waiting for ask in others), _LAST_TRY + WINDOW)
        used: dict[Ask, Used] = {}
        judged = dict(clients)
        for number, ask in enumerate(takers, start=len(others)):
            if watch is not None:
                watch(number / len(clients))
            found = _used_by(clients[ask], live)
            if found is not None:
                used[ask], judged[ask] = found, found.client
        return clients, judged, used


def _is_by(planned: PlannedServers, offer: Message) -> bool:
    return planned.is_planned(offer.address(Option.SERVER) or 0) is not False


def _used_by(client: Client, live: Live) -> Used | None:
    """Take an address, use it, and give it back whatever happens; None if there was none."""
    client.takes = True
    try:
        client.switch_on()
        _until(live, lambda: not client.is_waiting, 2 * _LAST_TRY)
        given = client.acknowledged
        if not client.is_online or given is None or not isinstance(live, OnLan):
            return None
        gateway, found = gateway_used(given), Used(copy(client))
        if gateway is not None:
            found.gateway = live.neighbour(client, gateway)
        found.resolvers = {
            server: live.resolves(client, server) for server in resolvers_in(given)[:MOST_RESOLVERS]
        }
        for _ in range(RENEWALS):
            client.renew()
            _until(live, lambda: client.state is State.BOUND, 2.0)
            if client.renewals:
                found.renewed = True
                break
        return found
    finally:
        if client.is_online or client.state is State.REQUESTING:
            client.leave(releases=True)
            _until(live, lambda: live.is_free, 1.0)


def _until(live: Live, is_done: Callable[[], bool], most: float = float("inf")) -> None:
    """Let things happen until something is the case, or for some seconds at most."""
    end = live.clock.now + most
    while not is_done() and live.clock.now < end:
        live.clock.run(min(live.clock.now + _TURN, end))
