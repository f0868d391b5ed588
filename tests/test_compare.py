"""Two sides compared by effect: what differs, who notices, and whether a rehearsal agrees."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import reservoir
from conftest import examples
from met import meets, met
from oracle import Walked, text_of, walk
from reservoir.core.compare.notice import NetworkCompared, Notice
from reservoir.core.problems import InputError
from reservoir.core.subject import Subject
from reservoir.core.values.addresses import format_address
from reservoir.core.values.clients import Mac
from reservoir.dialects.sheet.library import Library
from reservoir.files.lease_list import read_leases
from reservoir.rehearsal.clients.client import Client
from reservoir.rehearsal.judgement.result import NetworkRehearsed
from reservoir.rehearsal.messages.message import Option
from reservoir.rehearsal.wires.setting import connect_devices
from reservoir.rehearsal.wires.wires import Wires
from test_round_trip import benign_plan, plain_names
from test_scripts import change as changed_plan

DIALECTS = Library().names
FAR = 100_000.0
"""Seconds after which every lease of half a day is over, or renewed twice."""


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("compared")


# What differs.


@pytest.mark.parametrize("dialect", DIALECTS)
@given(data=st.data())
@settings(max_examples=examples(15))
def test_what_is_written_does_what_was_planned(
    folder: Path, dialect: str, data: st.DataObject
) -> None:
    """In every dialect, in both directions, and a plan with itself."""
    plan = reservoir.loads(text_of(data.draw(benign_plan(dialect, plain_names))))
    (folder / "server").write_text(reservoir.write(plan, ["server"])[0].text)
    running = reservoir.combine(reservoir.read(folder / "server", dialect))
    for old, new in ((plan, plan), (plan, running), (running, plan), (running, running)):
        found = reservoir.compare(old, new)
        assert found.is_same, [n.changes for n in found.differing]
        assert len(found.networks) == len(plan.plan.networks)


BOTH_ASSIGN = """\
reservoir: 1
devices:
  one: {dialect: larkspur, interfaces: {lan: {address: 10.84.50.2/24}}}
  two: {dialect: larkspur, interfaces: {lan: {address: 10.84.50.3/24}}}
networks:
  staff:
    subnet: 10.84.50.0/24
    gateway: 10.84.50.2
    lease: 8h
    dns: [10.84.0.53]
    bindings: [{name: bell, mac: 00:00:5e:00:53:01, address: 10.84.50.10}]
    served_by:
      - {device: one, ranges: [10.84.50.20-10.84.50.99]}
      - {device: two, ranges: [10.84.50.20-10.84.50.99]}
"""


FIRST_HALF = "ranges: [10.84.50.20-10.84.50.59"


def test_what_one_server_assigns_no_more_is_lost_though_another_assigns_it() -> None:
    """Its clients can't renew; both ways, a change is told."""
    fewer = BOTH_ASSIGN.replace(
        "one, ranges: [10.84.50.20-10.84.50.99", "one, ranges: [10.84.50.20-59"
    )
    old, new = reservoir.loads(BOTH_ASSIGN), reservoir.loads(fewer)
    (lost,) = reservoir.compare(old, new).networks[0].changes
    assert (lost.old, lost.new, lost.notice) == (
        "10.84.50.60-10.84.50.99 at one", None, Notice.NEW_ADDRESS,
    )  # fmt: skip
    (gained,) = reservoir.compare(new, old).networks[0].changes
    assert gained.notice is Notice.CONFLICT


