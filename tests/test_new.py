"""Starting a plan and adding networks: answers, suggestions, tables, and what becomes of a plan."""

from __future__ import annotations

import os
import pty
import re
import select
import shlex
import signal
from collections.abc import Callable, Iterator
from difflib import SequenceMatcher
from importlib import resources
from pathlib import Path

import pytest
import yaml
from hypothesis import given, settings
from hypothesis import strategies as st

import reservoir
from conftest import Run, examples
from met import meets, met
from reservoir.core.drafting.answers import BY_NAME, QUESTIONS, Answers
from reservoir.core.drafting.drafting import NoRoomError
from reservoir.core.findings import Severity
from reservoir.core.values.addresses import Prefix, parse_address
from reservoir.dialects.sheet.library import Library
from reservoir.files.drafts import new_plan, with_additions
from reservoir.files.network_table import read_networks

Put = Callable[[str, str], Path]

DNS = parse_address("10.84.0.53")

DIALECTS = Library().names


def drafted(answers: list[Answers], dialect: str | None) -> str:
    """The text of a plan of networks, each with some answers and the rest as suggested."""
    drafting = reservoir.drafting(block=Prefix(parse_address("10.84.0.0"), 16))
    tags: set[int | None] = set()
    for number, some in enumerate(answers):
        given = {"network": f"net-{number}", "dialect": dialect, "dns": [DNS], **some}
        if "vlan" in some and some["vlan"] in tags:
            del given["vlan"]  # it was suggested for another meanwhile
        for question in QUESTIONS:
            if question.name not in given:
                suggested = drafting.suggest(question.name, given)
                assert suggested is not None, question.name
                assert suggested.because
                # What is suggested can be typed: it reads as what it was.
                text = question.write(suggested.value)
                assert question.read(text) == suggested.value
                given[question.name] = suggested.value
        drafting.add(given)
        tags.add(given["vlan"])
    return new_plan(drafting.additions)


some_answers = st.fixed_dictionaries(
    {},
    optional={
        "clients": st.integers(1, 900),
        "vlan": st.integers(2, 4094),
        "keep": st.sampled_from(["first 5", "last 9", "none"]).map(BY_NAME["keep"].read),
        "lease": st.sampled_from([1_800, 86_400]),
    },
)


@meets("several networks", "clients")
@given(
    answers=st.lists(
        some_answers, min_size=1, max_size=6, unique_by=lambda a: a.get("vlan", id(a))
    ),
    dialect=st.sampled_from([None, *DIALECTS]),
)
@settings(max_examples=examples(100))
def test_what_is_suggested_makes_a_sound_plan(answers: list[Answers], dialect: str | None) -> None:
    """Whatever was answered before: no two networks in one subnet, room for everybody, no error.

    Where a device can't have VLANs, or more than so many networks, the plan says so; nothing else.
    """
    plan = reservoir.loads(drafted(answers, dialect))
    for finding in reservoir.check(plan).findings:
        known = finding.rule in ("not-expressible", "limit-exceeded", "pool-shadowed")
        assert known or finding.severity is not Severity.ERROR, finding
        assert finding.rule not in ("pool-tight", "networks-overlap", "subnet-outgrown")
    sizes = reservoir.size(plan)
    met("several networks", len(plan.plan.networks) > 1)
    met("clients", len(sizes.networks) > 0)
    assert all(one.comfortable <= one.capacity for one in sizes.networks)
    assert len(sizes.networks) == sum("clients" in some for some in answers)


def test_a_dns_server_is_never_in_the_pool() -> None:
    """A subnet that has it isn't suggested; in one that somebody chose it is excluded."""
    dns: Answers = {"dns": [DNS]}
    assert "10.84.1.0/24" in drafted([dns], None)
    chosen: Answers = {"dns": [DNS], "subnet": Prefix(parse_address("10.84.0.0"), 24)}
    assert "- {range: 10.84.0.53, for: DNS server}" in drafted([chosen], None)


def test_no_room_is_said() -> None:
    """Neither a subnet nor a tag is made up."""
    drafting = reservoir.drafting(block=Prefix(parse_address("10.84.0.0"), 25), tags=(5, 5))
    with pytest.raises(NoRoomError, match=r"no /24 is free in 10\.84\.0\.0/25"):
        drafting.suggest("subnet", {"device": "pier", "interface": "lan"})


