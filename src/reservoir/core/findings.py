"""Findings: what a check says, where, the case that shows it, and what would put it right."""

from __future__ import annotations

import enum
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any, NamedTuple

from reservoir.core.plan.edits import Edit
from reservoir.core.plan.model import PlanPath
from reservoir.core.values.addresses import format_address
from reservoir.core.values.clients import Client, format_client
from reservoir.core.wording import listed


class Severity(enum.IntEnum):
    """How much a finding matters; ordered, so that severities compare."""

    ADVICE = 1
    """Worth knowing."""
    WARNING = 2
    """Likely to hurt."""
    ERROR = 3
    """Some client will be refused, misled or given someone else's address."""

    @property
    def word(self) -> str:
        """The severity as options and outputs name it."""
        return _WORDS[self]


_WORDS = {severity: severity.name.lower() for severity in Severity}

EVENTS: Mapping[str, str] = {
    "assigned": "a client of {network} can get {address}{because}",
    "never-assigned": "no client of {network} ever gets {value}",
    "bound": "{who} always gets {address}{because}",
    "bound-to-two": "{who} is bound to {address} and to {expected}",
    "binding-ignored": "{who} may get another address than {address}",
    "names-equal": "{client} and {also} share the name {name}",
    "refused": "client number {count} of {network} gets no address",
    "refused-meanwhile": "client number {count} of {network} gets no address while {also} is down",
    "unanswered": "a client of {network} asks for an address and gets no answer",
    "answered-twice": "{servers} both answer a client of {network}",
    "answered-for": "a client of {network} is answered as a client of {also}",
    "offered": "a client of {network} is offered the {option} {value}{because}",
    "offered-only": "a client of {network} is offered only the {option} {value}",
    "offered-none": "a client of {network} is offered no {option}{because}",
    "offered-either": "a client of {network} may be offered either {option}",
    "offered-differently": "{who} is not offered what the rest of {network} is",
    "not-served": "a client of {network} is served without {value}",
    "stays": "a client of {network} stays {value} and holds its address for {expected}",
    "request-lost": "a request from {network} is relayed to {address}{because}",
    "answer-lost": "an answer to {network}, sent to {address}, is lost{because}",
    "leaves": "what {also} sends to {address} goes to {value}, not to {name}",
    "not-relayed": "a request reaches {also}, which has no address to relay it from",
    "dropped": "{also} drops what it should send to {address}, a client of {network}",
    "traffic-lost": "a client of {network} sends {value}; {also} can't forward it to {address}",
    "member-shared": "frames that arrive at {name} belong to only one of {also}",
    "tag-shared": "only one of {name} and {also} receives frames with VLAN tag {value}",
    "masks-differ": "a client of {network} has a {value} mask, {also} a {expected} mask",
    "on-link": "{name} treats {address} as on-link, {also} doesn't",
    "in-range": "a range of {network} includes {address}{because}",
    "in-subnet": "the subnet of {network} includes {address}{because}",
    "in-both": "{address} is in {name} and in {also}",
    "held-alone": "only {name} answers at {address}",
    "held-twice": "{name} and {also} both hold {address}",
    "has": "{name} has {address}{because}",
    "excluded-anyway": "{address} is excluded from {network}, which would not assign it anyway",
    "empty-range": "the range {value} of {network} has no addresses",
    "depends": "what {also} does for {network} may depend on this line",
    "depends-anywhere": "what {also} does may depend on this line",
    "never-a-member": "no client has a MAC address that makes it one of {value}",
    "other-class": "a client of {network} is served as one of {also}",
    "expired": "it expired on {value}",
    "unused": "the findings are the same without it",
}
"""What happens in a case, as a sentence made of the case's data."""

REASONS: Mapping[str, str] = {
    "outside-subnet": ", which is not in its subnet",
    "outside-network": ", which is not in {network}",
    "network-address": ", the network address of its subnet",
    "broadcast-address": ", the broadcast address of its subnet",
    "taken": ", the address of {also}",
    "gateway": ", the gateway's address",
    "class-too": ", which is one of {also}'s own too",
    "bound-too": ", which {also} gets too",
    "not-held": ", which no known device holds",
    "never-asks": ", but no client has that MAC address",
    "not-for-clients": ", which no client can use",
    "public": ", which may belong to someone else",
    "meant-excluded": ", which was meant to be excluded",
    "excluded-later": ", which is excluded only later",
    "reaches-nothing": ", so it reaches nothing beyond its subnet",
    "resolves-nothing": ", so it resolves no names",
    "again": ", which it is offered already",
    "zone-closed": ", but zone {also} drops its queries",
    "zoneless": ", but {also} is in no zone that lets its queries in",
    "not-of-subnet": ", which is not that of its subnet",
    "small": ", which is too small for IPv4",
    "gateway-ignored": ", so it ignores the gateway",
    "not-on-link": ", which it can't reach",
    "used": ", which is {also}",
    "only-here": ", which no other network uses",
    "unknown-subnet": ", which is in no known subnet",
    "not-a-host": ", where no server can be",
    "no-route": ", to which {also} has no route",
    "loop": ": it goes in a circle between {also} and the next",
    "invalid": ", which it can't use",
    "no-device": ", which no known device holds",
    "serves-nothing": ", and {also} serves no network",
    "no-pool": ", and {also} has no pool for it",
    "own-device": ", the relay's own address",
    "no-network": ", but no known network is there",
    "host-bits": ", an address inside {value}",
}
"""Why that is wrong, as the end of the sentence."""


