"""Tables of leases as devices print them: read as a lease list is, or refused; never half of it."""

from __future__ import annotations

import json
import math
import os
from collections.abc import Callable, Iterator, Mapping
from pathlib import Path
from typing import Any

import numpy as np
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import reservoir
from conftest import Run, examples
from met import meets, met
from real_host import run_beside
from reservoir.core.leases.table import LeaseTable
from reservoir.core.problems import InputError
from reservoir.core.values.addresses import format_address, parse_address
from reservoir.core.values.clients import Mac, parse_mac
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.facts.kinds import LEASE_STATES
from reservoir.dialects.forms.form import Form
from reservoir.dialects.forms.moments import MomentForm
from reservoir.dialects.forms.words import OwnWords
from reservoir.dialects.learning.lease_table import TEMPLATES, learn_leases
from reservoir.dialects.render.writer import write_configuration
from reservoir.dialects.sheet.library import Library
from reservoir.dialects.sheet.loader import load_sheet
from reservoir.dialects.sheet.model import Sheet, every_row
from reservoir.files.moments import ListNotation, read_moment
from reservoir.rehearsal.messages.message import Kind, Message, Option
from test_sheets import GANNET

Put = Callable[[str, str], Path]

NOW = 1_800_000_000.0
SOMEBODY = parse_mac("00:00:5e:00:53:99")
NOTATION = ListNotation(zone="UTC", client=SOMEBODY)

PARTS = [
    (name, number)
    for name in Library().names
    for number, _ in enumerate(Library().sheet(name).leases)
]

PLAN = """\
reservoir: 1
devices:
  shop-box:
    dialect: DIALECT
    interfaces: {lan: {address: 10.84.30.1/24}}
networks:
  shop:
    subnet: 10.84.30.0/24
    gateway: 10.84.30.1
    dns: [10.84.0.53]
    lease: 2h
    served_by: shop-box
    ranges: [10.84.30.20-10.84.30.39]
    bindings: [{name: till, mac: "00:00:5e:00:53:11", address: 10.84.30.50}]
"""

PRINTED = """\
larkspur> holders
10.84.30.50 kept by 00-00-5e-00-53-11 for 3600 as till
10.84.30.21 kept by 00-00-5e-00-53-12 for 7200 as kiosk
10.84.30.20 kept by id 6b696f736b for 60
3 holders
"""


def part_of(name: str, number: int = 0) -> Sheet:
    return Library().sheet(name).leases[number]


def slots_of(part: Sheet) -> Mapping[str, Form]:
    """How the fields of a lease are written that a slot of the part holds."""
    return {slot.field: slot.form for row in every_row(part.rows) for slot in row.pattern.slots}


@st.composite
def tables(draw: st.DrawFn, part: Sheet) -> list[Fact]:
    """Leases that a part can say, of different addresses."""
    slots = slots_of(part)
    first = draw(st.integers(0x0A540001, 0x0A54FF00))
    found = []
    for number in draw(st.lists(st.integers(0, 200), min_size=1, max_size=9, unique=True)):
        fields: dict[str, Any] = {"address": first + number}
        identity = draw(st.sampled_from([key for key in ("mac", "client_id") if key in slots] or
                                        [""]))  # fmt: skip
        if identity == "mac":
            fields["mac"] = Mac(draw(st.integers(1, (1 << 48) - 1)))
        elif identity:
            fields["client_id"] = draw(st.binary(min_size=2, max_size=9))
        if "name" in slots and part.name != "linux-host":
            fields["name"] = draw(st.from_regex("[a-z][a-z0-9-]{2,8}", fullmatch=True))
        for name in ("starts", "expires"):
            if isinstance(form := slots.get(name), MomentForm):
                fields[name] = form.example(draw(st.integers(0, 23)))
        if "left" in slots:
            fields["left"] = 60 * draw(st.integers(1, 10_000))
        if isinstance(form := slots.get("state"), OwnWords):
            fields["state"] = draw(st.sampled_from([*form.words]))
        found.append(Fact("lease", fields))
    return found


def moments(leases: LeaseTable) -> Iterator[tuple[float | None, float | None]]:
    for starts, expires in zip(leases.starts.tolist(), leases.expires.tolist(), strict=True):
        yield None if math.isnan(starts) else starts, None if math.isnan(expires) else expires


def at(text: str | None) -> float | None:
    """When a moment is on a clock of UTC."""
    if text is None:
        return None
    return read_moment(text if text.isdigit() or "+" in text else f"{text}+00:00")


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("printed")


