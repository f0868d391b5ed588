"""Change scripts: each statement leads on, no prefix assigns what it mustn't, and back again."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Set
from functools import lru_cache
from ipaddress import IPv4Interface
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import reservoir
from conftest import Run, examples
from met import meets, met
from oracle import number_of, text_of
from reservoir import Severity
from reservoir.dialects.behaviour.lift import lift
from reservoir.dialects.render.present_text import PresentText
from reservoir.dialects.render.statements import applied
from reservoir.dialects.sheet.library import Library
from reservoir.files.lease_list import read_leases
from test_round_trip import benign_plan, plain_names

DEMO = Path(reservoir.__file__).parent / "demo/right/ferry-line.yaml"
WITH_UNDO = [name for name in Library().names if Library().sheet(name).undo_words]


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("scripts")


@lru_cache(maxsize=256)
def present(text: str, dialect: str) -> PresentText:
    return PresentText.of(text, Library().sheet(dialect))


def given_to(text: str, statement: str, dialect: str) -> str:
    """A device's configuration after a statement."""
    return applied(present(text, dialect), statement, Library().sheet(dialect))


@lru_cache(maxsize=256)
def walked(text: str, dialect: str) -> Mapping[str, Set[int]]:
    """The addresses that a configuration assigns in each subnet, one by one."""
    found: dict[str, set[int]] = {}
    lifted = lift(present(text, dialect).reading.device, Library().sheet(dialect))
    for network in lifted.networks.values():
        subnet = IPv4Interface(str(network.subnet)).network
        inside = range(int(subnet[1]), int(subnet[-1]))
        assert network.ranges != "all"
        named = {a for span in network.ranges for a in range(span.first, span.last + 1)}
        kept = {a for e in network.exclusions for a in range(e.range.first, e.range.last + 1)}
        kept |= {binding.address for binding in network.bindings}
        served = found.setdefault(str(network.subnet), set())
        served |= named.intersection(inside) - kept if network.servers else set()
    return found


@st.composite
def change(draw: st.DrawFn, dialect: str) -> tuple[dict[str, Any], dict[str, Any]]:
    """Two plans of one device, whose networks are the same, differ in some fields, or in all."""
    old, new = (draw(benign_plan(dialect, plain_names, most_networks=2)) for _ in "ab")
    networks: dict[str, Any] = {}
    pairs = zip(old["networks"].items(), new["networks"].items(), strict=False)
    for (name, was), (other, will_be) in pairs:
        how = draw(st.sampled_from(["same"] * 3 + ["differs"] * 4 + ["another"]))
        if how == "another":
            networks[other] = will_be
            continue
        networks[name] = dict(was)
        fields = was.keys() | will_be.keys() if how == "differs" else ()
        for field in draw(st.lists(st.sampled_from(sorted(fields)), max_size=4)) if fields else ():
            networks[name].pop(field, None)
            networks[name] |= {field: will_be[field]} if field in will_be else {}
    if how != "same":
        networks |= {n: new["networks"][n] for n in list(new["networks"])[len(networks) :]}
    return old, {**new, "networks": networks}


def safe_states(made: reservoir.DeviceScript, dialect: str) -> list[str]:
    """The configurations along a script, none of which assigns what neither end does."""
    assert made.script is not None
    ends = walked(made.old, dialect), walked(made.new, dialect)
    both = ends[0].keys() & ends[1].keys()
    states = [made.old]
    for line in made.script.lines:
        states.append(given_to(states[-1], line.text, dialect))
        under_way = walked(states[-1], dialect)
        for subnet, addresses in under_way.items():
            assert addresses <= ends[0].get(subnet, set()) | ends[1].get(subnet, set())
        cut = {s for s in both if ends[0][s] and ends[1][s] and not under_way.get(s)}
        assert len(cut) <= len(line.unserved)
    return states


