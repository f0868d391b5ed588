"""The rehearsal: clients, devices and wires together, and what is said of them."""

from __future__ import annotations

from collections import Counter
from itertools import pairwise
from pathlib import Path
from typing import Any

import dpkt
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import reservoir
from conftest import Run, examples
from met import meets, met
from oracle import plans, text_of
from reservoir.core.plan.model import format_path
from reservoir.core.pools import Pools
from reservoir.core.problems import InputError
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import Span, format_address, parse_address
from reservoir.core.values.clients import Mac
from reservoir.dialects.sheet.library import Library
from reservoir.dialects.writing import write_device
from reservoir.rehearsal.clients.client import Client, State
from reservoir.rehearsal.devices.claims import Arrival
from reservoir.rehearsal.devices.leases import Free
from reservoir.rehearsal.messages import frame, message
from reservoir.rehearsal.messages.message import Kind, Message, Option
from reservoir.rehearsal.wires.setting import connect_devices, start
from reservoir.rehearsal.wires.wires import Disturbance, Event, Wires

DEMO = Path(reservoir.__file__).parent / "demo"

LAN = """\
reservoir: 1
defaults: {dns: [10.84.0.53], lease: 1h}
devices: {pier: {dialect: DIALECT, interfaces: {deck: {address: 10.84.30.1/24, zone: crew}},
  zones: {crew: {admits: [dhcp]}}}}
networks:
  crew:
    subnet: 10.84.30.0/24
    gateway: 10.84.30.1
    ranges: [10.84.30.20-10.84.30.29]
    bindings: [{name: bell, mac: 00:00:5e:00:53:01, address: 10.84.30.24}]
"""

RELAYED = """\
reservoir: 1
defaults: {dns: [10.84.0.53], lease: 1h}
devices:
  pier: {interfaces: {deck: {address: 10.84.30.1/24, relay_to: [10.84.0.10]},
    uplink: {address: 10.84.0.1/24}}}
  office: {dialect: larkspur, interfaces: {lan: {address: 10.84.0.10/24}},
    routes: [{to: 0.0.0.0/0, via: 10.84.0.1}]}
networks:
  crew: {subnet: 10.84.30.0/24, gateway: 10.84.30.1, served_by: office, ranges: [10.84.30.20-29]}
"""


def wired(text: str, **how: Any) -> tuple[Wires, Pools]:
    """A plan's devices, started and connected."""
    plan = reservoir.loads(text)
    started = {
        name: start(write_device(plan.pools, name, sheet).text, sheet)
        for name, sheet in plan.sheets.items()
    }
    wires = Wires(plan.pools, **how)
    connect_devices(wires, plan.pools, started)
    return wires, plan.pools


def switched_on(wires: Wires, number: int, network: str = "crew", **how: Any) -> Client:
    """A client that has asked for an address."""
    client = Client(Mac(0x5E005300 + number), wires, **how)
    wires.connect(client, network)
    client.switch_on()
    wires.clock.run(wires.clock.now + 100)
    return client


# What clients get.


@pytest.mark.parametrize("dialect", Library().names)
def test_every_dialect_serves_a_lan(dialect: str) -> None:
    """Ten clients get the ten addresses, the bound one its own; the eleventh gets none."""
    wires, _ = wired(LAN.replace("DIALECT", dialect))
    clients = [switched_on(wires, number) for number in range(2, 11)]
    bell, late = switched_on(wires, 1), switched_on(wires, 11)
    got = {client.address for client in (bell, *clients)}
    assert got == set(range(parse_address("10.84.30.20"), parse_address("10.84.30.30")))
    assert format_address(bell.address) == "10.84.30.24"
    assert late.state is State.GIVEN_UP
    given = clients[0].acknowledged
    assert given is not None
    assert given.options[Option.ROUTER] == parse_address("10.84.30.1").to_bytes(4, "big")
    assert given.options[Option.DNS] == parse_address("10.84.0.53").to_bytes(4, "big")
    assert given.options[Option.MASK] == bytes([255, 255, 255, 0])
    assert given.number(Option.LEASE_TIME) == 3600