@meets("a lease of an identifier", "a lease that has ended", "a time left")
@given(which=st.sampled_from(PARTS), data=st.data())
@settings(max_examples=examples(400))
def test_what_a_device_prints_is_recognised_and_read(
    folder: Path, which: tuple[str, int], data: st.DataObject
) -> None:
    """Whose each address is, until when; those that nobody has at present are left out and said."""
    name, part = which[0], part_of(*which)
    facts = data.draw(tables(part))
    file = folder / f"{name}.txt"
    written = write_configuration(Fact("device", {}, facts), part)
    assert not written.refusals
    file.write_text(written.text)
    read = reservoir.read_leases(str(file), NOTATION, now=NOW)
    assert f"read as {name} prints its leases" in read.notes
    present = [fact for fact in facts if fact.get("state", "active") == "active"]
    leases = read.leases
    assert leases.address.tolist() == [fact.get("address") for fact in present]
    for row, fact in enumerate(present):
        client = fact.get("client_id") or fact.get("mac") or SOMEBODY
        own = client.identifier if isinstance(client, Mac) else client
        seen = leases.client_at(row)
        assert (seen.identifier if isinstance(seen, Mac) else seen) == own
        assert leases.name[row] == fact.get("name", "")
    assert [*moments(leases)] == [
        (at(f.get("starts")), NOW + f.get("left") if "left" in f.fields else at(f.get("expires")))
        for f in present
    ]
    for state in LEASE_STATES[1:]:
        others = [fact for fact in facts if fact.get("state") == state]
        said = [note for note in read.notes if "left out" in note and f"({state}" in note]
        assert len(said) == bool(others) * (state != "unclear")
        assert all(note.startswith(f"{len(others)} address") for note in said)
    met("a lease of an identifier", any("client_id" in fact.fields for fact in facts))
    met("a lease that has ended", any(fact.get("state") == "ended" for fact in facts))
    met("a time left", any("left" in fact.fields for fact in facts))


@given(which=st.sampled_from(PARTS), data=st.data())
@settings(max_examples=examples(400))
def test_nothing_of_a_damaged_table_is_lost_silently(
    folder: Path, which: tuple[str, int], data: st.DataObject
) -> None:
    """Every lease is read, or a line is named, whatever character is another."""
    name, part = which[0], part_of(*which)
    facts = [fact for fact in data.draw(tables(part)) if fact.get("state", "active") == "active"]
    if not facts:
        return
    text = write_configuration(Fact("device", {}, facts), part).text
    at = data.draw(st.integers(0, len(text) - 1))
    file = folder / f"{name}-damaged.txt"
    file.write_text(text[:at] + data.draw(st.sampled_from("x?9 {")) + text[at + 1 :])
    try:
        read = reservoir.read_leases(str(file), NOTATION, now=NOW)
    except InputError as error:
        assert all(problem.message for problem in error.problems)
        return
    said = any("left alone" in note or "left out" in note for note in read.notes)
    assert len(read.leases) >= len(facts) or said  # a line by itself may name another address


@pytest.mark.parametrize("command", ["leases", "adopt", "compare", "find", "report", "size"])
def test_each_command_that_takes_a_list_takes_a_table(
    run: Run, put: Put, tmp_path: Path, command: str
) -> None:
    """With the same outcome as for the list, but for where it stands."""
    put("plan.yaml", PLAN.replace("DIALECT", "fulmar"))
    leases = [
        {"address": f"10.84.30.{n}", "mac": f"00:00:5e:00:53:{n}", "host": f"kiosk-{n}",
         "since": "2027-01-15T06:00:00Z", "until": "2027-01-15T10:00:00Z", "state": "lent"}
        for n in (21, 22, 60)
    ]  # fmt: skip
    put("one.lst", json.dumps({"site": "shop-box", "lent": leases}))
    rows = [f"{o['mac']},{o['address']},{o['host']},shop-box,{o['since']},{o['until']}" for o in
            leases]  # fmt: skip
    put("two.lst", "\n".join(["mac,address,name,server,starts,expires", *rows]) + "\n")
    now = ("--now", "2027-01-15T08:00:00Z")
    calls = {
        "leases": ("leases", "LIST", "--plan", "plan.yaml", *now, "--format", "json"),
        "adopt": ("adopt", "LIST", "--into", "plan.yaml", *now, "--format", "json"),
        "compare": ("compare", "plan.yaml", "plan.yaml", "--leases", "LIST", *now,
                    "--format", "json"),
        "find": ("find", "10.84.30.21", "plan.yaml", "--leases", "LIST", "--format", "json"),
        "report": ("report", "plan.yaml", "--leases", "LIST", *now, "-o", "report.html"),
        "size": ("size", "--history", "LIST", "--lease", "1h", "--addresses", "20",
                 "--format", "json"),
    }  # fmt: skip
    told = []
    for file in ("one.lst", "two.lst"):
        ended = run(*(word.replace("LIST", file) for word in calls[command]))
        assert ended.code in (0, 1), ended.err
        assert ("read as fulmar prints its leases" in ended.err) == (file == "one.lst")
        out = (tmp_path / "report.html").read_text() if command == "report" else ended.out
        told.append(without_places(out.replace(file, "LIST")))
    assert told[0] == told[1]