@pytest.mark.parametrize("dialect", WITH_UNDO)
@pytest.mark.parametrize("own", ["relayed to itself", "relayed"])
def test_a_pool_of_another_name_takes_over(folder: Path, dialect: str, own: str) -> None:
    """Two pools of one subnet for a while: what the old one assigns counts, and errors of both."""
    server = {"uplink": {"address": "10.84.0.10/24"}}
    relay = {"port2": {"address": "10.84.2.1/24", "relay_to": ["10.84.0.10"]}}
    here = {**server, "port2": {"address": "10.84.2.178/24"}}
    moves = own == "relayed to itself"
    network: dict[str, Any] = {
        "subnet": "10.84.2.0/24",
        "gateway": "10.84.2.1",
        "served_by": "server",
    }
    network |= {"dns": ["10.84.0.53"], "lease": "1h", "ranges": ["10.84.2.2-10.84.2.99"]}
    wide = network | {"ranges": "all", "exclusions": ["10.84.2.10-10.84.2.200"]}
    bindings = [{"name": "till", "address": "10.84.2.102", "mac": "00:00:5e:00:53:10"}]
    old, new = (
        reservoir.loads(text_of({
            "reservoir": 1,
            "devices": {
                "server": {"dialect": dialect, "interfaces": in_zone(ports),
                           "zones": {"inside": {"admits": ["dhcp"]}}},
                "core": {"interfaces": {"deck": {"address": "10.84.0.2/24"}, **far}},
            },
            "networks": networks,
        }))
        for ports, far, networks in (
            (server, relay, {"crew": wide if moves else network}),
            (here if moves else server, {} if moves else relay,
             {"deck": network | ({"bindings": bindings} if moves else {})}),
        )
    )  # fmt: skip
    for made in reservoir.scripts(old, new):
        assert made.script is not None
        known = errors(folder, made.old, dialect) | errors(folder, made.new, dialect)
        for line, text in zip(made.script.lines, safe_states(made, dialect)[1:], strict=True):
            assert errors(folder, text, dialect) - known <= set(line.wrong), line.text


def test_a_clients_own_server_never_is_in_a_pool_that_has_to_go(folder: Path) -> None:
    """It is in another network's pool, which goes first: else a client may get its address."""
    own = {"name": "till", "address": "10.84.1.45", "mac": "00:00:5e:00:53:10"}
    network = {"gateway": "10.84.1.1", "subnet": "10.84.1.0/24", "served_by": "server",
               "dns": ["10.84.0.53"], "lease": "1h", "ranges": "all"}  # fmt: skip
    goes = network | {"gateway": "10.84.2.1", "subnet": "10.84.2.0/24"}
    server = {"uplink": {"address": "10.84.0.10/24"}}
    ends = [{"deck": network, "lounge": goes},
            {"deck": network | {"bindings": [own | {"dns": ["10.84.2.53"]}]}}]  # fmt: skip
    old, new = (
        reservoir.loads(text_of({
            "reservoir": 1,
            "devices": {"server": {"dialect": "merganser", "interfaces": in_zone(server),
                                   "zones": {"inside": {"admits": ["dhcp"]}}}},
            "networks": networks,
        }))
        for networks in ends
    )  # fmt: skip
    (made,) = reservoir.scripts(old, new)
    assert made.script is not None
    known = errors(folder, made.old, "merganser") | errors(folder, made.new, "merganser")
    for line, text in zip(made.script.lines, safe_states(made, "merganser")[1:], strict=True):
        assert errors(folder, text, "merganser") - known <= set(line.wrong), line.text


def in_zone(interfaces: Mapping[str, Mapping[str, Any]]) -> dict[str, Any]:
    """The interfaces, in the zone that a dialect may need for them to be served."""
    return {name: {**there, "zone": "inside"} for name, there in interfaces.items()}