ORDERS = {
    "lowest-first": [20, 21, 22, 23],
    "highest-first": [29, 28, 27, 26],
    "least-recently-used": [20, 21, 22, 23],
}


@pytest.mark.parametrize("dialect", Library().names)
def test_addresses_are_assigned_in_the_order_of_the_family(dialect: str) -> None:
    """A client that comes back gets what it had; one that released it, by the order."""
    order, plan = Library().sheet(dialect).trait("order"), LAN.replace("DIALECT", dialect)
    wires, _ = wired(plan)
    clients = [switched_on(wires, number) for number in (2, 3, 4, 5)]
    last = [client.address & 255 for client in clients]
    for client in clients:
        client.leave(releases=False)
        client.address = 0
        client.switch_on()
        wires.clock.run(wires.clock.now + 1)
    assert [client.address & 255 for client in clients] == last
    if order == "by-client":
        alone = [switched_on(wired(plan)[0], number).address & 255 for number in (2, 3)]
        assert last[:2] == alone  # whoever came before
        assert last != ORDERS["lowest-first"]
        return
    assert last == ORDERS[order]
    for client in reversed(clients):
        client.leave(releases=True)
        wires.clock.run(wires.clock.now + 1)
    following = switched_on(wires, 6).address & 255
    unused = {"least-recently-used": 25, "lowest-first": 20, "highest-first": 29}
    assert following == unused[order]


def test_an_address_in_use_is_declined_and_never_assigned_again() -> None:
    """A host that nobody planned has it; the client notices, and so does the server."""
    wires, _ = wired(LAN.replace("DIALECT", "larkspur"))
    squatter = Client(Mac(99), wires)
    squatter.state = State.BOUND
    wires.segment("crew").online[parse_address("10.84.30.29")] = squatter
    client, other = switched_on(wires, 2), switched_on(wires, 3)
    assert client.declined == [(parse_address("10.84.30.29"), f"client {squatter.mac}")]
    assert [client.address & 255, other.address & 255] == [28, 27]


def test_what_was_declined_comes_back_after_a_while() -> None:
    """It isn't lost for ever; until then nobody gets it."""
    wires, _ = wired(LAN.replace("DIALECT", "larkspur"))
    declined = parse_address("10.84.30.29")
    taken = answer(wires, Message(Kind.DISCOVER, 1, Mac(2)))
    assert taken is not None
    assert taken.your_address == declined
    answer(wires, Message(Kind.DECLINE, 2, Mac(2), {50: declined.to_bytes(4, "big")}))
    for hours, is_back in ((23, False), (25, True)):
        asked = Message(Kind.DISCOVER, 3, Mac(3 + hours))
        again = answer(wires, asked, now=hours * 3600.0)
        assert again is not None
        assert (again.your_address == declined) == is_back


@pytest.mark.parametrize(("dialect", "remembers"), [("larkspur", True), ("thimble", False)])
def test_who_comes_back_after_its_lease_gets_the_same_address(
    dialect: str, remembers: bool
) -> None:
    """If it is free, before any other (RFC 2131 section 4.3.1); a new client gets another."""
    wires, _ = wired(LAN.replace("DIALECT", dialect))
    (first, _), (second, mac) = (
        (client.address, client.mac) for number in (2, 3) for client in [switched_on(wires, number)]
    )
    later = wires.clock.now + 2 * 3600  # both leases have ended
    back = answer(wires, Message(Kind.DISCOVER, 5, mac), now=later)
    assert back is not None
    assert back.your_address == (second if remembers else first)
    wished = {50: second.to_bytes(4, "big")}
    rebooted = answer(wires, Message(Kind.REQUEST, 6, mac, wished), now=later + 100)
    assert (rebooted is not None and rebooted.your_address == second) == remembers
    newcomer = answer(wires, Message(Kind.DISCOVER, 7, Mac(9)), now=later + 200)
    assert newcomer is not None
    assert newcomer.your_address == first


SIZED = """\
reservoir: 1
devices: {pier: {dialect: DIALECT, interfaces: {deck: {address: 10.84.30.1/24}}}}
networks:
  crew: {subnet: 10.84.30.0/24, gateway: 10.84.30.1, lease: 1h, ranges: [10.84.30.20-29],
    options: {OPTIONS}}
"""


