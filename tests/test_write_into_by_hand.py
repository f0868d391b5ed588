"""Writing DHCP configuration into what a person wrote: one example for each notation."""

from __future__ import annotations

from pathlib import Path

import pytest

from conftest import Run

PLAN = """\
reservoir: 1
devices:
  jetty:
    dialect: DIALECT
    interfaces:
      deck: {address: 10.84.30.1/24}
networks:
  crew:
    subnet: 10.84.30.0/24
    gateway: 10.84.30.1
    served_by: jetty
    ranges: [10.84.30.20-10.84.30.99]
    dns: [10.84.0.53]
    lease: 12h
    bindings: [{name: bell, mac: 00:00:5e:00:53:01, address: 10.84.30.110}]
"""
"""A network that every dialect can hold; DIALECT is replaced."""

EXAMPLES = {
    "mortise": (
        """\
house name=jetty color=teal
joint name=deck sits=10.84.30.1/24 speed=full
desk stay=30m at=deck for=crew
~ the printer
reserve at=deck only=10.84.30.40
watch joint=deck
""",
        """\
house name=jetty color=teal
joint name=deck sits=10.84.30.1/24 desk=open speed=full
desk stay=12h at=deck for=crew door=10.84.30.1 names=10.84.0.53
~ the printer
reserve at=deck from=10.84.30.1 until=10.84.30.19
reserve at=deck from=10.84.30.100 until=10.84.30.109
reserve at=deck from=10.84.30.111 until=10.84.30.254

keep at=deck address=10.84.30.110 mac=0000.5e00.5301 name=bell

watch joint=deck
""",
    ),
    "tamarack": (
        """\
box is jetty
port deck :: stands at 10.84.30.1/24
port deck :: speed full
net crew :: covers 10.84.30.0/24
net crew :: block 3 from 10.84.30.20 size 10
% the printer
net crew :: hole at 10.84.30.25
net guests :: covers 10.84.40.0/24
watch every port
""",
        """\
box is jetty
port deck :: stands at 10.84.30.1/24
port deck :: speed full
net crew :: covers 10.84.30.0/24
net crew :: block 3 from 10.84.30.20 size 80
net crew :: way out 10.84.30.1
net crew :: name servers 10.84.0.53
net crew :: stay 720 minutes
net crew :: seat 10.84.30.110 for 00005E005301 called bell
% the printer
watch every port
""",
    ),
    "quillon": (
        """\
<appliance model="Q2">
  <called>jetty</called>
  <sides><side name="deck" address="10.84.30.1/24" zone="in" speed="full"/></sides>
  <zones><zone name="in"><lets-in>dhcp</lets-in></zone></zones>
  <fence gate="north"/>
  <lending open="no">
    <!-- as agreed in May -->
    <scope name="crew" subnet="10.84.30.0/24">
        <knock/>
        <exit>10.84.30.2</exit>
        <ask>10.84.0.530</ask>
    </scope>
    <scope name="guests" subnet="10.84.40.0/24"/>
  </lending>
</appliance>
""",
        """\
<appliance model="Q2">
  <called>jetty</called>
  <sides><side name="deck" address="10.84.30.1/24" zone="in" speed="full"/></sides>
  <zones><zone name="in"><lets-in>dhcp</lets-in></zone></zones>
  <fence gate="north"/>
  <lending open="yes">
    <!-- as agreed in May -->
    <scope name="crew" subnet="10.84.30.0/24" side="deck">
        <entry low="10.84.30.20" high="10.84.30.99"/>
        <entry low="10.84.30.110" high="10.84.30.110"/>
        <knock/>
        <exit>10.84.30.1</exit>
        <ask>10.84.0.53</ask>
        <stay usual="43200" longest="43200"/>
        <own address="10.84.30.110" mac="00:00:5E:00:53:01" name="bell"/>
    </scope>
  </lending>
</appliance>
""",
    ),
    "thimble": (
        """\
; set up in May
[box]
label: jetty
colour: teal
[socket 1]
label: deck
address: 10.84.30.1
mask: 255.255.255.0
[shelf 2]
label: guests
network: 10.84.40.0/24
first: 10.84.40.10
last: 10.84.40.19
[watch]
of: deck
""",
        """\
; set up in May
[box]
label: jetty
colour: teal
[socket 1]
label: deck
address: 10.84.30.1
mask: 255.255.255.0

[shelf 1]
label: crew
network: 10.84.30.0/24
first: 10.84.30.20
last: 10.84.30.99
gateway: 10.84.30.1
dns: 10.84.0.53
hours: 12

[own 1]
address: 10.84.30.110
mac: 00-00-5e-00-53-01
label: bell

[watch]
of: deck
""",
    ),
    "fulmar": (
        """\
{"site": "jetty", "colour": "teal",
 "links": [{"name": "deck", "address": "10.84.30.1/24", "speed": 1000}],
 "scopes": [
   {"name": "crew",
    "net": "10.84.30.0/24",
    "live": false,
    "lend": [],
    "owners": [{"address": "10.84.30.111", "mac": "00:00:5e:00:53:01"}]},
   {"name": "guests", "net": "10.84.40.0/24"}
 ],
 "watch": {"of": ["deck"]}}
""",
        """\
{"site": "jetty", "colour": "teal",
 "links": [{"name": "deck", "address": "10.84.30.1/24", "speed": 1000}],
 "scopes": [
   {"name": "crew",
    "net": "10.84.30.0/24",
    "live": true,
    "gateway": "10.84.30.1",
    "resolvers": ["10.84.0.53"],
    "lease": "PT12H",
    "lend": [
      {"first": "10.84.30.20", "last": "10.84.30.99"}
    ],
    "owners": [{"address": "10.84.30.110", "mac": "00:00:5e:00:53:01", "name": "bell"}]}
 ],
 "watch": {"of": ["deck"]}}
""",
    ),
}
"""Dialect: a configuration as somebody left it, and what becomes of it."""