@pytest.mark.parametrize("dialect", WITH_UNDO)
@meets("ten lines", "back from the middle")
@given(data=st.data())
@settings(max_examples=examples(200))
def test_it_is_safe_to_stop_after_each_statement(
    folder: Path, dialect: str, data: st.DataObject
) -> None:
    """The end does what is wanted; nothing is assignable under way that neither end assigns."""
    old, new = (reservoir.loads(text_of(plan)) for plan in data.draw(change(dialect)))
    for made in reservoir.scripts(old, new):
        assert made.script is not None
        states = safe_states(made, dialect)
        ends = walked(made.old, dialect), walked(made.new, dialect)
        assert same(folder, states[-1], made.new, dialect)
        stop = data.draw(st.integers(0, len(made.script.lines)))
        text = states[stop]
        if 0 < stop < len(made.script.lines):
            known = errors(folder, made.old, dialect) | errors(folder, made.new, dialect)
            assert errors(folder, text, dialect) - known <= set(made.script.lines[stop - 1].wrong)
        met("ten lines", len(made.script.lines) >= 10)
        met("back from the middle", 0 < stop < len(made.script.lines))
        for line in reversed(made.script.lines[:stop]):
            for statement in line.undo:
                text = given_to(text, statement, dialect)
                for subnet, addresses in walked(text, dialect).items():
                    assert addresses <= ends[0].get(subnet, set()) | ends[1].get(subnet, set())
        assert same(folder, text, made.old, dialect)


OF_TEXTS = {"line-not-understood", "goes-live-before-exclusions", "pool-empty"}
"""Rules about a block that isn't finished, the order of lines in a text, and what a gap is."""


def errors(folder: Path, text: str, dialect: str) -> set[tuple[str, str]]:
    """The errors that a check finds in what a configuration serves."""
    (folder / "server").write_text(text)
    reads = reservoir.read(folder / "server", dialect)
    served = {name for name, network in reads[0].effect.networks.items() if network.servers}
    found = (f for f in reservoir.check(reservoir.combine(reads)) if f.severity is Severity.ERROR)
    return {(f.rule, f.network or "") for f in found if f.network in served} - {
        (rule, name) for rule in OF_TEXTS for name in served
    }


def same(folder: Path, one: str, other: str, dialect: str) -> bool:
    """Whether two configurations of a device do the same."""
    if one == other:
        return True
    sides: list[Any] = []
    for name, text in (("one", one), ("other", other)):
        (folder / name).mkdir(exist_ok=True)
        (folder / name / "server").write_text(text)
        sides.append(reservoir.combine(reservoir.read(folder / name / "server", dialect)))
    return reservoir.compare(*sides).is_same


def test_scripts_as_people_get_them(run: Run, tmp_path: Path) -> None:
    """Statements with numbers and the way back; whole files where nothing undoes a line."""
    assert run("write", str(DEMO), "--out", "running", "-q").code == 0
    router = tmp_path / "running/pier-router.larkspur"
    text = router.read_text()
    now = text.replace("10.84.31.1 to 10.84.31.63", "10.84.31.1 to 10.84.31.39")
    router.write_text(now.replace("lease 43200", "lease 7200"))
    ended = run("compare", "running", str(DEMO), "--script", "change")
    assert ended.code == 0, ended.err
    assert "pier-router: 3 statements in pier-router.larkspur, the way back in undo-" in ended.err
    script = (tmp_path / "change/pier-router.larkspur").read_text()
    assert script == (
        "-- 3 statements for pier-router; it is safe to stop after each\n"
        "\n-- 1\npool ticketing\n  lease 43200\n"
        "\n-- 2\npool cameras\n  withhold 10.84.31.1 to 10.84.31.63\n"
        "\n-- 3\npool cameras\n  unsay withhold 10.84.31.1 to 10.84.31.39\n"
    )
    back = (tmp_path / "change/undo-pier-router.larkspur").read_text()
    assert back.endswith(
        "-- 2\npool cameras\n  unsay withhold 10.84.31.1 to 10.84.31.63\n"
        "\n-- 1\npool ticketing\n  lease 7200\n"
    )
    assert run("compare", str(DEMO), str(DEMO), "--script", "none").code == 0
    assert not (tmp_path / "none").exists()