@meets("all fits", "something left out", "nothing sent", "in other fields")
@given(
    dialect=st.sampled_from(["larkspur", "fulmar", "linux-host"]),
    sizes=st.lists(st.integers(1, 180), max_size=5),
    largest=st.sampled_from([0, 0, 576, 700, 1500]),
)
@settings(max_examples=examples(150))
def test_an_answer_fits_what_the_client_takes(dialect: str, sizes: list[int], largest: int) -> None:
    """All options are there, or the family does without some; a check says so before."""
    wanted = {224 + number: b"x" * size for number, size in enumerate(sizes)}
    options = ", ".join(f"{code}: {{text: {data.decode()}}}" for code, data in wanted.items())
    text = SIZED.replace("DIALECT", dialect).replace("OPTIONS", options)
    wires, _ = wired(text)
    said = {57: largest.to_bytes(2, "big")} if largest else {}
    reply = answer(wires, Message(Kind.DISCOVER, 1, Mac(2), dict(said)))
    assert (reply is None) <= (dialect == "linux-host")
    told = message.decode(reply.encode()).options if reply is not None else {}
    missing = wanted.keys() - told.keys()
    assert all(told[code] == data for code, data in wanted.items() if code in told)
    headers = 0 if dialect == "linux-host" and largest <= 576 else 28
    room = max(largest, 576) - headers
    if reply is not None:
        assert len(reply.encode()) <= max(room, message.SHORTEST)
    found = [f for f in reservoir.check(reservoir.loads(text)) if f.rule == "options-too-long"]
    if largest <= 576:
        severe = [f for f in found if f.severity > reservoir.Severity.ADVICE]
        assert bool(severe) == bool(missing)
    needed = 27 + sum(len(data) + 2 for data in wanted.values())
    assert bool(missing) <= (needed + 241 > room)
    met("all fits", not missing and bool(wanted))
    met("something left out", bool(missing) and reply is not None)
    met("nothing sent", reply is None)
    met("in other fields", not missing and needed + 241 > room)


def test_leases_are_renewed_rebound_and_lost() -> None:
    """At T1 with the server alone, at T2 with anybody, at the end not at all (RFC 2131 4.4.5)."""
    wires, _ = wired(LAN.replace("DIALECT", "larkspur"))
    said: list[Event] = []
    wires.watch = said.append
    client = Client(Mac(2), wires)
    wires.connect(client, "crew")
    client.keeps = True
    client.switch_on()
    wires.clock.run(5000)
    asked = [e for e in said if e.message and e.message.kind is Kind.REQUEST]
    assert client.renewals == len(asked) - 1 == 2
    gaps = [later.at - earlier.at for earlier, later in pairwise(asked)]
    assert all(0.45 * 3600 < gap < 0.55 * 3600 for gap in gaps)
    assert [e.to for e in asked] == ["everybody", "10.84.30.1", "10.84.30.1"]
    said.clear()
    del wires.devices["pier"]
    wires.clock.run(5000 + 2 * 3600)
    later = [e for e in said if e.message and e.message.kind is Kind.REQUEST]
    to = [e.to for e in later]
    assert to[0] == "10.84.30.1"
    assert to[-1] == "everybody"
    rebinding = later[to.index("everybody")].at - asked[-1].at
    assert 0.95 * 0.875 * 3600 <= rebinding <= 0.875 * 3600
    assert client.state is State.GIVEN_UP
    assert not client.is_online


def test_who_comes_back_on_another_network_is_told_so() -> None:
    """A NAK, and then an address of that network; from a server that knows the client or not."""
    text = LAN.replace("DIALECT", "larkspur").replace(
        "interfaces: {", "interfaces: {hold: {address: 10.84.31.1/24, zone: crew}, "
    )
    text += "  shop: {subnet: 10.84.31.0/24, gateway: 10.84.31.1, ranges: [10.84.31.20-29]}\n"
    wires, _ = wired(text)
    client = switched_on(wires, 2)
    client.leave(releases=False)
    wires.connect(client, "shop")
    client.switch_on()
    wires.clock.run(wires.clock.now + 100)
    assert client.refusals == ["10.84.30.29 was refused"]
    assert format_address(client.address) == "10.84.31.29"
    client.leave(releases=False)
    client.switch_on()
    wires.clock.run(wires.clock.now + 1)
    assert (client.state, format_address(client.address)) == (State.BOUND, "10.84.31.29")


