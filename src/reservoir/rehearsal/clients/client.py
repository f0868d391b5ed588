"""A client: the state machine of RFC 2131 section 4.4, and what people do once they are online."""

from __future__ import annotations

from collections.abc import Callable
from enum import StrEnum
from random import Random
from typing import Protocol

from reservoir.core.values.addresses import format_address
from reservoir.core.values.client_classes import Said
from reservoir.core.values.clients import Mac
from reservoir.core.values.durations import INFINITE
from reservoir.rehearsal.clock import Clock
from reservoir.rehearsal.messages.message import Kind, Message, Option
from reservoir.rehearsal.messages.saying import options_of

FIRST_WAIT, LONGEST_WAIT = 4.0, 64.0
"""Seconds until a message is sent again: doubled each time (RFC 2131 section 4.1)."""

MOST_TRIES = 4
"""Messages without an answer after which a client begins anew, or gives up."""

DECLINE_WAIT = 10.0
"""Seconds after a DECLINE before a client begins anew (RFC 2131 section 3.1)."""

SHORTEST_RENEWAL_WAIT = 60.0
"""Seconds between two attempts to renew at least (RFC 2131 section 4.4.5)."""

WANTED = bytes(
    (Option.MASK, Option.ROUTER, Option.DNS, Option.DOMAIN, Option.LEASE_TIME, Option.SERVER,
     Option.CLASSLESS_ROUTES, Option.RENEWAL_TIME, Option.REBINDING_TIME)
)  # fmt: skip
"""The options that a client asks for (RFC 2132 section 9.8)."""


class State(StrEnum):
    """Where a client is in RFC 2131's figure 5."""

    INIT = "INIT"
    SELECTING = "SELECTING"
    REQUESTING = "REQUESTING"
    REBOOTING = "REBOOTING"
    BOUND = "BOUND"
    RENEWING = "RENEWING"
    REBINDING = "REBINDING"
    INFORMING = "INFORMING"
    """Its address is from elsewhere; it asks only for options."""
    OFFERED = "offered"
    """It was offered an address, and doesn't ask for it."""
    GIVEN_UP = "given up"


_ASKING = frozenset((State.REQUESTING, State.REBOOTING, State.RENEWING, State.REBINDING))
"""Where an answer to a REQUEST is waited for."""
_ONLINE = frozenset((State.BOUND, State.RENEWING, State.REBINDING))
"""Where it has an address that it may use."""
_RENEWABLE = frozenset((State.BOUND, State.RENEWING))

MOST_OFFERS = 16
"""Offers to one request that a client looks at."""


class Surroundings(Protocol):
    """What a client is connected to."""

    clock: Clock
    random: Random

    def broadcast(self, client: Client, message: Message) -> None:
        """Send a message to everybody on the client's segment."""

    def unicast(self, client: Client, message: Message, target: int) -> None:
        """Send a message to one address."""

    def holder(self, client: Client, address: int) -> str:
        """Who else on the client's segment answers at an address; empty if nobody does."""