def test_servers_of_one_network_are_held_against_each_other(folder: Path) -> None:
    """A binding that only one of them lacks: told by the checks, a rehearsal and a comparison."""
    apart = BOTH_ASSIGN.replace("two, ranges: [10.84.50.20", "two, ranges: [10.84.50.60")
    apart = apart.replace("one, ranges: [10.84.50.20-10.84.50.99", f"one, {FIRST_HALF}")
    files = {c.device: c.text for c in reservoir.write(reservoir.loads(apart))}
    lacking = "\n".join(line for line in files["one"].split("\n") if not line.startswith("pin"))
    sides = []
    for texts in (files, {**files, "one": lacking}):
        for name, text in texts.items():
            (folder / name).write_text(text)
        sides.append(reservoir.combine(reservoir.read([folder / "one", folder / "two"])))
    old, new = sides
    assert not reservoir.check(old, select=["bindings"]).findings
    (found,) = reservoir.check(new, select=["bindings"]).findings
    assert (found.rule, found.message) == (
        "binding-missing",
        "one doesn't bind 00:00:5e:00:53:01 to 10.84.50.10 in staff, but two does",
    )
    (network,) = reservoir.rehearse(new).networks
    assert [failure.rule for failure in network.failures] == ["binding-missing"]
    (change,) = reservoir.compare(old, new).networks[0].changes
    assert (change.what, change.new, change.notice) == ("binding of one", None, Notice.NEW_ADDRESS)
    (folder / "two").write_text(re.sub("(?m)^pin.*", "", files["two"]).replace("50.59", "50.9"))
    neither = reservoir.combine(reservoir.read([folder / "one", folder / "two"]))
    gone = {c.what: c for c in reservoir.compare(old, neither).networks[0].changes}["binding"]
    assert (gone.notice, gone.because) == (Notice.NEW_ADDRESS, "a lease of one can't be renewed")


ONE_SERVER = """\
reservoir: 1
devices:
  wall:
    dialect: DIALECT
    zones: {inner: {admits: [dhcp]}}
    interfaces: {lan: {address: 10.84.50.2/24, zone: inner}}
networks:
  staff:
    subnet: 10.84.50.0/24
    gateway: 10.84.50.2
    dns: [10.84.0.53]
    lease: 8h
    served_by: wall
    ranges: [10.84.50.20-10.84.50.99]
    bindings: [{name: bell, mac: 00:00:5e:00:53:01, address: 10.84.50.10}]
"""


@pytest.mark.parametrize(
    ("dialect", "right", "wrong", "change", "left_aside"),
    [
        (
            "larkspur",
            "withhold 10.84.50.1 to 10.84.50.19",
            "withhold 10.84.50.1 to 10.84.50.9",
            ("binding", "00:00:5e:00:53:01 10.84.50.10", None),
            "wall ignores binding bell: its address is not excluded",
        ),
        (
            "merganser",
            "    dns 10.84.0.53\n",
            "",
            ("server", "wall", None),
            "wall ignores pool staff: it has no DNS server",
        ),
    ],
)
def test_what_a_device_does_without_is_not_there_for_its_clients(
    folder: Path,
    dialect: str,
    right: str,
    wrong: str,
    change: tuple[str, str, str | None],
    left_aside: str,
) -> None:
    """A binding that it ignores, a pool that it refuses: compared by what it does."""
    (written,) = reservoir.write(reservoir.loads(ONE_SERVER.replace("DIALECT", dialect)))
    assert right in written.text
    sides = []
    for text in (written.text, written.text.replace(right, wrong)):
        (folder / "wall").write_text(text)
        sides.append(reservoir.combine(reservoir.read(folder / "wall", dialect)))
    found = reservoir.compare(*sides)
    assert change in [(c.what, c.old, c.new) for c in found.networks[0].changes]
    assert any(said.endswith(left_aside) for said in found.left_aside)


@pytest.mark.parametrize("dialect", ["larkspur", "merganser", "mortise", "quillon", "fulmar"])
def test_what_becomes_of_a_secondary_address_depends_on_the_family(dialect: str) -> None:
    """Planned so; a comparison says of the clients what a rehearsal does."""
    plan = ONE_SERVER.replace("DIALECT", dialect)
    second = plan.replace("address: 10.84.50.2/24", "address: [10.84.60.2/24, 10.84.50.2/24]")
    old, new = reservoir.loads(plan), reservoir.loads(second)
    (compared,), (rehearsed,) = (
        reservoir.compare(old, new).networks,
        reservoir.rehearse(new).networks,
    )
    assert (compared.worst is Notice.CUT_OFF) == bool(rehearsed.failures)
    assert {failure.rule for failure in rehearsed.failures} <= {"secondary-unserved"}


