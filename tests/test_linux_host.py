"""``linux-host`` against the real thing: what is written makes the real service do as planned."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import reservoir
from conftest import Run, examples
from met import meets, met
from oracle import text_of
from real_clients import predicted
from real_host import Answer, ServiceAbortedError, answers, talked_with
from real_talk import (
    BOUND,
    LARGE_POOL,
    LAST,
    POOL,
    SERVER,
    Ask,
    conversation,
    offers,
    places,
    rooms,
    wishes,
)
from reservoir.core.pools import Pools
from reservoir.core.values.addresses import format_address, parse_address
from reservoir.dialects.facts.by_address import addresses_of
from reservoir.dialects.notations.files import in_files
from reservoir.dialects.sheet.library import Library
from reservoir.rehearsal.devices.claims import Arrival
from reservoir.rehearsal.devices.leases import PoolLeases
from reservoir.rehearsal.devices.server import StandInServer
from reservoir.rehearsal.messages import message
from reservoir.rehearsal.messages.message import Message
from reservoir.rehearsal.wires.setting import start
from test_round_trip import benign_plan, plain_names

Put = Callable[[str, str], Path]

pytestmark = pytest.mark.usefixtures("network_service")

PLAN = """\
reservoir: 1
devices:
  shed-host:
    dialect: linux-host
    interfaces: {srv: {address: 10.85.20.22/24}}
networks:
  shed:
    subnet: 10.85.20.0/24
    gateway: 10.85.20.254
    dns: [10.84.0.53, 10.84.1.53]
    domain: sable.example
    lease: 2d
    next_server: 10.84.0.69
    served_by: shed-host
    ranges: [10.85.20.20-10.85.20.24]
    options: {ntp: [10.84.0.123, 10.84.1.123], "200": {hex: 00ff3a5c}}
    bindings:
      - {mac: 00:00:5e:00:53:61, address: 10.85.20.21}
      - {mac: 00:00:5e:00:53:62, address: 10.85.20.200}
