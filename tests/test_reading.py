"""Reading what a person or a device left: foreign lines, single damages, dialects recognised."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

import reservoir
from conftest import Run, examples
from met import meets, met
from oracle import text_of
from reservoir.dialects.facts.fact import Fact
from reservoir.dialects.notations.json import Json
from reservoir.dialects.notations.layout import Layout
from reservoir.dialects.notations.nodes import Node, Nodes, all_nodes
from reservoir.dialects.notations.xml import Xml
from reservoir.dialects.parse.node_reader import Said
from reservoir.dialects.parse.reader import read_configuration, read_nodes
from reservoir.dialects.reading import read_device
from reservoir.dialects.sheet.library import Library
from reservoir.dialects.sheet.model import Sheet
from test_round_trip import DIALECTS, benign_plan, plain_names

FOREIGN = [
    "logging to 10.84.9.9",
    "clock zone 0",
    "banner Welcome aboard",
    "!!",
    "snmp community quay",
    "user mate secret 8c2f",
]
"""Lines that have nothing to do with DHCP, and look like no line that has."""


QUAD = re.compile(r"10\.84\.[0-9]+\.[0-9]+")


@pytest.fixture(scope="module")
def file(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("reading") / "plan.yaml"


def written(file: Path, dialect: str, data: st.DataObject) -> str:
    """A benign plan's configuration."""
    file.write_text(text_of(data.draw(benign_plan(dialect, plain_names))))
    (configuration,) = reservoir.write(reservoir.load(file), ["server"])
    return configuration.text


def dhcp_facts(device: Fact) -> list[Fact]:
    """The facts that clients notice."""
    return [fact for fact in device.children if fact.kind in ("pool", "binding", "exclusion")]


def count(facts: list[Fact]) -> int:
    """Facts, with those inside."""
    return sum(1 + count(fact.children) for fact in facts)


def where_others_stand(lines: list[str], sheet: Sheet) -> list[int]:
    """The places, from 0, before which something not about DHCP may stand."""
    layout = sheet.notation
    begins = {Xml: "  <[a-z]", Json: '  "'}.get(type(layout))
    if isinstance(layout, Layout) and layout.heading:
        marks = [n for n, line in enumerate(lines) if line.startswith("# file")]
        return marks + [n for n, line in enumerate(lines) if layout.is_heading(line)]
    if begins is not None:
        return [n for n, line in enumerate(lines) if re.match(begins, line)]
    return [n for n, line in enumerate(lines) if line == "" or n == 0]


def about_other_things(what: str, sheet: Sheet) -> list[str]:
    """A line of ``FOREIGN`` in the dialect's notation."""
    word, _, rest = what.partition(" ")
    rest = rest.replace(" ", "-")
    layout = sheet.notation
    if isinstance(layout, Layout):
        if layout.heading:
            before, after, _ = layout.heading[0]
            return [f"{before}{word or 'x'}{after}", f"of: {rest}"]
        return [f"{word} of={rest or 'x'}"] if layout.is_flat else [what]
    notations = {
        Xml: [f'  <fence gate="{rest}"/>'],
        Json: [f'  "fence": {{"gate": "{rest}"}},'],
    }
    return notations[type(layout)]


def with_others(
    text: str, sheet: Sheet, data: st.DataObject, most: int, *, remarks: bool
) -> tuple[str, int]:
    """The text with things between that are about something else, and how many lines these are."""
    lines = text.split("\n")
    tops = where_others_stand(lines, sheet)
    inserted = 0
    for place in sorted(data.draw(st.lists(st.sampled_from(tops), max_size=4)), reverse=True):
        for what in data.draw(st.lists(st.sampled_from(FOREIGN), max_size=most)):
            foreign = about_other_things(what, sheet)
            inserted += len(foreign)
            if sheet.notation.comments and remarks:
                foreign.append(f"  {sheet.notation.comments[0]} by hand")
            lines[place:place] = foreign
    return "\n".join(lines), inserted


@pytest.mark.parametrize("dialect", DIALECTS)
@given(data=st.data())
@settings(max_examples=examples(20))
def test_foreign_lines_are_counted_and_change_nothing(
    file: Path, dialect: str, data: st.DataObject
) -> None:
    """Between blocks, sections, elements and members; remarks too."""
    text, sheet = written(file, dialect, data), Library().sheet(dialect)
    mixed, inserted = with_others(text, sheet, data, 3, remarks=True)
    before, after = read_configuration(text, sheet), read_configuration(mixed, sheet)
    assert after.device == before.device
    assert after.foreign == inserted
    assert not after.not_understood
    assert after.lines == before.lines + inserted


