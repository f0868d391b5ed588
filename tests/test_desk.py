"""Boxes on the desk: layouts as they are combined, values as they are written."""

from __future__ import annotations

import json
import re
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import reservoir
from conftest import examples
from met import meets, met
from oracle import text_of
from reservoir.core.problems import InputError
from reservoir.dialects.behaviour.lift import lift
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.parse.reader import read_configuration, read_nodes
from reservoir.dialects.scripting.script import script
from reservoir.dialects.sheet.library import Library
from reservoir.dialects.sheet.loader import load_sheet
from reservoir.dialects.sheet.model import Sheet
from reservoir.dialects.trial import try_on
from reservoir.dialects.writing import write_device
from reservoir.testing import check_dialect
from test_round_trip import DESK, benign_plan, plain_names

LAYOUTS = sorted(path.stem for path in DESK.glob("*.sheet"))


def sheet_of(name: str) -> Sheet:
    """A sheet of the desk."""
    return load_sheet((DESK / f"{name}.sheet").read_text(), f"{name}.sheet")


@pytest.mark.parametrize("name", LAYOUTS)
def test_each_layout_is_read_whole(name: str) -> None:
    """Nothing is left over; written into itself, each sample stays; all of them say the same."""
    check_dialect(DESK / f"{name}.sheet", [DESK / f"{name}.txt"])
    sheet = sheet_of(name)
    reading = read_configuration((DESK / f"{name}.txt").read_text(), sheet)
    networks = lift(reading.device, sheet, "quay").networks
    crew, guest = networks["crew"], networks["guest"]
    assert [str(network.subnet) for network in (crew, guest)] == ["10.84.30.0/24", "10.84.31.0/25"]
    assert [str(span) for span in crew.ranges] == [
        "10.84.30.20-10.84.30.99",
        "10.84.30.120-10.84.30.130",
    ]
    assert crew.dns == (0x0A540035, 0x0A540135)
    assert crew.lease == 28_800
    assert guest.options == {42: b"\x0a\x54\x00\x7b"}
    assert {str(binding.mac) for binding in crew.bindings} >= {"00:00:5e:00:53:01"}
    assert reading.device.get("name") == "quay"


@pytest.mark.parametrize("name", LAYOUTS)
@given(data=st.data())
@settings(max_examples=examples(20))
def test_any_plan_goes_through_each_layout(name: str, data: st.DataObject) -> None:
    """Nothing is refused; read back it is the same, one by one as in bulk, and so it is put in."""
    sheet = sheet_of(name)
    pools = [
        reservoir.loads(text_of(data.draw(benign_plan(name, plain_names)))).pools for _ in range(2)
    ]
    texts = []
    for each in pools:
        written = write_device(each, "server", sheet)
        assert not written.faults
        assert not written.losses
        texts.append(written.text)
        in_bulk, one_by_one = (
            read_nodes(texts[-1], sheet, in_bulk=way)[0] for way in (True, False)
        )
        assert in_bulk == one_by_one
    there = data.draw(st.sampled_from([texts[0], (DESK / f"{name}.txt").read_text()]))
    into = write_device(pools[1], "server", sheet, there)
    assert not into.faults
    assert write_device(pools[1], "server", sheet, into.text).text == into.text


@pytest.mark.parametrize("name", LAYOUTS)
@meets("a text that says something else")
@given(data=st.data())
@settings(max_examples=examples(60))
def test_nothing_of_a_damaged_sample_is_lost_silently(name: str, data: st.DataObject) -> None:
    """What is no longer read is reported, or named as a line that no row is for."""
    sheet = sheet_of(name)
    sound = (DESK / f"{name}.txt").read_text()
    lines = sound.split("\n")
    said = [n for n, line in enumerate(lines) if re.search("[a-z0-9]", line)]
    at = data.draw(st.sampled_from(said))
    place = data.draw(st.integers(0, len(lines[at]) - 1))
    typed = data.draw(st.sampled_from("xq0 "))
    lines[at] = lines[at][:place] + typed + lines[at][place + data.draw(st.integers(0, 1)) :]
    text = "\n".join(lines)
    reading, was = read_configuration(text, sheet), read_configuration(sound, sheet)
    before, after = (count(reading.device) for reading in (was, reading))
    if after < before:
        met("a text that says something else")
        tried = try_on(text, sheet)
        assert tried.problems or len(reading.others) > len(was.others), lines[at]