REBOUND = """\
reservoir: 1
defaults: {dns: [10.84.0.53], lease: 12h}
devices: {depot: {dialect: %s, interfaces: {lan: {address: 10.84.30.1/24}}}}
networks:
  crew: {subnet: 10.84.30.0/24, gateway: 10.84.30.1, served_by: depot,
    ranges: [10.84.30.20-10.84.30.99],
    bindings: [{name: printer, address: 10.84.30.30, mac: "00:00:5e:00:53:%d"}]}
"""


@pytest.mark.parametrize(
    ("dialect", "statement", "undone"),
    [
        ("mortise", "reserve at=lan only=10.84.30.30", "void reserve at=lan only=10.84.30.30"),
        ("tamarack", "net crew :: hole at 10.84.30.30", "without net crew :: hole at 10.84.30.30"),
    ],
)
def test_an_address_that_another_client_gets_is_excluded_meanwhile(
    run: Run, tmp_path: Path, dialect: str, statement: str, undone: str
) -> None:
    """A new machine for an old one: while neither is bound, nobody else may get the address."""
    for name, client in (("old.yaml", 10), ("new.yaml", 11)):
        (tmp_path / name).write_text(REBOUND % (dialect, client))
    ended = run("compare", "old.yaml", "new.yaml", "--script", "change")
    assert ended.code == 0, ended.err
    assert "10.84.30.30 is excluded from statement 1 until 4" in ended.err
    given = (tmp_path / f"change/depot.{dialect}").read_text().splitlines()
    lines = [line for line in given if line and line[0] not in "~%"]
    assert (lines[0], lines[-1], len(lines)) == (statement, undone, 4)


WHOLE = """\
reservoir: 1
defaults: {dns: [10.84.0.53], lease: %s}
devices: {depot: {dialect: %s, interfaces: {lan: {address: 10.84.30.1/24}}}}
networks:
  crew: {subnet: 10.84.30.0/24, gateway: 10.84.30.1, served_by: depot,
    ranges: [10.84.30.20-10.84.30.99]}
"""


@pytest.mark.parametrize("dialect", [n for n in Library().names if n not in WITH_UNDO])
def test_files_that_are_replaced_as_a_whole(run: Run, tmp_path: Path, dialect: str) -> None:
    """The new one, and the old one as the way back."""
    for name, lease in (("old.yaml", "12h"), ("new.yaml", "6h")):
        (tmp_path / name).write_text(WHOLE % (lease, dialect))
    ended = run("compare", "old.yaml", "new.yaml", "--script", "change")
    assert ended.code == 0, ended.err
    assert "each the whole file" in ended.err
    found = [tmp_path / "change" / f"{undo}depot.{dialect}" for undo in ("", "undo-")]
    sides = [reservoir.combine(reservoir.read(file, dialect)) for file in found]
    planned = [reservoir.load(tmp_path / name) for name in ("new.yaml", "old.yaml")]
    for side, plan in zip(sides, planned, strict=True):
        assert [n.lease for n in side.plan.networks.values()] == [plan.plan.defaults.lease]


def test_lines_about_other_things_are_no_part_of_it(run: Run, tmp_path: Path) -> None:
    """What is not understood stays as it is, on either side; a mistyped line undoes nothing."""
    assert run("write", str(DEMO), "--device", "pier-router", "--out", "old", "-q").code == 0
    text = (tmp_path / "old/pier-router.larkspur").read_text()
    (tmp_path / "old/pier-router.larkspur").write_text(text + "snmp community quay\n")
    (tmp_path / "new").mkdir()
    other = text.replace("lease 43200", "lease 7200") + "clock zone harbour\n"
    (tmp_path / "new/pier-router.larkspur").write_text(other)
    ended = run("compare", "old", "new", "--script", "change")
    assert ended.code == 0, ended.err
    script = (tmp_path / "change/pier-router.larkspur").read_text()
    assert script.count("\n-- ") == 1
    assert "community" not in script
    assert "clock" not in script