@pytest.mark.parametrize("dialect", DIALECTS)
@given(data=st.data())
@settings(max_examples=examples(20))
def test_one_wrong_address_is_one_report_and_costs_nothing_else(
    file: Path, dialect: str, data: st.DataObject
) -> None:
    """Its line and column are named; every other fact is as it was."""
    text, sheet = written(file, dialect, data), Library().sheet(dialect)
    lines = text.split("\n")
    before = read_configuration(text, sheet)
    candidates = [n for n in dhcp_lines(before.device, lines) if QUAD.search(lines[n])]
    assume(candidates)
    number = data.draw(st.sampled_from(candidates))
    found = data.draw(st.sampled_from(list(QUAD.finditer(lines[number]))))
    wrong = f"{found[0].rpartition('.')[0]}.300"
    lines[number] = lines[number][: found.start()] + wrong + lines[number][found.end() :]
    after = read_configuration("\n".join(lines), sheet)
    reported = [unread for unread in after.not_understood if wrong in unread.message]
    assert [unread.line for unread in reported] == [number + 1]
    assert "300 is above 255" in reported[0].message
    assert wrong in lines[number][reported[0].column - 1 :]
    consequences = {unread.message.partition(" lacks")[1] for unread in after.not_understood} - {""}
    assert len(after.not_understood) == 1 or consequences == {" lacks"}
    lost = count(dhcp_facts(before.device)) - count(dhcp_facts(after.device))
    assert lost <= 1
    assert after.foreign == 0


def dhcp_lines(device: Fact, lines: list[str]) -> list[int]:
    """The lines, from 0, that state something about DHCP service; texts of options left out."""
    kind_at = {fact.line - 1: fact.kind for fact in device.walk()}
    kind, found = "", []
    for number in range(len(lines)):
        kind = kind_at.get(number, kind)
        if kind in ("pool", "range", "exclusion", "binding"):
            found.append(number)
    return found


@pytest.mark.parametrize("dialect", DIALECTS)
@given(data=st.data())
@settings(max_examples=examples(20))
def test_a_dialect_is_recognised_among_foreign_lines(
    file: Path, dialect: str, data: st.DataObject
) -> None:
    """No other dialect is taken for it."""
    text, _ = with_others(
        written(file, dialect, data), Library().sheet(dialect), data, 2, remarks=False
    )
    read = read_device(text, "server.txt", Library())
    assert read.dialect == dialect
    assert read.lifted.name == "server"


@pytest.mark.parametrize("before", [0, 150, 3_000])
def test_a_dialect_is_recognised_wherever_its_lines_are(
    run: Run, tmp_path: Path, before: int
) -> None:
    """Though thousands of lines of something else come first; the share read is told of all."""
    foreign = "".join(f"banner line {number}\n" for number in range(before))
    pools = "".join(
        f"pool n{n}\n  subnet 10.84.{n}.0/24\n  gateway 10.84.{n}.1\n" for n in range(250)
    )
    (tmp_path / "pier.txt").write_text(f"{foreign}unit pier\n{pools}")
    read = run("read", "pier.txt")
    assert "pier, larkspur" in read.err
    assert read.out.count("subnet: 10.84.") == 250


def test_blocks_that_are_not_closed_or_closed_twice(run: Run, tmp_path: Path) -> None:
    """Are reported where they begin or end; what can be read is read."""
    (tmp_path / "office.merganser").write_text(
        "done\nappliance office\nlending ready\nleg lan:\n  lending ready\ndone\n"
        "lot staff:\n  leg lan\n  net 10.84.50.0 mask 255.255.255.0\n  dns 10.84.0.53\n"
        "  lend 10.84.50.20 through 10.84.50.29\n"
    )
    read = run("read", "office.merganser")
    assert read.code == 1
    assert "office.merganser:1:1: 'done' closes nothing here" in read.err
    assert "office.merganser:7:1: the block 'lot staff:' is not closed with 'done'" in read.err
    assert "ranges: [10.84.50.20-10.84.50.29]" in read.out
    assert "served_by: office" in read.out


def test_a_device_without_a_name_is_called_after_its_file(run: Run, tmp_path: Path) -> None:
    """And what stands there twice is left out once, and listed."""
    pool = "pool crew\n  subnet 10.84.30.0/24\n"
    (tmp_path / "pier.txt").write_text(pool + "berth deck\n" + pool)
    read = run("read", "pier.txt")
    assert read.code == 1
    assert "served_by: pier" in read.out
    assert "pier.txt:4:1: pool crew has no place in a plan: another pool has its name" in read.err


MESS = [
    "",
    "  ",
    "\t",
    "-- remark",
    "  // remark",
    "logging on",
    "done",
    "fence:",
    "  x",
    "pool a\r",
    "lot a:",
]