def answer(
    wires: Wires, sent: Message, relay: str = "", device: str = "pier", now: float = 0.0
) -> Message | None:
    """What a device's server answers to a message."""
    server = wires.devices[device].server
    assert server is not None
    sent.relay = parse_address(relay) if relay else 0
    return server.answer(Arrival(sent, "deck", parse_address("10.84.30.1"), now)).reply


def test_what_is_sent_back_as_it_came() -> None:
    """The client's identifier (RFC 6842), the relay's information (RFC 3046), flags and relay."""
    wires, _ = wired(LAN.replace("DIALECT", "larkspur"))
    options = {Option.CLIENT_IDENTIFIER: b"\0bell", Option.RELAY_AGENT: b"\1\4deck"}
    sent = Message(Kind.DISCOVER, 5, Mac(2), dict(options), flags=0x8000)  # type: ignore[arg-type]
    reply = answer(wires, sent, "10.84.30.1")
    assert reply is not None
    assert {code: reply.options[code] for code in options} == options
    assert (reply.flags, reply.relay, reply.transaction) == (0x8000, sent.relay, 5)
    informed = answer(wires, Message(Kind.INFORM, 6, Mac(3), own_address=7))
    assert informed is not None
    assert (informed.kind, informed.your_address) == (Kind.ACK, 0)
    assert Option.LEASE_TIME not in informed.options
    rebooted = Message(Kind.REQUEST, 7, Mac(4), {50: parse_address("10.84.30.28").to_bytes(4)})
    assert answer(wires, rebooted) is None  # nobody it knows: it must be silent


@pytest.mark.parametrize(("dialect", "heeds"), [("fulmar", True), ("larkspur", False)])
def test_a_request_names_its_subnet_where_the_family_heeds_it(dialect: str, heeds: bool) -> None:
    """RFC 3527 and 3011, the first before the second; and the server's address (RFC 5107)."""
    text = RELAYED.replace("larkspur", dialect).replace("networks:", "networks:\n"
        "  desk: {subnet: 10.84.31.0/24, gateway: 10.84.31.1, served_by: office, "
        "ranges: [10.84.31.20-29]}")  # fmt: skip
    wires, _ = wired(text)
    crew, desk = parse_address("10.84.30.1"), parse_address("10.84.31.0")
    link, server = (bytes((code, 4)) for code in (5, 11))
    for options, told, known_as in (
        ({118: desk.to_bytes(4, "big")}, desk, "10.84.30.1"),
        ({82: link + desk.to_bytes(4, "big")}, desk, "10.84.30.1"),
        ({82: link + crew.to_bytes(4, "big"), 118: desk.to_bytes(4, "big")}, crew, "10.84.30.1"),
        ({82: server + (crew + 9).to_bytes(4, "big")}, crew, "10.84.30.10"),
        ({82: b"\x05\x09cut"}, crew, "10.84.30.1"),
    ):
        asked = Message(Kind.DISCOVER, 1, Mac(2), dict(options))
        offer = answer(wires, asked, "10.84.30.1", "office")
        assert offer is not None
        assert offer.your_address >> 8 == (told if heeds else crew) >> 8
        shown = format_address(offer.address(Option.SERVER) or 0)
        assert shown == (known_as if heeds else "10.84.30.1")
        assert {code: offer.options.get(code) for code in options} == (
            options if heeds else {**options, **({118: None} if 118 in options else {})}
        )
        assert message.decode(offer.encode()).options == offer.options