PLAN = """reservoir: 1
name: Quay          # ours

defaults: {dns: [10.84.0.53], lease: 12h}

devices:
  pier-router:
    dialect: larkspur
    interfaces:
      up:      {address: 10.84.0.2/24}
      deck:    {}
      deck.20: {parent: deck, vlan: 20, address: 10.84.20.1/24}   # keep
      deck.30: {parent: deck, vlan: 30, address: 10.84.30.1/24, relay_to: [10.84.0.10]}
      deck.31: {parent: deck, vlan: 31, address: 10.84.31.1/24, relay_to: [10.84.0.10]}
    routes: [{to: 0.0.0.0/0, via: 10.84.0.1}]
  office:
    dialect: merganser
    interfaces: {core: {address: 10.84.0.10/24, zone: inner}, lan: {zone: inner}}
    zones: {inner: {admits: [dhcp, ping]}}
    routes: [{to: 10.84.0.0/16, via: 10.84.0.2}]

networks:
  # the first
  wifi: {subnet: 10.84.20.0/24, vlan: 20, gateway: 10.84.20.1, served_by: pier-router,
         ranges: [10.84.20.20-200], demand: {devices: 90}}

  crew:
    subnet: 10.84.30.0/24
    vlan: 30
    gateway: 10.84.30.1
    served_by: office
    ranges: [10.84.30.20-200]
    demand: {devices: 40}     # of whom half are ashore

  cabins: {subnet: 10.84.31.0/24, vlan: 31, gateway: 10.84.31.1, served_by: office,
           ranges: [10.84.31.20-200], demand: {devices: 40}}

# agreed with the harbour master
accept: []
"""


def only_added(before: str, after: str) -> list[str]:
    """The lines that were added; none was changed or removed."""
    old, new = before.splitlines(), after.splitlines()
    added = []
    for what, _, _, begin, end in SequenceMatcher(None, old, new, autojunk=False).get_opcodes():
        assert what in ("equal", "insert"), (what, new[begin:end])
        added += new[begin:end] if what == "insert" else []
    return added


def test_a_network_gets_what_it_needs_and_the_plan_keeps_the_rest(
    run: Run, put: Put, tmp_path: Path
) -> None:
    """A sub-interface with the next tag, its subnet by the plan's habit, the others' relay."""
    put("plan.yaml", PLAN)
    arguments = ("new", "--into", "plan.yaml", "--network", "lounge", "--device", "pier-router",
                 "--clients", "60", "--yes")  # fmt: skip
    shown = run(*arguments)
    assert shown.code == 0, shown.err
    assert (tmp_path / "plan.yaml").read_text() == PLAN
    assert "1 network can be added; --in-place does it." in shown.err
    done = run(*arguments, "--in-place")
    assert done.code == 0, done.err
    added = only_added(PLAN, (tmp_path / "plan.yaml").read_text())
    assert [line.strip() for line in added if line] == [
        "deck.21: {parent: deck, vlan: 21, address: 10.84.21.1/25, relay_to: [10.84.0.10]}",
        "lounge:", "subnet: 10.84.21.0/25", "vlan: 21", "gateway: 10.84.21.1", "served_by: office",
        "ranges: [10.84.21.16-10.84.21.126]", "demand: {devices: 60}",
    ]  # fmt: skip
    assert run("rehearse", "plan.yaml", "--network", "lounge").code == 0


@pytest.mark.parametrize(
    "text",
    [
        "reservoir: 1\n",
        "reservoir: 1\nnetworks: {}\ndevices: {}",
        "{reservoir: 1, name: quay}\n",
        "reservoir: 1\ndevices:\n  pier:\n    dialect: merganser\n    # zones later\n",
        "reservoir: 1\r\n# ours\r\ndevices: {pier: {dialect: merganser, zones: {}}}\r\n",
        "reservoir: 1\ndevices: {pier: {}}\nnetworks:\n    cabin: {subnet: 10.84.31.0/24}\n",
        "reservoir: 1\ninclude: [more.yaml]\n",
    ],
)
def test_any_plan_has_a_place_for_a_network(run: Run, put: Put, tmp_path: Path, text: str) -> None:
    """However its mappings are written, or missing; line ends stay; an included device gets its."""
    (tmp_path / "plan.yaml").write_bytes(text.encode())
    more = "reservoir: 1\ndevices:\n  pier:\n    dialect: merganser\n    routes: []  # none\n"
    (tmp_path / "more.yaml").write_text(more)
    done = run("new", "--into", "plan.yaml", "--network", "crew", "--device", "pier", "--yes",
               "--dns", "10.84.0.53", "--subnet", "10.84.30.0/24", "--vlan", "30",
               "--in-place")  # fmt: skip
    assert done.code == 0, done.err
    plan = reservoir.load(tmp_path / "plan.yaml").plan
    assert str(plan.networks["crew"].subnet) == "10.84.30.0/24"
    (name,) = (n for n, i in plan.devices["pier"].interfaces.items() if i.vlan == 30)
    assert (plan.devices["pier"].interfaces[name].zone is None) == ("merganser" not in text + (
        more if "include" in text else ""
    ))  # fmt: skip
    after = (tmp_path / "plan.yaml").read_bytes().decode()
    assert ("\r\n" in text) == ("\r\n" in after)
    assert after.replace("\r\n", "").count("\r") == 0
    if "include" in text:
        assert after == only_what_was(text, after)
        assert "# none" in (tmp_path / "more.yaml").read_text()


def only_what_was(before: str, after: str) -> str:
    """The text after, once it is sure that nothing of the text before is missing in it."""
    only_added(before, after)
    return after