@pytest.mark.parametrize("dialect", DIALECTS)
@meets("a text that is all understood", "one that isn't")
@given(data=st.data())
@settings(max_examples=examples(50))
def test_reading_in_bulk_finds_the_same(file: Path, dialect: str, data: st.DataObject) -> None:
    """On any text, damaged or not: facts, places, reports, counts, and what each node says."""
    lines, sheet = written(file, dialect, data).split("\n"), Library().sheet(dialect)
    for _ in range(data.draw(st.integers(0, 6))):
        at = data.draw(st.integers(0, len(lines) - 1))
        what = data.draw(st.integers(0, 6))
        if what == 0:
            lines.insert(at, data.draw(st.sampled_from(MESS)))
        elif what == 1:
            lines.insert(at, lines[data.draw(st.integers(0, len(lines) - 1))])
        elif what == 2:
            del lines[at : at + data.draw(st.integers(0, 1))]
        elif what == 3:
            lines[at] = data.draw(st.sampled_from([" ", "    ", "\t"])) + lines[at].lstrip()
        elif what == 4 and sheet.undo is not None:
            said = lines[data.draw(st.integers(0, at))]
            indent = " " * (len(said) - len(said.lstrip()))
            lines.insert(at, f"{indent}{sheet.undo.before}{said.strip()}{sheet.undo.after}")
        elif what == 5:
            lines[at : at + 1] = [lines[at]] * data.draw(st.integers(16, 20))
        else:
            cut = data.draw(st.integers(0, len(lines[at])))
            junk = data.draw(st.sampled_from(["x", " ", "999", "\u2028", "é", "\r"]))
            lines[at] = lines[at][:cut] + junk + lines[at][cut:]
    text = "\n".join(lines)
    bulk, exact = (read_nodes(text, sheet, in_bulk=in_bulk) for in_bulk in (True, False))
    assert bulk[0].device.children == exact[0].device.children
    assert bulk[0] == exact[0]
    assert places(bulk[0].device) == places(exact[0].device)
    assert what_is_said(*bulk[1:]) == what_is_said(*exact[1:])
    met("one that isn't" if bulk[0].not_understood else "a text that is all understood")
    unasked = read_configuration(text, sheet, in_bulk=True)  # what each node says isn't kept
    assert unasked == exact[0]
    assert places(unasked.device) == places(exact[0].device)


def places(fact: Fact) -> list[object]:
    """Where a fact and those inside it stand."""
    return [fact.line, fact.column, fact.said, [places(child) for child in fact.children]]


def what_is_said(nodes: Nodes, said: dict[Node, Said]) -> list[object]:
    """How each node was understood."""
    return [(node.kind, said.get(node)) for node in all_nodes(nodes.top)]