def test_a_relay_says_where_a_request_came_in_and_tells_no_client() -> None:
    """The server sends it back, and the relay takes it off (RFC 3046)."""
    frames: list[bytes] = []
    text = RELAYED.replace("pier: {", "pier: {dialect: tamarack, ")
    wires, _ = wired(text)
    wires.capture = lambda when, data: frames.append(data)
    client = switched_on(wires, 2)
    assert client.acknowledged is not None
    assert Option.RELAY_AGENT not in client.acknowledged.options
    sent = [message.decode(frame.decode(data).payload) for data in frames]
    relayed = [m.options.get(Option.RELAY_AGENT) for m in sent if m.hops and not m.is_reply]
    answered = [m.options.get(Option.RELAY_AGENT) for m in sent if m.is_reply]
    assert relayed == [b"\x01\x04deck"] * 2
    assert answered == [b"\x01\x04deck", None] * 2


def test_a_relay_needs_no_service_of_its_own() -> None:
    """Where it relays; on its other interface it serves, and the service is on there only."""
    text = RELAYED.replace(
        "pier: {interfaces: {",
        "pier: {dialect: merganser, zones: {sea: {admits: [dhcp]}},\n"
        "    interfaces: {hold: {address: 10.84.31.1/24, zone: sea}, ",
    ).replace("address: 10.84.30.1/24, ", "address: 10.84.30.1/24, zone: sea, ")
    text += (
        "  hold: {subnet: 10.84.31.0/24, gateway: 10.84.31.1, served_by: pier,\n"
        "    ranges: [10.84.31.9]}\n"
    )
    plan = reservoir.loads(text)
    (served,) = (c.text for c in reservoir.write(plan, ["pier"]))
    assert served.count("lending ready") == 2
    found = reservoir.rehearse(plan)
    assert [(each.network, each.relay, each.failures) for each in found.networks] == [
        ("crew", "pier deck", []),
        ("hold", None, []),
    ]


def test_requests_pass_a_relay_and_no_more_than_sixteen() -> None:
    """With the relay's address in the client network; a route that is missing loses the answer."""
    wires, _ = wired(RELAYED)
    assert format_address(switched_on(wires, 2).address) == "10.84.30.29"
    relay, port = wires.devices["pier"], wires.segment("crew").ports[0]
    said: list[Event] = []
    wires.watch = said.append
    for hops in (15, 16):
        sent = Message(Kind.DISCOVER, hops, Mac(2), hops=hops)
        relay.hears(Arrival(sent, port.interface, port.address, 0.0))
    wires.clock.run()
    assert [e.what for e in said if "have passed it on" in e.what] == [
        "drops the DISCOVER: 16 relays have passed it on"
    ]
    assert [e.message.transaction for e in said if e.message and e.message.is_reply] == [15, 15]
    lost = RELAYED.replace("to: 0.0.0.0/0", "to: 10.85.0.0/16")
    (network,) = reservoir.rehearse(reservoir.loads(lost)).networks
    assert network.failure is not None
    assert network.failure.rule == "relay-no-way-back"
    assert network.failure.reason == "no answer: office has no route to 10.84.30.1"


@meets("none left", "one given back")
@given(
    spans=st.lists(st.tuples(st.integers(0, 60), st.integers(0, 9)), max_size=4),
    steps=st.lists(st.tuples(st.booleans(), st.integers(0, 70)), max_size=40),
)
@settings(max_examples=examples(300))
def test_free_addresses_are_those_that_are_not_taken(
    spans: list[tuple[int, int]], steps: list[tuple[bool, int]]
) -> None:
    """Counted one by one; the longest unused is one that nobody had, or was given back first."""
    assignable = AddressSet(Span(first, first + size) for first, size in spans)
    free, left = Free(assignable), assignable.addresses().tolist()
    unused, returned = list(left), list[int]()
    for takes, address in steps:
        if takes:
            free.take(address)
            left, unused, returned = (
                [a for a in s if a != address] for s in (left, unused, returned)
            )
        elif address in assignable and address not in left:
            free.give_back(address)
            left, returned = sorted([*left, address]), [*returned, address]
        met("none left", not left and len(assignable) > 0)
        met("one given back", len(returned) > 0)
        assert [free.nth(place) for place in range(len(free))] == left
        every = assignable.addresses().tolist()
        for place in range(2 * len(every)) if left else ():
            above = [a for a in left if a >= every[place % len(every)]]
            assert free.at_or_above(place) == [*above, *left][0]
        if left:
            assert free.longest_unused() == [*unused, *returned][0]


