"""What ``reservoir rehearse`` and ``check --prove`` tell, and what a virtual day takes."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import reservoir
from conftest import Run, examples
from reservoir.core.checks import rules
from reservoir.core.values.addresses import format_address, parse_address
from reservoir.core.values.clients import parse_mac
from reservoir.files.lease_list import lease_rows, read_leases
from reservoir.rehearsal.day import rehearse_day
from reservoir.rehearsal.judgement.result import NetworkRehearsed
from reservoir.rehearsal.messages.message import Kind, Message, Option
from reservoir.rehearsal.wires.wires import Event
from reservoir.reports.rehearsal import conversation
from test_rehearsal import LAN, RELAYED

DEMO = Path(reservoir.__file__).parent / "demo"

HURRIED = {
    "passenger-wifi": "gateway-in-pool",
    "ticketing": "binding-address-twice",
    "crew": "range-outside-subnet",
    "cameras": "static-in-pool",
    "tills": "secondary-unserved",
    "voice": "server-not-reached",
    "depot-workshop": "gateway-edge-address",
    "depot-guests": "pool-undersized",
}


def test_mistakes_are_felt_and_the_corrected_plan_passes(run: Run) -> None:
    """In each network with the rule that knows them; as a table and as JSON."""
    hurried, right = (str(DEMO / name / "ferry-line.yaml") for name in ("hurried", "right"))
    ended = run("rehearse", hurried, "--format", "json")
    found = json.loads(ended.out)
    failed = {n["network"]: n["failure"]["rule"] for n in found["networks"] if n["failure"]}
    assert (ended.code, failed) == (1, HURRIED)
    shown = run("rehearse", hurried)
    assert "two machines, one address (gateway-in-pool)" in " ".join(shown.out.split())
    assert "8 of 12 networks failed" in shown.out
    assert "--trace passenger-wifi" in shown.err
    fine = run("rehearse", right, "--format", "json")
    assert fine.code == 0
    report = json.loads(fine.out)
    assert report["summary"] | {"exchanges": 0} == {
        "networks": 12,
        "failed": 0,
        "clients": 1442,
        "served": 1442,
        "assumed": 0,
        "exchanges": 0,
    }
    for each in report["networks"]:
        assert each["gateway_answers"]
        assert each["renewed"]
        assert each["bindings"] == each["bindings_right"]


def test_findings_are_proven_by_a_message_or_say_why_not(run: Run) -> None:
    """Whatever is selected, a finding is never shown by what another one does."""
    hurried = str(DEMO / "hurried/ferry-line.yaml")
    report = json.loads(run("check", hurried, "--prove", "--format", "json").out)
    proofs = {f["rule"]: f["proof"] for f in report["findings"] if f["cause"] is None}
    unshown = {rule for rule, proof in proofs.items() if not proof["shown"]}
    assert unshown == {
        "range-takes-edge-address",  # no client is ever given it
        "binding-outside-subnet",  # nobody serves that network
        "demand-unknown",
        "lease-too-short",
    }
    assert all(proof["text"] for proof in proofs.values())
    assert proofs["ranges-overlap"]["text"].startswith("harbour-office offers 10.84.51.120")
    assert "is offered 10.84.31.254" in proofs["range-takes-edge-address"]["text"]
    assert "causes   pool-undersized" in run("check", hurried, "--prove").out
    shown = run("check", hurried, "--prove", "--select", "range-takes-edge-address").out
    assert "replay   can't show it: a client that asks for 10.84.31.255" in shown


TOO_MUCH = """\
reservoir: 1
devices:
  shop: {dialect: thimble, interfaces: {lan: {address: 10.84.30.1/24}}}
  shed: {dialect: linux-host, interfaces: {lan: {address: 10.84.31.1/24}}}
networks:
  crew:
    subnet: 10.84.30.0/24
    gateway: 10.84.30.1
    dns: [10.84.0.53, 10.84.1.53, 10.84.2.53]
    served_by: shop
    next_server: 10.84.0.69
    ranges: [10.84.30.20-10.84.30.99]
  bells:
    subnet: 10.84.31.0/24
    gateway: 10.84.31.1
    dns: [10.84.0.53]
    served_by: shed
    ranges: [10.84.31.20-10.84.31.99]
    bindings: [{name: bell, client_id: "text:bell-4", address: 10.84.31.12}]