class Client:
    """One client on one segment."""

    def __init__(
        self,
        mac: Mac,
        surroundings: Surroundings,
        identifier: bytes | None = None,
        patience: int = MOST_TRIES,
        said: Said | None = None,
    ) -> None:
        """A client that is switched on later.

        Args:
            mac: Its hardware address.
            surroundings: What it is connected to.
            identifier: Its client identifier, if it sends one.
            patience: Messages without an answer, and refusals, after which it gives up.
            said: What it says of itself; nothing if None.
        """
        self.said = said if said is not None else Said(mac)
        self._says = options_of(self.said) if said is not None else {}
        self.kind = ""
        """The class that it is of, in its network."""
        self.row: int | None = None
        """The row of its binding in the plan, if it is bound."""
        self.mac = mac
        self.label = str(mac)
        """What people call it."""
        self.identifier = identifier
        self.state = State.INIT
        self.address = 0
        self.server = 0
        self.acknowledged: Message | None = None
        """What it was given last."""
        self.renewals = 0
        self.declined: list[tuple[int, str]] = []
        """Addresses that it didn't take, and who had them."""
        self.refusals: list[str] = []
        """What servers said when they refused."""
        self.wants = WANTED
        """The codes of the options that it asks for."""
        self.window = 0.0
        """Seconds for which it collects offers before it chooses; it takes the first at once if 0.
        One that collects asks for one address only."""
        self.takes = True
        """Whether it asks for the address that it chose."""
        self.prefers: Callable[[Message], bool] | None = None
        """What it chooses of what it collected: the first of those, if there is one."""
        self.offers: list[Message] = []
        """What it collected."""
        self.keeps = False
        """Whether it renews its lease; else it is looked at once it is bound."""
        self.on_bound: Callable[[Client], None] | None = None
        """Called each time it is bound."""
        self.on_lost: Callable[[Client], None] | None = None
        """Called when its lease has ended, or was refused to it, while it was online."""
        self._surroundings = surroundings
        self._clock = surroundings.clock
        self._transaction = 0
        self._tries = 0
        self._patience = patience
        self._timer = 0
        """Counts up whenever a timer has become meaningless."""
        self._asked_at = 0.0
        self._lease_ends = float("inf")
        self._rebinds_at = float("inf")
        self._last = Message(Kind.DISCOVER, 0, mac)

    # What people do with it.

    def switch_on(self) -> None:
        """Ask for an address; for the one it had before, if it had one."""
        if self.address:
            self.state = State.REBOOTING
            self._begin(self._request(), State.REBOOTING)
            return
        self._discover()

    @property
    def lease(self) -> int:
        """The lease time in seconds that it was last given; 0 if none was."""
        given = self.acknowledged.number(Option.LEASE_TIME) if self.acknowledged else None
        return given or 0

    def leave(self, *, releases: bool) -> None:
        """Disconnect; with or without giving the address back."""
        if releases and self.address:
            message = self._message(Kind.RELEASE)
            message.own_address = self.address
            message.options[Option.SERVER] = self.server.to_bytes(4, "big")
            self._surroundings.unicast(self, message, self.server)
        self._timer += 1
        self.state = State.INIT
        if releases:
            self.address = 0

    def inform(self) -> None:
        """Ask for options only, with an address from elsewhere."""
        message = self._message(Kind.INFORM)
        message.own_address = self.address
        self._begin(message, State.INFORMING)

    @property
    def is_online(self) -> bool:
        """Whether it has an address that it may use."""
        return self.state in _ONLINE

    @property
    def is_served(self) -> bool:
        """Whether it has an address, or was offered one and takes none."""
        return self.state in _ONLINE or self.state is State.OFFERED

    @property
    def is_waiting(self) -> bool:
        """Whether it waits for an answer."""
        return self.state is State.SELECTING or self.state in _ASKING

    def renew(self) -> None:
        """Ask now to keep the address, if it has one."""
        if self.state in _RENEWABLE:
            self.state = State.BOUND
            self._renew(self._timer)

    # What it hears.

    def receive(self, message: Message) -> None:
        """Take an answer, if it belongs to what was asked."""
        if message.transaction != self._transaction or message.mac != self.mac:
            return
        if message.kind is Kind.OFFER:
            if self.state is State.SELECTING and message.address(Option.SERVER) is not None:
                self._consider(message)
        elif message.kind is Kind.ACK:
            if self.state in _ASKING:
                self._take(message)
            elif self.state is State.INFORMING:
                self.acknowledged, self.state = message, State.BOUND
                self._timer += 1
        elif message.kind is Kind.NAK and self.state in _ASKING:
            self.refusals.append(f"{format_address(self.address)} was refused")
            self._start_over()

    def _consider(self, offer: Message) -> None:
        """Take an offer at once, or keep it until the time to choose."""
        if not self.window:
            self._choose(offer)
        elif len(self.offers) < MOST_OFFERS:
            self.offers.append(offer)

    def _look(self, timer: int) -> None:
        """Choose what was collected; if there is nothing, it is asked again later."""
        if timer == self._timer and self.offers:
            self._choose(next(filter(self.prefers, self.offers), self.offers[0]))

    def _choose(self, offer: Message) -> None:
        self.server = offer.address(Option.SERVER) or 0
        self.address = offer.your_address
        if self.takes:
            self._begin(self._request(), State.REQUESTING)
        else:
            self._timer += 1
            self.acknowledged, self.state = offer, State.OFFERED

    def _take(self, message: Message) -> None:
        """Use an address, if nobody else does (RFC 2131 section 4.4.1)."""
        was_online = self.is_online
        self.address = message.your_address
        self.server = message.address(Option.SERVER) or self.server
        holder = "" if was_online else self._surroundings.holder(self, self.address)
        if holder:
            self.declined.append((self.address, holder))
            self._decline()
            return
        self.renewals += was_online
        self.acknowledged = message
        self.state = State.BOUND
        self._timer += 1
        if self.on_bound is not None:
            self.on_bound(self)
        if self.keeps:
            self._set_alarms(message)

    def _set_alarms(self, message: Message) -> None:
        """Remember when to renew, to rebind and to stop (RFC 2131 section 4.4.5)."""
        lease = message.number(Option.LEASE_TIME) or INFINITE
        if lease >= INFINITE:
            return
        fuzz = self._surroundings.random.uniform(0.95, 1.05)
        renews = message.number(Option.RENEWAL_TIME) or lease * 0.5 * fuzz
        rebinds = message.number(Option.REBINDING_TIME) or lease * 0.875 * min(fuzz, 1.0)
        since = self._asked_at - self._clock.now  # the lease began when it was asked for
        self._lease_ends = self._asked_at + lease
        self._rebinds_at = self._asked_at + rebinds
        self._clock.after(max(renews + since, 0.0), self._renew, self._timer)

    # What it sends.

    def _discover(self) -> None:
        self.address = self.server = 0
        self._begin(self._message(Kind.DISCOVER), State.SELECTING)

    def _request(self) -> Message:
        """A request for the address that was offered, or that it had before."""
        message = self._message(Kind.REQUEST)
        message.options[Option.REQUESTED_ADDRESS] = self.address.to_bytes(4, "big")
        if self.state is State.SELECTING:
            message.options[Option.SERVER] = self.server.to_bytes(4, "big")
        return message

    def _decline(self) -> None:
        message = self._message(Kind.DECLINE)
        message.options[Option.REQUESTED_ADDRESS] = self.address.to_bytes(4, "big")
        message.options[Option.SERVER] = self.server.to_bytes(4, "big")
        self._surroundings.broadcast(self, message)
        self._start_over(DECLINE_WAIT)

    def _start_over(self, wait: float = 0.0) -> None:
        """Begin anew, unless that was tried too often."""
        self._timer += 1
        if self.is_online and self.on_lost is not None:
            self.on_lost(self)
        self.state, self.address = State.INIT, 0
        if self.window or len(self.refusals) + len(self.declined) >= self._patience:
            self.state = State.GIVEN_UP
            return
        self._clock.after(wait, self._discover_again, self._timer)

    def _discover_again(self, timer: int) -> None:
        if timer == self._timer:
            self._discover()

    def _renew(self, timer: int) -> None:
        if timer != self._timer or self.state is not State.BOUND:
            return
        message = self._message(Kind.REQUEST)
        message.options.pop(Option.RELAY_AGENT, None)  # it goes past the relay
        message.own_address = self.address
        self.state, self._tries = State.RENEWING, 0
        self._ask_again(message)

    def _ask_again(self, message: Message) -> None:
        """Ask to keep the address: the server alone first, then all of them."""
        now = self._clock.now
        if now >= self._lease_ends:
            self._start_over()
            return
        self._timer += 1
        self._transaction, self._asked_at = message.transaction, now
        if now >= self._rebinds_at:
            self.state = State.REBINDING
            self._surroundings.broadcast(self, message)
        else:
            self._surroundings.unicast(self, message, self.server)
        until = self._rebinds_at if now < self._rebinds_at else self._lease_ends
        wait = min(max((until - now) / 2, SHORTEST_RENEWAL_WAIT), until - now)
        self._clock.after(max(wait, 1.0), self._still_asking, self._timer, message)

    def _still_asking(self, timer: int, message: Message) -> None:
        if timer == self._timer and self.state in (State.RENEWING, State.REBINDING):
            self._ask_again(message)

    def _message(self, kind: Kind) -> Message:
        message = Message(kind, self._surroundings.random.getrandbits(32), self.mac)
        if self.identifier is not None:
            message.options[Option.CLIENT_IDENTIFIER] = self.identifier
        if kind in (Kind.DISCOVER, Kind.REQUEST, Kind.INFORM):
            message.options[Option.PARAMETERS] = self.wants
            message.options.update(self._says)
        return message

    def _begin(self, message: Message, state: State) -> None:
        """Send something by broadcast and wait for the answer."""
        if state is State.REQUESTING:
            message.transaction = self._transaction  # RFC 2131 section 4.4.1
        self.state, self._tries = state, 0
        self._transaction, self._last = message.transaction, message
        self._asked_at = self._clock.now
        self._send()

    def _send(self) -> None:
        self._timer += 1
        self._surroundings.broadcast(self, self._last)
        if self.window and self.state is State.SELECTING:
            self._clock.after(self.window, self._look, self._timer)
        wait = min(FIRST_WAIT * 2**self._tries, LONGEST_WAIT)
        fuzz = self._surroundings.random.uniform(-1.0, 1.0)
        self._clock.after(wait + fuzz, self._resend, self._timer)

    def _resend(self, timer: int) -> None:
        if timer != self._timer:
            return
        self._tries += 1
        asks = self.state in (State.REQUESTING, State.REBOOTING)
        if self._tries < (MOST_TRIES if asks else self._patience):
            self._send()
        elif asks:
            self.refusals.append("no answer to its request")
            self._start_over()
        else:
            self._timer += 1
            self.state = State.GIVEN_UP
