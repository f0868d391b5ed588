"""The law of the house: on the same input no two commands contradict each other.

No oracle: each command is held to what the others say of the same plans, sound and faulty, and of
the same files.
"""

from __future__ import annotations

from copy import deepcopy
from pathlib import Path
from typing import Any

import pytest
import yaml
from hypothesis import given, settings
from hypothesis import strategies as st

import reservoir
from conftest import examples
from met import meets, met
from oracle import plans, text_of
from reservoir import InputError
from reservoir.core.compare.notice import Notice
from reservoir.core.leases.table import LeaseTable
from reservoir.dialects.sheet.library import Library
from reservoir.files.lease_list import read_leases
from test_hearing import sites
from test_round_trip import benign_plan, plain_names
from test_sound_plans import SOUND

DIALECTS = Library().names
NOW = 1_000_000
OTHERWISE: dict[str, list[Any]] = {
    "lease": ["1h", "2h", "none"],
    "dns": [["10.84.0.53"], ["10.84.0.54"], [], "none"],
    "domain": ["none"],
    "next_server": ["none"],
    "options": [{"ntp": "none"}, {"ntp": ["10.84.0.123"]}],
    "ranges": ["all", ["10.84.1.7"], ["10.84.1.20-10.84.1.30"]],
    "bindings": [[]],
    "gateway": ["none"],
    "vlan": [7],
}
"""Values that a plan may have instead of its own."""
SOUND_PLANS: list[Any] = [yaml.safe_load(text) for text in SOUND.values()]
LEFT_OPEN = ("demand-unknown",)
"""Advice of a plan that says too little for a rule, which no client notices."""


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("laws")


@st.composite
def in_dialects(draw: st.DrawFn) -> dict[str, Any]:
    """A sound plan, one full of mistakes, or of ways; its devices in some dialect."""
    sound = st.sampled_from(SOUND_PLANS)
    plan: dict[str, Any] = deepcopy(draw(st.one_of(plans(), sites(), sound, sound)))
    for device in plan.get("devices", {}).values():
        if "dialect" not in device and draw(st.booleans()):
            device["dialect"] = draw(st.sampled_from(DIALECTS))
    return plan


@st.composite
def changed(draw: st.DrawFn, plan: dict[str, Any]) -> dict[str, Any]:
    """The plan with one thing otherwise: a field gone, another value, a network or device less."""
    kind = draw(st.sampled_from(["networks", "networks", "devices"]))
    names = sorted(plan.get(kind, ()))
    if not names:
        return plan
    name = draw(st.sampled_from(names))
    own: dict[str, Any] = dict(plan[kind][name])
    if kind == "devices":
        ports = own.get("interfaces", {})
        if not ports:
            return plan
        port = draw(st.sampled_from(sorted(ports)))
        enabled = "yes" if draw(st.booleans()) else "no"
        own["interfaces"] = {**ports, port: {**ports[port], "enabled": enabled}}
    else:
        field = draw(st.sampled_from(sorted(OTHERWISE)))
        own[field] = draw(st.sampled_from(OTHERWISE[field]))
    return {**plan, kind: {**plan[kind], name: own}}


def opened(plan: dict[str, Any]) -> reservoir.OpenedPlan | None:
    """The plan; None if it can't be loaded."""
    try:
        return reservoir.loads(text_of(plan))
    except InputError:
        return None


@meets("clean", "a failure", "something assumed")
@given(plan=in_dialects().flatmap(lambda plan: st.one_of(st.just(plan), changed(plan))))
@settings(max_examples=examples(250))
def test_what_a_check_passes_serves_its_clients(plan: dict[str, Any]) -> None:
    """No failure of a rehearsal, and nothing assumed, of a network that a check has nothing of."""
    subject = opened(plan)
    if subject is None:
        return
    told: set[str | None] = set()
    for finding in reservoir.check(subject, ignore=LEFT_OPEN):
        told |= {finding.network, *finding.concerns}
        if finding.at[:1] == ("devices",):  # what a device can't do, its networks feel
            told |= set(subject.plan.networks)
    for felt in reservoir.rehearse(subject, clients=1).networks:
        is_told = not told.isdisjoint({felt.network, *felt.lan})
        met("clean", not is_told)
        met("a failure", bool(felt.failures))
        met("something assumed", bool(felt.assumed))
        if not is_told:
            assert not felt.failures, felt.failures
            assert not felt.assumed


