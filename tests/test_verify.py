"""``verify`` on real networks in namespaces: what answers as planned, and each way not to."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from functools import partial
from pathlib import Path

import pytest

from conftest import Run, made_once
from real_clients import malformed
from real_lab import Case, Server, Verified, found_in, run_cases
from test_conventions import require_described

pytestmark = pytest.mark.usefixtures("dhcp_clients")

Put = Callable[[str, str], Path]

HEAD = """\
reservoir: 1
defaults: {dns: [10.84.0.53, 10.84.1.53], domain: sable.example, lease: 20m}
classes:
  phones: {vendor_class: "harbour-phone*"}
  quay: {agent: {circuit: "quay*"}}
"""

NETWORKS = """\
networks:
  crew:
    subnet: 10.84.30.0/24
    gateway: 10.84.30.1
    vlan: 30
    served_by: SERVER
    ranges: [10.84.30.20-10.84.30.29]
    options: {ntp: [10.84.0.123]}
    bindings:
      - {name: bell, mac: 00:00:5e:00:53:61, address: 10.84.30.99}
      - {name: helm, client_id: "text:helm", address: 10.84.30.98}
  guests:
    subnet: 10.84.40.0/24
    gateway: 10.84.40.1
    vlan: 40
    served_by: SERVER
    ranges: [10.84.40.20-10.84.40.29]
"""

DIRECT = (
    HEAD
    + """\
devices:
  pier:
    dialect: DIALECT
    interfaces:
      deck: {address: 10.84.30.1/24, vlan: 30}
      lounge: {address: 10.84.40.1/24, vlan: 40}
"""
    + NETWORKS.replace("SERVER", "pier")
)

RELAYED = (
    HEAD
    + """\
devices:
  pier:
    interfaces:
      deck: {address: 10.84.30.1/24, vlan: 30, relay_to: [10.84.0.10]}
      lounge: {address: 10.84.40.1/24, vlan: 40, relay_to: [10.84.0.10]}
      trunk: {address: 10.84.0.1/24}
  office: {dialect: DIALECT, interfaces: {srv: {address: 10.84.0.10/24}},
    routes: [{to: 10.84.0.0/16, via: 10.84.0.1}]}
"""
    + NETWORKS.replace("SERVER", "office")
)

WITH_CLASSES = DIRECT.replace("DIALECT", "fulmar").replace(
    "    bindings:\n",
    "    by_class:\n      phones: {ranges: [10.84.30.40-10.84.30.49], lease: 30m}\n"
    "      quay: {lease: 40m}\n    bindings:\n",
)
PLAIN = DIRECT.replace("DIALECT", "tamarack")
PIER = Server("10.84.30.1/24", "pier", stands_for="deck")
LOUNGE = Server("10.84.40.1/24", "pier", stands_for="lounge")
CREW = ("--on eth0", "--network crew")
WITH_RELAY = ("10.84.30.1/24", "10.84.0.1/24", "10.84.0.10")
OFFICE = Server("10.84.0.10/24", "office")

OTHER = """\
reservoir: 1
defaults: {lease: 1h, dns: [10.99.0.53]}
devices: {shelf: {dialect: larkspur, interfaces: {lan: {address: 10.84.30.66/24}}}}
networks:
  spare: {subnet: 10.84.30.0/24, gateway: 10.84.30.66, served_by: shelf,
    ranges: [10.84.30.200-10.84.30.210]}
"""

CHANGED = (
    PLAIN.replace("10.84.0.53, ", "10.99.0.53, ", 1)
    .replace("lease: 20m", "lease: 2h")
    .replace("ntp: [10.84.0.123]", "time_servers: [10.84.0.123]")
    .replace("ranges: [10.84.30.20-10.84.30.29]", "ranges: [10.84.30.120-10.84.30.129]")
    .replace("address: 10.84.30.99", "address: 10.84.30.97")
)

LEASES = ("--leases leases.txt", "--now 2027-01-15T08:00:00Z")
PRINTED = (
    "".join(
        f"seat 10.84.30.{n} :: for 00005E0054{n}\nseat 10.84.30.{n} :: until {{}}\n"
        for n in range(20, 30)
    ).replace("{}", "2027/01/15 09:00:00 Z")
    + "seat 10.84.30.99 :: for 00005E005361\n"
)
"""The device has leases of all that the crew's clients may get; the bell has its own address."""

