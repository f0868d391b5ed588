"""What a rehearsal found: for each network what its clients got, and what went wrong first."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Self

from reservoir.core.findings import Finding
from reservoir.core.values.addresses import Span
from reservoir.core.values.clients import Mac
from reservoir.dialects.behaviour.lifted import Ignored
from reservoir.files.lease_list import LeaseRow
from reservoir.rehearsal.clients.client import Client
from reservoir.rehearsal.day import NetworkDay
from reservoir.rehearsal.outage import Outage
from reservoir.rehearsal.wires.wires import Event


@dataclass(frozen=True)
class Failure:
    """What went wrong for a client."""

    event: str
    """What happens, as a witness's kind says it: ``unanswered``, ``refused``, ``assigned`` …"""
    reason: str
    """A sentence that names what is wrong."""
    client: Mac
    address: int | None = None
    """The address that it is about."""
    option: str = ""
    """What clients are not offered, where it is about that."""
    finding: Finding | None = None
    """The finding of the checks that tells of it, or the one that this follows from."""
    suspect: str | None = None
    """The rule of the gravest finding there, if none tells of it."""
    at_message: int | None = None
    """The number, as a capture counts them, of the last frame to or from the client."""

    @property
    def rule(self) -> str | None:
        """The rule of the checks that knows it."""
        return self.finding.rule if self.finding else None

    @property
    def accepted(self) -> str | None:
        """Why it is accepted, if the plan accepts the finding that tells of it."""
        return self.finding.accepted if self.finding else None


@dataclass(frozen=True)
class ClassRehearsed:
    """What the members of a class got in a network."""

    name: str
    clients: int
    """Those that are expected."""
    served: int
    span: Span | None
    """The lowest and the highest address given."""

    @classmethod
    def of(cls, name: str, expected: Sequence[Client], everybody: Sequence[Client]) -> Self:
        """Count clients: those that are expected, and all that came."""
        addresses = [client.address for client in everybody if client.is_served]
        span = Span(min(addresses), max(addresses)) if addresses else None
        return cls(name, len(expected), sum(client.is_served for client in expected), span)


@dataclass
class NetworkRehearsed:
    """What the clients of one network got."""

    network: str
    servers: tuple[str, ...]
    """The devices that gave them their addresses; those that should, if nobody got one."""
    relay: str | None
    """The interface that relays for the network, if its server isn't in it."""
    lan: tuple[str, ...] = ()
    """The networks that share an interface with it, itself among them."""
    clients: int = 0
    """Those that tried: every bound one, and as many as are expected."""
    served: int = 0
    refused: int = 0
    """Those of them that were given no address."""
    span: Span | None = None
    """The lowest and the highest address given."""
    gateway: int | None = None
    """What clients were offered."""
    gateway_answers: bool | None = None
    """Whether somebody answers at the gateway's address; None if clients are offered none."""
    dns: tuple[int, ...] = ()
    dns_answers: bool | None = None
    """Whether a DNS server is reached and its answers come back; None if that isn't known, or
    clients are offered none."""
    dns_unknown: str = ""
    """Why it isn't known."""
    assumed: tuple[str, ...] = ()
    """What the plan doesn't state and clients got their addresses only if it is so, in words."""
    lease: int | None = None
    """Seconds for which an address is given; None if nobody got one."""
    renewed: bool | None = None
    """Whether a client could renew its lease; None if none tried, as with leases without end."""
    bindings: int = 0
    bindings_right: int = 0
    """Those of the bound clients that got their own address."""
    filled: int | None = None
    """How many clients have an address once the pool is full; None if it was not filled."""
    is_too_large: bool = False
    """Whether it was not filled because it has too many addresses."""
    failures: list[Failure] = field(default_factory=list)
    accepted: list[Failure] = field(default_factory=list)
    """Failures that the plan accepts."""
    classes: Sequence[ClassRehearsed] = ()
    """Those whose members came."""
    called: Mapping[Mac, str] = field(default_factory=dict)
    """What clients are called in what was said, by their MAC addresses."""
    of_class: Mapping[Mac, str] = field(default_factory=dict)
    """The classes that clients are of, by their MAC addresses."""
    conversation: list[Event] = field(default_factory=list)
    """What was said, if this network was listened to."""

    @property
    def failure(self) -> Failure | None:
        """What went wrong first."""
        return self.failures[0] if self.failures else None


@dataclass
class Rehearsal:
    """What the clients of a plan got."""

    networks: Sequence[NetworkRehearsed]
    left_out: Mapping[str, str]
    """The networks that were not rehearsed, and why."""
    ignored: Mapping[str, Sequence[Ignored]]
    """What each device refused of its configuration, or doesn't heed."""
    exchanges: int
    """Clients that asked for an address, as often as they did."""
    seconds: float
    """Virtual time that passed."""
    leases: Sequence[LeaseRow] = ()
    """Who had which address once everybody had come; virtual time says nothing of its end."""
    days: Sequence[NetworkDay] = ()
    """A day of each network that has a demand, if that was asked for."""
    outage: Outage | None = None
    """What came of something failing, if that was asked for."""

    @property
    def failed(self) -> bool:
        """Whether a client failed."""
        has_failed = self.outage is not None and self.outage.failed
        return has_failed or any(each.failures for each in self.networks)