def test_a_secondary_address_in_configuration_leaves_bound_clients_only(folder: Path) -> None:
    """In a family that assigns there to nobody else: three ways to look at the same file."""
    plan = reservoir.loads(ONE_SERVER.replace("DIALECT", "merganser"))
    (written,) = reservoir.write(plan)
    held = "address 10.84.50.2 mask 255.255.255.0"
    second = written.text.replace(
        held, f"address 10.84.60.2 mask 255.255.255.0\n    besides{held[7:]}"
    )
    (folder / "wall").write_text(second)
    now = reservoir.combine(reservoir.read(folder / "wall", "merganser"))
    changes = reservoir.compare(plan, now).networks[0].changes
    assert ("assignable", Notice.CUT_OFF) in [(c.what, c.notice) for c in changes]
    (network,) = reservoir.rehearse(now).networks
    assert (network.bindings_right, network.served) == (1, 1)
    assert [failure.rule for failure in network.failures] == ["secondary-unserved"]


def test_a_refused_configuration_cuts_off_all_that_it_serves(folder: Path) -> None:
    """With a plan it is known that nothing leads to the new pool; of the file alone it isn't."""
    plan = reservoir.loads(ONE_SERVER.replace("DIALECT", "tamarack"))
    (written,) = reservoir.write(plan)
    (folder / "old").write_text(written.text)
    added = "".join(
        f"net crew :: {line}\n" for line in ("covers 10.84.60.0/24", "way out 10.84.60.1")
    )
    (folder / "new").write_text(f"{written.text}\n{added}")
    old, new = (reservoir.read(folder / name, "tamarack") for name in ("old", "new"))
    beside, alone = reservoir.combine(new, plan), reservoir.combine(new)
    (staff,) = (n for n in reservoir.compare(plan, alone).networks if n.name == "staff")
    assert [(change.what, change.notice) for change in staff.changes] == [("path", Notice.CUT_OFF)]
    assert not reservoir.compare(reservoir.combine(old), alone).networks[0].changes
    for subject, rules in ((beside, ["server-not-reached"]), (alone, [])):
        (network, *_) = reservoir.rehearse(subject).networks
        assert (network.network, [failure.rule for failure in network.failures]) == ("staff", rules)
        at_staff = reservoir.check(subject, at=["networks.staff"], select=["paths"]).findings
        assert [finding.rule for finding in at_staff] == rules


@st.composite
def edited(draw: st.DrawFn, text: str) -> str:
    """A configuration after somebody deleted a line, mistyped a digit, or swapped two lines."""
    lines = text.split("\n")
    alike: dict[str, list[int]] = {}  # so that a rare line is met as often as one of many bindings
    for place, line in enumerate(lines):
        if line.strip():
            alike.setdefault(re.sub("[0-9]+", "", line)[:12], []).append(place)
    places = st.sampled_from(list(alike.values())).flatmap(st.sampled_from)
    one, other, how = draw(places), draw(places), draw(st.sampled_from(["drop", "digit", "swap"]))
    if how == "drop":
        del lines[one]
    elif how == "swap":
        lines[one], lines[other] = lines[other], lines[one]
    else:
        digits = re.findall("[0-9]", lines[one])
        place = draw(st.integers(0, max(len(digits) - 1, 0)))
        new, count = iter([*digits[:place], str(draw(st.integers(0, 9))), *digits[place + 1 :]]), 0
        lines[one] = re.sub("[0-9]", lambda _: next(new), lines[one], count=count)
    return "\n".join(lines)


@meets("an edit that nobody notices", "an edit that somebody notices")
@given(dialect=st.sampled_from(DIALECTS), data=st.data())
@settings(max_examples=examples(80))
def test_whatever_an_edit_does_to_clients_a_comparison_tells(
    folder: Path, dialect: str, data: st.DataObject
) -> None:
    """Where a rehearsal of the file goes otherwise, it is no comparison without a difference."""
    plan = reservoir.loads(text_of(data.draw(benign_plan(dialect, plain_names))))
    (written,) = reservoir.write(plan, ["server"])
    sides: list[Subject] = []
    for text in (written.text, data.draw(edited(written.text))):
        (folder / "server").write_text(text)
        try:
            sides.append(reservoir.combine(reservoir.read(folder / "server", dialect)))
        except InputError:
            return
    compared = reservoir.compare(*sides)
    before, after = (reservoir.rehearse(side).networks for side in sides)
    if compared.not_understood:  # what a line does that isn't understood is not part of either
        return
    told = {network.name for network in compared.networks if network.worst is not Notice.NONE}
    for one, other in zip(before, after, strict=False):
        if one.network == other.network and one.served and not other.served:
            assert one.network in told
    met(f"an edit that {'somebody' if told else 'nobody'} notices")
    if compared.is_same:
        assert list(map(rehearsed, before)) == list(map(rehearsed, after))