CASES = {
    **{
        f"direct, {dialect}": Case(DIRECT.replace("DIALECT", dialect), [PIER], CREW)
        for dialect in ("tamarack", "larkspur", "thimble")
    },
    **{
        f"relayed, {dialect}": Case(
            RELAYED.replace("DIALECT", dialect), [OFFICE], CREW, relay=WITH_RELAY
        )
        for dialect in ("tamarack", "larkspur", "fulmar")
    },
    "classes": Case(WITH_CLASSES, [PIER], CREW),
    "by its address": Case(PLAIN, [PIER], ["--on eth0"], desk="10.84.30.50/24"),
    "taken": Case(WITH_CLASSES, [PIER], [*CREW, "--take", "--capture seen.pcap"]),
    "resolved": Case(
        PLAIN.replace("10.84.0.53, 10.84.1.53", "10.84.30.53"),
        [PIER, Server("10.84.30.53/24", oddly="resolver")],
        [*CREW, "--take"],
    ),
    "held by another": Case(
        PLAIN.replace("-10.84.30.29", "-10.84.30.20"),
        [PIER, Server("10.84.30.20/24", oddly="squatter")],
        [*CREW, "--take"],
    ),
    "stopped": Case(PLAIN, [PIER], [*CREW, "--take"], stop_at="acknowledges"),
    "taken by relay": Case(
        RELAYED.replace("DIALECT", "larkspur"), [OFFICE], [*CREW, "--take"], relay=WITH_RELAY
    ),
    "silence": Case(PLAIN, [], CREW),
    "silence behind a relay": Case(RELAYED.replace("DIALECT", "larkspur"), [], CREW),
    "leased": Case(PLAIN, [PIER], [*CREW, *LEASES], leases=PRINTED),
    "full": Case(PLAIN, [], [*CREW, *LEASES], leases=PRINTED),
    "second server": Case(PLAIN, [PIER, Server("10.84.30.66/24", "shelf", OTHER)], CREW),
    "other server": Case(PLAIN, [Server("10.84.30.66/24", "shelf", OTHER)], CREW),
    "wrong tag": Case(PLAIN, [LOUNGE], CREW),
    "other values": Case(PLAIN, [PIER._replace(plan=CHANGED)], CREW),
    "loss": Case(PLAIN, [Server("10.84.30.1/24", oddly="deaf")], CREW),
    "hostile": Case(PLAIN, [Server("10.84.30.1/24", oddly="hostile")], CREW),
    "unreadable": Case(PLAIN, [Server("10.84.30.1/24", oddly="unreadable")], CREW),
    "too few messages": Case(PLAIN, [PIER], [*CREW, "--take", "--most 20"]),
    "few messages": Case(PLAIN, [PIER], [*CREW, "--most 7"]),
    "as relay": Case(
        RELAYED.replace("DIALECT", "fulmar") + "    bindings: "
        "[{name: bell, mac: 00:00:5e:00:53:61, address: 10.84.40.99}]\n",
        [OFFICE],
        ["--as-relay 10.84.0.20", "--server 10.84.0.10"],
        desk="10.84.0.20/24",
    ),
}


@pytest.fixture(scope="module")
def found(tmp_path_factory: pytest.TempPathFactory) -> dict[str, Verified]:
    """What is found in each case, all of which run together."""
    return found_in(CASES, made_once(tmp_path_factory, "lab", partial(run_cases, CASES)))


PLANNED = ["direct, tamarack", "direct, larkspur", "relayed, tamarack", "relayed, larkspur",
           "relayed, fulmar", "classes", "by its address", "loss", "resolved"]  # fmt: skip


@pytest.mark.parametrize("name", PLANNED)
def test_what_answers_as_planned_is_found_so(found: dict[str, Verified], name: str) -> None:
    """Directly, behind a relay, with lost requests: as in the rehearsal, client by client."""
    one = found[name]
    assert one.status == 0, (one.reasons, one.said)
    (crew,) = one.found["networks"]
    assert (crew["network"], crew["seen"]["bindings_right"]) == ("crew", 2)
    assert crew["seen"]["served"] == crew["seen"]["clients"] == crew["planned"]["served"]
    for key in ("gateway", "dns", "lease", "bindings"):
        assert crew["seen"][key] == crew["planned"][key], key
    assert [(c["name"], c["served"]) for c in crew["seen"]["classes"]] == [
        (c["name"], c["served"]) for c in crew["planned"]["classes"]
    ]
    (server,) = crew["servers"]
    assert server["planned"] is True
    assert server["device"] == ("office" if name.startswith("relayed") else "pier")
    assert len(server["macs"]) == 1


def test_what_fails_in_the_rehearsal_fails_on_the_wire(found: dict[str, Verified]) -> None:
    """The dialect has no client identifiers: who is bound by one gets any address, told alike."""
    one = found["direct, thimble"]
    (crew,) = one.found["networks"]
    assert one.status == 1
    assert [f["reason"].replace(" 10.84.30.21", "") for f in crew["seen"]["failures"]] == [
        f["reason"].replace(" 10.84.30.21", "") for f in crew["planned"]["failures"]
    ]
    assert crew["seen"]["failure"]["rule"] == crew["planned"]["failure"]["rule"] is not None