"""


def test_what_a_device_cant_be_given_is_missed_by_a_client(run: Run, tmp_path: Path) -> None:
    """An option, a DNS server too many, a binding: each where a client is offered otherwise."""
    (tmp_path / "plan.yaml").write_text(TOO_MUCH)
    ended = run("check", "plan.yaml", "--prove", "--format", "json", "--select", "limits")
    proofs = {f["message"].split(";")[0]: f["proof"] for f in json.loads(ended.out)["findings"]}
    assert all(proof["shown"] for proof in proofs.values())
    assert [re.sub("10.84.31.[0-9]+,", "X,", proof["text"]) for proof in proofs.values()] == [
        "shop offers 10.84.30.20 without a boot server",
        "shop offers the DNS server 10.84.0.53 10.84.1.53",
        "bell was given X, but is bound to 10.84.31.12 (frame 4 of the rehearsal)",
    ]


@pytest.mark.parametrize(
    ("gateway", "harm"),
    [
        ("10.84.30.1", "a client without a binding is offered all that the plan says"),
        ("10.84.30.2", "pier offers 10.84.30.20 with the gateway 10.84.30.1, not 10.84.30.2"),
    ],
)
def test_what_a_device_fills_in_is_not_said_to_be_missing(
    run: Run, tmp_path: Path, gateway: str, harm: str
) -> None:
    """A family without a line for the gateway, which offers its own address as one."""
    sheet = (Path(reservoir.__file__).parent / "dialects/sheets/tamarack.sheet").read_text()
    kept = [line for line in sheet.split("\n") if "way out" not in line and "extra" not in line]
    (tmp_path / "dialects").mkdir()
    (tmp_path / "dialects/gannet.sheet").write_text(
        "\n".join(kept)
        .replace("tamarack", "gannet", 1)
        .replace("blank-gateway      nothing", "blank-gateway      own-address")
    )
    plan = ROOMY.replace("tamarack", "gannet").replace("gateway: 10.84.30.1", f"gateway: {gateway}")
    (tmp_path / "plan.yaml").write_text("reservoir: 1\n" + plan)
    select = ("--select", "not-expressible")
    ended = run("check", "plan.yaml", "--prove", "--format", "json", *select)
    (found,) = json.loads(ended.out)["findings"]
    assert "the gateway of crew" in found["message"]
    assert found["witness"]["kind"] == "not-served"
    assert found["proof"] == {"shown": gateway != "10.84.30.1", "text": harm}


FAR = """\
reservoir: 1
devices:
  wall: {dialect: quillon, interfaces: {uplink: {address: 10.84.0.10/24}}}
  relay: {interfaces: {deck: {address: 10.84.30.1/24, relay_to: [10.84.0.10]}}}
networks:
  crew:
    subnet: 10.84.30.0/24
    gateway: none
    dns: [10.84.0.53]
    lease: 8h
    served_by: wall
    ranges: [10.84.30.20-10.84.30.99]
"""


@pytest.mark.parametrize(
    ("right", "wrong", "rules"),
    [
        ("", "", ["zone-blocks-dhcp"]),  # in whatever way requests come to a firewall without zones
        ("quillon", "larkspur", ["dns-unreachable"]),
        (
            "gateway: none\n    dns: [10.84.0.53]",
            "gateway: none\n    dns: []",
            ["zone-blocks-dhcp"],
        ),
    ],
)
def test_what_checks_and_rehearsal_know_of_a_far_server(
    run: Run, tmp_path: Path, right: str, wrong: str, rules: list[str]
) -> None:
    """A way that the plan doesn't know, and clients without a gateway."""
    (tmp_path / "plan.yaml").write_text(FAR.replace(right, wrong) if right else FAR)
    ended = run("rehearse", "plan.yaml", "--format", "json")
    (network,) = json.loads(ended.out)["networks"]
    assert [failure["rule"] for failure in network["failures"]] == rules