MOVED = """\
reservoir: 1
defaults: {dns: [10.84.0.53], lease: %s}
devices:
  pier:
    dialect: larkspur
    interfaces: {deck: {address: 10.84.30.1/24%s}, uplink: {address: 10.84.0.1/24}}
  depot: {dialect: %s, interfaces: {lan: {address: 10.84.0.10/24}},
    routes: [{to: 0.0.0.0/0, via: 10.84.0.1}]}
networks:
  crew: {subnet: 10.84.30.0/24, gateway: 10.84.30.1, served_by: %s,
    ranges: [10.84.30.20-10.84.30.99]}
  lan: {subnet: 10.84.0.0/24, gateway: 10.84.0.1, served_by: depot, ranges: [10.84.0.100]}
"""


@pytest.mark.parametrize("dialect", ["fulmar", "tamarack"])
@pytest.mark.parametrize("with_leases", [False, True])
def test_a_network_that_moves_is_never_served_twice(
    run: Run, tmp_path: Path, dialect: str, with_leases: bool
) -> None:
    """Leases are shortened, then all moves but what somebody may have, then the rest."""
    relayed = ", relay_to: [10.84.0.10]"
    (tmp_path / "old.yaml").write_text(MOVED % ("12h", "", dialect, "pier"))
    (tmp_path / "new.yaml").write_text(MOVED % ("12h", relayed, dialect, "depot"))
    (tmp_path / "leases.csv").write_text(
        "mac,address\n00:00:5e:00:53:01,10.84.30.25\n00:00:5e:00:53:02,10.84.30.70\n"
    )
    listed = ("--leases", "leases.csv") if with_leases else ()
    ended = run("compare", "old.yaml", "new.yaml", "--script", "change", *listed)
    assert ended.code == 0, ended.err
    steps = (tmp_path / "change/steps.txt").read_text()
    assert "pier: leases of crew last 10m from now on" in steps
    assert "Then wait 12h: every client has renewed its lease, or lost it." in steps
    kept = "2 addresses" if with_leases else "80 addresses"
    assert f"crew moves from pier to depot, without {kept} that may have a lease" in steps
    assert ("0 of 80 addresses can be assigned for 10m;" in steps) == (not with_leases)
    assert ("78 of 80 addresses can be assigned for 10m, and" in steps) == with_leases
    assert "Then wait 10m: the last lease of the old servers has ended." in steps
    old, new = (reservoir.load(tmp_path / name) for name in ("old.yaml", "new.yaml"))
    leases = read_leases(str(tmp_path / "leases.csv")).leases if with_leases else None
    taken = {number_of("10.84.30.25"), number_of("10.84.30.70")}
    texts = {d: w.text for d in ("pier", "depot") for w in reservoir.write(old, [d])}
    for number, stage in enumerate(reservoir.stages(old, new, leases), start=1):
        for made in stage.scripts:
            for text in prefixes(made):
                texts[made.device] = text
                crew = [
                    walked(texts[device], of).get("10.84.30.0/24", set())
                    for device, of in (("pier", "larkspur"), ("depot", dialect))
                ]
                assert not crew[0] & crew[1] or (with_leases and not crew[0] & crew[1] & taken)
                if number < 3:
                    assert not crew[1] & (taken if with_leases else crew[1])
    final = [reservoir.write(new, [device])[0].text for device in ("pier", "depot")]
    for device, of, text in (("pier", "larkspur", final[0]), ("depot", dialect, final[1])):
        assert same(tmp_path, texts[device], text, of)


