"""Replays the witnesses of findings: sets up just that case, and shows the harm in a message.

A client asks, in the network that the witness names, for what it names; what devices answer shows
the harm or doesn't. What no message between clients and servers can show is said to be so.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterable, Mapping, Sequence
from dataclasses import replace
from itertools import combinations, product

from reservoir.core.findings import Finding, Proof, Witness
from reservoir.core.plan.offered import OFFERED
from reservoir.core.pools import Pools
from reservoir.core.routing import End
from reservoir.core.values.addresses import MalformedValueError, format_address, parse_span
from reservoir.core.values.clients import Mac
from reservoir.dialects.behaviour.serving import Serving
from reservoir.rehearsal.casting import MOST_FILLED
from reservoir.rehearsal.clients.client import Client
from reservoir.rehearsal.clients.kinds import class_in, member_in
from reservoir.rehearsal.devices.server import option_bytes
from reservoir.rehearsal.judgement.result import Failure, Rehearsal
from reservoir.rehearsal.judgement.silent import SILENT
from reservoir.rehearsal.messages.message import Kind, Message, Option, described, option_name
from reservoir.rehearsal.messages.saying import options_of
from reservoir.rehearsal.outage import why_refused
from reservoir.rehearsal.wires.setting import connect_devices
from reservoir.rehearsal.wires.wires import Event, Wires

FIRST_MAC = 0x020300000000
"""The hardware address of the first client that asks. Locally administered."""

OFFERS_EXPIRED = 120.0
"""Seconds after which servers have forgotten what they offered."""

_OF_ROUTES = ("traffic-lost", "on-link")
"""Events that the devices' routes show, without a client."""

_OF_EACH = frozenset(
    ("has", "gets", option_name(Option.SERVER), option_name(Option.CLIENT_IDENTIFIER))
)
"""What differs in offers to two clients anyway."""


def with_proofs(
    findings: Sequence[Finding],
    pools: Pools,
    started: Mapping[str, Serving],
    rehearsal: Rehearsal,
    *,
    complete: bool = True,
) -> list[Finding]:
    """The findings, each with what came of replaying its witness.

    Args:
        findings: What the checks found; what follows from another is left to that one.
        pools: The plan.
        started: What each device serves that was started from its configuration.
        rehearsal: What came of rehearsing the plan, with the rules of its failures.
        complete: Whether all devices that matter are in the plan.
    """
    wires = Wires(pools)
    connect_devices(wires, pools, started, complete=complete)
    prover = _Prover(pools, started, rehearsal, wires, complete=complete)
    proven = {
        id(finding): finding._replace(proof=prover.proof(finding))
        for finding in findings
        if finding.cause is None
    }
    return [
        proven[id(finding)]
        if finding.cause is None
        else finding._replace(cause=proven.get(id(finding.cause), finding.cause))
        for finding in findings
    ]