def count(fact: Fact) -> int:
    """What a fact and those inside it state."""
    return len(fact.fields) + 1 + sum(map(count, fact.children))


@pytest.mark.parametrize("name", ["curly", "ini", "maps", "plain", "wordy"])
def test_layouts_combine(name: str) -> None:
    """Numbers in steps under headings, maps by names, plain headings over columns, and more."""
    check_dialect(DESK / f"also/{name}.sheet", [DESK / f"also/{name}.txt"])


HEADER = """\
sheet desk
block indent 2
quote "'" doubled
list ","
trait assigns ranges
trait exclusions none
trait bindings in-pool
trait bound-address anywhere
trait blank-lease 1h
limit pool.range 1
"""
BODY = """\
device      | box {name}
interface * | leg {name}
 ?          |   at {address}
pool *      | shelf {name}
            |   net {subnet}
range *     |   give {first} to {last}
 ?          |   door {gateway}
 *          |   ask {dns}
 ?          |   hold {lease}
 ?          |   home {domain}
option *    |   extra {code} {data}
binding *   |   own {address} by {mac}
binding *   |   own {address} id {client_id}
"""
DURATION = 'duration "{s}" infinite "ever"\n'

WAYS = {
    "plain": ([], [], "hold 5400"),
    "the mask of the gateway": (
        [],
        [("            |   net {subnet}\n", ""), (" ?          |   door {gateway}",
          "            |   door {gateway} mask {subnet:mask@gateway}")],
        "door 10.84.30.1 mask 255.255.255.0",
    ),
    "its inverted mask on a line of its own": (
        [],
        [("net {subnet}", "wild {subnet:inverted@gateway}"),
         (" ?          |   door", "            |   door")],
        "wild 0.0.0.255",
    ),
    "numbered items": ([], [("ask {dns}", "ask {#} is {dns}")], "ask 2 is 10.84.1.53"),
    "items numbered from 0": ([], [("ask {dns}", "ask[{#0}] {dns}")], "ask[0] 10.84.0.53"),
    "grouped bytes": (
        ['form dots = bytes group 4 sep "." prefix "0x" case upper'],
        [("{data}", "{data:dots}"), ("{client_id}", "{client_id:dots}")],
        "id 0x0102.AB",
    ),
    "a range in the pool's own row": (
        [],
        [("shelf {name}", "shelf {name} from {range.first} to {range.last}"),
         ("range *     |   give {first} to {last}\n", "")],
        "shelf crew from 10.84.30.20 to 10.84.30.99",
    ),
    "a range on a line of the pool's": (
        [],
        [("range *     |   give {first} to {last}",
          "            |   give {range.first} - {range.last}")],
        "give 10.84.30.20 - 10.84.30.99",
    ),
    "low and high on two lines": (
        [],
        [("range *     |   give {first} to {last}",
          "range       |   :\n            |     low {first}\n            |     high {last}")],
        "low 10.84.30.20",
    ),
    "numbers of hosts": (
        [],
        [("give {first} to {last}", "give {first:host} to {last:host}"),
         ("door {gateway}", "door {gateway:host}"), ("own {address} by", "own {address:host} by")],
        "give 20 to 99",
    ),
    "decimals": (['duration "{h.} h" infinite "ever"'], [], "hold 1.5 h"),
    "unit words": (
        ['duration "{d} days|{h} hours|{m} minutes|{s} seconds" also "{d} day|{h} hour" '
         'infinite "ever"'],
        [], "hold 90 minutes",
    ),
    "milliseconds": (['duration "{ms}" infinite "ever"'], [], "hold 5400000"),
    "texts quoted always": (['quote "\\"" backslash always'], [], 'shelf "crew"'),
    "a MAC's type among its digits": (
        ['mac type "01" group 4 sep "."'], [], "by 0100.005e.0053.01"),
}  # fmt: skip
"""What a sheet says otherwise: header lines, changed rows, and a line that comes of it."""


def sheet_saying(way: str) -> Sheet:
    """The sheet with one thing said otherwise."""
    more, changes, _ = WAYS[way]
    words = {line.split()[0] for line in more}
    lines = [line for line in (HEADER + DURATION).splitlines() if line.split()[0] not in words]
    body = BODY
    for was, instead in changes:
        assert was in body
        body = body.replace(was, instead)
    return load_sheet("\n".join([*lines, *more, "---", body]), "desk.sheet")