"""


def bindable(count: int) -> list[str]:
    """MACs of clients that nothing is bound to."""
    return [f"00:00:5e:00:53:{number:02x}" for number in range(1, count + 1)]


@pytest.fixture
def asked(run: Run, put: Put, tmp_path: Path) -> Callable[[str, list[str]], list[Answer]]:
    def ask(plan: str, clients: list[str]) -> list[Answer]:
        put("plan.yaml", plan)
        wrote = run("write", "plan.yaml")
        assert wrote.code == 0, wrote.err
        folder = tmp_path / "configuration" / "shed-host.linux-host"
        return answers(folder, clients, tmp_path)

    return ask


def test_the_real_service_assigns_what_the_plan_says(
    asked: Callable[[str, list[str]], list[Answer]], tmp_path: Path
) -> None:
    """All of the assignable set and nothing else, with the planned words; bound clients their own.

    The range has five addresses; one is the host's own, one is bound. So three clients are
    served and a fourth is refused; the bound clients get theirs, in the range and out of it.
    """
    found = asked(PLAN, [*bindable(4), "00:00:5e:00:53:61", "00:00:5e:00:53:62"])
    (pool,) = Pools(reservoir.load(str(tmp_path / "plan.yaml")).plan)
    own = parse_address("10.85.20.22")
    assignable = set(pool.assignable.addresses().tolist()) - {own}
    assigned = [parse_address(answer.told["ip"]) for answer in found[:3]]
    assert set(assigned) == assignable
    assert found[3].told == {}
    assert found[4].told["ip"] == "10.85.20.21"
    assert found[5].told["ip"] == "10.85.20.200"
    rehearsed = predicted(tmp_path / "plan.yaml", [answer.client for answer in found], "shed")
    for answer, expected in zip(found, rehearsed, strict=True):  # in an order of its own
        assert {key: answer.told[key] for key in expected} | {"ip": ""} == expected | {"ip": ""}
        assert bool(answer.told) == bool(expected)
    assert {one["ip"] for one in rehearsed if one} == {a.told["ip"] for a in found if a.told}
    for answer in (*found[:3], *found[4:]):
        assert answer.told | {"ip": ""} == {
            "ip": "",
            "subnet": "255.255.255.0",
            "router": "10.85.20.254",
            "dns": "10.84.0.53 10.84.1.53",
            "domain": "sable.example",
            "lease": "172800",
            "siaddr": "10.84.0.69",
            "ntpsrv": "10.84.0.123 10.84.1.123",
            "opt200": "00ff3a5c",
        }


def test_what_the_real_service_fills_in(
    asked: Callable[[str, list[str]], list[Answer]],
) -> None:
    """Nothing where the plan says that there is none; the default lease that its trait names."""
    plan = "\n".join(
        line
        for line in PLAN.replace("dns: [10.84.0.53, 10.84.1.53]", "dns: []")
        .replace("gateway: 10.85.20.254", "gateway: none")
        .splitlines()
        if not line.strip().startswith(("lease", "next_server", "options", "domain"))
    )
    (answer,) = asked(plan, bindable(1))
    assert answer.told.keys() == {"ip", "subnet", "lease"}
    assert answer.told["lease"] == "3600"


def test_the_traits_are_what_the_real_service_does(tmp_path: Path) -> None:
    """Left blank, the gateway is its own address; and it never assigns that address."""
    folder = tmp_path / "files"
    folder.mkdir()
    (folder / "50-srv.network").write_text(
        "[Match]\nName=srv\n[Network]\nAddress=10.85.20.1/24\nDHCPServer=yes\n"
        "[DHCPServer]\nPoolOffset=1\nPoolSize=2\n"
    )
    first, second = answers(folder, bindable(2), tmp_path)
    assert first.told["ip"] == "10.85.20.2"
    assert first.told["router"] == "10.85.20.1"
    assert second.told == {}


@pytest.mark.parametrize(
    "section",
    [
        "",
        *(f"[DHCPServer]\n{lines}\n" for lines in (
            "", "EmitDNS=no", "PoolOffset=4", "PoolSize=3", "PoolOffset=0\nPoolSize=4",
            "PoolOffset=3\nPoolSize=0",
        )),
    ],
)  # fmt: skip
def test_without_a_range_it_assigns_the_whole_subnet(section: str, tmp_path: Path) -> None:
    """Or what is left of it, less its own address; also without the section; and is read so."""
    folder = tmp_path / "files"
    folder.mkdir()
    (folder / "50-srv.network").write_text(
        f"[Match]\nName=srv\n[Network]\nAddress=10.85.20.1/29\nDHCPServer=yes\n{section}"
    )
    (read,) = reservoir.read(folder)
    (pool,) = Pools(read.lifted.plan())
    found = answers(folder, bindable(6), tmp_path)
    assigned = {parse_address(answer.told["ip"]) for answer in found if answer.told}
    assert assigned == set(pool.assignable.addresses().tolist())
    assert found[-1].told == {}


def test_a_pool_without_ranges_assigns_to_bound_clients_only(
    asked: Callable[[str, list[str]], list[Answer]],
) -> None:
    """What is written keeps the service from assigning the whole subnet."""
    plan = PLAN.replace("[10.85.20.20-10.85.20.24]", "[]")
    found = asked(plan, [*bindable(2), "00:00:5e:00:53:61", "00:00:5e:00:53:62"])
    assert [answer.told.get("ip") for answer in found] == [
        None,
        None,
        "10.85.20.21",
        "10.85.20.200",
    ]


def files_with(pool: Sequence[str], tmp_path: Path) -> Path:
    """A folder with what makes the service assign from a pool, with two bindings."""
    folder = tmp_path / "files"
    folder.mkdir()
    (bound,) = BOUND
    (folder / "50-srv.network").write_text(
        f"[Match]\nName=srv\n[Network]\nAddress={SERVER}/24\nDHCPServer=yes\n"
        f"[DHCPServer]\nPoolOffset=20\nPoolSize={len(pool)}\n"
        f"[DHCPServerStaticLease]\nMACAddress={bound}\nAddress={BOUND[bound]}\n"
        f"[DHCPServerStaticLease]\nMACAddress={LAST}\nAddress=10.85.20.98\n"
    )
    return folder


def stand_in(folder: Path, own: int = parse_address(SERVER)) -> Ask:
    """Talks to the stand-in that starts from these files."""
    serving = start(reservoir.configuration_text(str(folder)), Library().sheet("linux-host"))
    leases = {pool: PoolLeases(pool.assignable) for pool in serving.pools}
    server = StandInServer(serving, leases, lambda *_: False)

    def ask(sent: Message) -> Message | None:
        sent = message.decode(sent.encode())
        return server.answer(Arrival(sent, "srv", own, 0.0)).reply

    return ask


def test_the_stand_in_answers_as_the_real_service_does(tmp_path: Path) -> None:
    """New clients, returning, renewing, mistaken ones: who hears what, in whatever order."""
    folder = files_with(POOL, tmp_path)
    assert conversation(stand_in(folder)) == talked_with(folder, tmp_path, "conversation")


def test_both_assign_each_client_its_own_place_or_the_next_free_above(tmp_path: Path) -> None:
    """The order of assignment, but for the hash, which is the service's own affair."""
    folder = files_with(LARGE_POOL, tmp_path)
    for found in (places(stand_in(folder)), talked_with(folder, tmp_path, "places")):
        free = list(LARGE_POOL)
        assert len({own for own, _ in found}) in range(2, len(free))  # some want the same one
        for own, taken in found:
            place = LARGE_POOL.index(own)
            round_from_it = [*LARGE_POOL[place:], *LARGE_POOL[:place]]
            assert taken == next(address for address in round_from_it if address in free)
            free.remove(taken)