def test_an_interface_is_known_by_its_address(run: Run, tmp_path: Path) -> None:
    """Beside a plan that calls it otherwise: clients are served there all the same."""
    text = LAN.replace("DIALECT", "mortise")
    (tmp_path / "plan.yaml").write_text(text)
    (tmp_path / "other.yaml").write_text(text.replace("deck", "quay"))
    assert run("write", "other.yaml").code == 0
    running = "configuration/pier.mortise"
    assert "quay" in (tmp_path / running).read_text()
    assert run("rehearse", "plan.yaml", running).code == 0


BESIDE = """\
reservoir: 1
devices:
  pier head:
    interfaces:
      deck: {address: 10.84.30.2/24, virtual: 10.84.30.11}
      uplink: {address: 10.84.0.2/24}
    routes: [{to: 10.48.0.0/16, via: 10.84.0.77}]
  bow: {interfaces: {deck: {address: 10.84.30.3/24, virtual: 10.84.30.1}}}
  depot: {interfaces: {lan: {address: 10.84.0.10/23}}}
networks: {crew: {subnet: 10.84.30.0/24, gateway: 10.84.30.1}}
"""


def test_what_only_routers_notice_is_shown_without_a_client(run: Run, tmp_path: Path) -> None:
    """A router fails, and one takes for on-link what the other has no way to."""
    (tmp_path / "plan.yaml").write_text(BESIDE)
    select = ("--select", "virtual-not-shared", "--select", "interfaces-overlap")
    ended = run("check", "plan.yaml", "--prove", "--format", "json", *select)
    findings = json.loads(ended.out)["findings"]
    assert {(f["witness"]["address"], f["proof"]["text"]) for f in findings} == {
        ("10.84.30.1", "without bow, nobody answers at 10.84.30.1"),
        ("10.84.30.11", "without pier head, nobody answers at 10.84.30.11"),
        ("10.84.1.0", "pier head has no route to 10.84.1.0"),
    }
    assert all(finding["proof"]["shown"] for finding in findings)


ROOMY = """\
devices: {pier: {dialect: tamarack, interfaces: {deck: {address: 10.84.30.1/22}}}}
networks:
  crew:
    subnet: 10.84.30.0/23
    gateway: 10.84.30.1
    dns: []
    lease: 12h
    served_by: pier
    ranges: [10.84.30.20-10.84.31.210]
    demand: {walk_in: {rate: 30/h, stay: 25m}}
"""


@pytest.mark.parametrize(
    ("rule", "harm"),
    [
        ("lease-too-long", "pier offers 10.84.30.20 for 12h, and the client stays 25m"),
        ("interface-mask-differs", "pier offers the mask 255.255.254.0, pier deck has a /22 mask"),
    ],
)
def test_one_offer_shows_what_is_out_of_proportion(
    run: Run, tmp_path: Path, rule: str, harm: str
) -> None:
    """A lease and a stay, a mask and another: before anybody is refused or cut off by it."""
    (tmp_path / "plan.yaml").write_text("reservoir: 1\n" + ROOMY)
    ended = run("check", "plan.yaml", "--prove", "--format", "json", "--select", rule)
    (found,) = json.loads(ended.out)["findings"]
    assert found["proof"] == {"shown": True, "text": harm}


@pytest.mark.parametrize("rule", ["pool-options-differ", "binding-options-differ"])
def test_two_clients_show_that_they_are_offered_differently(
    run: Run, tmp_path: Path, rule: str
) -> None:
    """Side by side, in the example of the rule's own manual; with a zone, where there are zones."""
    example = rules()[rule]
    text = example.failing + "\n"
    if example.dialect == "merganser":
        text = text.replace("    address", "    in zone inner\n    address")
        text += "zone inner:\n    admit dhcp\ndone\n"
    (tmp_path / f"pier.{example.dialect}").write_text(text)
    ended = run("check", f"pier.{example.dialect}", "--prove", "--format", "json", "--select", rule)
    (found,) = json.loads(ended.out)["findings"]
    assert found["proof"]["shown"]
    servers = re.findall("the DNS server ([0-9.]+)", found["proof"]["text"])
    assert len(set(servers)) == 2
    assert all(server in text for server in servers)