def plan(**crew: Any) -> str:
    """A plan with one network, as it is drawn."""
    network = {
        "subnet": "10.84.30.0/24",
        "gateway": "10.84.30.1",
        "served_by": "box",
        "dns": ["10.84.0.53", "10.84.1.53"],
        "lease": "90m",
        "ranges": ["10.84.30.20-10.84.30.99"],
        "domain": "crew.example",
        "options": {"ntp": ["10.84.0.123"]},
        "bindings": [
            {"mac": "00:00:5e:00:53:01", "address": "10.84.30.60"},
            {"client_id": "hex:0102ab", "address": "10.84.30.61"},
        ],
    }
    leg = {"address": "10.84.30.2/24"}
    devices = {"box": {"dialect": "desk", "interfaces": {"mess": leg}}}
    return json.dumps({"reservoir": 1, "devices": devices, "networks": {"crew": network | crew}})


hosts = st.integers(2, 254).map(lambda host: f"10.84.30.{host}")


@pytest.mark.parametrize("way", WAYS)
@given(data=st.data())
@settings(max_examples=examples(20))
def test_a_value_is_written_as_the_box_does_and_read_again(way: str, data: st.DataObject) -> None:
    """Nothing is left out; read back it is the plan; written into itself, it stays."""
    sheet = sheet_saying(way)
    assert WAYS[way][2] in write_device(reservoir.loads(plan()).pools, "box", sheet).text
    low = data.draw(st.integers(2, 250))
    drawn = plan(
        gateway=data.draw(hosts),
        dns=data.draw(st.lists(hosts, max_size=4, unique=True)),
        lease=data.draw(st.sampled_from(["3m", "36m", "90m", "2h", "25h", "7d", "infinite"])),
        ranges=[f"10.84.30.{low}-10.84.30.{data.draw(st.integers(low, 254))}"],
        options={224: {"hex": data.draw(st.binary(min_size=1, max_size=9)).hex()}},
    )
    pools = reservoir.loads(drawn).pools
    written = write_device(pools, "box", sheet)
    assert not written.losses
    assert not written.faults
    again = write_device(pools, "box", sheet, written.text)
    assert again.text == written.text


@given(data=st.data())
@settings(max_examples=examples(40))
def test_items_come_in_the_order_of_their_numbers(data: st.DataObject) -> None:
    """Wherever their lines stand; changed in place, they keep it."""
    sheet = sheet_saying("numbered items")
    servers = data.draw(st.lists(hosts, min_size=2, max_size=5, unique=True))
    text = write_device(reservoir.loads(plan(dns=servers)).pools, "box", sheet).text
    lines = text.split("\n")
    first = next(n for n, line in enumerate(lines) if "ask 1" in line)
    asks = data.draw(st.permutations(lines[first : first + len(servers)]))
    lines[first : first + len(servers)] = asks
    moved = "\n".join(lines)
    assert read_configuration(moved, sheet).device == read_configuration(text, sheet).device
    wanted = data.draw(st.permutations(servers))
    pools = reservoir.loads(plan(dns=wanted)).pools
    into = write_device(pools, "box", sheet, moved)
    assert not into.faults
    assert read_configuration(into.text, sheet).device == read_configuration(
        write_device(pools, "box", sheet).text, sheet
    ).device  # fmt: skip


ELSEWHERE = """\
sheet desk
block indent 2
list ","
duration "{s}"
undo "no {line}"
trait assigns ranges
trait bindings table
trait bound-address anywhere
trait exclusions none
---
device      | box {name}
interface * name={parent}.{vlan} | leg {parent} tag {vlan}
 ?          |   at {address}
interface * | port {name}
 ?          |   at {address}
 ? enabled=yes |   no rest
 ? enabled=no  |   rest
 *          |   relay {interface.name} to {relay_to}
pool *      | shelf {name}
            |   net {subnet}
range *     |   lend {@}
            |     span {range.@} {first} {last}
 ?          |   door {gateway}
default ?   |   hold {lease}
 ?          |   hold {lease}
            |   uses {@}
            |   set {pool.@}
 ?          |     ask {dns}
 ?          |     home {domain}
option *    |     extra {code} {type} {value}
binding *   | own {address} by {mac}
"""

SHARED = """\
box quay
hold 28800
span low 10.84.30.20 10.84.30.99
span high 10.84.31.20 10.84.31.99
span unused 10.84.32.1 10.84.32.9
set crew
  ask 10.84.0.53,10.84.1.53
  extra 42 ip 10.84.0.123
port trunk
  no rest
port spare
  rest
leg trunk tag 30
  at 10.84.30.1/24
leg trunk tag 31
  at 10.84.31.1/24
relay spare to 10.84.0.9
relay spare to 10.84.0.10
shelf mess
  net 10.84.30.0/24
  lend low
  uses crew
shelf guest
  net 10.84.31.0/24
  hold 3600
  lend high
  uses crew
"""


