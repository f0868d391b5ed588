"""Writing DHCP configuration into one that is there: the rest stays, byte for byte."""

from __future__ import annotations

import json
import re
from pathlib import Path
from typing import Any

import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

import reservoir
from conftest import Run, examples
from oracle import text_of
from reservoir.dialects.notations.json import Json
from reservoir.dialects.notations.xml import Xml
from reservoir.dialects.parse.reader import read_configuration
from reservoir.dialects.sheet.library import Library
from reservoir.dialects.sheet.model import Sheet
from test_reading import with_others
from test_round_trip import DIALECTS, Family, benign_network, benign_plan, plain_names


@pytest.fixture(scope="module")
def file(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("placing") / "plan.yaml"


@st.composite
def as_it_was(draw: st.DrawFn, plan: dict[str, Any], dialect: str) -> dict[str, Any]:
    """The plan of another day: some networks not yet there, some otherwise."""
    networks = {}
    for number, (name, network) in enumerate(plan["networks"].items(), start=1):
        what = draw(st.sampled_from(["same", "missing", "other", "renamed"]))
        if what in ("same", "renamed"):
            networks[name if what == "same" else f"{name}-old"] = network
        elif what == "other":
            networks[name] = draw(benign_network(number, Family.of(dialect), plain_names))
    return {**plan, "networks": networks}


@pytest.mark.parametrize("dialect", DIALECTS)
@given(data=st.data())
@settings(max_examples=examples(30))
def test_the_rest_stays_and_the_device_assigns_what_the_plan_says(
    file: Path, dialect: str, data: st.DataObject
) -> None:
    """Whatever it assigned before; and writing it there again changes nothing."""
    plan = data.draw(benign_plan(dialect, plain_names))
    sheet = Library().sheet(dialect)
    file.write_text(text_of(data.draw(as_it_was(plan, dialect))))
    (before,) = reservoir.write(reservoir.load(file), ["server"])
    existing, _ = with_others(before.text, sheet, data, 3, remarks=True)
    existing = laid_out_otherwise(existing, sheet, data)
    file.write_text(text_of(plan))
    loaded = reservoir.load(file)
    (new,) = reservoir.write(loaded, ["server"])
    (written,) = reservoir.write(loaded, ["server"], {"server": existing})
    assert written.placed is not None
    assert not written.faults
    assert not written.placed.missing
    assert not written.placed.left
    assert about_others(written.text) == about_others(existing)
    assert read_configuration(written.text, sheet).foreign == (
        read_configuration(existing, sheet).foreign
    )
    (again,) = reservoir.write(loaded, ["server"], {"server": written.text})
    assert again.text == written.text
    (itself,) = reservoir.write(loaded, ["server"], {"server": new.text})
    assert itself.text == new.text


@pytest.mark.parametrize("dialect", DIALECTS)
@given(data=st.data())
@settings(max_examples=examples(30))
def test_what_the_plan_does_not_have_stays(file: Path, dialect: str, data: st.DataObject) -> None:
    """Byte for byte: a plan of some of a device's networks leaves the others as they are."""
    plan = data.draw(benign_plan(dialect, plain_names))
    file.write_text(text_of(plan))
    (before,) = reservoir.write(reservoir.load(file), ["server"])
    kept = data.draw(st.sets(st.sampled_from(sorted(plan["networks"])), min_size=1))
    networks = {name: network for name, network in plan["networks"].items() if name in kept}
    file.write_text(text_of({**plan, "networks": networks}))
    (written,) = reservoir.write(reservoir.load(file), ["server"], {"server": before.text})
    assume(written.renamed == before.renamed)  # two things of one name, one of them gone
    assert not written.faults
    assert written.text == before.text
    assert written.placed is not None
    assert not written.placed.removed
    pools = [label for _, label in written.placed.others if label.startswith("pool ")]
    assert len(pools) >= len(plan["networks"]) - len(kept) or dialect in ("linux-host", "thimble")


def laid_out_otherwise(text: str, sheet: Sheet, data: st.DataObject) -> str:
    """As other hands or programs would have left it, and with the same meaning."""
    if isinstance(sheet.notation, Json):
        text = json.dumps(json.loads(text), indent=data.draw(st.sampled_from([None, 1, 4])))
    elif isinstance(sheet.notation, Xml):
        text = re.sub("\n *", data.draw(st.sampled_from(["", "\n", "\n\t", " "])), text)
    elif data.draw(st.booleans()):
        text = text.replace("\n", "\r\n")
    return text.rstrip() if data.draw(st.booleans()) else text


OTHERS = re.compile(
    r"<fence[^>]*>|<!--.*?-->|\"fence\": *\{[^}]*\}|.*by hand.*|^of: .*|"
    r"^ *(?:logging|clock|banner|!!|snmp|user).*",
    re.MULTILINE,
)


def about_others(text: str) -> list[str]:
    """What ``with_others`` put there, in order; the line ends are looked at elsewhere."""
    return [found.rstrip("\r") for found in OTHERS.findall(text)]


PLAN = """\
reservoir: 1
devices:
  jetty-router:
    dialect: larkspur
    interfaces:
      deck: {address: 10.84.30.1/24}
      quay: {address: 10.84.31.1/24, relay_to: [10.84.0.10]}
networks:
  crew:
    subnet: 10.84.30.0/24
    gateway: 10.84.30.1
    served_by: jetty-router
    ranges: [10.84.30.20-10.84.30.99]
    dns: []
    lease: 12h
"""
RUNNING = """\
unit jetty-router
clock zone harbour
berth deck
    holds 10.84.30.1/24
    shape queue 4
berth quay
    holds 10.84.31.2/24
pool crew
    -- as agreed in May
    withhold 10.84.30.1 to 10.84.30.49
    lease 3600
    subnet 10.84.30.0/24
pool guests
    subnet 10.84.40.0/24
snmp community quay
"""
PLACED = """\
unit jetty-router
clock zone harbour
berth deck
    holds 10.84.30.1/24
    shape queue 4
berth quay
    holds 10.84.31.2/24
    carries to 10.84.0.10
pool crew
    -- as agreed in May
    withhold 10.84.30.1 to 10.84.30.19
    withhold 10.84.30.100 to 10.84.30.254
    gateway 10.84.30.1
    lease 43200
    subnet 10.84.30.0/24
snmp community quay
"""


@pytest.fixture
def there(tmp_path: Path) -> Path:
    """A device's present configuration, beside a plan."""
    (tmp_path / "plan.yaml").write_text(PLAN)
    (tmp_path / "running.cfg").write_text(RUNNING)
    return tmp_path / "running.cfg"


def test_a_file_is_changed_where_it_is(run: Run, there: Path) -> None:
    """Only what is assigned: remarks, layout and an address that the plan has otherwise stay."""
    into = ("write", "plan.yaml", "--into", "running.cfg", "--remove-others")
    assert run(*into, "--out", "-").out == PLACED
    shown = run(*into)
    assert shown.code == 0
    assert "-pool guests\n-    subnet 10.84.40.0/24\n" in shown.out
    assert "No file was changed; --in-place does it." in shown.err
    assert there.read_text() == RUNNING
    elsewhere = run(*into, "--out", "next")
    assert elsewhere.code == 0
    assert (there.parent / "next/running.cfg").read_text() == PLACED
    ended = run(*into, "--in-place")
    assert ended.code == 0
    assert there.read_text() == PLACED
    assert "5 lines added, 4 removed, 11 unchanged" in ended.err
    assert "running.cfg:13:1: pool guests is removed, since it is not in the plan" in ended.err
    told = "running.cfg:7:1: 'holds 10.84.31.2/24' stays, but the plan has 'holds 10.84.31.1/24'"
    assert told in ended.err
    again = run("write", "plan.yaml", "--into", "running.cfg", "--in-place")
    assert "0 lines added, 0 removed, 16 unchanged" in again.err


def test_only_dhcp_settings_that_are_not_understood_are_replaced(run: Run, there: Path) -> None:
    """A wrong lease is replaced; a wrong address of an interface is left alone."""
    wrong = RUNNING.replace("31.2/24", "31.2/99").replace("lease 3600", "lease soon")
    there.write_text(wrong)
    into = ("--into", "running.cfg", "--in-place", "--remove-others")
    ended = run("write", "plan.yaml", *into)
    assert ended.code == 0, ended.err
    assert there.read_text() == PLACED.replace("31.2/24", "31.2/99")
    assert "running.cfg:7:11: stays: '10.84.31.2/99'" in ended.err
    assert "soon" not in ended.err


@pytest.mark.parametrize(
    ("running", "said", "code"),
    [
        (RUNNING.replace("berth quay", "berth pier"), "interface quay is missing; add it", 1),
        (RUNNING.replace("berth deck", "berth pier"), "interface deck is missing; add it", 1),
        (RUNNING.replace("jetty-router", "quay-router"), "of quay-router, not of jetty-router", 2),
        (
            "appliance jetty\nlot crew:\n  net 10.84.30.0 mask 255.255.255.0\n",
            "looks like merganser",
            2,
        ),
        (None, "there is no such file", 2),
    ],
    ids=["no place", "no way", "another device", "another dialect", "no file"],
)
def test_what_cannot_be_put_into(
    running: str | None, said: str, code: int, run: Run, there: Path
) -> None:
    """Nothing is changed, and what to do is said."""
    there.unlink() if running is None else there.write_text(running)
    ended = run("write", "plan.yaml", "--into", "running.cfg", "--in-place")
    assert ended.code == code
    assert said in ended.err
    if running is not None:
        assert there.read_text() == running


def test_whose_a_file_is(run: Run, there: Path) -> None:
    """By the name in it, by its own name; else one has to say. Broken notation stays as it is."""
    second = "  yard-router:\n    dialect: merganser\nnetworks:"
    (there.parent / "plan.yaml").write_text(PLAN.replace("networks:", second))
    assert (
        run("write", "plan.yaml", "--into", "running.cfg", "--remove-others", "-o", "-").out
        == PLACED
    )
    (there.parent / "yard-router.cfg").write_text("lot crew:\n  term 1 days 0 hours 0 minutes\n")
    broken = run("write", "plan.yaml", "--into", "yard-router.cfg")
    assert broken.code == 2
    assert "yard-router.cfg:1:1: the block 'lot crew:' is not closed with 'done'" in broken.err
    (there.parent / "some.cfg").write_text("clock zone harbour\n")
    assert (
        "some.cfg could belong to several devices"
        in run("write", "plan.yaml", "--into", "some.cfg").err
    )