@dataclass(frozen=True, slots=True)
class Witness:
    """The smallest case that shows a finding: a scenario as data, which a rehearsal can replay.

    A client asks for an address in ``network``: the one that ``client`` names, else any that has
    no binding. ``kind`` says what happens then; its sentence is made of the other fields.
    """

    kind: str
    """What happens: one of ``EVENTS``."""
    network: str | None = None
    """The network in which the client asks."""
    address: int | None = None
    """The address at stake."""
    client: Client | None = None
    """The client, by its MAC address or client identifier."""
    name: str = ""
    """What people call the client, or what else it is about."""
    count: int | None = None
    """Which of the network's clients it is, counted from 1 in the order in which they ask."""
    also: str = ""
    """Who or what else has a part in it: ``gateway``, an interface, a static host, a server."""
    because: str = ""
    """Why that is wrong: one of ``REASONS``."""
    option: str = ""
    """What the client is offered: ``gateway``, ``DNS server``, ``lease time``, an option."""
    value: str = ""
    """Its value, as a plan writes it."""
    expected: str = ""
    """The value that it should have, or would have elsewhere."""
    servers: tuple[str, ...] = ()
    """The devices that answer."""
    member_of: str = ""
    """The class that the client is in; it says what its members say."""

    @classmethod
    def of_gateway(cls, network: str, gateway: int, because: str) -> Witness:
        """Clients are offered a gateway that is wrong."""
        value = format_address(gateway)
        return cls("offered", network, gateway, option="gateway", value=value, because=because)

    @classmethod
    def of_dns(cls, network: str, server: int, because: str, also: str = "") -> Witness:
        """Clients are offered a DNS server that is wrong."""
        value, option = format_address(server), "DNS server"
        return cls(
            "offered", network, server, option=option, value=value, also=also, because=because
        )

    def as_json(self) -> dict[str, Any]:
        """The fields that are set; addresses and clients as text."""
        values = {name: getattr(self, name) for name in self.__match_args__}
        if self.address is not None:
            values["address"] = format_address(self.address)
        if self.client is not None:
            values["client"] = format_client(self.client)
        return {name: value for name, value in values.items() if value not in (None, "", ())}

    @property
    def sentence(self) -> str:
        """The case in a line."""
        known = {
            "network": "its network",
            **self.as_json(),
            "servers": listed(self.servers or [""]),
        }
        known["who"] = self.name or known.get("client", "a bound client")
        because = REASONS[self.because].format_map(known) if self.because else ""
        event = EVENTS[self.kind]
        if self.member_of:
            event = event.replace("a client of {network}", "one of {member_of} in {network}", 1)
            counted = "client number {count} of {network}"
            event = event.replace(counted, "number {count} of {member_of} in {network}", 1)
        if self.client is not None:
            event = event.replace("a client of {network}", "{who}", 1)
        return event.format_map({**known, "because": because})


@dataclass(frozen=True, slots=True)
class Proof:
    """What came of replaying a finding's witness."""

    is_shown: bool
    """Whether the harm showed."""
    text: str
    """The message or the event in which it showed; else why it didn't."""


class Finding(NamedTuple):
    """One thing that a check says.

    A named tuple, because there may be a million, and a frozen dataclass takes three times as long
    to make.
    """

    rule: str
    family: str
    severity: Severity
    message: str
    at: PlanPath
    witness: Witness | None = None
    suggestions: tuple[Edit, ...] = ()
    is_tried: bool = True
    """Whether each suggestion was tried: it removes the finding and adds no error."""
    cause: Finding | None = None
    """The finding that this one follows from, if any."""
    accepted: str | None = None
    """Why it is accepted, if it is."""
    concerns: tuple[str, ...] = ()
    """Other networks that it is about; its own, where neither place nor witness names that."""
    rests_at: PlanPath = ()
    """Another place that it rests on: what is wrong there may be its cause."""
    is_certain: bool = False
    """Whether a single suggestion must be what was meant."""
    states: frozenset[str] = frozenset()
    """Where a line was not understood: what it seems to state, as :attr:`Obstacle.states`."""
    proof: Proof | None = None
    """What came of replaying the witness, if that was asked for."""

    @property
    def address(self) -> str | None:
        """The address that the finding is about, as text, if it is about one."""
        if self.witness is None or self.witness.address is None:
            return None
        return format_address(self.witness.address)

    @property
    def is_mendable(self) -> bool:
        """Whether there is one way only to put it right, which an edit to the plan can take."""
        is_open = self.accepted is None and self.cause is None
        return self.is_certain and is_open and len(self.suggestions) == 1

    @property
    def network(self) -> str | None:
        """The network that the finding is about, if it is in one."""
        if len(self.at) > 1 and self.at[0] == "networks":
            return str(self.at[1])
        if self.witness is not None:
            return self.witness.network
        return self.concerns[0] if len(self.concerns) == 1 else None  # a row of a table


@dataclass(frozen=True)
class Obstacle:
    """Something about a device that only its dialect can tell, which the core knows nothing of.

    Found where a plan is fitted to a dialect or where a configuration is read; the rule that it
    names makes a finding of it.
    """

    rule: str
    """The rule that reports it."""
    message: str
    at: PlanPath
    witness: Witness | None = None
    """The case that shows it; None if it reaches no client."""
    suggestions: tuple[Edit, ...] = ()
    severity: Severity | None = None
    """The rule's own if None."""
    states: frozenset[str] = frozenset()
    """What a line that was not understood seems to state: ``gateway``, ``range``, ``exclusion``."""

    @property
    def network(self) -> str | None:
        """The network whose clients notice, if there is one."""
        return self.witness.network if self.witness else None
