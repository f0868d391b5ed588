"""The plan: what is wanted, in vendor-neutral terms. Immutable values.

The models below are the plan file's schema too: their fields are its keys, their docstrings the
descriptions that editors show. A file that can't be read into them never becomes a plan.
"""

from __future__ import annotations

from bisect import bisect_right
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import cached_property, lru_cache
from itertools import accumulate
from typing import Annotated, Any, Literal, NamedTuple

from pydantic import (
    Discriminator,
    Field,
    Tag,
    WithJsonSchema,
    model_validator,
)

from reservoir.core.plan.check_settings import Acceptance, CheckSettings
from reservoir.core.plan.classes import ClassAnswers, ClientClass
from reservoir.core.plan.demand import Demand
from reservoir.core.plan.hosts import NO_HOSTS, HostTable
from reservoir.core.plan.offering import Defaults, Offering, OwnOffer
from reservoir.core.plan.own_values import OwnValues
from reservoir.core.plan.part import Part
from reservoir.core.plan.scalars import (
    AddressText,
    ClientIdText,
    DurationText,
    GatewayText,
    LabelText,
    ListOf,
    MacText,
    PrefixText,
    ShortForm,
    SpanText,
    WordText,
)
from reservoir.core.values import options as dhcp_options
from reservoir.core.values.addresses import MalformedValueError, Prefix, Span
from reservoir.core.values.clients import Client, Mac

PLAN_FORMAT = 1
"""The version of the plan file format that this program reads and writes."""


PlanPath = tuple[str | int, ...]
"""Where something is in the plan: keys and list positions from the top."""


class Interface(Part):
    """A device's interface. `parent` and `vlan` make it a sub-interface on a trunk."""

    addresses: ListOf[PrefixText] = Field(default=(), alias="address")
    """The first is the primary address, the others are secondary."""
    virtual: ListOf[AddressText] = ()
    """Addresses that it shares with other routers, one of which answers at a time (RFC 9568)."""
    parent: WordText | None = None
    """The trunk that it is a sub-interface of."""
    vlan: Annotated[int, Field(ge=1, le=4094)] | None = None
    """The VLAN tag that it has there."""
    relay_to: ListOf[AddressText] = ()
    """The servers that it relays clients' requests to."""
    members: ListOf[WordText] = ()
    """The device's ports that it joins."""
    zone: WordText | None = None
    """The firewall's zone that it is in."""
    enabled: bool = True
    """Whether it is up; one that is shut down hears no client."""
    vrf: LabelText = ""
    """The routing table that it belongs to; the device's main one if left out."""

    @property
    def primary(self) -> Prefix | None:
        """Its primary address, if it has an address."""
        return self.addresses[0] if self.addresses else None


class Zone(Part):
    """A firewall's zone and the services it admits to the device itself."""

    admits: ListOf[WordText] = ()
    """Services, such as dhcp; what isn't listed is dropped."""


class Route(Part):
    """A static route of a device."""

    to: PrefixText
    """Where packets go."""
    via: AddressText
    """The next hop."""


class Device(Part):
    """A router, firewall, appliance or server, and the dialect that it is configured in."""

    dialect: WordText | None = None
    """How its configuration is written: one of `reservoir dialect list`."""
    interfaces: Mapping[WordText, Interface] = {}
    """By the names that the device gives them."""
    zones: Mapping[WordText, Zone] = {}
    """Those of a firewall, by their names."""
    routes: tuple[Route, ...] = ()
    """Its static routes; left out, they are not known."""
    kept: Mapping[LabelText, Mapping[WordText, LabelText]] = {}
    """Settings in its configuration that the plan cannot model, by what they belong to
    (``pool crew``); they are preserved and written back unchanged."""

    @property
    def states_routes(self) -> bool:
        """Whether its routes are known, were it that there are none; left out, they are not."""
        return "routes" in self.model_fields_set


def _range_words(value: Any) -> str:
    return "(word)" if isinstance(value, str) and value == "all" else "(list)"


RangesText = Annotated[
    Annotated[Literal["all"], Tag("(word)")] | Annotated[ListOf[SpanText], Tag("(list)")],
    Discriminator(_range_words),
]
"""`all`, or ranges like 10.84.20.20-10.84.23.250, a single address or a subnet."""