_PLACES = ("line", "sha256", "files", "notes", "digest")


def without_places(text: str) -> Any:
    """What a command says, without digests of files and the lines that leases stand in."""
    try:
        said = json.loads(text)
    except ValueError:
        return [line for line in text.splitlines() if "SHA-256" not in line and "LIST" not in line]

    def bare(value: Any) -> Any:
        if isinstance(value, dict):
            return {k: bare(v) for k, v in value.items() if k not in _PLACES}
        return [bare(each) for each in value] if isinstance(value, list) else value

    return bare(said)


def test_what_stands_around_a_table_on_a_terminal_is_left_alone_and_said(
    run: Run, put: Put
) -> None:
    put("plan.yaml", PLAN.replace("DIALECT", "larkspur"))
    put("printed.txt", PRINTED)
    ended = run("leases", "printed.txt", "--plan", "plan.yaml")
    assert ended.code == 0, ended.err
    assert "3 leases: nothing contradicts the plan." in ended.out
    assert "2 lines without an address left alone: 'larkspur> holders' and '3 holders'" in ended.err
    assert "time left counts from now, " in ended.err
    told = run("leases", "printed.txt", "--plan", "plan.yaml", "--now", "1800000000")
    assert "time left counts" not in told.err


@pytest.mark.parametrize(
    ("line", "said"),
    [
        ("10.84.30.22 kept 00-00-5e-00-53-13 for 60", "3:1: not understood"),
        (
            "10.84.30.999 kept by 00-00-5e-00-53-13 for 60",
            "3:1: '10.84.30.999' is not an IPv4 address",
        ),
        ("10.84.30.22 kept by 00-00-5e-00-53 for 60", "3:21: "),
        ("10.84.30.22 kept by 00-00-5e-00-53-13 for long", "3:43: "),
        ("pool of 10.84.30.0 is nearly empty", "3:1: not understood"),
    ],
)
def test_a_line_that_may_be_a_lease_is_never_passed_over(
    run: Run, put: Put, line: str, said: str
) -> None:
    put("plan.yaml", PLAN.replace("DIALECT", "larkspur"))
    first, second, *others = PRINTED.splitlines()
    put("printed.txt", "\n".join([first, second, line, *others]) + "\n")
    ended = run("leases", "printed.txt", "--plan", "plan.yaml")
    assert ended.code == 2
    assert f"printed.txt:{said}" in ended.err
    assert "1 problem" in ended.err


def test_who_printed_it_can_be_said_and_has_to_print_leases(run: Run, put: Put) -> None:
    put("plan.yaml", PLAN.replace("DIALECT", "larkspur"))
    put("printed.txt", PRINTED)
    call = ("leases", "printed.txt", "--plan", "plan.yaml", "--printed-by")
    assert run(*call, "larkspur").code == 0
    other = run(*call, "mortise")
    assert other.code == 2
    assert "not understood" in other.err
    unknown = run(*call, "larkspor")
    assert unknown.code == 2
    assert "did you mean larkspur?" in unknown.err
    put("dialects/gannet.sheet", GANNET)
    none = run(*call, "gannet")
    assert none.code == 2
    assert "gannet.sheet" in none.err
    assert "the sheet has no part leases" in none.err