def test_a_firewall_gets_a_zone(run: Run, put: Put, tmp_path: Path) -> None:
    """The one that its other interfaces are in, also where they stand in braces; or a new one."""
    put("plan.yaml", PLAN)
    done = run("new", "--into", "plan.yaml", "--network", "store", "--device", "office", "--yes",
               "--clients", "20", "--in-place")  # fmt: skip
    assert done.code == 0, done.err
    text = (tmp_path / "plan.yaml").read_text()
    assert "store: {address: 10.84.1.1/26, zone: inner}}\n" in text
    assert run("check", "plan.yaml").code == 0
    alone = run("new", "--network", "lan", "--dialect", "merganser", "--dns", "none", "--yes")
    assert "zones:\n      inside: {admits: [dhcp, ping]}" in alone.out


def test_what_would_be_wrong_is_refused(run: Run, put: Put, tmp_path: Path) -> None:
    """A subnet that is used already, a name that is taken, a gateway elsewhere: nothing changes."""
    put("plan.yaml", PLAN)
    into = ("new", "--into", "plan.yaml", "--device", "pier-router", "--yes", "--in-place")
    for options, code, said in (
        (("--network", "store", "--subnet", "10.84.20.0/25"), 1, "networks-overlap"),
        (("--network", "crew"), 2, "there is a network crew already"),
        (("--network", "a", "--subnet", "10.84.9.0/24", "--gateway", "10.84.8.1"), 2,
         "10.84.8.1 is not in 10.84.9.0/24 (--gateway)"),
        (("--network", "a", "--subnet", "10.84.9.0/24", "--range", "10.84.8.20-99"), 2,
         "10.84.8.20-10.84.8.99 is not in 10.84.9.0/24 (--range)"),
        (("--network", "a", "--block", "10.84.20.0/24"), 2, "is free in 10.84.20.0/24"),
        (("--network", "a", "--tags", "30-31"), 2, "no VLAN tag from 30 to 31 is free"),
        (("--network", "a", "--vlan", "5000"), 2, "'5000' is not a VLAN tag"),
        (("--network", "a", "--keep", "some"), 2, "write it like first 10"),
        (("--network", "a", "--device", "new", "--dialect", "larkspr"), 2,
         "did you mean larkspur?"),
        (("--out", "x.yaml"), 2, "--out is for a new plan"),
        (("--columns", "subnet=Net"), 2, "--columns goes with --from"),
    ):  # fmt: skip
        ended = run(*into, *options)
        assert (ended.code, said in ended.err) == (code, True), (options, ended.err)
        assert (tmp_path / "plan.yaml").read_text() == PLAN
    exists = run("new", "--yes", "--network", "a", "--dns", "none", "-o", "plan.yaml")
    assert (exists.code, "exists; add to it with --into" in exists.err) == (2, True)
    assert "Give --dns: there is nothing to suggest it from." in run("new", "--yes").err
    put("several.yaml", "devices: {" + ", ".join(f"box-{n}: {{}}" for n in range(10)) + "}\n")
    several = run("new", "--into", "several.yaml", "--yes")
    assert "Error: Choose one of 10 devices with --device: box-0, box-1" in several.err
    assert several.err.endswith("box-7 and 2 more.\n")


def test_a_spreadsheet_becomes_a_plan(run: Run, put: Put, tmp_path: Path) -> None:
    """Subnets in any notation, kept addresses as people write them, other columns named."""
    rows = [
        f"{i};Lan {i};10.84.{i}.0{('/24', '/255.255.255.0', ' 255.255.255.0')[i % 3]};{i};"
        f"{('10', 'first 10', f'10.84.{i}.2-10.84.{i}.11', '-')[i % 4]};{('', '45m')[i % 2]}"
        for i in range(100, 140)
    ]
    put("nets.csv", "\n".join(["No;Name;Net;Tag;Ours;lease", *rows]) + "\n")
    made = run("new", "--from", "nets.csv", "-o", "plan.yaml", "--columns",
               "network=Name,subnet=Net,vlan=Tag,keep=Ours", "--device", "pier-router",
               "--dialect", "larkspur", "--dns", "10.84.0.53")  # fmt: skip
    assert made.code == 0, made.err
    assert "ignored column: 'No'" in made.err
    networks = reservoir.load(tmp_path / "plan.yaml").plan.networks
    assert len(networks) == 40
    for i, network in enumerate(networks.values(), start=100):
        first = {0: 11, 1: 11, 2: 12, 3: 20}[i % 4]
        assert str(network.subnet) == f"10.84.{i}.0/24"
        assert str(network.ranges[0]) == f"10.84.{i}.{first}-10.84.{i}.254"
        assert network.vlan == i
        assert network.lease == (2_700 if i % 2 else 43_200)
    assert run("check", "plan.yaml").code == 0
    assert run("write", "plan.yaml").code == 0