class Service(Part):
    """One server of a network, or a pair of servers that keep their leases in step.

    It has its own ranges where several share the network. Of a pair with a device that the plan
    doesn't have, it names the address.
    """

    device: WordText | None = None
    """The server."""
    pair: tuple[WordText, ...] = ()
    """Two servers that keep their leases in step; the first leads."""
    partner: AddressText | None = None
    """The address of its partner in a pair, a device that the plan doesn't have."""
    leads: bool | None = None
    """Whether it is the first of the pair with its partner, which it is if left out."""
    after: DurationText | None = None
    """Seconds without the other one after which one of a pair takes over what is that one's."""
    ranges: RangesText | None = None
    """Its own ranges, where several servers share the network."""

    @model_validator(mode="after")
    def _names_its_servers(self) -> Service:
        if (self.device is None) == (not self.pair):
            raise MalformedValueError("a server is given by either device or pair")
        if self.pair and len(set(self.pair)) != 2:
            raise MalformedValueError("a pair is two devices, like [pier-router, depot-router]")
        if self.partner is not None and self.pair:
            raise MalformedValueError("a pair names both of its devices, without partner")
        if self.leads is not None and self.partner is None:
            raise MalformedValueError("leads goes with partner; of a pair, the first leads")
        if self.after is not None and not self.pair and self.partner is None:
            raise MalformedValueError("after goes with pair")
        return self

    @property
    def devices(self) -> tuple[str, ...]:
        """The device, or both of the pair."""
        return self.pair or (str(self.device),)


class Server(NamedTuple):
    """One device that serves a network."""

    device: str
    path: PlanPath = ()
    """Where its name is, below the network; empty if the plan leaves it out."""
    ranges: tuple[Span, ...] | Literal["all"] | None = None
    """Its own ranges of the network, if it has some."""
    partner: str | None = None
    """The other device of its pair."""
    partner_at: int | None = None
    """Its address, if the plan doesn't have the device."""
    leads: bool = True
    """Whether it is the first of its pair."""
    after: int | None = None
    """Seconds without the other one after which it takes over what is that one's."""

    @property
    def is_paired(self) -> bool:
        """Whether it is one of a pair."""
        return self.partner is not None or self.partner_at is not None


class Exclusion(Part):
    """Addresses that must never be assigned dynamically, and what they are reserved for."""

    range: SpanText
    """The addresses."""
    reason: LabelText = Field(default="", alias="for")
    """What they are reserved for."""


class StaticHost(Part):
    """A machine whose address is configured on itself; never assigned."""

    name: LabelText = ""
    """What it is called."""
    address: AddressText
    """The address that is configured on it."""
    owner: WordText | None = None
    """The device or machine that this is another name of."""


class _BoundClient(Part):
    """One client, by MAC or client identifier, and the address that it always gets."""

    name: LabelText = ""
    """What it is called."""
    mac: MacText | None = None
    """Its MAC address, if it is known by that."""
    client_id: ClientIdText | None = None
    """Its client identifier (option 61), if it is known by that."""
    address: AddressText
    """The address that it always gets."""

    @model_validator(mode="after")
    def _names_one_client(self) -> _BoundClient:
        if (self.mac is None) == (self.client_id is None):
            raise MalformedValueError("a binding has either mac or client_id")
        return self

    @property
    def client(self) -> Client:
        """The client's MAC or client identifier."""
        return Mac(self.mac) if self.mac is not None else self.client_id or b""


class Binding(OwnOffer, _BoundClient):
    """One client that always gets one address, and what it is offered otherwise than others."""

    hostname: WordText | None = None
    """The name that the client is offered as its own (option 12)."""

    @property
    def own_values(self) -> OwnValues | None:
        """What the client is offered otherwise; None if nothing."""
        if self.model_fields_set <= _BoundClient.model_fields.keys():  # there may be a million
            return None
        return super().own_values


def _service(device: str) -> dict[str, str]:
    return {"device": device}


def _exclusion(span: str) -> dict[str, str]:
    return {"range": span}


class _Segment(Part):
    """What a network is, who serves it and what is assigned there."""

    subnet: PrefixText
    """Its addresses, as in 10.84.20.0/24."""
    vlan: Annotated[int, Field(ge=1, le=4094)] | None = None
    """Its VLAN tag on trunks (IEEE 802.1Q)."""
    vrf: LabelText = ""
    """The routing table that it belongs to; the main one if left out."""
    gateway: GatewayText = None
    """The router that clients are offered (option 3)."""
    served_by: ListOf[Annotated[Service, ShortForm(_service)]] = ()
    """Who assigns; left out, the only device with an interface in the subnet."""
    ranges: RangesText = ()
    """What is assigned to clients without a binding; `all` leaves out what machines have."""
    exclusions: ListOf[Annotated[Exclusion, ShortForm(_exclusion)]] = ()
    """What is never assigned to clients without a binding."""