@pytest.mark.parametrize("dialect", DIALECTS)
@meets("several damaged")
@given(data=st.data())
@settings(max_examples=examples(20))
def test_with_a_third_of_its_lines_damaged_the_rest_is_understood(
    file: Path, dialect: str, data: st.DataObject
) -> None:
    """Each damaged address is reported where it is; each sound line still says what it said."""
    text, sheet = written(file, dialect, data), Library().sheet(dialect)
    lines = text.split("\n")
    before = read_configuration(text, sheet)
    about_lending = set(dhcp_lines(before.device, lines))
    with_address = [n for n in sorted(about_lending) if QUAD.search(lines[n])]
    assume(with_address)
    most = max(1, len(lines) * 3 // 10)
    damaged = data.draw(st.sets(st.sampled_from(with_address), min_size=1, max_size=most))
    for number in damaged:
        found = QUAD.search(lines[number])
        assert found is not None
        cut = data.draw(st.integers(found.start() + 1, found.end() - 1))
        lines[number] = (
            lines[number][:cut] + data.draw(st.sampled_from("x§'?")) + lines[number][cut:]
        )
    after = read_configuration("\n".join(lines), sheet)
    reported = {unread.line - 1 for unread in after.not_understood}
    assert damaged <= reported
    met("several damaged", len(damaged) > 1)
    said = {
        (fact.line, fact.kind, tuple(sorted(fact.fields.items())))
        for fact in one_liners(after.device, lines)
    }
    for fact in one_liners(before.device, lines):
        if fact.line - 1 not in reported:
            assert (fact.line, fact.kind, tuple(sorted(fact.fields.items()))) in said


def one_liners(device: Fact, lines: list[str]) -> list[Fact]:
    """The facts that one line says whole."""
    return [
        fact
        for fact in device.walk()
        if fact.kind in ("range", "exclusion", "binding")
        and not fact.children
        and not fact.said
        and QUAD.search(lines[fact.line - 1])
    ]


@pytest.mark.parametrize(
    ("dialect", "text", "place"),
    [
        ("fulmar", '{"site": ' + '{"a": ' * 5_000 + "1" + "}" * 5_000 + "}", "1:"),
        ("quillon", "<appliance>" + "<a>" * 100_000 + "</a>" * 100_000 + "</appliance>", "1:"),
        ("larkspur", "".join(" " * depth + f"pool p{depth}\n" for depth in range(300)), "65:65"),
    ],
)
def test_what_is_nested_too_deeply_is_said(
    dialect: str, text: str, place: str, run: Run, tmp_path: Path
) -> None:
    """With its place; the rest is read."""
    (tmp_path / "deep.cfg").write_text(text)
    read = run("read", "deep.cfg", "--dialect", dialect)
    assert read.code == 1
    assert re.search(f"deep.cfg:{place}.*nested more than 64 levels deep, and is not", read.err)


SHELVES = """\
[shelf 1]
label: crew
network: 10.84.30.0/24
first: 10.84.30.20
last: 10.84.30.99
[shelf 2]
label: late
network: 10.84.30.0/24
first: 10.84.30.90
last: 10.84.30.120
"""
POOLS = """\
pool crew
  withhold 10.84.30.1 to 10.84.30.89
  subnet 10.84.30.0/24
pool late
  withhold 10.84.30.1 to 10.84.30.19
  withhold 10.84.30.100 to 10.84.30.254
  subnet 10.84.30.0/24
"""


@pytest.mark.parametrize(("dialect", "text"), [("thimble", SHELVES), ("larkspur", POOLS)])
def test_pools_of_one_device_that_overlap_are_reported(
    dialect: str, text: str, run: Run, tmp_path: Path
) -> None:
    """Not merged silently, where a device has several pools in one network."""
    (tmp_path / "box.cfg").write_text(text)
    found = run("check", "box.cfg", "--dialect", dialect, "--select", "ranges")
    assert found.code == 1
    assert "10.84.30.90-10.84.30.99" in found.out


def test_a_folder_of_several_devices_is_read_as_several(run: Run, tmp_path: Path) -> None:
    """Such as `write` makes: with its record of what it wrote, and a folder for one of them."""
    plan = """\
reservoir: 1
defaults: {dns: [10.84.0.53], lease: 1h}
devices:
  pier: {dialect: larkspur, interfaces: {deck: {address: 10.84.30.1/24}}}
  quay: {dialect: tamarack, interfaces: {east: {address: 10.84.60.1/24}}}
  host: {dialect: linux-host, interfaces: {lan0: {address: 10.84.80.1/24}}}
networks:
  crew: {subnet: 10.84.30.0/24, gateway: 10.84.30.1, ranges: [10.84.30.20-99]}
  east: {subnet: 10.84.60.0/24, gateway: 10.84.60.1, ranges: [10.84.60.20-99]}
  lan: {subnet: 10.84.80.0/24, gateway: 10.84.80.1, ranges: [10.84.80.20-99]}
"""
    (tmp_path / "plan.yaml").write_text(plan)
    assert run("write", "plan.yaml", "--out", "written").code == 0
    read = run("read", "written")
    assert read.code == 0, read.err
    for device in ("pier", "quay", "host"):
        assert f"  {device}:" in read.out
    assert "in 3 networks on 3 devices; 240 assignable addresses" in run("check", "written").out
    assert run("read", "written/host.linux-host").out.count("dialect:") == 1


def test_a_server_left_out_stays_the_plans_beside_what_runs(run: Run, tmp_path: Path) -> None:
    """With its ranges in the plan, not those that run: what differs is told."""
    network = "{subnet: 10.84.30.0/24, gateway: 10.84.30.1, ranges: [10.84.30.20-99]}"
    (tmp_path / "plan.yaml").write_text(
        "reservoir: 1\ndefaults: {dns: [10.84.0.53], lease: 1h}\n"
        "devices: {pier: {dialect: larkspur, interfaces: {deck: {address: 10.84.30.1/24}}}}\n"
        f"networks: {{crew: {network}}}\n"
    )
    assert run("write", "plan.yaml", "--out", "written").code == 0
    file = tmp_path / "written/pier.larkspur"
    assert " 80 assignable addresses" in run("check", "plan.yaml", str(file)).out
    file.write_text(file.read_text().replace("withhold 10.84.30.100 to", "withhold 10.84.30.50 to"))
    checked = run("check", "plan.yaml", str(file))
    assert " 80 assignable addresses" in checked.out
    assert "running-differs" in checked.out