def test_a_client_takes_its_address_uses_it_and_gives_it_back(
    found: dict[str, Verified], tmp_path_factory: pytest.TempPathFactory
) -> None:
    """Only those without a binding; the server takes each address back, the captures are sound."""
    for name in ("taken", "resolved", "taken by relay"):
        one = found[name]
        heard = [line.split(" ", 1)[1] for line in one.log.splitlines() if " RE" in line]
        (crew,) = one.found["networks"]
        takers = len(crew["seen"]["classes"]) + 1
        assert sum("RELEASE: takes" in line for line in heard) == takers, one.log
        assert not any("5e:00:53" in line for line in heard), "a bound client took its address"
        assert (crew["seen"]["gateway_answers"], crew["seen"]["renewed"]) == (True, True)
        assert one.found["taken"]
    assert found["resolved"].found["networks"][0]["seen"]["dns_answers"] is True
    assert found["taken"].reasons == [
        "the DNS server 10.84.0.53 doesn't answer",
        "the DNS server 10.84.1.53 doesn't answer",
    ]
    capture = found["taken"].folder / "seen.pcap"
    count, wrong = malformed(capture)
    assert (count >= 12, wrong) == (True, "")


def test_what_it_took_it_releases_when_it_is_stopped(found: dict[str, Verified]) -> None:
    """The system asks it to end while it has an address."""
    one = found["stopped"]
    assert (one.status, one.found) == (130, {})
    assert "RELEASE: takes 10.84.30.20 back" in one.log
    assert "a RELEASE was sent for what was taken" in one.said


TOLD = {
    "silence": ["no answer: look at the port here, which should be in VLAN 30; pier deck, where "
                "pier should serve; switches on the way that drop requests of clients other than "
                "their sender"],
    "silence behind a relay": [
        "no answer: look at the port here, which should be in VLAN 30; pier deck, which should "
        "relay to 10.84.0.10 (office); the way back from office to 10.84.30.1; switches on the "
        "way that drop requests of clients other than their sender"
    ],
    "wrong tag": ["this is guests (VLAN 40), it seems: 10.84.40.20 is offered; see which tag the "
                  "port has, crew has VLAN 30"],
    "held by another": ["a client was offered 10.84.30.20, which MAC holds: two machines, one "
                        "address"],
    "leased": ["a client without a binding is offered 10.84.30.20, but MAC has a lease of it"],
    "full": ["no answer: all assignable addresses are leased, by the lease list"],
    "second server": ["a server answers that isn't planned here: 10.84.30.66, MAC (it offers "
                      "10.84.30.210, gateway 10.84.30.66)"],
    "other server": ["a server answers that isn't planned here: 10.84.30.66, MAC (it offers "
                     "10.84.30.210, gateway 10.84.30.66); pier doesn't answer"],
    "unreadable": ["no answer: what bell hears can't be read: option 54 is cut off"],
    "other values": [
        "bell was offered 10.84.30.97, but is bound to 10.84.30.99",
        "a client was offered 10.84.30.120, which the plan doesn't assign",
        *(f"every client is offered {what}" for what in (
            "the time_servers 10.84.0.123, which isn't planned",
            "the DNS server 10.99.0.53 10.84.1.53; planned: 10.84.0.53 10.84.1.53",
            "no ntp; planned: 10.84.0.123",
            "the lease time 2h; planned: 20m",
        )),
    ],
}  # fmt: skip
"""What is told of each way not to answer as planned; ``MAC`` stands for any MAC address."""


@pytest.mark.parametrize("name", TOLD)
def test_each_difference_is_told_by_name(found: dict[str, Verified], name: str) -> None:
    """No answer, a second server, another network, other values: each with what shows it."""
    one = found[name]
    assert one.status == 1, one.said
    assert [re.sub("(?:[0-9a-f]{2}:){5}[0-9a-f]{2}", "MAC", r) for r in one.reasons] == TOLD[name]
    planned = [server["planned"] for server in one.found["networks"][0]["servers"]]
    if "server" in name:
        assert planned == ([True, False] if name == "second server" else [False])


def test_hostile_answers_do_no_harm(found: dict[str, Verified]) -> None:
    """Hundreds of damaged offers: it ends by itself, and says what it saw."""
    one = found["hostile"]
    assert one.status == 1, one.said
    assert any("servers answer that aren't planned here" in reason for reason in one.reasons)
    assert any("an answer can't be read" in reason for reason in one.reasons)
    assert one.found["summary"]["sent"] == 3