def test_rows_that_cannot_be_used_are_listed(run: Run, put: Put, tmp_path: Path) -> None:
    """All of them, with line and column; nothing is written, unless they may be left out."""
    put(
        "nets.csv",
        "Network,Subnet,mask,gateway,vlan\n"
        "crew,10.84.30.0,255.255.255.0,,30\n"
        "shop,10.84.51.0/24,,10.84.5.1,\n"
        "\n"
        "cabin,10.84.300.0/24,,,9999\n"
        "store,,,,\n"
        "crew,10.84.31.0/24,,,31\n",
    )
    arguments = ("new", "--from", "nets.csv", "--dns", "none", "-o", "plan.yaml")
    ended = run(*arguments)
    assert ended.code == 2
    assert not (tmp_path / "plan.yaml").exists()
    lines = [line for line in ended.err.splitlines() if line.startswith("nets.csv:")]
    assert [line.split(": ")[0] for line in lines] == [
        "nets.csv:3:1", "nets.csv:5:24", "nets.csv:6:7", "nets.csv:7:1",
    ]  # fmt: skip
    assert "vlan: '9999' is not a VLAN tag: write one from 1 to 4094, or none; subnet: " in lines[1]
    some = run(*arguments, "--skip-unusable")
    assert "4 rows left out, 1 network taken." in some.err
    assert list(reservoir.load(tmp_path / "plan.yaml").plan.networks) == ["crew"]
    put("bad.csv", "a,b\n1,2\n")
    assert (
        "bad.csv:1:1: the column subnet is missing; the table has: a, b"
        in run("new", "--from", "bad.csv").err
    )


def conversation(
    installed: Path, answers: list[str], folder: Path, *arguments: str
) -> tuple[str, int]:
    """Type answers at a terminal, one at each prompt: what was shown, and the exit status."""
    child, terminal = pty.fork()
    if child == 0:  # the program
        os.chdir(folder)
        signal.signal(signal.SIGINT, signal.SIG_DFL)  # who runs the tests may ignore it
        environment = {"PATH": "/usr/bin", "NO_COLOR": "1"}
        os.execve(installed, [str(installed), *arguments], environment)  # noqa: S606
    shown, left, answered, stops = b"", iter(answers), b"", False
    for piece in _pieces(terminal):
        shown += piece
        prompt = shown.rstrip(b" ")
        if prompt.endswith(b":") and prompt != answered:
            answer, answered = next(left, None), prompt
            stops = answer is None
            os.write(terminal, b"\x03" if answer is None else answer.encode() + b"\n")
        elif stops and not piece:  # the system may lose an interruption
            os.write(terminal, b"\x03")
    _, status = os.waitpid(child, 0)
    os.close(terminal)
    return shown.decode().replace("\r", ""), os.waitstatus_to_exitcode(status)


def _pieces(terminal: int) -> Iterator[bytes]:
    """What comes from a terminal, until the program ends; nothing after each quiet while."""
    quiet = 0
    while quiet < 20:
        if not select.select([terminal], [], [], 2)[0]:
            quiet += 1
            yield b""
            continue
        try:
            piece = os.read(terminal, 65_536)
        except OSError:
            return
        if not piece:
            return
        quiet = 0
        yield piece


def test_from_nothing_to_a_written_router_by_answers_alone(
    installed: Path, run: Run, tmp_path: Path
) -> None:
    """In the order in which engineers think; a wrong answer is asked again, an empty one agrees."""
    shown, code = conversation(
        installed,
        ["crew", "pier-router", "larkspr", "larkspur", "30", "", "10.84.30.0", "10.84.30.0/24", "",
         "first 10", "", "", "10.84.0.53", "sable.example", "", "90",
         "y", "cabins", "", "", "10.84.31.0/24", "", "", "", "", "40", "n"],
        tmp_path, "new", "-o", "plan.yaml",
    )  # fmt: skip
    assert code == 0, shown
    asked = [shown.index(question.asks) for question in QUESTIONS]
    assert asked == sorted(asked)
    assert "Error: there is no dialect 'larkspr' (did you mean larkspur?)" in shown
    assert "2 networks checked: 0 findings." in shown
    plan = reservoir.load(tmp_path / "plan.yaml").plan
    assert [str(n.subnet) for n in plan.networks.values()] == ["10.84.30.0/24", "10.84.31.0/24"]
    assert list(plan.devices["pier-router"].interfaces) == ["trunk", "trunk.30", "trunk.31"]
    written = run("write", "plan.yaml")
    assert written.code == 0, written.err
    assert run("rehearse", "plan.yaml").code == 0


