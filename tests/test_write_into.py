"""Writing DHCP configuration into one that is there: the rest stays, byte for byte."""

from __future__ import annotations

import json
import re
from collections import Counter
from dataclasses import replace
from pathlib import Path
from typing import Any

import pytest
from hypothesis import assume, given, settings
from hypothesis import strategies as st

import reservoir
from conftest import Run, examples
from met import meets, met
from oracle import text_of
from reservoir.core.findings import Severity
from reservoir.core.pools import Pools
from reservoir.core.values.addresses import parse_address
from reservoir.dialects.behaviour.effect import lift_effect
from reservoir.dialects.behaviour.lift import lift
from reservoir.dialects.notations.json import Json
from reservoir.dialects.notations.xml import Xml
from reservoir.dialects.parse.reader import read_configuration
from reservoir.dialects.sheet.library import Library
from reservoir.dialects.sheet.model import Sheet
from reservoir.dialects.trial import without_what_is_refused
from reservoir.dialects.writing import write_device
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
@settings(max_examples=examples(24))
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


few_names = st.sampled_from(["till", "till-2", "printer", "crew", "deck-3"])


@pytest.mark.parametrize("dialect", DIALECTS)
@given(data=st.data())
@settings(max_examples=examples(24))
def test_what_the_plan_does_not_have_stays(file: Path, dialect: str, data: st.DataObject) -> None:
    """Byte for byte: a plan of some of a device's networks leaves the others as they are.

    Whatever names they have: where two things would have one, each keeps its own.
    """
    plan = data.draw(benign_plan(dialect, few_names))
    file.write_text(text_of(plan))
    (before,) = reservoir.write(reservoir.load(file), ["server"])
    kept = data.draw(st.sets(st.sampled_from(sorted(plan["networks"])), min_size=1))
    networks = {name: network for name, network in plan["networks"].items() if name in kept}
    file.write_text(text_of({**plan, "networks": networks}))
    (written,) = reservoir.write(reservoir.load(file), ["server"], {"server": before.text})
    assert not written.faults
    assert written.text == before.text
    assert written.placed is not None
    assert not written.placed.removed
    pools = [label for _, label in written.placed.others if label.startswith("pool ")]
    assert len(pools) >= len(plan["networks"]) - len(kept) or dialect in ("linux-host", "thimble")


@pytest.mark.parametrize("dialect", [name for name in DIALECTS if name != "thimble"])
@meets("a name that is taken")
@given(data=st.data())
@settings(max_examples=examples(12))
def test_what_comes_has_no_name_that_something_else_has(
    file: Path, dialect: str, data: st.DataObject
) -> None:
    """A network of another plan, put beside others: all do as they did, each under its own name."""
    plan, other = (data.draw(benign_plan(dialect, few_names)) for _ in "ab")
    file.write_text(text_of(plan))
    (before,) = reservoir.write(reservoir.load(file), ["server"])
    name = data.draw(st.sampled_from(sorted(other["networks"])))
    ours = {n: network for n, network in other["networks"].items() if n == name}
    file.write_text(text_of({**other, "devices": plan["devices"], "networks": ours}))
    loaded = reservoir.load(file)
    assume(not any(f.severity is Severity.ERROR for f in reservoir.check(loaded)))
    (written,) = reservoir.write(loaded, ["server"], {"server": before.text})
    assert not written.faults
    met("a name that is taken", name in plan["networks"])
    texts = (before.text, written.text)
    devices = [read_configuration(text, Library().sheet(dialect)).device for text in texts]
    names = [f.get("name") for f in devices[1].walk() if f.kind in ("pool", "binding")]
    assert len(set(names)) == len(names) - names.count(None) + (None in names)
    there = other["networks"][name]["subnet"]
    effects = [
        {
            str(pool.network.subnet): (pool.assignable, pools.clients_bound(pool), pool.offer)
            for pools in [Pools(lift(device, Library().sheet(dialect)).plan())]
            for pool in pools
            if str(pool.network.subnet) != there
        }
        for device in devices
    ]
    assert effects[0] == effects[1]


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
    also = "    holds 10.84.31.9/99\n"
    wrong = RUNNING.replace("31.2/24\n", f"31.2/24\n{also}").replace("lease 3600", "lease soon")
    there.write_text(wrong)
    into = ("--into", "running.cfg", "--in-place", "--remove-others")
    ended = run("write", "plan.yaml", *into)
    assert ended.code == 0, ended.err
    relayed = "    carries to 10.84.0.10\n"
    assert there.read_text() == PLACED.replace(relayed, f"{relayed}{also}")
    assert (there.parent / "running.cfg.before").read_text() == wrong
    assert "running.cfg:8:11: stays: '10.84.31.9/99'" in ended.err
    assert "soon" not in ended.err
    there.write_text(wrong.replace("    holds 10.84.31.2/24\n", ""))
    refused = run("write", "plan.yaml", *into)
    assert refused.code == 1
    assert "interface-without-address: jetty-router quay relays but has no address" in refused.err
    assert "Nothing was written: the configuration would have new errors." in refused.err