def test_both_grant_the_lease_time_that_is_asked_for(tmp_path: Path) -> None:
    """Up to the longest: the pool's, or the service's own."""
    folder = files_with(LARGE_POOL, tmp_path)
    file = folder / "50-srv.network"
    for lines in ("", "DefaultLeaseTimeSec=10min\nMaxLeaseTimeSec=20min\n"):
        file.write_text(file.read_text().replace("PoolOffset", f"{lines}PoolOffset"))
        told = wishes(stand_in(folder))
        assert told == talked_with(folder, tmp_path, "wishes")
        assert told[-1][1] == (1200 if lines else 43200)


@pytest.mark.parametrize("spare", [0, 1, 2])
def test_both_send_nothing_where_the_options_have_no_room(spare: int, tmp_path: Path) -> None:
    """To the byte, whatever the client says it takes."""
    folder = files_with(LARGE_POOL, tmp_path)
    file = folder / "50-srv.network"
    rest = 64 + 308 - 27 - spare
    texts = f"SendOption=224:string:{'x' * 198}", f"SendOption=225:string:{'x' * (rest - 202)}"
    lines = "\n".join(["[DHCPServer]", "EmitTimezone=no", *texts])
    file.write_text(file.read_text().replace("[DHCPServer]", lines, 1))
    told = rooms(stand_in(folder))
    assert told == talked_with(folder, tmp_path, "rooms")
    assert {answered for _, answered in told} == {True, False}


def test_of_two_files_for_one_interface_the_first_counts(tmp_path: Path) -> None:
    """And what a folder beside it adds, of which the last word counts."""
    folder = tmp_path / "files"
    (folder / "50-srv.network.d").mkdir(parents=True)
    text = "[Match]\nName=srv\n[Network]\nAddress=10.85.20.1/24\nDHCPServer=on\n[DHCPServer]\n"
    (folder / "50-srv.network").write_text(f"{text}PoolOffset=20\nPoolSize=2\nDNS=10.1.1.1\n")
    (folder / "60-srv.network").write_text(f"{text}PoolOffset=90\nPoolSize=9\n")
    (folder / "50-srv.network.d/more.conf").write_text(
        "[DHCPServer]\nPoolSize=3\nDefaultLeaseTimeSec=5min\nDNS=10.1.1.2\nEmitRouter=n\n"
    )
    (read,) = reservoir.read(folder)
    (pool,) = Pools(read.lifted.plan())
    found = [answer.told for answer in answers(folder, bindable(4), tmp_path) if answer.told]
    assert {parse_address(told["ip"]) for told in found} == set(pool.assignable.addresses())
    assert {told["dns"] for told in found} == {"10.1.1.1 10.1.1.2"}
    assert [format_address(server) for server in pool.offer.dns] == ["10.1.1.1", "10.1.1.2"]
    assert {told["lease"] for told in found} == {"300"} == {str(pool.offer.lease)}
    assert not any("router" in told for told in found)
    assert pool.offer.gateway is None
    assert [unread.line for unread in read.not_understood] == [17]


NEW = [f"02:00:00:00:57:{number:02x}" for number in range(3)]


@st.composite
def written(draw: st.DrawFn) -> dict[str, Any]:
    """A plan of one network that the service can serve, with all that it may offer."""
    plan = draw(benign_plan("linux-host", plain_names, most_networks=1))
    ports = plan["devices"]["server"]["interfaces"]
    ports["srv"] = ports.pop("port1")
    (network,) = plan["networks"].values()
    own = ports["srv"]["address"].split("/")[0]  # whose binding a check reports
    network["bindings"] = [b for b in network["bindings"] if b["address"] != own]
    taken = {own, *(binding["address"] for binding in network["bindings"])}
    last = next(a for a in (f"10.84.1.{number}" for number in range(2, 255)) if a not in taken)
    network["bindings"].append({"mac": LAST, "address": last})
    some = st.dictionaries(st.integers(140, 209), st.integers(1, 200).map(bytes), max_size=6)
    more = {str(code): {"hex": data.hex()} for code, data in draw(some).items()}
    network["options"] = {**more, **network.get("options", {})}
    return plan