def test_a_table_that_two_dialects_read_otherwise_is_refused(run: Run, put: Put) -> None:
    put("plan.yaml", PLAN.replace("DIALECT", "larkspur"))
    part = (
        'part leases\nduration "{m}"\nlease * | {address} kept by {mac} for {left} [? as {name}]\n'
    )
    put(
        "dialects/gannet.sheet",
        f"{GANNET}\n{part}".replace("\nlist", '\nmac group 2 sep "-"\nlist'),
    )
    put("printed.txt", "10.84.30.21 kept by 00-00-5e-00-53-12 for 7200 as kiosk\n")
    ended = run("leases", "printed.txt", "--plan", "plan.yaml")
    assert ended.code == 2
    assert "gannet and larkspur may both print leases like this" in ended.err
    assert run("leases", "printed.txt", "--plan", "plan.yaml", "--printed-by", "gannet").code == 0


@pytest.mark.parametrize(
    "text", ["", "hello\n", "10.84.30.21 has it\n", "{", "<a><b></a>", "\x1b[2J\n"]
)
def test_what_is_no_table_is_refused_calmly(run: Run, put: Put, text: str) -> None:
    put("plan.yaml", PLAN.replace("DIALECT", "larkspur"))
    put("printed.txt", text)
    ended = run("leases", "printed.txt", "--plan", "plan.yaml")
    assert ended.code == 2
    assert "no table of leases as a known dialect prints it (--printed-by DIALECT " in ended.err
    assert "and no lease list: the column address is missing" in ended.err
    assert "\x1b" not in ended.err


def test_of_a_journal_the_last_counts_and_a_client_can_be_named(run: Run, put: Put) -> None:
    put("plan.yaml", PLAN.replace("DIALECT", "larkspur"))
    lease = "lease {{\n  fixed-address 10.84.30.21;\n  expire 5 2027/01/15 {};\n}}\n"
    put("client.leases", lease.format("08:00:00") + lease.format("10:00:00"))
    call = ("leases", "client.leases", "--plan", "plan.yaml", "--now", "2027-01-15T09:00:00Z")
    nobody = run(*call)
    assert nobody.code == 2
    assert "client.leases:5:1: mac: the client has neither mac nor client_id" in nobody.err
    assert "--leased-to CLIENT says whose lease it is" in nobody.err
    for client in ("00:00:5e:00:53:77", "0000.5e00.5377", "hex:0100005e005377", "text:till"):
        ended = run(*call, "--leased-to", client)
        assert ended.code == 0, ended.err
        assert "1 lease left out: the same address comes again below" in ended.err
    assert "1 lease: nothing contradicts the plan." in ended.out
    wrong = run(*call, "--leased-to", "till")
    assert wrong.code == 2
    assert "'till'" in wrong.err
    bound = run(*call, "--leased-to", "00:00:5e:00:53:11")
    assert "00:00:5e:00:53:11 has 10.84.30.21, but is bound to 10.84.30.50" in bound.out


def test_an_answer_that_a_client_has_kept_is_its_lease(run: Run, put: Put, tmp_path: Path) -> None:
    """It begins when the file was written; a damaged one is named."""
    put("plan.yaml", PLAN.replace("DIALECT", "larkspur"))
    answer = Message(
        Kind.ACK, 7, parse_mac("00:00:5e:00:53:12"), {Option.LEASE_TIME: b"\0\0\x1c\x20"}
    )
    answer.your_address = parse_address("10.84.30.21")
    kept = tmp_path / "eth0.lease"
    kept.write_bytes(answer.encode())
    os.utime(kept, (NOW, NOW))
    call = ("leases", "eth0.lease", "--plan", "plan.yaml", "--now")
    ended = run(*call, str(int(NOW) + 7_199))
    assert ended.code == 0, ended.err
    assert "1 lease: nothing contradicts the plan." in ended.out
    assert "it began when the file was written" in ended.err
    assert "expired" in run(*call, str(int(NOW) + 7_201)).out
    kept.write_bytes(answer.encode()[:245])
    damaged = run(*call, str(int(NOW)))
    assert damaged.code == 2
    assert "a client's lease, damaged" in damaged.err