def test_leases_are_shortened_whatever_the_device_calls_the_network(
    run: Run, tmp_path: Path
) -> None:
    """A pool with another name than the plan's, read from the device, is the same network."""
    (tmp_path / "old.yaml").write_text(
        MOVED.replace("crew:", "watch:") % ("12h", "", "fulmar", "pier")
    )
    (tmp_path / "new.yaml").write_text(
        MOVED % ("12h", ", relay_to: [10.84.0.10]", "fulmar", "depot")
    )
    assert run("write", "old.yaml", "-o", "old", "-q").code == 0
    sides = ("--old", "old/pier.larkspur", "--old", "old/depot.fulmar", "--new", "new.yaml")
    ended = run("compare", *sides, "--script", "change")
    assert ended.code == 0, ended.err
    assert "pier: leases of watch last 10m from now on\n  pier: 1 statement in" in ended.err
    assert (tmp_path / "change/step-1/pier.larkspur").read_text().endswith("lease 600\n")


def prefixes(made: reservoir.DeviceScript) -> Iterator[str]:
    """A device's configuration after each statement; after the whole file."""
    text = made.old
    if made.script is None:
        yield made.new
        return
    for line in made.script.lines:
        text = given_to(text, line.text, made.dialect)
        yield text


def test_what_cannot_be_moved_safely_is_not(run: Run, tmp_path: Path) -> None:
    """Leases without end, unless a list tells whose; a new side that is no plan."""
    relayed = ", relay_to: [10.84.0.10]"
    (tmp_path / "old.yaml").write_text(MOVED % ("infinite", "", "fulmar", "pier"))
    (tmp_path / "new.yaml").write_text(MOVED % ("infinite", relayed, "fulmar", "depot"))
    ended = run("compare", "old.yaml", "new.yaml", "--script", "change")
    assert ended.code == 1
    assert "crew has leases without end at pier: --leases tells which" in ended.err
    assert "No script was written." in ended.err
    assert not (tmp_path / "change").exists()
    assert run("write", "new.yaml", "--out", "new", "-q").code == 0
    refused = run("compare", "old.yaml", "new", "--script", "change")
    assert refused.code == 1
    assert "the servers of crew change; give the new side as a plan" in refused.err


def test_the_new_relay_comes_before_the_old_one_goes(run: Run, tmp_path: Path) -> None:
    """So that requests are always heard; where an interface must be stated anew, a gap is told."""
    plan = (
        "reservoir: 1\ndevices:\n  pier: {dialect: %s, interfaces: {deck: {address: "
        "10.84.30.1/24, relay_to: [10.84.0.%d]}}}\n"
    )
    for name, last in (("old.yaml", 10), ("new.yaml", 11)):
        (tmp_path / name).write_text(plan % ("tamarack", last))
    assert run("compare", "old.yaml", "new.yaml", "--script", "change").code == 0
    script = (tmp_path / "change/pier.tamarack").read_text()
    assert script.index("port deck :: hands requests to 10.84.0.11") < script.index("without port")
    for name, last in (("old.yaml", 10), ("new.yaml", 11)):
        (tmp_path / name).write_text(plan % ("mortise", last))
    ended = run("compare", "old.yaml", "new.yaml", "--script", "other")
    assert "what deck relays is not served from statement 1 until 2" in ended.err


def test_what_has_no_script_is_said(run: Run, tmp_path: Path) -> None:
    """A device without a dialect, with another one, a new one, and one that is left behind."""
    devices = "{%s, pier: {interfaces: {deck: {address: 10.84.30.%d/24}}}}"
    old = "left: {}, box: {dialect: larkspur}"
    new = "more: {dialect: fulmar}, box: {dialect: mortise}"
    for name, others, last in (("old.yaml", old, 1), ("new.yaml", new, 2)):
        (tmp_path / name).write_text(f"reservoir: 1\ndevices: {devices % (others, last)}\n")
    told = run("compare", "old.yaml", "new.yaml", "--script", "change").err
    for said in (
        "more is new: `reservoir write` gives its configuration",
        "box has another dialect: `reservoir write` gives its configuration",
        "pier has no dialect: change its interfaces, zones and routes by hand",
        "left is not on the new side: it goes on doing what it does",
    ):
        assert f"Without a script: {said}." in told
