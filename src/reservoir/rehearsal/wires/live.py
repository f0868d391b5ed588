"""Clients on a real network: what they send goes out politely, what servers answer comes back."""

from __future__ import annotations

import time
from abc import ABC, abstractmethod
from collections.abc import Callable
from random import Random, SystemRandom
from typing import NamedTuple

from reservoir.core.values.clients import Mac
from reservoir.rehearsal.clients.client import Client
from reservoir.rehearsal.clock import Clock, WallClock
from reservoir.rehearsal.messages import message as dhcp
from reservoir.rehearsal.messages.message import Kind, MalformedMessageError, Message, Option

RATE = 10
"""Messages a second that are sent at most."""

MOST_ANSWERS = 500
"""Answers to one client that are kept."""


class Answer(NamedTuple):
    """A server's answer, and where it came from."""

    message: Message
    server: int
    """The address by which the client knows the server; where it came from, if it names none."""
    source: int
    """The address that it was sent from."""
    mac: Mac | None
    """The hardware address that it was sent from: the server's, or its relay's."""


class Live(ABC):
    """What clients on a real network are connected to.

    Never more than :data:`RATE` messages a second are sent, and never more than a stated most. What
    gives an address back has its own share of these.
    """

    def __init__(
        self,
        most: int,
        kept_back: int = 0,
        capture: Callable[[float, bytes], None] | None = None,
    ) -> None:
        """Nothing is sent yet.

        Args:
            most: Messages that are sent at most, of all kinds.
            kept_back: How many of them only :meth:`vital` messages may be.
            capture: Called with the seconds since 1970 and the bytes of each frame.
        """
        self.clock: Clock = WallClock(self._wait)
        self.random: Random = SystemRandom()
        self.sent = 0
        self.answers: dict[Client, list[Answer]] = {}
        """What each client was offered, by whomever."""
        self.unreadable: dict[Client, str] = {}
        """Why an answer to a client can't be read."""
        self._most = most
        self._kept_back = kept_back
        self._capture = capture
        self._free_at = 0.0
        self._clients: dict[int, Client] = {}
        self._network_of: dict[Client, str] = {}

    @property
    def is_free(self) -> bool:
        """Whether something can be sent at once."""
        return self.clock.now >= self._free_at

    def connect(self, client: Client, network: str) -> None:
        """Let a client ask in a network."""
        self._network_of[client] = network

    # What a client does.

    def broadcast(self, client: Client, message: Message) -> None:
        """Send a client's message to every server."""
        self._clients[message.transaction] = client
        is_vital = message.kind is Kind.DECLINE
        self._post(lambda: self._to_all(client, message), is_vital=is_vital)

    @abstractmethod
    def unicast(self, client: Client, message: Message, target: int) -> None:
        """Send a client's message to one address."""

    @abstractmethod
    def holder(self, client: Client, address: int) -> str:
        """Who else answers at an address; empty if nobody does, or nobody can be asked."""

    @abstractmethod
    def _to_all(self, client: Client, message: Message) -> None:
        """Send a client's message now, to whoever is asked."""

    @abstractmethod
    def _wait(self, seconds: float) -> None:
        """Wait for what comes in, some seconds at most, and take it."""

    # What all have in common.

    def _post(self, send: Callable[[], None], *, is_vital: bool = False) -> None:
        """Send something as soon as it may be sent; not at all, if that would be too many."""
        late = max(self._free_at - self.clock.now, 0.0)
        self._free_at = self.clock.now + late + 1 / RATE
        self.clock.after(late, self._send, send, is_vital)

    def _send(self, send: Callable[[], None], is_vital: bool) -> None:
        if self.sent < self._most - (0 if is_vital else self._kept_back):
            self.sent += 1
            send()

    def _take(self, payload: bytes, source: int, mac: Mac | None) -> None:
        """Take what may be a server's answer; whatever is in it does no harm."""
        client = self._clients.get(int.from_bytes(payload[4:8], "big"))
        if client is None:
            return
        try:
            answer = dhcp.decode(payload)
        except MalformedMessageError as error:
            self.unreadable.setdefault(client, str(error))
            return
        if not answer.is_reply or answer.mac != client.mac:
            return
        if answer.kind is Kind.OFFER:
            server = answer.address(Option.SERVER)
            if server is None:
                self.unreadable.setdefault(client, "it doesn't say which server it is from")
            came = Answer(answer, source if server is None else server, source, mac)
            heard = self.answers.setdefault(client, [])
            if len(heard) < MOST_ANSWERS:
                heard.append(came)
        client.receive(answer)

    def _note(self, frame: bytes) -> None:
        if self._capture is not None:
            self._capture(time.time(), frame)