def test_a_finding_is_not_proven_by_another_ones_harm(run: Run, tmp_path: Path) -> None:
    """A virtual address that is none here has nothing to do with a gateway that nobody has."""
    text = LAN.replace("DIALECT", "larkspur").replace("/24, zone", "/24, virtual: 10.48.9.9, zone")
    (tmp_path / "plan.yaml").write_text(
        text.replace("gateway: 10.84.30.1", "gateway: 10.84.30.254")
    )
    report = json.loads(run("check", "plan.yaml", "--prove", "--format", "json").out)
    found = {f["rule"]: f for f in report["findings"]}
    assert found["gateway-unattended"]["cause"] is None
    assert found["gateway-unattended"]["proof"]["shown"]
    assert not found["virtual-outside-subnet"]["proof"]["shown"]


def test_a_trace_says_what_each_device_decided(run: Run, tmp_path: Path) -> None:
    """Message by message; the plan's device without a dialect relays as the plan says."""
    (tmp_path / "plan.yaml").write_text(RELAYED)
    shown = run("rehearse", "plan.yaml", "--trace", "crew", "--clients", "1").out
    said = " ".join(shown.split())
    for part in (
        "client to everybody: DISCOVER",
        "pier relays the DISCOVER to 10.84.0.10, from 10.84.30.1",
        "pier to 10.84.0.10: DISCOVER (relay 10.84.30.1, hops 1)",
        "office offers 10.84.30.29 from pool crew: the next free address",
        "office to relay 10.84.30.1: OFFER (gets 10.84.30.29",
        "pier to client: OFFER (gets 10.84.30.29, relay 10.84.30.1, the rest as before)",
        "client to everybody: REQUEST (requested address 10.84.30.29, server 10.84.0.10)",
        "office acknowledges 10.84.30.29 for 1h: it is this client's",
    ):
        assert part in said
    assert "1 network rehearsed, no client failed; 1 of 1 expected client served" in said
    assert said.count("mask 255.255.255.0") == 1


def test_a_trace_shows_what_the_answer_before_had_otherwise() -> None:
    """Another value, one that is gone, one that is new; what is the same isn't said again."""
    mac, lan = parse_mac("00:00:5e:00:53:01"), NetworkRehearsed("crew", (), None)
    mask: dict[int, bytes] = {Option.MASK: b"\xff\xff\xff\0"}
    first = {**mask, Option.LEASE_TIME: b"\0\0\x0e\x10", Option.DOMAIN: b"sable.example"}
    second = {**mask, Option.LEASE_TIME: b"\0\0\x07\x08", Option.ROUTER: b"\n\x54\x1e\x01"}
    for number, options in enumerate((first, second, second)):
        answer = Message(Kind.OFFER, 1, mac, options, your_address=parse_address("10.84.30.20"))
        lan.conversation.append(Event(number, mac, "pier", answer, "client"))
    said = [line.partition("OFFER ")[2] for line in conversation(lan, 200) if "OFFER" in line]
    assert said == [
        "(gets 10.84.30.20, mask 255.255.255.0, lease time 1h, domain sable.example)",
        "(gets 10.84.30.20, lease time 30m, gateway 10.84.30.1, no domain, the rest as before)",
        "(gets 10.84.30.20, the rest as before)",
    ]


def test_configuration_is_rehearsed_as_it_runs(run: Run, tmp_path: Path) -> None:
    """Files alone; a line that the device doesn't heed is said; what can't be rehearsed, too."""
    (tmp_path / "plan.yaml").write_text(LAN.replace("DIALECT", "thimble"))
    assert run("write", "plan.yaml", "--out", "running").code == 0
    (file,) = (tmp_path / "running").glob("pier*")
    assert run("rehearse", f"running/{file.name}").code == 0
    text = file.read_text()
    assert "10.84.30.24" in text
    file.write_text(text.replace("10.84.30.24", "10.84.30.27"))
    ended = run("rehearse", f"running/{file.name}")
    assert ended.code == 1
    assert "pier ignores binding bell: its address is in a range" in ended.out
    assert (
        "bell was given 10.84.30.20, but is bound to 10.84.30.27 (binding-placement)"
        in " ".join(ended.out.split())
    )
    (tmp_path / "plan.yaml").write_text(RELAYED)
    assert run("write", "plan.yaml", "--out", "server").code == 0
    ended = run("rehearse", "server/office.larkspur")  # its relay is another device
    assert ended.code == 2
    assert "no device of these files is in it, so nothing is known of its relay" in ended.err
    (tmp_path / "plan.yaml").write_text(LAN.replace("dialect: DIALECT, ", ""))
    ended = run("rehearse", "plan.yaml")
    assert ended.code == 2
    assert "pier has no dialect, so there is no configuration to start it from" in ended.err
    assert "There is no network" in run("rehearse", "plan.yaml", "--network", "cew").err.replace(
        "there is", "There is"
    )
    assert run("rehearse", "plan.yaml", "--loss", "120%").code == 2