def rehearsed(network: NetworkRehearsed) -> tuple[object, ...]:
    """What the clients of a network got."""
    counts = network.served, network.refused, network.bindings_right, network.filled
    offered = network.gateway, network.dns, network.lease
    return (network.network, *counts, *offered, network.span, len(network.failures))


def assignable_changes(network: NetworkCompared) -> tuple[set[int], set[int]]:
    """The addresses that the changes call lost, and those they call gained."""
    lost, gained = set[int](), set[int]()
    for change in network.changes:
        if change.what == "assignable":
            for text, found in ((change.old, lost), (change.new, gained)):
                for span in filter(None, (text or "").split(", ")):
                    found.update(walk(span if "-" in span else f"{span}-{span}"))
    return lost, gained


@meets("a network gained and lost", "a binding changed")
@given(old=benign_plan("larkspur", plain_names), new=benign_plan("larkspur", plain_names))
@settings(max_examples=examples(100))
def test_gained_and_lost_are_what_walking_both_plans_finds(
    old: dict[str, Any], new: dict[str, Any]
) -> None:
    """Address by address; what is only newly bound is told with its binding instead."""
    walked = [walked_networks(plan) for plan in (old, new)]
    found = reservoir.compare(*(reservoir.loads(text_of(plan)) for plan in (old, new)))
    for network in found.networks:
        if network.old is None or network.new is None:
            continue
        before, after = walked[0][network.old.name], walked[1][network.new.name]
        there = new["networks"][network.new.name]
        bound = {number(binding["address"]) for binding in there["bindings"]}
        fixed = {number(host["address"]) for host in there["static"]}
        fixed |= set(map(number, re.findall("([0-9.]+)/", str(new["devices"]))))
        lost, gained = assignable_changes(network)
        met("a network gained and lost", len(gained) > 0 and len(lost) > 0)
        assert gained == after - before
        assert before - after - bound <= lost <= before - after - (bound - fixed)
        rebound = {c.old for c in network.changes if c.what == "binding"}
        rebound |= {c.new for c in network.changes if c.what == "binding"}
        expected = set(bindings_of(old, network.old.name)) ^ set(bindings_of(new, network.new.name))
        met("a binding changed", len(expected) > 0)
        assert {text for text in rebound if text} == expected


def walked_networks(plan: dict[str, Any]) -> dict[str, set[int]]:
    return {pool.network: pool.assignable for pool in Walked(with_gaps(plan)).pools}


def with_gaps(plan: dict[str, Any]) -> dict[str, Any]:
    """The plan as the oracle knows plans: its interfaces are those of a device ``a``."""
    held = {
        f"{device}-{name}": interface
        for device, described in plan["devices"].items()
        for name, interface in described["interfaces"].items()
    }
    networks = {name: {"gateway": "none", **n} for name, n in plan["networks"].items()}
    for network in networks.values():
        network["served_by"] = ["a"]
    return {"devices": {"a": {"interfaces": held}}, "networks": networks}


def bindings_of(plan: dict[str, Any], name: str) -> Iterator[str]:
    for binding in plan["networks"][name]["bindings"]:
        yield f"{binding.get('mac') or binding['client_id']} {binding['address']}"


def number(address: str) -> int:
    return next(iter(walk(f"{address}-{address}")))


# Who notices.