OTHERS = "--remove-others"
CHANGE = ("--in-place", OTHERS)


@pytest.mark.parametrize("dialect", EXAMPLES)
def test_what_a_person_wrote_stays(dialect: str, run: Run, tmp_path: Path) -> None:
    """Remarks, layout, other matters and what the plan has no word for; a wrong value doesn't."""
    running, placed = EXAMPLES[dialect]
    (tmp_path / "plan.yaml").write_text(PLAN.replace("DIALECT", dialect))
    (tmp_path / "running.cfg").write_text(running)
    ended = run("write", "plan.yaml", "--into", "running.cfg", *CHANGE)
    assert ended.code == 0, ended.err
    assert (tmp_path / "running.cfg").read_text() == placed
    assert run("write", "plan.yaml", "--into", "running.cfg", OTHERS, "-o", "-").out == placed


@pytest.mark.parametrize("dialect", EXAMPLES)
@pytest.mark.parametrize("line_end", ["\n", "\r\n"])
def test_line_ends_and_a_missing_last_one_stay(
    dialect: str, line_end: str, run: Run, tmp_path: Path
) -> None:
    """As the file has them, so what comes in has them."""
    running, placed = (text.rstrip("\n").replace("\n", line_end) for text in EXAMPLES[dialect])
    (tmp_path / "plan.yaml").write_text(PLAN.replace("DIALECT", dialect))
    (tmp_path / "running.cfg").write_bytes(running.encode())
    ended = run("write", "plan.yaml", "--into", "running.cfg", *CHANGE)
    assert ended.code == 0, ended.err
    assert (tmp_path / "running.cfg").read_bytes().decode() == placed


DECK = """\
[Match]
Name=deck

[Network]
Address=10.84.30.1/24
IPv6AcceptRA=no

[DHCPServer]
PoolOffset=50
UplinkInterface=:none
"""
DECK_PLACED = """\
[Match]
Name=deck

[Network]
Address=10.84.30.1/24
DHCPServer=yes
IPv6AcceptRA=no

[DHCPServer]
PoolOffset=20
PoolSize=80
DefaultLeaseTimeSec=43200
MaxLeaseTimeSec=43200
Router=10.84.30.1
DNS=10.84.0.53
EmitTimezone=no
UplinkInterface=:none

[DHCPServerStaticLease]
Address=10.84.30.110
MACAddress=00:00:5e:00:53:01
"""


def test_of_several_files_only_what_changes_is_written(run: Run, tmp_path: Path) -> None:
    """A folder is one device; what is left there for other software is said, and stays."""
    (tmp_path / "plan.yaml").write_text(PLAN.replace("DIALECT", "linux-host"))
    folder = tmp_path / "network"
    folder.mkdir()
    (folder / "20-deck.network").write_text(DECK)
    (folder / "30-sail.network").write_text("[Match]\nName=sail\n\n\n# later\n\n")
    before = (folder / "30-sail.network").stat().st_mtime_ns
    ended = run("write", "plan.yaml", "--into", "network", *CHANGE)
    assert ended.code == 0, ended.err
    assert (folder / "20-deck.network").read_text() == DECK_PLACED
    assert (folder / "30-sail.network").stat().st_mtime_ns == before
    assert sorted(path.name for path in folder.iterdir()) == ["20-deck.network", "30-sail.network"]
    told = "network/20-deck.network:10:1: stays: not understood, inside pool (line 9)"
    assert told in ended.err
    assert "is missing its line: PoolSize" not in ended.err
    elsewhere = run("write", "plan.yaml", "--into", "network", "--out", "next")
    assert (tmp_path / "next/network/20-deck.network").read_text() == DECK_PLACED
    assert elsewhere.code == 0