@meets("the same", "different")
@given(data=st.data())
@settings(max_examples=examples(150))
def test_plans_without_a_difference_do_the_same(folder: Path, data: st.DataObject) -> None:
    """They serve the same clients, a check finds as much, and nobody's lease is touched."""
    old = data.draw(in_dialects())
    new = data.draw(st.one_of(st.just(old), changed(old), changed(old)))
    one, other = opened(old), opened(new)
    if one is None or other is None:
        return
    compared = reservoir.compare(one, other)
    met("the same" if compared.is_same else "different")
    leases = some_leases(folder, one)
    notices = reservoir.notices(one, other, leases, now=NOW)
    worst = {each.network for each in notices if each.notice not in (None, Notice.NONE)}
    differing = {n.old.name for n in compared.networks if n.old is not None and n.changes}
    assert worst <= differing, (worst, differing)
    if compared.is_same:
        served = {pool.name for pool in one.pools if pool.server is not None}
        felt = [
            {
                each.network: (each.clients, each.served, each.span, bool(each.failures))
                for each in reservoir.rehearse(plan, clients=3).networks
                if each.network in served
            }
            for plan in (one, other)
        ]
        for name, there in felt[0].items():
            if there[0] == felt[1][name][0]:  # else a plan means others to come, whom nobody serves
                assert there == felt[1][name]


@meets("as planned", "otherwise")
@pytest.mark.parametrize("dialect", DIALECTS)
@given(data=st.data())
@settings(max_examples=examples(60))
def test_a_plan_and_files_are_held_together_alike(
    folder: Path, dialect: str, data: st.DataObject
) -> None:
    """`check PLAN FILES`, `compare PLAN FILES` and `compare` of what was written agree."""
    old = data.draw(benign_plan(dialect, plain_names))
    new = data.draw(st.one_of(st.just(old), changed(old), changed(old).flatmap(changed)))
    running, planned = opened(old), opened(new)
    if running is None or planned is None:
        return
    (text,) = (each.text for each in reservoir.write(running, ["server"]))
    (wanted,) = reservoir.write(planned, ["server"])
    if wanted.losses or wanted.obstacles:
        return
    files, written = (read(folder, name, one) for name, one in (("a", text), ("b", wanted.text)))
    compared = reservoir.compare(files, planned)
    if compared.left_aside:
        return  # what the device ignores is told by both, in words of its own
    is_same = compared.is_same
    met("as planned" if is_same else "otherwise")
    beside = reservoir.check(reservoir.combine(files.reads, planned))
    assert any(f.rule == "running-differs" for f in beside) == (not is_same)
    assert reservoir.compare(planned, files).is_same == is_same
    assert reservoir.compare(files, written).is_same == is_same


def read(folder: Path, name: str, text: str) -> Any:
    """What a device runs."""
    (folder / name).mkdir(exist_ok=True)
    (folder / name / "server").write_text(text)
    return reservoir.combine(reservoir.read(folder / name / "server"))


def some_leases(folder: Path, plan: reservoir.OpenedPlan) -> LeaseTable:
    """Leases of the first and last address of each pool, and of who is bound there."""
    rows = ["mac,address,server,expires"]
    for pool in plan.pools:
        if pool.server is not None and pool.assignable:
            for address in {pool.assignable.first, pool.assignable.last}:
                mac = f"02:00:00:00:{len(rows) >> 8:02x}:{len(rows) & 255:02x}"
                shown = reservoir.format_address(address)
                rows.append(f"{mac},{shown},{pool.server},{NOW + 3600}")
    (folder / "leases.csv").write_text("\n".join([*rows, ""]))
    return read_leases(str(folder / "leases.csv")).leases


IN_POOL = (
    "gateway-in-pool", "interface-in-pool", "static-in-pool", "infrastructure-in-pool",
    "binding-on-static",
)  # fmt: skip


@meets("clean", "conflicting")
@given(plan=in_dialects().flatmap(lambda plan: st.one_of(st.just(plan), changed(plan))))
@settings(max_examples=examples(150))
def test_a_map_marks_what_a_check_tells(plan: dict[str, Any]) -> None:
    """Where it marks an address, there is a finding about the network; and the other way round."""
    subject = opened(plan)
    if subject is None:
        return
    findings = reservoir.check(subject)
    told = {name for f in findings for name in (f.network, *f.concerns)}
    two = {(f.network, f.witness.address) for f in findings if f.witness and f.rule in IN_POOL}
    for one in reservoir.space(subject).networks:
        marked = one.kinds["conflicting"]
        met("conflicting" if marked else "clean")
        if marked:
            assert one.name in told, (one.name, marked)
        for name, address in two:
            if name == one.name and address is not None:
                assert address in marked or not one.subnet.hosts.holds(address)