@pytest.mark.parametrize(
    ("running", "said", "code"),
    [
        (
            RUNNING.replace("berth quay", "berth pier"),
            "quay is missing, and interface pier holds",
            1,
        ),
        (
            RUNNING.replace("berth deck", "berth pier"),
            "deck is missing, and interface pier holds",
            1,
        ),
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


@pytest.mark.parametrize("dialect", Library().names)
def test_a_network_more_touches_nothing_else(dialect: str, run: Run, tmp_path: Path) -> None:
    """Its interface, pool and exclusions come to a device that serves many; all else stays."""
    count = 20 if Family.of(dialect).most_networks > 1 else 0
    (tmp_path / "plan.yaml").write_text(many(dialect, count))
    assert run("write", "plan.yaml").code == 0
    [file] = [p for p in (tmp_path / "configuration").iterdir() if not p.name.startswith(".")]
    before = whole_text(file)
    (tmp_path / "plan.yaml").write_text(many(dialect, count + 1))
    into = ("write", "plan.yaml", "--into", str(file))
    shown = run(*into)
    assert shown.code == 0, shown.err
    assert "No file was changed" in shown.err
    assert f"only new clients  network: now 10.84.{count + 1}.0/24" in shown.out
    assert whole_text(file) == before
    assert run(*into, "--in-place").code == 0
    after = whole_text(file)
    gone = Counter(map(str.strip, before.split("\n"))) - Counter(map(str.strip, after.split("\n")))
    # A comma between items may move, and a box opens its service with its first network.
    moved = ("", "]", "}", "},", "]}", "shelves: closed")
    assert all(line in moved or f"{line}," in after for line in gone), gone
    if file.is_file():
        assert Path(f"{file}.before").read_text() == before
    served = reservoir.served_by(reservoir.combine(reservoir.read(file, dialect)))["box"]
    assert len({pool.subnet for pool in served.pools}) == count + 1


TILLS = """\
reservoir: 1
defaults: {dns: [10.84.0.53], lease: %s}
devices:
  depot:
    dialect: merganser
    zones: {inside: {admits: [dhcp]}}
    interfaces:
      lan: {address: 10.84.1.1/24, zone: inside}
      lab: {address: 10.84.2.1/24, zone: inside}
networks:
  crew: {subnet: 10.84.1.0/24, gateway: 10.84.1.1, served_by: depot,
    ranges: [10.84.1.20-10.84.1.99],
    bindings: [{name: till, address: 10.84.1.30, mac: "00:00:5e:00:53:01"}]}
  office: {subnet: 10.84.2.0/24, gateway: 10.84.2.1, served_by: depot,
    ranges: [10.84.2.20-10.84.2.99],
    bindings: [{name: till, address: 10.84.2.30, mac: "00:00:5e:00:53:02"}]}
"""


def test_two_tills_stay_two(run: Run, tmp_path: Path) -> None:
    """Where one network alone is written, its binding keeps the name that tells it from another."""
    (tmp_path / "plan.yaml").write_text(TILLS % "12h")
    assert run("write", "plan.yaml", "--out", "box").code == 0
    file = tmp_path / "box/depot.merganser"
    before = file.read_text()
    assert re.findall(r"^lot (till.*):$", before, re.MULTILINE) == ["till", "till-2"]
    (tmp_path / "plan.yaml").write_text(TILLS % "6h")
    only = run("write", "plan.yaml", "--into", str(file), "--only", "office", "--in-place")
    assert only.code == 0, only.err
    changed = [
        new for old, new in zip(before.splitlines(), file.read_text().splitlines(), strict=True)
        if old != new
    ]  # fmt: skip
    assert changed == ["    term 0 days 6 hours 0 minutes"] * 2


def whole_text(file: Path) -> str:
    """The text of a file; of a folder those of its files, in order."""
    if file.is_file():
        return file.read_text()
    return "\n".join(f"# {inner.name}\n{inner.read_text()}" for inner in sorted(file.iterdir()))


def many(dialect: str, count: int) -> str:
    """A device that serves so many VLANs, each with an exclusion."""
    ports, networks = ["trunk: {}"], []
    for n in range(1, count + 1):
        ports.append(
            f"trunk.{n}: {{parent: trunk, vlan: {n}, address: 10.84.{n}.1/24, zone: inside}}"
        )
        networks.append(
            f"  deck-{n}: {{subnet: 10.84.{n}.0/24, gateway: 10.84.{n}.1, served_by: box, "
            f"ranges: [10.84.{n}.20-10.84.{n}.99]}}"
        )
    if not networks:
        networks = ["  uplink: {subnet: 10.85.0.0/24}"]
    return (
        f"reservoir: 1\ndefaults: {{dns: [10.84.0.53], lease: 12h}}\ndevices:\n  box:\n"
        f"    dialect: {dialect}\n    zones: {{inside: {{admits: [dhcp]}}}}\n"
        f"    interfaces: {{{', '.join(ports)}}}\nnetworks:\n" + "\n".join(networks) + "\n"
    )


def test_one_network_alone_is_touched(run: Run, tmp_path: Path) -> None:
    """With --only, whatever else the plan has otherwise; its effect is shown first."""
    (tmp_path / "plan.yaml").write_text(many("larkspur", 3))
    assert run("write", "plan.yaml").code == 0
    file = tmp_path / "configuration/box.larkspur"
    before = file.read_text()
    changed = many("larkspur", 4).replace("lease: 12h", "lease: 2h")
    (tmp_path / "plan.yaml").write_text(changed)
    into = ("write", "plan.yaml", "--into", str(file), "--only", "deck-2")
    shown = run(*into)
    assert "at renewal        lease: 12h → 2h" in shown.out
    assert "1 of 3 networks differs; what clients notice at worst: 1 at renewal." in shown.out
    assert run(*into, "--in-place", "--no-backup").code == 0
    assert file.read_text().count("lease 7200") == 1
    assert file.read_text().replace("lease 7200", "lease 43200") == before
    assert not Path(f"{file}.before").exists()
    assert run(*into, "--remove-others").code == 2
    assert run("write", "plan.yaml", "--into", str(file), "--only", "deck-9").code == 2


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


@pytest.mark.parametrize("dialect", DIALECTS)
@meets("something left out")
@given(data=st.data())
@settings(max_examples=examples(24))
def test_what_runs_and_is_planned_so_stays_to_the_byte(dialect: str, data: st.DataObject) -> None:
    """Whatever is left to the device's defaults, whatever form an option has, laid out anyhow."""
    sheet = Library().sheet(dialect)
    (written,) = reservoir.write(
        reservoir.loads(text_of(data.draw(benign_plan(dialect, plain_names)))), ["server"]
    )
    lines = re.sub(r"ips(\W.*?)10\.84\.0\.123", r"hex\g<1>0a54007b", written.text).split("\n")
    gone = data.draw(st.sets(st.integers(0, len(lines) - 1), max_size=3))
    text = "\n".join(line for number, line in enumerate(lines) if number not in gone)
    if not read_configuration(text, sheet).not_understood:
        text = laid_out_otherwise(text, sheet, data)
    reading = read_configuration(text, sheet)
    there, effect = lift(reading.device, sheet, "server"), lift_effect(reading.device, sheet)
    odd = (reading.not_understood, there.left_out, effect.does_without, there.differing,
           there.differing_parts, there.strays)  # fmt: skip
    is_one = len({network.subnet for network in there.networks.values()}) == len(there.networks)
    if any(odd) or any(origin.switched_off for origin in there.origins.values()) or not is_one:
        return
    met("something left out", text != written.text)
    again = write_device(Pools(there.plan()), there.name, sheet, text)
    if not again.obstacles:
        assert again.text == text


@pytest.mark.parametrize("dialect", DIALECTS)
def test_an_option_keeps_the_form_that_it_has(dialect: str) -> None:
    """Also where something else of its network changes."""
    sheet = Library().sheet(dialect)
    sample = without_what_is_refused(sheet).text
    text = re.sub(r"ips(\W[^\n]*?)10\.84\.0\.123", r"hex\g<1>0a54007b", sample)
    there = lift(read_configuration(text, sheet).device, sheet, "box")
    networks = {
        name: network.model_copy(update={"dns": (parse_address("10.84.0.53"),)})
        for name, network in there.networks.items()
    }
    plan = replace(there.plan(), networks=networks)
    again = write_device(Pools(plan), there.name, sheet, text)
    assert not again.faults
    assert again.text != text
    assert "10.84.0.53" in again.text
    assert again.text.count("0a54007b") == text.count("0a54007b")
    assert "10.84.0.123" not in again.text


@pytest.mark.parametrize("dialect", DIALECTS)
def test_an_option_moves_from_one_network_to_the_next(dialect: str) -> None:
    """The same bytes in another pool are another option."""
    port = "port{0}: {{address: 10.84.{0}.1/24, zone: inside}}"
    network = "  deck{0}: {{subnet: 10.84.{0}.0/24, gateway: 10.84.{0}.1, dns: 10.84.0.53, "
    network += "lease: 1h, served_by: server, ranges: [10.84.{0}.9-10.84.{0}.99]{1}}}"
    most = Family.of(dialect).most_networks
    zones = "zones: {inside: {admits: [dhcp]}}"
    texts: list[str] = []
    for having in (1, 2):
        ports = ", ".join(port.format(number) for number in (1, 2)[:most])
        option = ", options: {224: {text: boat}}"
        served = [network.format(n, option if n == having else "") for n in (1, 2)[:most]]
        plan = f"reservoir: 1\ndevices:\n  server: {{dialect: {dialect}, interfaces: {{{ports}}}, "
        loaded = reservoir.loads("\n".join([f"{plan}{zones}}}", "networks:", *served]))
        texts += [one.text for one in reservoir.write(loaded, ["server"], into(texts))]
    networks = lift(read_configuration(texts[1], Library().sheet(dialect)).device,
                    Library().sheet(dialect)).networks.values()  # fmt: skip
    having_it = [n.subnet.subnet.span.first >> 8 & 255 for n in networks if 224 in n.options]
    assert having_it == ([2] if most > 1 else [])


def into(texts: list[str]) -> dict[str, str]:
    """What a device has, if it has something."""
    return {"server": texts[0]} if texts else {}