@st.composite
def by_hand(draw: st.DrawFn) -> str:
    """A file as people write it: in any order and spelling, with what Reservoir doesn't know."""
    pool = draw(st.lists(st.sampled_from(LINES), max_size=9))
    if draw(st.booleans()):
        pool += [f"PoolOffset={draw(st.integers(0, 60))}", f"PoolSize={draw(st.integers(5, 60))}"]
    lines = [
        draw(st.sampled_from(["# the shed", "; the shed", ""])),
        "[Match]", "Name=srv", "[Network]", "Address=10.84.1.1/24",
        f"DHCPServer={draw(st.sampled_from(['yes', 'true', 'on', '1', 'y', 'True']))}",
        *draw(st.lists(st.sampled_from(["IPv6AcceptRA=no", "LLMNR=no"]), max_size=2)),
        "[DHCPServer]", *draw(st.permutations(pool)),
        "[DHCPServerStaticLease]", f"MACAddress={LAST}", "Address=10.84.1.98",
    ]  # fmt: skip
    return "\n".join(lines) + "\n"


LINES = [
    "DefaultLeaseTimeSec=30min", "DefaultLeaseTimeSec=1h 30min", "DefaultLeaseTimeSec=90",
    "DefaultLeaseTimeSec = 2d", "MaxLeaseTimeSec=1h", "EmitDNS=yes", "EmitDNS=no", "EmitDNS=off",
    "DNS=10.1.1.1", "DNS=10.1.1.2 10.1.1.3", "DNS=", "EmitRouter=no", "EmitRouter=true",
    "Router=10.84.1.254", "EmitTimezone=no", "EmitTimezone=yes", "Timezone=Europe/Lisbon",
    "SendOption=200:string:boat", r"SendOption=201:string:a\x41b", "SendOption=202:uint16:7",
    "SendOption=203:ipv4address:10.1.1.9", "BootServerAddress=10.1.1.5", "EmitNTP=no",
    "NTP=10.1.1.6", "BootServerName=boot", "BootFilename=a.img", "EmitSIP=no", "", "# remark",
    "DNS=10.1.1.1 # no remark here",
]  # fmt: skip
"""Lines of a pool, each of which the service takes or passes over."""


def offered(folder: Path, scratch: Path, bound: Sequence[str]) -> None:
    """Hold what clients are offered by the real service to what the stand-in offers them."""
    clients = [*NEW, *bound]
    serving = start(reservoir.configuration_text(str(folder)), Library().sheet("linux-host"))
    (pool,) = serving.pools
    told = stand_in(folder, addresses_of(serving.interfaces["srv"])[0].address)
    foreseen = offers(told, *clients)
    try:
        real = talked_with(folder, scratch, " ".join(["offers", *clients]))
    except ServiceAbortedError:
        assert "" in {kind for _, kind, *_ in foreseen}
        return
    for got, expected in zip(real, foreseen, strict=True):
        mac, kind, address, boot, options = got
        if pool.fact.get("own_timezone") is not False:
            options.pop("101", None)  # of which it is said that it is the device's own
        assert (mac, kind, boot, options) == (*expected[:2], *expected[3:])
        if mac in bound or not address:
            assert address == expected[2], mac
        else:
            assert address in pool.assignable, mac


@meets("answers", "no room")
@given(plan=written())
@settings(max_examples=examples(15))
def test_clients_are_offered_what_is_predicted(
    plan: dict[str, Any], tmp_path_factory: pytest.TempPathFactory
) -> None:
    """Every byte of every option, of any plan that is written; or nothing, for want of room."""
    scratch = tmp_path_factory.mktemp("written")
    opened = reservoir.loads(text_of(plan))
    (made,) = reservoir.write(opened, ["server"])
    assert not made.losses
    for name, text in in_files(made.text):
        (scratch / "files" / name).parent.mkdir(exist_ok=True)
        (scratch / "files" / name).write_text(text)
    bound = [b["mac"] for network in plan["networks"].values() for b in network["bindings"]]
    long = any(f.rule == "options-too-long" for f in reservoir.check(opened))
    met("no room" if long else "answers")
    offered(scratch / "files", scratch, bound)


@meets("known", "something unknown")
@given(text=by_hand())
@settings(max_examples=examples(15))
def test_what_people_write_is_known_or_named(
    text: str, tmp_path_factory: pytest.TempPathFactory
) -> None:
    """Clients are offered just that, or `check` names the line of which it knows nothing."""
    scratch = tmp_path_factory.mktemp("by-hand")
    (scratch / "files").mkdir()
    (scratch / "files/50-srv.network").write_text(text)
    (read,) = reservoir.read(scratch / "files")
    met("something unknown" if read.not_understood else "known")
    if read.not_understood:
        findings = reservoir.check(reservoir.combine([read]))
        assert any(finding.rule == "line-not-understood" for finding in findings)
    else:
        offered(scratch / "files", scratch, [LAST])