def opened_in(plan: dict[str, Any], dialect: str) -> reservoir.OpenedPlan | None:
    """A plan with all its devices in a dialect; None if it doesn't load."""
    for device in plan["devices"].values():
        device["dialect"] = dialect
    try:
        return reservoir.loads(text_of(plan))
    except InputError:
        return None


@meets("a rule", "a suspect", "all served")
@given(plan=plans(), dialect=st.sampled_from(Library().names))
@settings(max_examples=examples(200))
def test_clients_fail_only_where_the_checks_know_why(plan: dict[str, Any], dialect: str) -> None:
    """In small plans full of mistakes, in every dialect."""
    opened = opened_in(plan, dialect)
    if opened is None:
        return
    found = reservoir.rehearse(opened, clients=6)
    failures = [failure for each in found.networks for failure in each.failures]
    met("a rule", any(failure.rule for failure in failures))
    met("a suspect", any(failure.suspect for failure in failures))
    met("all served", not failures)
    assert all(failure.rule or failure.suspect for failure in failures)


@pytest.mark.parametrize(
    ("right", "wrong", "rule"),
    [
        ("gateway: 10.84.30.1", "gateway: 10.84.30.2", "gateway-unattended"),
        ("gateway: 10.84.30.1", "gateway: 10.84.31.1", "gateway-outside-subnet"),
        ("served_by: office", "served_by: [office, shed]", "server-not-reached"),
    ],
)
def test_what_is_accepted_stands_for_nothing_else(right: str, wrong: str, rule: str) -> None:
    """Another mistake in the same network fails on, though the one that is accepted is as grave."""
    shed = "devices:\n  shed: {dialect: larkspur, interfaces: {bay: {address: 10.84.9.1/24}}}"
    lost = RELAYED.replace("to: 0.0.0.0/0", "to: 10.85.0.0/16").replace("devices:", shed)
    agreed = f"accept: [{{rule: {rule}, at: networks.crew, because: known, until: 2999-01-01}}]\n"
    (network,) = reservoir.rehearse(reservoir.loads(lost.replace(right, wrong) + agreed)).networks
    assert {failure.rule for failure in network.failures} == {"relay-no-way-back"}
    assert not network.accepted


@meets("a failure accepted", "another beside it")
@given(plan=plans(), dialect=st.sampled_from(Library().names), data=st.data())
@settings(max_examples=examples(60))
def test_accepting_a_finding_silences_only_what_it_tells_of(
    plan: dict[str, Any], dialect: str, data: st.DataObject
) -> None:
    """The same happens to the clients; what is accepted of it has the finding's rule."""
    opened = opened_in(plan, dialect)
    findings = opened.check().findings if opened else ()
    if opened is None or not findings:
        return
    before = reservoir.rehearse(opened, clients=6).networks
    failed = {failure.rule for network in before for failure in network.failures}
    shown = [finding for finding in findings if finding.rule in failed]
    several = {each.network for each in before if len({f.rule for f in each.failures}) > 1}
    beside = [finding for finding in shown if finding.network in several]
    chosen = data.draw(st.sampled_from(findings) | st.sampled_from(beside or shown or findings))
    agreed = {"rule": chosen.rule, "at": format_path(chosen.at), "because": "known"}
    plan["accept"] = [{**agreed, "until": "2999-01-01"}]
    after = reservoir.rehearse(reservoir.loads(text_of(plan)), clients=6).networks
    for one, other in zip(before, after, strict=True):
        happened = [(failure.event, failure.reason) for failure in one.failures]
        still = [(failure.event, failure.reason) for failure in (*other.failures, *other.accepted)]
        met("a failure accepted", len(other.accepted) > 0)
        met("another beside it", len(other.accepted) > 0 and len(other.failures) > 0)
        assert sorted(still) == sorted(happened)
        assert all(failure.rule == chosen.rule for failure in other.accepted)