def test_what_is_said_elsewhere_is_found() -> None:
    """Spans and sets by their names, defaults, lists apart, names of parts, a state beside undo."""
    sheet = load_sheet(ELSEWHERE, "desk.sheet")
    reading = read_configuration(SHARED, sheet)
    assert not reading.not_understood
    found = lift(reading.device, sheet, "quay")
    mess, guest = found.networks["mess"], found.networks["guest"]
    assert (mess.lease, guest.lease) == (28_800, 3_600)
    assert mess.dns == guest.dns == (0x0A540035, 0x0A540135)
    assert mess.options == guest.options == {42: bytes([10, 84, 0, 123])}
    assert [str(span) for span in guest.ranges] == ["10.84.31.20-10.84.31.99"]
    legs = {leg.get("name"): leg for leg in reading.device.of_kind("interface")}
    assert legs["trunk.31"].fields["parent"] == "trunk"
    assert legs["trunk.31"].fields["vlan"] == 31
    assert legs["spare"].fields["relay_to"] == (0x0A540009, 0x0A54000A)
    assert (legs["trunk"].get("enabled"), legs["spare"].get("enabled")) == (True, False)
    broken = read_configuration(SHARED.replace("lend low", "lend lo"), sheet)
    assert ["refers to 'lo', and nothing is called that" in u.text for u in broken.not_understood]
    pools = reservoir.loads(plan(options={"ntp": ["10.84.0.123"]}, bindings=[])).pools
    written = write_device(pools, "box", sheet)
    assert not written.losses
    assert not written.faults
    assert "lend crew-1\n" in written.text
    assert written.text.index("span crew-1 10.84.30.20 10.84.30.99") < written.text.index("shelf")
    assert write_device(pools, "box", sheet, written.text).text == written.text


def test_a_line_that_two_ways_lead_to_is_refused() -> None:
    """Where a row matches the beginning of a statement, and another one the whole of it."""
    text = (DESK / "steps.sheet").read_text()
    twice = text + "range *         |   own {first} by {count}\n"
    with pytest.raises(InputError, match="which is also line 37 inside line 36") as raised:
        load_sheet(twice, "steps.sheet")
    assert "this row matches 'own 0.0.0.0 by 0'" in str(raised.value)


@pytest.mark.parametrize(
    ("name", "text"),
    [
        ("signs", "a { " * 3_000 + "} " * 2_999),
        ("words", "entry x\n" * 3_000),
        ("items", "- " * 3_000 + "x: 1\n"),
        ("steps", "put handout a " * 3_000),
        ("dots", "handout.1." * 3_000),
        ("tables", "-- Spans --\nShelf,First address\n" + 'a,"' * 3_000),
        ("headings", "under clock \\\n" * 3_000),
    ],
)
def test_endless_nesting_is_a_report(name: str, text: str) -> None:
    """However deep, nothing is read wrongly and nothing breaks."""
    reading = read_configuration(text, sheet_of(name))
    assert count(reading.device) <= 5
    assert reading.not_understood or reading.others or reading.left_alone


def test_a_change_of_screens_is_steps_to_tick() -> None:
    """On which screen a field was what, and which row comes and goes; a screen comes with it."""
    sheet = Library().sheet("capstan")
    plans = (
        plan(**crew).replace("desk", "capstan")
        for crew in (
            {"lease": "8h", "bindings": []},
            {"lease": "4h", "ranges": ["10.84.30.20-10.84.30.120"],
             "bindings": [{"mac": "00:00:5e:00:53:01", "address": "10.84.30.130"}]},
        )
    )  # fmt: skip
    old, new = (write_device(reservoir.loads(p).pools, "box", sheet).text for p in plans)
    lines = [line.text for line in script(old, new, sheet, "box").lines]
    assert "== Pool crew ==\n[ ] Lease: 4 h  // was: 8 h\n" in lines
    assert any("[ ] remove 10.84.30.20 | 10.84.30.99\n" in line for line in lines)
    assert any(line.startswith("== Bound clients ==\n") and "53:01" in line for line in lines)
    assert not any(line.startswith("remove ==") for line in lines)