@pytest.mark.parametrize("line_end", ["\n", "\r\n"])
def test_the_edges_of_files_stay_byte_for_byte(run: Run, tmp_path: Path, line_end: str) -> None:
    """Of several files as of one; whatever blanks stand there, and where a last line is cut off."""
    (tmp_path / "plan.yaml").write_text(PLAN.replace("DIALECT", "linux-host"))
    folder = tmp_path / "network"
    folder.mkdir()
    sail = b"[Match]\nName=sail"
    for edge in ("", "\n", " \t\n\n", "\n\n\n"):
        end = edge.replace("\n", line_end).encode()
        (folder / "20-deck.network").write_text("\n\n" + DECK, newline=line_end)
        (folder / "30-sail.network").write_bytes(sail + end)
        deck, other = "next/network/20-deck.network", "next/network/30-sail.network"
        assert run("write", "plan.yaml", "--into", "network", "--out", "next").code == 0
        assert (tmp_path / other).read_bytes() == sail + end
        placed = ("\n\n" + DECK_PLACED).replace("\n", line_end).encode()
        assert (tmp_path / deck).read_bytes() == placed
        (folder / "20-deck.network").write_bytes(placed.rstrip() + end)
        assert run("write", "plan.yaml", "--into", "network", *CHANGE).code == 0
        assert (folder / "20-deck.network").read_bytes() == placed.rstrip() + end


def test_one_file_of_several_is_enough(run: Run, tmp_path: Path) -> None:
    """If all that the plan has of the device is in it."""
    (tmp_path / "plan.yaml").write_text(PLAN.replace("DIALECT", "linux-host"))
    (tmp_path / "20-deck.network").write_text(DECK)
    ended = run("write", "plan.yaml", "--into", "20-deck.network", "--out", "-")
    assert ended.out.partition("\n")[2] == DECK_PLACED
    assert run("write", "plan.yaml", "--into", "20-deck.network", *CHANGE).code == 0
    assert (tmp_path / "20-deck.network").read_text() == DECK_PLACED


def test_links_pipes_and_escapes(run: Run, tmp_path: Path) -> None:
    """A link stays one; what comes by a pipe goes by one, with whatever somebody put there."""
    running, placed = (text + "watch \x1b[31mred\n" for text in EXAMPLES["mortise"])
    (tmp_path / "plan.yaml").write_text(PLAN.replace("DIALECT", "mortise"))
    assert run("write", "plan.yaml", "--into", "-", OTHERS, stdin=running).out == placed
    (tmp_path / "running.cfg").write_text(running)
    (tmp_path / "link.cfg").symlink_to("running.cfg")
    assert run("write", "plan.yaml", "--into", "link.cfg", *CHANGE).code == 0
    assert (tmp_path / "link.cfg").is_symlink()
    assert (tmp_path / "running.cfg").read_text() == placed


def test_a_plan_with_errors_is_not_put_anywhere(run: Run, tmp_path: Path) -> None:
    """As with any other way of writing."""
    plan = PLAN.replace("DIALECT", "mortise").replace("gateway: 10.84.30.1", "gateway: 10.84.31.1")
    (tmp_path / "plan.yaml").write_text(plan)
    (tmp_path / "running.cfg").write_text(EXAMPLES["mortise"][0])
    ended = run("write", "plan.yaml", "--into", "running.cfg", "--in-place")
    assert ended.code == 1
    assert "gateway" in ended.err
    assert (tmp_path / "running.cfg").read_text() == EXAMPLES["mortise"][0]


def test_options_go_from_bound_clients_too_that_stand_by_themselves(
    run: Run, tmp_path: Path
) -> None:
    """A family that says each bound client apart: what its network no longer offers goes there."""
    plan = PLAN.replace("DIALECT", "merganser").replace("/24}", "/24, zone: inside}")
    plan = plan.replace("networks:", "    zones: {inside: {admits: [dhcp]}}\nnetworks:")
    (tmp_path / "plan.yaml").write_text(plan + "    options: {ntp: [10.84.0.123]}\n")
    assert run("write", "plan.yaml").code == 0
    running = tmp_path / "configuration" / "jetty.merganser"
    assert running.read_text().count("option 42") == 2
    (tmp_path / "plan.yaml").write_text(plan)
    done = run("write", "plan.yaml", "--into", "configuration/jetty.merganser", "--in-place")
    assert done.code == 0, done.err
    assert "option 42" not in running.read_text()