@meets("two pools that hold an address", "a pool on an interface")
@given(plan=plans(), dialect=st.sampled_from(Library().names))
@settings(max_examples=examples(100))
def test_a_device_finds_its_pools_as_walking_them_finds(plan: dict[str, Any], dialect: str) -> None:
    """By an address, by a relay address, by an interface; each pool once, in the text's order."""
    opened = opened_in(plan, dialect)
    if opened is None:
        return
    for serving in reservoir.served_by(opened).values():
        pools, does = serving.pools, serving.behaviour
        edges = {edge for pool in pools for edge in (*pool.subnet.span, pool.subnet.address)}
        for address in {beside for edge in edges for beside in (edge - 1, edge, edge + 1)}:
            holding = [pool for pool in pools if pool.subnet.span.holds(address)]
            met("two pools that hold an address", len(holding) > 1)
            assert serving.pools_holding(address) == holding
            if address > 0:  # 0 is no relay
                relayed = holding if does.answers_relays else []
                assert list(serving.pools_for("", address)) == relayed
        for name in serving.interfaces if does.joins_pools_to_interfaces else ():
            joined = [pool for pool in pools if pool.interface == name]
            met("a pool on an interface", len(joined) > 0)
            assert list(serving.pools_for(name, 0)) == joined


@meets("one with a proof", "one that follows")
@given(plan=plans(), dialect=st.sampled_from(Library().names))
@settings(max_examples=examples(100))
def test_each_error_shows_or_says_why_it_cannot(plan: dict[str, Any], dialect: str) -> None:
    """In small plans full of mistakes, in every dialect; what follows from another has no proof."""
    opened = opened_in(plan, dialect)
    if opened is None:
        return
    for finding in reservoir.prove(opened, reservoir.check(opened)).findings:
        met("one that follows" if finding.cause is not None else "one with a proof")
        if finding.cause is None:
            assert finding.proof is not None, finding
            assert finding.proof.text, finding
        else:
            assert finding.proof is None, finding


# Under way.


@pytest.mark.parametrize("seed", range(examples(2)))
def test_no_address_is_given_twice_whatever_is_lost(seed: int) -> None:
    """Nor one that is held or excluded; with a fifth lost, a fifth doubled, a fifth late."""
    plan = reservoir.load(DEMO / "right/ferry-line.yaml")
    has: dict[int, tuple[Mac, float]] = {}
    assignable = AddressSet(
        span
        for index in range(len(plan.pools.names))
        for span in plan.pools.assignable_in(index).spans()
    )
    bound = {
        int(a): plan.pools.bindings.client_at(r) for r, a in enumerate(plan.pools.bindings.address)
    }
    given = Counter[str]()

    def look(at: float, data: bytes) -> None:
        sent = message.decode(frame.decode(data).payload)
        if sent.kind is not Kind.ACK or not sent.your_address:
            return
        owner, until = has.get(sent.your_address, (sent.mac, 0.0))
        assert owner == sent.mac or until <= at, format_address(sent.your_address)
        own = bound.get(sent.your_address)
        assert sent.your_address in assignable if own is None else own == sent.mac
        has[sent.your_address] = sent.mac, at + (sent.number(Option.LEASE_TIME) or 0)
        given["acknowledged"] += 1

    disturbed = Disturbance(0.2, 0.2, 0.2)
    found = reservoir.rehearse(plan, seed=seed, disturbance=disturbed, capture=look)
    assert given["acknowledged"] > 2500
    assert not any("two machines" in f.reason for each in found.networks for f in each.failures)


def test_the_same_seed_gives_the_same_bytes(run: Run, tmp_path: Path) -> None:
    """And frames that another library reads."""
    plan = str(DEMO / "right/ferry-line.yaml")
    for name, seed in (("a", "1"), ("b", "1"), ("c", "2")):
        call = ("--loss", "20%", "--seed", seed, "--capture", f"{name}.pcap", "--network", "crew")
        assert run("rehearse", plan, *call).code == 0
    captures = [(tmp_path / f"{name}.pcap").read_bytes() for name in "abc"]
    assert captures[0] == captures[1] != captures[2]
    frames = list(dpkt.pcap.Reader((tmp_path / "a.pcap").open("rb")))
    assert len(frames) > 800
    for _, data in frames:
        assert dpkt.dhcp.DHCP(dpkt.ethernet.Ethernet(data).data.data.data).magic == 0x63825363