def test_never_more_messages_than_stated(found: dict[str, Verified]) -> None:
    """Who isn't asked as is said; nobody is sent more than three requests."""
    one = found["few messages"]
    assert [n["client"] for n in one.found["not_asked"]] == ["helm"]
    assert one.found["summary"]["clients"] == 2
    none = found["too few messages"]
    assert (none.status, none.found) == (2, {})
    assert "no message is left for it" in none.said
    for name in ("silence", "loss"):
        assert found[name].found["summary"]["sent"] == 9
    for name, one in found.items():
        most = re.search(r"At most (\d+) messages", one.said)
        sent = one.found["summary"]["sent"] if one.found else 0
        assert (most is None) == (name == "too few messages"), name
        if most is None:
            continue
        assert sent <= int(most[1]), name


def test_servers_are_asked_from_elsewhere_as_a_relay(found: dict[str, Verified]) -> None:
    """Both networks from one desk; the class that its relay tells is asked too."""
    one = found["as relay"]
    assert one.status == 0, one.reasons
    assert {n["network"]: n["seen"]["served"] for n in one.found["networks"]} == {
        "crew": 3, "guests": 2,
    }  # fmt: skip
    assert [n["seen"]["bindings_right"] for n in one.found["networks"]] == [2, 1]  # bell in both
    assert [n["servers"][0]["mac"] for n in one.found["networks"]] == [None, None]


def test_the_json_is_what_its_schema_says(found: dict[str, Verified], run: Run) -> None:
    """In each case, with the frame that all commands have."""
    schema = run("schema", "verify").out
    for one in found.values():
        if one.found:
            require_described(one.found, json.loads(schema))
            assert list(one.found)[:3] == ["reservoir", "command", "inputs"]


USAGE = [
    ([], "Say where to ask from"),
    (["--on", "lo", "--as-relay", "10.84.0.20"], "two ways"),
    (["--as-relay", "10.84.0.20"], "needs the server"),
    (["--on", "lo", "--server", "10.84.0.1"], "--server goes with --as-relay"),
    (["--as-relay", "10.84.0.20", "--server", "10.84.0.10", "--take"], "--take needs"),
    (["--as-relay", "10.84.0.20", "--server", "10.84.0.10", "--capture", "x"], "--capture needs"),
    (["--as-relay", "192.0.2.7", "--server", "10.84.30.1"], "192.0.2.7 is not an address of this"),
    (["--as-relay", "$", "--server", "10.84.30.1"], "'$' is not an IPv4 address"),
    (["--on", "none0"], "there is no interface"),
    (["--on", "$(reboot)\n"], "there is no interface"),
    (["--on", ""], "there is no interface"),
    (["--on", "lo"], "lo is not Ethernet"),
    (["--on", "lo", "--network", "crw"], "there is no network 'crw' (did you mean crew?)"),
    (["--on", "lo", "--most", "2"], "2 is not in the range"),
    (["--on", "lo", "--capture", "-"], "isn't text"),
]


@pytest.mark.parametrize(("arguments", "said"), USAGE, ids=str)
def test_nothing_is_sent_where_it_is_not_clear_what(
    run: Run, put: Put, arguments: list[str], said: str
) -> None:
    """Unusable options are refused, each with its reason."""
    put("plan.yaml", PLAIN)
    ended = run("verify", "plan.yaml", "--yes", *arguments)
    assert ended.code == 2
    assert said in ended.err


def test_a_document_has_what_was_verified(
    found: dict[str, Verified], run: Run, put: Put, tmp_path: Path
) -> None:
    """The change's document shows it, and says where the plan has changed since."""
    put("plan.yaml", PLAIN)
    for name in ("second server", "direct, tamarack"):
        (tmp_path / f"{name}.json").write_text((found[name].folder / "found.json").read_text())
    both = ["--verified", "second server.json", "--verified", "direct, tamarack.json"]
    text = run("report", "plan.yaml", *both, "--format", "markdown").out
    assert "1 of 1 network differs from the plan" in text
    assert "1 network answered as planned" in text
    assert "10.84.30.66" in text
    assert "has changed since" not in text
    put("plan.yaml", PLAIN.replace("lease: 20m", "lease: 30m"))
    assert "has changed since" in run("report", "plan.yaml", *both, "--format", "markdown").out
    put("plan.yaml", PLAIN.replace("  crew:", "  mates:"))
    ended = run("report", "plan.yaml", *both)
    assert (ended.code, "crew was asked, which is no network" in ended.err) == (2, True)
    put("other.json", '{"reservoir": 1}')
    ended = run("report", "plan.yaml", "--verified", "other.json")
    assert (ended.code, "not what `verify --format json` prints" in ended.err) == (2, True)