class Network(Offering, _Segment):
    """One broadcast domain with its subnet: who serves it, what is assigned and offered."""

    by_class: Mapping[WordText, ClassAnswers] = {}
    """By the names of classes, of which the first counts that a client is in."""
    admits: ListOf[WordText] | None = None
    """The classes whose members are served, besides bound clients; everybody if left out."""
    demand: Demand | None = None
    """How many clients are expected; what addresses are needed follows from it."""
    static: tuple[StaticHost, ...] = ()
    """Machines whose addresses are configured on themselves."""
    bindings: tuple[Binding, ...] = ()
    """Clients that always get the same address."""

    @model_validator(mode="after")
    def _admits_somebody(self) -> Network:
        if self.admits == ():
            raise MalformedValueError("admits names a class; left out, everybody is served")
        return self

    @property
    def servers(self) -> tuple[Server, ...]:
        """Every device that `served_by` names, in its order."""
        found = []
        for position, service in enumerate(self.served_by):
            for number, device in enumerate(service.devices):
                place = ("pair", number) if service.pair else ("device",)
                partner = service.pair[1 - number] if service.pair else None
                path = ("served_by", position, *place)
                leads = number == 0 and service.leads is not False
                pair = partner, service.partner, leads, service.after
                found.append(Server(device, path, service.ranges, *pair))
        return tuple(found)

    def why_excluded(self, address: int) -> str | None:
        """That an address is excluded, and what for; None if it isn't."""
        firsts, reaches, exclusions = self._by_first
        at = bisect_right(firsts, address) - 1
        while at >= 0 and reaches[at] >= address:
            if exclusions[at].range.holds(address):
                reason = exclusions[at].reason
                return f"excluded for {reason}" if reason else "excluded"
            at -= 1
        return None

    @cached_property
    def _by_first(self) -> tuple[list[int], list[int], list[Exclusion]]:
        """Where each exclusion begins, ascending; how far it or one before reaches; itself."""
        exclusions = sorted(self.exclusions, key=lambda exclusion: exclusion.range)
        reaches = list(accumulate((exclusion.range.last for exclusion in exclusions), max))
        return [exclusion.range.first for exclusion in exclusions], reaches, exclusions

    def knows(self, name: str) -> bool:
        """Whether it says anything of a class."""
        return name in self.by_class or name in (self.admits or ())

    def once(self) -> Network:
        """The same, as if all who come and go came on one day only."""
        changed: dict[str, object] = {"demand": self.demand and self.demand.once()}
        changed["by_class"] = {
            name: answers.model_copy(update={"demand": answers.demand and answers.demand.once()})
            for name, answers in self.by_class.items()
        }
        return self.model_copy(update=changed)

    @property
    def tells_apart(self) -> bool:
        """Whether what clients get depends on their class."""
        return bool(self.by_class) or self.admits is not None

    @property
    def leaves_out_server(self) -> bool:
        """Whether the plan leaves `served_by` out, rather than listing nobody."""
        return "served_by" not in self.model_fields_set

    @property
    def has_no_gateway(self) -> bool:
        """Whether the plan sets `gateway: none`, rather than leaving it out."""
        return self.gateway is None and "gateway" in self.model_fields_set


class PlanFile(Part):
    """A file of a Reservoir plan."""

    reservoir: Annotated[Literal["1"], WithJsonSchema({"enum": [PLAN_FORMAT, str(PLAN_FORMAT)]})]
    """The version of the plan's format."""
    name: LabelText = ""
    """What the plan is called."""
    include: ListOf[WordText] = ()
    """Files that belong to the plan too."""
    defaults: Defaults = Defaults()
    devices: Mapping[WordText, Device] = {}
    """Routers, firewalls, appliances and servers, by their names."""
    classes: Mapping[WordText, ClientClass] = {}
    """Kinds of client that are told apart, by their names."""
    networks: Mapping[WordText, Network] = {}
    """Networks, by their names."""
    bindings_from: ListOf[WordText] = ()
    """Tables of bindings: `network,name,mac,address`."""
    static_from: ListOf[WordText] = ()
    """Tables of static hosts: `network,name,address`."""
    checks: CheckSettings = CheckSettings()
    anycast: ListOf[AddressText] = ()
    """Addresses that several machines have on purpose."""
    listeners: ListOf[AddressText] = ()
    """Addresses that requests are relayed to and that never answer them."""
    accept: tuple[Acceptance, ...] = ()
    """Findings that are known and accepted."""


@dataclass(frozen=True)
class Plan:
    """The whole plan: one file or several, and the rows of its tables."""

    name: str = ""
    defaults: Defaults = Defaults()
    devices: Mapping[str, Device] = field(default_factory=dict)
    networks: Mapping[str, Network] = field(default_factory=dict)
    checks: CheckSettings = CheckSettings()
    anycast: tuple[int, ...] = ()
    listeners: tuple[int, ...] = ()
    accept: tuple[Acceptance, ...] = ()
    classes: Mapping[str, ClientClass] = field(default_factory=dict)
    bulk_bindings: HostTable = NO_HOSTS
    bulk_static: HostTable = NO_HOSTS


def format_path(path: PlanPath) -> str:
    """Write a path as ``networks.passenger-wifi.ranges[0]``; keys with dots are quoted."""
    steps = [f"[{step}]" if isinstance(step, int) else _key_step(step) for step in path]
    return "".join(steps).removeprefix(".")


@lru_cache(maxsize=1 << 16)
def _key_step(key: str) -> str:
    return f'."{key}"' if set(key) & set('."[] ') or not key else f".{key}"


def option_text(code: int, data: bytes) -> str:
    """An option's value for people: ``ntp 10.84.0.123``."""
    _, text = dhcp_options.decode(code, data)
    return f"{dhcp_options.name_of(code)} {text}"