class Lived:
    """Clients that get leases under one plan and live on under another."""

    def __init__(self, old: reservoir.OpenedPlan, new: reservoir.OpenedPlan) -> None:
        """Let them come, one after the other: whom the old plan binds, and six of no binding."""
        self.old, self.new = old, new
        self.wires = self._wired(old)
        self.clients: dict[str, list[Client]] = {}
        serial = 0
        for pools in old.pools.by_network:
            name = pools[0].name
            bound = [client for client, _ in old.pools.clients_bound(pools[0])]
            others = [Mac(0x5E005300 + n) for n in range(0xE0 + serial, 0xE6 + serial)]
            serial += 6
            for mac in [*(c for c in bound if isinstance(c, Mac)), *others]:
                client = Client(mac, self.wires)
                client.keeps = True
                self.wires.connect(client, name)
                client.switch_on()
                self.wires.clock.run(self.wires.clock.now + 10)
                if client.is_online:
                    self.clients.setdefault(name, []).append(client)

    def _wired(self, plan: reservoir.OpenedPlan) -> Wires:
        wires = Wires(plan.pools)
        connect_devices(wires, plan.pools, reservoir.served_by(plan))
        return wires

    def lease_list(self) -> str:
        """Who has what until when, by the clock of the wires."""
        rows = ["mac,address,expires"]
        for client in (c for clients in self.clients.values() for c in clients):
            assert client.acknowledged is not None
            seconds = client.acknowledged.number(Option.LEASE_TIME) or 0
            ends = "never" if seconds == 0xFFFFFFFF else f"{int(client._asked_at + seconds)}"
            rows.append(f"{client.mac},{format_address(client.address)},{ends}")
        return "\n".join(rows) + "\n"

    def change(self) -> None:
        """Let the devices serve what the new plan says; they remember what they still assign."""
        wires = self._wired(self.new)
        wires.clock = self.wires.clock
        for clients in self.clients.values():
            for client in clients:
                # On a LAN with two subnets it may have got an address of the other one.
                home = next(iter(self.new.pools.topology.networks_at(client.address, "")), None)
                client._surroundings = wires
                if home is None:
                    client.leave(releases=False)
                    continue
                wires.connect(client, home)
                wires.segment(home).online[client.address] = client
        for device, stand_in in wires.devices.items():
            before = self.wires.devices[device].server if device in self.wires.devices else None
            kept = [x for pool in before.leases.values() for x in pool] if before else []
            for leases in stand_in.server.leases.values() if stand_in.server else ():
                for lease in kept:
                    if lease.address in leases.free:
                        held = leases.hold(
                            lease.identifier, lease.mac, lease.address, lease.expires
                        )
                        leases.confirm(held, lease.expires)
        self.wires = wires


@st.composite
def of_half_a_day(draw: st.DrawFn, dialect: str) -> list[reservoir.OpenedPlan]:
    """Two plans whose leases end after half a day or never: no virtual year has to pass."""
    two = draw(changed_plan(dialect))
    for network in (network for plan in two for network in plan["networks"].values()):
        network["lease"] = "infinite" if network["lease"] == "infinite" else "12h"
    return [reservoir.loads(text_of(plan)) for plan in two]


@pytest.mark.parametrize("dialect", DIALECTS)
@meets("nothing to notice", "something to notice")
@given(data=st.data())
@settings(max_examples=examples(30))
def test_clients_live_on_as_was_predicted(folder: Path, dialect: str, data: st.DataObject) -> None:
    """Whoever has a lease under one plan keeps, changes or loses its address under the other."""
    old, new = data.draw(of_half_a_day(dialect))
    lived = Lived(old, new)
    (folder / "leases.csv").write_text(lived.lease_list())
    leases = read_leases(str(folder / "leases.csv")).leases
    now = lived.wires.clock.now
    told = reservoir.notices(old, new, leases, now=now)
    was = {int(leases.mac[each.row]): int(leases.address[each.row]) for each in told}
    lived.change()
    everybody = {int(c.mac): c for clients in lived.clients.values() for c in clients}
    for client in everybody.values():
        assert client.acknowledged is not None
        if client.acknowledged.number(Option.LEASE_TIME) == 0xFFFFFFFF and client.is_online:
            client.switch_on()  # a lease without end is asked for again by a restart only
    lived.wires.clock.run(now + FAR)
    met("nothing to notice", any(each.notice is Notice.NONE for each in told))
    met("something to notice", any(each.notice is not Notice.NONE for each in told))
    for each in told:
        client = everybody[int(leases.mac[each.row])]
        kept = client.is_online and client.address == was[int(client.mac)]
        if each.notice in (Notice.NONE, Notice.AT_RENEWAL):
            assert kept, each
        elif each.notice is Notice.NEW_ADDRESS:
            assert not kept, each
        elif each.notice is Notice.CUT_OFF:
            assert not client.is_online, each