def test_an_interrupted_conversation_leaves_nothing_but_the_answers(
    installed: Path, run: Run, tmp_path: Path
) -> None:
    """Whoever stops half-way has no half plan, and the commands that go on from there."""
    given = ["10.84.30.0", "crew", "pier-router", "larkspur", "30", "", "10.84.30.0/24", "",
             "first 10", "", "", "10.84.0.53", "none", "", "90", "y", "the cabins"]  # fmt: skip
    shown, code = conversation(installed, given, tmp_path, "new", "-o", "plan.yaml")
    assert code == 130
    assert "10.84.30.0 is an address, and names are for what it is for" in shown
    assert "dns (like 10.84.0.53; none if there is none)" in shown
    assert "no file was changed" in shown
    assert list(tmp_path.iterdir()) == []
    first, second = re.findall("^  (reservoir new .*)$", shown, re.MULTILINE)
    done = run(*shlex.split(first)[1:])
    assert done.code == 0, done.err
    (crew,) = reservoir.load(tmp_path / "plan.yaml").plan.networks.values()
    assert (str(crew.subnet), crew.vlan) == ("10.84.30.0/24", 30)
    assert shlex.split(second)[2:5] == ["--into", "plan.yaml", "--in-place"]
    done = run(*shlex.split(second)[1:], "--clients", "9", "--yes")
    assert done.code == 0, done.err
    assert list(reservoir.load(tmp_path / "plan.yaml").plan.networks) == ["crew", "the cabins"]


def test_the_demos_plan_takes_one_network_more(run: Run, tmp_path: Path) -> None:
    """On each of its devices, with comments and layout as they were."""
    source = resources.files("reservoir.demo") / "right"
    for name in ("ferry-line.yaml", "bindings.csv", "inventory.csv"):
        (tmp_path / name).write_text((source / name).read_text())
    text = (tmp_path / "ferry-line.yaml").read_text()
    for number, device in enumerate(reservoir.load(tmp_path / "ferry-line.yaml").plan.devices):
        done = run("new", "--into", "ferry-line.yaml", "--network", f"more-{number}", "--device",
                   device, "--clients", "50", "--yes", "--in-place")  # fmt: skip
        assert done.code == 0, done.err
    added = only_added(text, (tmp_path / "ferry-line.yaml").read_text())
    assert sum(line.startswith("  more-") for line in added) == 5
    checked = run("check", "ferry-line.yaml", "--fail-on", "warning")
    assert checked.code == 0, checked.out


def test_a_network_that_another_device_serves(run: Run, put: Put, tmp_path: Path) -> None:
    """The interface gets a relay to the server's address; a server that is new is named."""
    put("plan.yaml", PLAN)
    done = run("new", "--into", "plan.yaml", "--network", "bridge", "--device", "pier-router",
               "--server", "office", "--vlan", "77", "--clients", "9", "--lease", "2h", "--domain",
               "crew.example", "--yes", "--in-place")  # fmt: skip
    assert done.code == 0, done.err
    plan = reservoir.load(tmp_path / "plan.yaml").plan
    bridge, interfaces = plan.networks["bridge"], plan.devices["pier-router"].interfaces
    assert interfaces["deck.77"].relay_to == (parse_address("10.84.0.10"),)
    assert bridge.subnet.network == parse_address("10.84.77.0")
    assert (bridge.lease, bridge.domain) == (7_200, "crew.example")
    assert [server.device for server in bridge.servers] == ["office"]
    assert run("rehearse", "plan.yaml", "--network", "bridge").code == 0
    alone = run("new", "--network", "a", "--device", "edge", "--server", "centre", "--dns", "none",
                "--yes")  # fmt: skip
    assert alone.code == 1
    assert "served_by: centre" in alone.out
    assert "  centre: {}" in alone.out
    assert "server-not-reached" in alone.err


def test_answers_that_say_more_than_the_suggestions(run: Run) -> None:
    """No gateway, several ranges and servers, kept addresses inside a range: as it was said."""
    made = run("new", "--network", "lab", "--dialect", "none", "--subnet",
               "10.84.9.0 255.255.255.0", "--gateway", "none", "--keep", "10.84.9.40-49", "--range",
               "10.84.9.20-99, 10.84.9.150-199", "--dns", "10.84.0.53, 10.84.1.53", "--vlan",
               "none", "--yes")  # fmt: skip
    (network,) = reservoir.loads(made.out).plan.networks.values()
    assert network.has_no_gateway
    assert list(map(str, network.ranges)) == ["10.84.9.20-10.84.9.99", "10.84.9.150-10.84.9.199"]
    assert [str(one.range) for one in network.exclusions] == ["10.84.9.40-10.84.9.49"]
    assert made.out.count("10.84.1.53") == 1
    assert "vlan" not in made.out
    assert "dialect" not in made.out


def test_the_server_gets_the_way_back(run: Run, tmp_path: Path) -> None:
    """Where the relay's other subnets are routed one by one, the new one is too."""
    for name in ("ferry-line.yaml", "bindings.csv", "inventory.csv"):
        source = resources.files("reservoir.demo") / "right" / name
        (tmp_path / name).write_text(source.read_text())
    text = (tmp_path / "ferry-line.yaml").read_text()
    done = run("new", "--into", "ferry-line.yaml", "--network", "mess", "--device", "pier-router",
               "--server", "harbour-office", "--clients", "40", "--yes", "--in-place")  # fmt: skip
    assert done.code == 0, done.err
    added = only_added(text, (tmp_path / "ferry-line.yaml").read_text())
    assert "      - {to: 10.84.25.0/25, via: 10.84.0.2}" in added
    assert any("relay_to: [10.84.0.10]" in line for line in added)
    assert run("check", "ferry-line.yaml", "--fail-on", "warning").code == 0
    assert run("rehearse", "ferry-line.yaml", "--network", "mess").code == 0