@pytest.mark.parametrize(
    ("part", "said"),
    [
        (
            "part lease\nlease * | {address} {mac}",
            ":1: there is no part 'lease' (did you mean leases?)",
        ),
        ("part leases\ntable blanks", "a part leases has a row of kind lease"),
        ("part leases\nlease * | {mac} {name}", "the rows of kind lease state no {address}"),
        ("part leases\ntrait assigns ranges\nlease * | {address} {mac}", "trait is said once, in"),
        ("part leases\npool * | pool {name}", "in the part leases rows are of kind lease"),
        (
            "part leases\nlease * | {address} {mac} {ends}",
            "a fact of kind lease has no field 'ends'",
        ),
        ("part leases\nmoment {hour}\nlease * | {address} {expires}", "a moment has a year, a mon"),
        ('part leases\nmoment "{year} {yeer}"\nlease * | {address}', "there is no part {yeer}"),
        ("part leases\njournal yes\nlease * | {address} {mac}", "journal stands by itself"),
        ("part leases\nwords lease.state over=x\nlease * | {address} {state}", "no state 'over'"),
        ("part leases\nlease * state=over | {address} {mac}", "'over' is none of active"),
        (
            "part leases\nlease * | {address} {mac}\nlease * | {address} {mac:clientid}",
            "no form nam",
        ),
        ("lease * | {address} {mac}", "rows of kind lease stand in a part of their own: part leas"),
    ],
)
def test_a_mistake_in_a_part_is_named_with_its_line(part: str, said: str) -> None:
    with pytest.raises(InputError) as error:
        load_sheet(f"{GANNET}\n{part}\n", "gannet.sheet")
    assert said in str(error.value)
    assert all((p.place.line or 0) > GANNET.count("\n") for p in error.value.problems)


def test_a_part_is_tried_and_shown_with_its_dialect(run: Run, put: Put) -> None:
    put("gannet.sheet", f"{GANNET}\npart leases\nlease * | {{address}} {{mac}} {{left}} min\n")
    put("printed.txt", "10.84.30.21 00:00:5e:00:53:12 30 min\n")
    ended = run("dialect", "try", "gannet.sheet", "--leases", "printed.txt")
    assert ended.code == 0, ended.err
    assert "10.84.61.23 00:00:5e:00:53:61 90 min" in ended.out
    assert "part leases: the sample reads back correctly" in ended.err
    assert "lease client_id, name, starts, expires, state, server" in ended.err
    assert "printed.txt: 1 lease with address, mac, expires" in ended.err
    put("printed.txt", "10.84.30.21 00:00:5e:00:53:12 for 30 min\n")
    assert run("dialect", "try", "gannet.sheet", "--leases", "printed.txt").code == 2
    assert (
        "10.84.61.23 kept by 00-00-5e-00-53-61 for 5400" in run("dialect", "show", "larkspur").out
    )


@pytest.mark.parametrize("name", sorted({*Library().names} - {"linux-host"}))
@given(data=st.data())
@settings(max_examples=examples(15))
def test_a_part_is_learned_from_a_table_and_a_list_of_its_leases(
    folder: Path, name: str, data: st.DataObject
) -> None:
    """The draft reads other tables, too, as the sheet does that wrote them."""
    part = part_of(name)
    every = [fact for fact in data.draw(tables(part)) if fact.get("state", "active") == "active"]
    facts = [fact for fact in every if "mac" in fact.fields and int(fact.get("mac")) >> 24]
    if len(facts) < 3 or any(fact.get("left", 3_660) < 3_600 for fact in facts):
        return  # too little to tell a form by
    text = write_configuration(Fact("device", {}, facts), part).text
    draft = learn_leases(text, listed(facts, folder / f"{name}.csv"))
    assert not draft.problems
    assert not draft.missing
    assert draft.right == sum(len({*fact.fields} - {"state"}) for fact in facts)


def listed(facts: list[Fact], file: Path) -> LeaseTable:
    """The leases of a table as a lease list has them."""
    rows = [f"{format_address(f.get('address'))},{f.get('mac')},{f.get('name', '')}" for f in facts]
    file.write_text("\n".join(["address,mac,name", *rows]) + "\n")
    return reservoir.read_leases(str(file)).leases


def test_a_drafted_part_works_at_the_end_of_a_sheet(run: Run, put: Put, tmp_path: Path) -> None:
    """Drafted on the command line, put behind the sheet, tried, and used."""
    clients = ((21, "kiosk"), (22, "till"), (23, "bridge"))
    put("printed.txt", "".join(
        f"10.84.30.{n} sits with 00-00-5e-00-53-{n} until {n % 12 + 1:02}.03.2027 1{n % 9}:30"
        f" ({name})\n"
        for n, name in clients
    ))  # fmt: skip
    rows = "".join(f"10.84.30.{n},00:00:5e:00:53:{n},{name}\n" for n, name in clients)
    put("leases.csv", f"address,mac,name\n{rows}")
    put("plan.yaml", PLAN.replace("DIALECT", "larkspur"))
    ended = run("dialect", "learn", "printed.txt", "--leases", "leases.csv", "-o", "part.txt")
    assert ended.code == 0, ended.err
    put("dialects/gannet.sheet", f"{GANNET}\n{(tmp_path / 'part.txt').read_text()}")
    used = run("leases", "printed.txt", "--plan", "plan.yaml", "--zone", "UTC", "--now", "0")
    assert used.code in (0, 1), used.err
    assert "read as gannet prints its leases" in used.err
    assert "3 leases" in used.out
    for words, said in (
        (("printed.txt", "--leases", "leases.csv", "--plan", "plan.yaml"), "give one"),
        (("--leases", "leases.csv"), "Give the table"),
        (("plan.yaml", "--leases", "leases.csv"), "no lease of leases.csv was found"),
    ):
        refused = run("dialect", "learn", *words)
        assert refused.code == 2
        assert said in refused.err