@given(
    arrivals=st.lists(
        st.tuples(st.integers(0, 23), st.integers(1, 60), st.integers(1, 90), st.integers(10, 300)),
        min_size=1,
        max_size=3,
    ),
    lease=st.sampled_from(["10m", "45m", "3h"]),
)
@settings(max_examples=examples(6))
def test_a_day_takes_as_many_addresses_as_sizing_says(
    arrivals: list[tuple[int, int, int, int]], lease: str
) -> None:
    """Groups that come together and leave without a word; but for those who come at once."""
    demand = [
        {"at": f"{hour:02}:00", "devices": devices, "over": f"{over}m", "stay": f"{stay}m"}
        for hour, devices, over, stay in arrivals
    ]
    plan = reservoir.load(a_day_of({"arrivals": demand}, 400, lease))
    (day,) = rehearse_day(plan.pools, reservoir.served_by(plan))
    assert day.refused == 0
    assert day.came == sum(devices for _, devices, _, _ in arrivals)
    # Seen every five minutes, the peak may lie between two looks: as many come meanwhile.
    between = sum(min(devices, devices * 5 // over + 1) for _, devices, over, _ in arrivals)
    assert day.expected - between <= day.peak <= day.expected + len(arrivals)


@pytest.mark.parametrize("seed", range(examples(2)))
def test_as_many_are_refused_as_erlang_says(seed: int) -> None:
    """Visitors who walk in find the pool full as often as his formula has it, within chance."""
    demand = {"walk_in": {"rate": "60/h", "stay": "25m"}}
    plan = reservoir.load(a_day_of(demand, 36, "20m"))  # each address is held for 40 minutes
    (day,) = rehearse_day(plan.pools, reservoir.served_by(plan), seed=seed)
    refused = 1.0
    for places in range(1, 37):
        refused = 40 * refused / (places + 40 * refused)
    assert abs(day.refused / day.came - refused) < 0.05
    assert day.peak == 36


def a_day_of(demand: dict[str, Any], addresses: int, lease: str) -> dict[str, Any]:
    """A plan with one network of so many addresses."""
    last = format_address(parse_address("10.84.20.10") + addresses - 1)
    network = {
        "subnet": "10.84.20.0/22",
        "gateway": "10.84.20.1",
        "ranges": [f"10.84.20.10-{last}"],
        "lease": lease,
        "demand": demand,
    }
    pier = {"dialect": "tamarack", "interfaces": {"deck": {"address": "10.84.20.1/22"}}}
    defaults: dict[str, Any] = {"dns": []}
    return {
        "reservoir": 1,
        "defaults": defaults,
        "devices": {"pier": pier},
        "networks": {"wifi": network},
    }


def test_a_day_and_a_lease_list_as_people_get_them(run: Run, tmp_path: Path) -> None:
    """The day is a second table; the list says who has what, in the format that others read."""
    (tmp_path / "plan.yaml").write_text(json.dumps(a_day_of({"devices": 3}, 5, "1h")))
    ended = run("rehearse", "plan.yaml", "--day", "--leases-out", "leases.csv")
    assert ended.code == 0, ended.err
    assert "wifi        3        0           3  00:05         3          5" in ended.out
    assert "In a day 3 clients came and 0 found no free address." in ended.out
    rows = list(lease_rows(read_leases(str(tmp_path / "leases.csv")).leases))
    assert [format_address(row.address) for row in rows] == [f"10.84.20.{n}" for n in range(10, 15)]
    assert {(row.network, row.server, row.expires) for row in rows} == {("wifi", "pier", None)}