@pytest.mark.parametrize("last", [False, True])
def test_the_habits_of_a_plan_are_taken_up(run: Run, put: Put, tmp_path: Path, last: bool) -> None:
    """The gateway where it mostly is, the range beginning where it mostly does."""
    networks = [
        f"  n{i}: {{subnet: 10.84.{i}.0/24, gateway: 10.84.{i}.{254 if last else 1}, "
        f"ranges: [10.84.{i}.50-240]}}"
        for i in range(3)
    ]
    put("plan.yaml", "\n".join(["defaults: {dns: []}", "networks:", *networks]) + "\n")
    done = run("new", "--into", "plan.yaml", "--network", "more", "--device", "pier", "--yes",
               "--in-place")  # fmt: skip
    assert done.code == 0, done.err
    network = reservoir.load(tmp_path / "plan.yaml").plan.networks["more"]
    assert str(network.subnet) == "10.84.3.0/24"
    assert network.gateway == network.subnet.network + (254 if last else 1)
    assert str(network.ranges[0]) == f"10.84.3.50-10.84.3.{253 if last else 254}"


@pytest.mark.parametrize("separator", [",", ";", "\t"])
def test_tables_as_spreadsheets_write_them(run: Run, separator: str) -> None:
    """Any separator, a byte-order mark, capitals, quotes, blank lines, cells that say nothing."""
    rows = [["Network", "SUBNET", "Mask", "Clients", "Lease"],
            ['"Crew quarters"', "10.84.30.0", "/25", "40", "n/a"],
            ["", "", "", "", ""],
            ["wifi", "10.84.20.1/22", "", "-", "45m"]]  # fmt: skip
    text = "\ufeff" + "\r\n".join(separator.join(row) for row in rows)
    made = run("new", "--from", "-", "--dns", "none", stdin=text)
    assert made.code == 0, made.err
    crew, wifi = reservoir.loads(made.out).plan.networks.items()
    assert (crew[0], str(crew[1].subnet), wifi[0]) == ("Crew-quarters", "10.84.30.0/25", "wifi")
    assert crew[1].demand is not None
    assert crew[1].demand.devices == 40
    # The address that a subnet is given by is the gateway's, as on an interface.
    assert (str(wifi[1].subnet), wifi[1].gateway) == ("10.84.20.0/22", parse_address("10.84.20.1"))
    assert (crew[1].lease, wifi[1].lease) == (43_200, 2_700)


KEPT_COLUMNS = "network: Name\nsubnet: Net\ngateway: GW\nclients: People\ndevice: Site\n"


@pytest.mark.parametrize(
    ("dash", "header", "cell", "seconds"),
    [("-", "Lease (days)", "0,5", 43_200), (" - ", "lease_hours", "8", 28_800),
     (" – ", "LEASE [min]", "90m", 5_400), ("..", "Lease in weeks", "1", 604_800),
     (" to ", "Lease", "2 days", 172_800), ("—", "lease", "36h", 129_600)],
)  # fmt: skip
def test_a_table_with_first_and_last(
    run: Run, put: Put, dash: str, header: str, cell: str, seconds: int
) -> None:
    """Subnets and ranges by their ends, what is excluded, a unit in the header; columns kept."""
    put("columns.yml", KEPT_COLUMNS)
    put(
        "nets.csv",
        f"Name;Net;First;Last;Excluded;{header};GW;VLAN;Site;People\n"
        f"Crew;10.84.30.0{dash}10.84.30.255;10.84.30.20;10.84.30.250;"
        f'"10.84.30.60, 10.84.30.70{dash}79";{cell};10.84.30.1;30;Pier;80\n'
        f'Shop;10.84.51.0{dash}10.84.51.127;;;"10.84.51.2{dash}9\n10.84.51.40";45m;;51;Pier;\n',
    )
    arguments = ("new", "--from", "nets.csv", "--columns-from", "columns.yml", "--dns", "none")
    made = run(*arguments)
    assert made.code == 0, made.err
    crew, shop = reservoir.loads(made.out).plan.networks.values()
    assert (str(crew.subnet), str(shop.subnet)) == ("10.84.30.0/24", "10.84.51.0/25")
    assert (crew.lease, shop.lease) == (seconds, 2_700)
    assert list(map(str, crew.ranges)) == ["10.84.30.20-10.84.30.250"]
    assert [str(each.range) for each in crew.exclusions] == [
        "10.84.30.60", "10.84.30.70-10.84.30.79",
    ]  # fmt: skip
    # Where the table has no range, it is what is left; what is excluded inside stays excluded.
    assert list(map(str, shop.ranges)) == ["10.84.51.10-10.84.51.126"]
    assert [str(each.range) for each in shop.exclusions] == ["10.84.51.40"]
    assert "  # suggested: interface, server\n  Crew:" in made.out
    assert "  # suggested: interface, gateway, range, server\n  Shop:" in made.out
    said = "Suggested, since the table says nothing: "
    assert f"{said}interface (2), server (2), gateway (1) and range (1)." in made.err
    none = reservoir.loads(run(*arguments, "--empty", "none").out).plan.networks["Shop"]
    assert (none.gateway, list(none.ranges)) == (None, [])