def test_each_template_of_a_time_is_told_by_its_looks() -> None:
    """Those that differ are told apart; where the day may be the month, one of both is taken."""
    from reservoir.dialects.learning.lease_table import moment_template

    for template in TEMPLATES:
        form = MomentForm(template, is_utc=template.endswith("Z"))
        texts = [form.write(form.example(hour)) for hour in (3, 14, 22)]
        found = moment_template("\n".join(f"it ends {text}, so" for text in texts))
        assert [MomentForm(found, is_utc=found.endswith("Z")).read(text) for text in texts] == [
            form.read(text) for text in texts
        ]


BUS = """
mkdir -p /run/dbus
dbus-daemon --system --fork --nopidfile --print-pid > /run/dbus/started
"""
"""By which the service is asked: it is there before the service is."""

SHOWN = r"""
for client in 00:00:5e:00:53:11 00:00:5e:00:53:12; do
  ip netns exec client ip link set cli down
  ip netns exec client ip link set cli address "$client"
  ip netns exec client ip link set cli up
  ip netns exec client busybox udhcpc -i cli -f -n -q -t 3 -T 1 -s /bin/true >&2 || true
done
ip netns exec client dhclient -1 -lf "$SCRATCH/dhclient.leases" -pf "$SCRATCH/dhclient.pid" \
  -sf /bin/true cli >&2 || true
ip netns exec client dhcpcd -4 -1 -t 10 -c /bin/true cli >&2 || true
cp /var/lib/dhcpcd/cli.lease "$SCRATCH/cli.lease"
for _ in $(seq 100); do
  networkctl status srv --no-pager > "$SCRATCH/status.txt" 2>&1 || true
  grep -q "Offered DHCP leases" "$SCRATCH/status.txt" && break; sleep 0.1
done
kill $(cat "$SCRATCH/dhclient.pid" /run/dbus/started) || true
"""


@pytest.mark.usefixtures("network_service", "dhcp_clients")
def test_the_systems_own_service_and_clients_tell_their_leases(
    run: Run, put: Put, tmp_path: Path
) -> None:
    """What the real programs print and store is read: both clients, each with its own address."""
    if not Path("/usr/bin/dbus-daemon").exists():
        pytest.skip("not installed here: dbus-daemon (tests/system-packages installs it)")
    plan = PLAN.replace("DIALECT", "linux-host").replace("lan:", "srv:")
    put("plan.yaml", plan.replace("10.84.30.50", "10.84.30.39"))
    written = run("write", "plan.yaml")
    assert written.code == 0, written.err
    run_beside(
        tmp_path / "configuration/shop-box.linux-host", tmp_path, SHOWN, BUS, SCRATCH=str(tmp_path)
    )
    status = reservoir.read_leases(str(tmp_path / "status.txt"))
    leases = status.leases
    clients = {leases.client_text(row): int(leases.address[row]) for row in range(len(leases))}
    assert {*clients} == {"00:00:5e:00:53:11", "00:00:5e:00:53:12"}
    assert clients["00:00:5e:00:53:11"] == parse_address("10.84.30.39")
    second = parse_mac("00:00:5e:00:53:12")
    by_dhclient = reservoir.read_leases(
        str(tmp_path / "dhclient.leases"), ListNotation(client=second)
    ).leases
    assert by_dhclient.address.tolist() == [clients[str(second)]]
    by_dhcpcd = reservoir.read_leases(str(tmp_path / "cli.lease")).leases
    assert by_dhcpcd.mac.tolist() == [second]
    for lasting in (by_dhclient, by_dhcpcd):
        assert np.all(np.isfinite(lasting.expires))
    # It names itself by more than its address, of which the service shows the beginning.
    assert any("shown only in part" in note for note in status.notes)