class _Prover:
    def __init__(
        self,
        pools: Pools,
        started: Mapping[str, Serving],
        rehearsal: Rehearsal,
        wires: Wires,
        *,
        complete: bool,
    ) -> None:
        self._pools, self._complete = pools, complete
        self._started = started
        self._left_out = rehearsal.left_out
        self._failures: dict[tuple[str, Finding], Failure] = {}
        for each in rehearsal.networks:
            for failure in (*each.failures, *each.accepted):
                if failure.finding is not None:
                    self._failures.setdefault((each.network, failure.finding), failure)
        self._wires = wires
        self._asked = 0
        self._replays: Mapping[str, Callable[[Witness], Proof]] = {
            "assigned": self._assigned,
            "in-range": self._assigned,
            "in-both": self._assigned,
            "answered-for": self._answered_for,
            "bound": self._bound,
            "bound-to-two": self._bound,
            "binding-ignored": self._binding_ignored,
            "never-assigned": self._never_assigned,
            "unanswered": self._unanswered,
            "request-lost": self._unanswered,
            "answer-lost": self._unanswered,
            "leaves": self._leaves,
            "not-relayed": self._unanswered,
            "answered-twice": self._answered_twice,
            "offered": self._offered,
            "offered-only": self._offered,
            "stays": self._stays,
            "masks-differ": self._masks_differ,
            "offered-differently": self._offered_differently,
            "offered-either": self._offered_either,
            "offered-none": self._offered_none,
            "not-served": self._not_served,
            "traffic-lost": self._traffic_lost,
            "dropped": self._traffic_lost,
            "on-link": self._traffic_lost,
            "held-twice": self._held_twice,
            "held-alone": self._held_alone,
            "refused": self._refused,
            "refused-meanwhile": self._refused_meanwhile,
            "other-class": self._other_class,
        }

    def proof(self, finding: Finding) -> Proof:
        """What comes of replaying a finding's witness."""
        witness = finding.witness
        if witness is None:
            return Proof(False, "the finding has no example to replay")
        for name in (finding.network, *finding.concerns):
            failure = self._failures.get((name or "", finding))
            if failure is not None:
                at = f" (frame {failure.at_message:,} of the rehearsal)"
                return Proof(True, failure.reason + (at if failure.at_message else ""))
        replay = self._replays.get(witness.kind)
        if replay is None:
            return Proof(False, SILENT.get(witness.kind, "no message shows it"))
        nobody = "" if witness.kind in _OF_ROUTES else self._why_nobody_asks(witness.network)
        return Proof(False, nobody) if nobody else replay(witness)

    def _why_nobody_asks(self, network: str | None) -> str:
        """Why no client can ask in a network; empty if one can."""
        if network not in self._pools.plan.networks:
            return "no network of the plan notices"
        return self._left_out.get(str(network), "")

    # A client asks.

    def _ask(self, witness: Witness, requested: int | None = None) -> tuple[list[Event], list[str]]:
        """The offers to a client, and why others were not made."""
        self._asked += 1
        mac = witness.client if isinstance(witness.client, Mac) else Mac(FIRST_MAC + self._asked)
        says: dict[int, bytes] = {}
        if witness.member_of:
            said = member_in(self._pools, witness.network or "", witness.member_of)
            if said is None:
                return [], [f"nobody can be of class {witness.member_of} there"]
            mac, says = said.mac, options_of(said)
        client = Client(mac, self._wires)
        assert witness.network is not None
        self._wires.connect(client, witness.network)
        self._wires.lost.pop(mac, None)
        message = Message(Kind.DISCOVER, self._asked, mac, says)
        if isinstance(witness.client, bytes):
            message.options[Option.CLIENT_IDENTIFIER] = witness.client
        if requested is not None:
            message.options[Option.REQUESTED_ADDRESS] = requested.to_bytes(4, "big")
        events: list[Event] = []
        self._wires.watch = events.append
        self._wires.broadcast(client, message)
        self._wires.clock.run(self._wires.clock.now + OFFERS_EXPIRED)
        self._wires.watch = None
        offers = {
            (event.message.address(Option.SERVER), event.message.your_address): event
            for event in events
            if event.message is not None and event.message.kind is Kind.OFFER
        }
        return list(offers.values()), self._wires.lost.get(mac, [])

    def _other_class(self, witness: Witness) -> Proof:
        """A client of one class is taken for one of another."""
        said = member_in(self._pools, witness.network or "", witness.member_of)
        pool = self._pools.of(witness.network or "")[0]
        its = pool.by_class.class_of(said) if pool.by_class is not None and said else None
        offers, reasons = self._ask(witness)
        wanted = its.offer if its is not None else pool.offer
        told = f"one of {witness.member_of} {_instead(offers, reasons)}"
        is_taken = its is not None and its.name == witness.also
        for offer in offers:
            got = offer.message.options if offer.message is not None else {}
            if is_taken and wanted.encoded().items() <= got.items():
                return Proof(True, f"{told}, as one of {witness.also}")
        return Proof(False, told)

    def _assigned(self, witness: Witness) -> Proof:
        if witness.address is None:
            return Proof(False, "no single address is at stake")
        shown = format_address(witness.address)
        offers, reasons = self._ask(witness, witness.address)
        for offer in offers:
            if _address(offer) == witness.address:
                return Proof(True, f"{offer.who} offers {shown} to a client that asks for it")
        return Proof(False, f"a client that asks for {shown} {_instead(offers, reasons)}")

    def _answered_for(self, witness: Witness) -> Proof:
        offers, reasons = self._ask(witness)
        network = self._pools.plan.networks[witness.network or ""]
        for offer in offers:
            if not network.subnet.span.holds(_address(offer)):
                return Proof(True, f"a client {_instead([offer], [])}")
        return Proof(False, f"a client {_instead(offers, reasons)}")

    def _bound(self, witness: Witness) -> Proof:
        offers, reasons = self._ask(witness)
        who = witness.name or "the bound client"
        if any(_address(offer) == witness.address for offer in offers):
            return Proof(True, f"{who} {_instead(offers, [])}")
        return Proof(False, f"{who} {_instead(offers, reasons)}")

    def _binding_ignored(self, witness: Witness) -> Proof:
        offers, reasons = self._ask(witness)
        who = witness.name or "the bound client"
        is_right = any(_address(offer) == witness.address for offer in offers)
        return Proof(not is_right, f"{who} {_instead(offers, reasons)}")

    def _never_assigned(self, witness: Witness) -> Proof:
        try:
            address = parse_span(witness.value).first
        except MalformedValueError:
            return Proof(False, SILENT["empty-range"])
        offers, reasons = self._ask(witness, address)
        is_offered = any(_address(offer) == address for offer in offers)
        asked = f"a client that asks for {format_address(address)}"
        return Proof(not is_offered, f"{asked} {_instead(offers, reasons)}")

    def _unanswered(self, witness: Witness) -> Proof:
        offers, reasons = self._ask(witness)
        subnet = self._pools.plan.networks[witness.network or ""].subnet
        is_served = any(subnet.span.holds(_address(offer)) for offer in offers)
        return Proof(not is_served, f"a client {_instead(offers, reasons)}")

    def _refused(self, witness: Witness) -> Proof:
        """The first client gets no address; where others have to come before, nothing is shown."""
        if witness.count == 1:
            return self._unanswered(witness)
        return Proof(False, "no message shows it")

    def _refused_meanwhile(self, witness: Witness) -> Proof:
        """So many clients come while a server is down; the last gets no address."""
        if (witness.count or 0) > MOST_FILLED:
            return Proof(False, f"more than {MOST_FILLED:,} clients would have to come first")
        why = why_refused(self._pools, self._started, witness, complete=self._complete)
        said = f"client number {witness.count} {{}} while {witness.also} is down"
        return Proof(
            bool(why), f"{said.format('gets none')}: {why}" if why else said.format("is served")
        )

    def _answered_twice(self, witness: Witness) -> Proof:
        offers, reasons = self._ask(witness)
        servers = {offer.message.address(Option.SERVER) for offer in offers if offer.message}
        return Proof(len(servers) > 1, f"a client {_instead(offers, reasons)}")

    def _offered(self, witness: Witness) -> Proof:
        offers, reasons = self._ask(witness)
        wanted = set(re.split(" and |, | ", witness.value)) - {""}
        for offer in offers:
            for name, value in _told(offer).items():
                if wanted and (witness.value == value or wanted <= set(value.split())):
                    return Proof(True, f"{offer.who} offers the {name} {value}")
        if offers:
            return Proof(False, f"no {witness.option or 'option'} {witness.value} is offered")
        return Proof(False, f"a client {_instead(offers, reasons)}")

    def _stays(self, witness: Witness) -> Proof:
        """A client's address is held for longer than the client is there."""
        offers, reasons = self._ask(witness)
        for offer in offers:
            held, shown = _told(offer).get(OFFERED["lease"].title), format_address(_address(offer))
            if held == witness.expected:
                said = (
                    f"{offer.who} offers {shown} for {held}, and the client stays {witness.value}"
                )
                return Proof(True, said)
        if offers:
            return Proof(False, "it takes a day of clients that come and go")
        return Proof(False, f"a client {_instead(offers, reasons)}")

    def _masks_differ(self, witness: Witness) -> Proof:
        """Clients are offered another mask than the one that somebody beside them has."""
        offers, reasons = self._ask(witness)
        for offer in offers:
            mask = offer.message.address(Option.MASK) if offer.message else None
            if mask is not None and f"/{mask.bit_count()}" == witness.value:
                there = f"{witness.also} has a {witness.expected} mask"
                return Proof(True, f"{offer.who} offers the mask {format_address(mask)}, {there}")
        return Proof(False, f"a client {_instead(offers, reasons)}")

    def _offered_differently(self, witness: Witness) -> Proof:
        own, reasons = self._ask(witness)
        others, _ = self._ask(replace(witness, client=None))
        who = witness.name or "the bound client"
        for offer, other in product(own, others):
            different = _difference(offer, other)
            if different:
                return Proof(
                    True, f"{who} is offered {different[0]}, another client {different[1]}"
                )
        if own and others:
            return Proof(False, "both are offered the same")
        return Proof(False, f"{who} {_instead(own, reasons)}")

    def _offered_either(self, witness: Witness) -> Proof:
        """Ask each pool of the network for an address of its own."""
        subnet = self._pools.plan.networks[witness.network or ""].subnet
        firsts = [
            pool.assignable.first
            for serving in self._started.values()
            for pool in serving.pools_holding(subnet.address)
            if pool.assignable
        ]
        offers = [offer for first in firsts for offer in self._ask(witness, first)[0]]
        for offer, other in combinations(offers, 2):
            different = _difference(offer, other)
            if different:
                return Proof(
                    True, f"one client is offered {different[0]}, another client {different[1]}"
                )
        return Proof(False, "clients are offered only one of the two")

    def _offered_none(self, witness: Witness) -> Proof:
        offers, reasons = self._ask(witness)
        for offer in offers:
            if witness.option not in _told(offer):
                shown = format_address(_address(offer))
                return Proof(True, f"{offer.who} offers {shown} without a {witness.option}")
        return Proof(False, f"a client {_instead(offers, reasons)}")

    def _not_served(self, witness: Witness) -> Proof:
        """Something can't be written for a device: a client misses it, unless it does without."""
        offers, reasons = self._ask(witness)
        its = class_in(self._pools, witness.network or "", witness.member_of)
        for offer in offers if its is not None else ():
            if its is not None and _address(offer) not in its.assignable:
                whose = f"one of {its.name} {_instead([offer], [])}"
                return Proof(True, f"{whose}, which is not for them")
        planned = self._pools.offer_to(witness.network or "", witness.client)
        planned = its.offer if its is not None else planned
        bits = self._pools.plan.networks[witness.network or ""].subnet.bits
        said = Message(Kind.OFFER, 0, Mac(FIRST_MAC), option_bytes(planned, bits))
        said.next_server = planned.values["next_server"] or 0
        wanted = _said(said)
        if witness.value in wanted:
            wanted = {witness.value: wanted[witness.value]}
        for offer in offers:
            told = _told(offer)
            for name, value in wanted.items():
                if told.get(name) != value:
                    shown = format_address(_address(offer))
                    instead = f"with {_shown(name, told.get(name))}, not {value}"
                    return Proof(True, f"{offer.who} offers {shown} {instead}")
        if offers:
            return Proof(False, "a client without a binding is offered all that the plan says")
        return Proof(False, f"a client {_instead(offers, reasons)}")

    def _traffic_lost(self, witness: Witness) -> Proof:
        device = self._device(witness.also)
        if not device or witness.address is None:
            return Proof(False, "no known device is on the way")
        way = self._wires.way(device, witness.address)
        shown = format_address(witness.address)
        if way.is_lost:
            return Proof(True, way.why(witness.address))
        if way.end is End.ARRIVED and not way.is_held:
            return Proof(True, f"nobody answers at {shown}")
        return Proof(False, way.why(witness.address) or f"the way to {shown} is there")

    def _leaves(self, witness: Witness) -> Proof:
        address = witness.address or 0
        way = self._wires.way(witness.also, address)
        return Proof(way.is_open, way.why(address) or f"{way.at} gets it")

    def _held_twice(self, witness: Witness) -> Proof:
        for address, one, other in self._wires.segment(witness.network or "").twice:
            if address == witness.address:
                return Proof(True, f"{one} and {other} both answer at {format_address(address)}")
        return Proof(False, "the two are not on one network")

    def _held_alone(self, witness: Witness) -> Proof:
        """A router fails, and no other has the address that both should share."""
        device, shown = self._device(witness.name), format_address(witness.address or 0)
        others = [
            holder
            for holder in self._pools.topology.holders(witness.address or 0)
            if holder.device != device
        ]
        if others:
            return Proof(False, f"without {device}, {others[0]} answers at {shown}")
        return Proof(True, f"without {device}, nobody answers at {shown}")

    def _device(self, label: str) -> str:
        """The device that a label begins with, its own or an interface's; empty for none."""
        while label and label not in self._pools.plan.devices:
            label = label.rpartition(" ")[0]
        return label


def _told(offer: Event) -> dict[str, str]:
    """What an offer says, by what it is about."""
    return _said(offer.message) if offer.message else {}


def _said(message: Message) -> dict[str, str]:
    return dict(described(message))


def _difference(one: Event, other: Event) -> tuple[str, str] | None:
    """The first thing in which two offers differ, but for the address: what each says of it."""
    told = _told(one), _told(other)
    for name in dict.fromkeys((*told[0], *told[1])):
        said = [each.get(name) for each in told]
        if said[0] != said[1] and name not in _OF_EACH:
            return _shown(name, said[0]), _shown(name, said[1])
    return None


def _shown(name: str, value: str | None) -> str:
    return f"no {name}" if value is None else f"the {name} {value}"


def _address(offer: Event) -> int:
    return offer.message.your_address if offer.message else 0


def _instead(offers: Iterable[Event], reasons: Sequence[str]) -> str:
    """What a client is offered, by whom; or why it isn't."""
    said = [f"{format_address(_address(offer))} by {offer.who}" for offer in offers]
    if said:
        return f"is offered {' and '.join(said)}"
    return f"gets no answer: {'; '.join(dict.fromkeys(reasons)) or 'no device answers'}"