@pytest.mark.parametrize(
    ("header", "row", "said"),
    [
        ("subnet", "10.84.30.1-10.84.30.254",
         "subnet: 10.84.30.1-10.84.30.254 is no whole subnet: 10.84.30.0/24 is 10.84.30.0-"),
        ("subnet,mask", "10.84.30.0/24,255.255.255.128", "has another length than the mask"),
        ("subnet,first", "10.84.30.0/24,10.84.30.9", "first: last is missing"),
        ("subnet,last", "10.84.30.0/24,10.84.30.9", "last: first is missing"),
        ("subnet,first,last", "10.84.30.0/24,9,10.84.30.20", "'9' is not an address"),
        ("subnet,range,first,last", "10.84.30.0/24,10.84.30.2-9,10.84.30.2,10.84.30.9",
         "range: the row has a range, and first and last, too"),
        ("subnet,lease", "10.84.30.0/24,8", "lease: '8' has no unit: name it in the header"),
        ("subnet,lease (s)", "10.84.30.0/24,0.5", "'0.5' is no whole number of seconds"),
        ("subnet,lease (days)", "10.84.30.0/24,0", "too short"),
        ("subnet,lease (weeks)", "10.84.30.0/24,999999999", "too long"),
        ("subnet,excluded", "10.84.30.0/24,10.84.31.5", "10.84.31.5 is not in 10.84.30.0/24"),
        ("subnet,network", "10.84.30.0/24,Crew, lower deck",
         "the row has 3 cells, but the first line has 2 columns"),
    ],
)  # fmt: skip
def test_what_a_row_may_mean_is_not_guessed(run: Run, header: str, row: str, said: str) -> None:
    """A subnet that isn't whole, half a range, a number without a unit, one cell too many."""
    ended = run("new", "--from", "-", "--dns", "none", stdin=f"{header}\n{row}\n")
    assert (ended.code, ended.out) == (2, "")
    assert said in ended.err


def test_columns_that_are_kept_are_checked(run: Run, put: Put) -> None:
    """Each wrong line with its place; what is given by hand comes first."""
    put("nets.csv", "Net,Name\n10.84.30.0/24,crew\n")
    put("kept.yml", "subnett: Net\nvlan: [a]\n")
    arguments = ("new", "--from", "nets.csv", "--dns", "none", "--columns-from")
    wrong = run(*arguments, "kept.yml")
    assert wrong.code == 2
    assert "kept.yml:1:1: 'subnett' is not a column (did you mean subnet?): network," in wrong.err
    assert "kept.yml:2:1: vlan: expected what the table calls this column" in wrong.err
    put("kept.yml", "subnet: Net\nnetwork: Title\n")
    assert "no column 'Title'" in run(*arguments, "kept.yml").err
    assert "crew:" in run(*arguments, "kept.yml", "--columns", "network=Name").out
    for text in ("", "- subnet\n", "subnet:\n"):
        put("kept.yml", text)
        assert run(*arguments, "kept.yml").code == 2
    assert "--empty goes with --from" in run("new", "--empty", "none").err


COLUMNS = {
    "network": ["crew", "shop", "gangway 2"],
    "subnet": ["10.84.30.0/24", "10.84.31.0/25", ""],
    "vlan": ["30", "", "31"],
    "keep": ["none", "first 10", ""],
    "lease": ["12h", "45m", ""],
    "dns": ["10.84.0.53", "none", ""],
}
"""What the columns of a table may say."""
sound_rows = st.fixed_dictionaries({name: st.sampled_from(said) for name, said in COLUMNS.items()})
any_cell = st.text(st.characters(codec="utf-8", exclude_characters="\r\n\0"), max_size=12)
any_said = st.sampled_from([cell for said in COLUMNS.values() for cell in (*said, "-")])


@meets("a row that is read", "a row with mistakes")
@given(
    rows=st.lists(sound_rows | st.lists(any_cell | any_said, max_size=6), max_size=5),
    header=st.permutations(list(COLUMNS)),
)
@settings(max_examples=examples(100))
def test_any_table_is_read_or_has_its_mistakes_named(
    tmp_path_factory: pytest.TempPathFactory,
    rows: list[dict[str, str] | list[str]],
    header: list[str],
) -> None:
    """Each row with content is a network that the questions' answers make, or a problem."""
    file = tmp_path_factory.mktemp("table") / "nets.csv"
    lines = [
        header,
        *([row[name] for name in header] if isinstance(row, dict) else row for row in rows),
    ]
    file.write_text(
        "\n".join(",".join(f'"{c.replace(chr(34), chr(34) * 2)}"' for c in row) for row in lines)
    )
    read = read_networks(str(file))
    places = {problem.place.line for problem in read.problems}
    filled = {n for n, row in enumerate(lines, start=1) if any(cell.strip() for cell in row)} - {1}
    assert places | {row.place.line for row in read.rows} == (filled or {1})
    assert not places & {row.place.line for row in read.rows}
    met("a row that is read", len(read.rows) > 0)
    met("a row with mistakes", len(read.problems) > 0)
    drafting = reservoir.drafting()
    for number, row in enumerate(read.rows):
        given_ = {"dns": [], "device": "pier", "dialect": None, **row.answers}
        given_["network"] = f"net-{number}"
        for question in QUESTIONS:
            if question.name not in given_:
                suggested = drafting.suggest(question.name, given_)
                given_[question.name] = suggested.value if suggested else None
        drafting.add(given_)
    if read.rows:
        reservoir.loads(new_plan(drafting.additions))  # whatever it is, it is a plan


@st.composite
def layouts(draw: st.DrawFn) -> str:
    """A plan's text as somebody may have written it: blocks or braces, remarks, blank lines."""

    def written(value: object, indent: int) -> str:
        if not isinstance(value, dict):
            return f" {value}"
        if draw(st.booleans()) or not value:
            inner = ", ".join(f"{k}:{written_in_braces(v)}" for k, v in value.items())
            return f" {{{inner}}}"
        lines = []
        for key, one in value.items():
            if draw(st.integers(0, 3)) == 0:
                lines.append(f"{' ' * indent}# about {key}")
            if draw(st.integers(0, 3)) == 0:
                lines.append("")
            after = "   # so far" if draw(st.integers(0, 4)) == 0 else ""
            text = written(one, indent + draw(st.sampled_from([2, 4])))
            lines.append(f"{' ' * indent}{key}:{text}{'' if chr(10) in text else after}")
        return "\n" + "\n".join(lines)

    def written_in_braces(value: object) -> str:
        if not isinstance(value, dict):
            return f" {value}"
        return f" {{{', '.join(f'{k}:{written_in_braces(v)}' for k, v in value.items())}}}"

    pier: dict[str, object] = {"dialect": draw(st.sampled_from(["larkspur", "merganser"]))}
    if draw(st.booleans()):
        pier["interfaces"] = {"up": {"address": "10.84.0.2/24"}} if draw(st.booleans()) else {}
    sections: dict[str, object] = {"devices": {"pier": pier}}
    if draw(st.booleans()):
        sections["networks"] = {
            f"n{i}": {"subnet": f"10.84.{i + 10}.0/24", "dns": "10.84.0.53"}
            for i in range(draw(st.integers(0, 2)))
        }
    if draw(st.booleans()):
        sections = dict(reversed(sections.items()))
    head = ["reservoir: 1"] + (["name: Quay"] if draw(st.booleans()) else [])
    lines = [*head, *(f"{key}:{written(one, 2)}" for key, one in sections.items())]
    end = draw(st.sampled_from(["", "\n", "\n\n# the end\n"]))
    text = "\n".join(lines) + end
    return text.replace("\n", "\r\n") if draw(st.booleans()) else text


@meets("networks before it", "Windows lines")
@given(text=layouts(), vlan=st.sampled_from([None, 30]))
@settings(max_examples=examples(100))
def test_a_network_fits_into_any_layout(
    tmp_path_factory: pytest.TempPathFactory, text: str, vlan: int | None
) -> None:
    """All that the plan said it says still, in the same words; what was added is there."""
    file = tmp_path_factory.mktemp("plan") / "plan.yaml"
    file.write_bytes(text.encode())
    loaded = reservoir.load(file)
    drafting = reservoir.drafting(loaded)
    given_: Answers = {"network": "more", "device": "pier", "vlan": vlan, "dns": [DNS]}
    for question in QUESTIONS:
        if question.name not in given_:
            suggested = drafting.suggest(question.name, given_)
            assert suggested is not None
            given_[question.name] = suggested.value
    drafting.add(given_)
    before, after = with_additions(loaded, drafting.additions)
    assert list(before.values()) == [text]
    (new,) = after.values()
    old_data, new_data = yaml.safe_load(text), yaml.safe_load(new)
    assert is_part_of(old_data, new_data)
    assert set(new_data["networks"]) == {*(old_data.get("networks") or {}), "more"}
    met("networks before it", len(new_data["networks"]) > 1)
    met("Windows lines", "\r\n" in text)
    for remark in re.findall("#.*", text):
        assert remark.rstrip("\r") in new
    assert ("\r\n" in text) == ("\r\n" in new)
    assert not re.search(r"(?<!\r)\n", new) or "\r\n" not in new
    reservoir.loads(new, file)


def is_part_of(old: object, new: object) -> bool:
    """Whether everything of a plan's data is in another's."""
    if isinstance(old, dict) and isinstance(new, dict):
        return all(key in new and is_part_of(value, new[key]) for key, value in old.items())
    return old == new
