"""Pairs of servers: written, read back, rehearsed with one of them gone, checked and compared."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from conftest import Run, examples
from reservoir.core.off import Off
from reservoir.core.pairing import halves_of
from reservoir.dialects.sheet.library import Library
from reservoir.rehearsal.clients.client import Client
from test_rehearsal import switched_on, wired

Put = Callable[[str, str], Path]

PLAN = """\
reservoir: 1
defaults: {dns: [10.84.1.53], lease: 8h}
devices:
  pier:
    dialect: larkspur
    interfaces:
      deck: {address: 10.84.30.1/24, relay_to: [10.84.1.10, 10.84.2.10]}
      north: {address: 10.84.1.1/24}
      south: {address: 10.84.2.1/24}
    routes: [{to: 10.84.9.0/30, via: 10.84.1.10}]
  one:
    dialect: ONE
    interfaces:
      lan: {address: 10.84.1.10/24, zone: core}
      between: {address: 10.84.9.1/30, zone: core}
    zones: {core: {admits: [dhcp]}}
    routes: [{to: 10.84.30.0/24, via: 10.84.1.1}]
  two:
    dialect: TWO
    interfaces:
      lan: {address: 10.84.2.10/24, zone: core}
      between: {address: 10.84.9.2/30, zone: core}
    zones: {core: {admits: [dhcp]}}
    routes: [{to: 10.84.30.0/24, via: 10.84.2.1}]
networks:
  crew:
    subnet: 10.84.30.0/24
    gateway: 10.84.30.1
    served_by: SERVED
    ranges: [10.84.30.20-10.84.30.59]
    demand: {devices: 30}
    bindings: [{name: purser, mac: "00:00:5e:00:53:f1", address: 10.84.30.10}]
  north: {subnet: 10.84.1.0/24, served_by: [], static: [{name: ns, address: 10.84.1.53}]}
"""

LIBRARY = Library()
FAMILIES = {
    name: way for name in LIBRARY.names if (way := LIBRARY.sheet(name).trait("pair")) != "none"
}
"""The families that have pairs, and their ways."""


def plan_of(one: str, two: str = "", served: str = "{pair: [one, two]}") -> str:
    """The plan with these families."""
    return PLAN.replace("ONE", one).replace("TWO", two or one).replace("SERVED", served)


def test_families_have_different_ways() -> None:
    """Every way is shipped."""
    assert {*FAMILIES.values()} == {"one-active", "shared", "halves"}


@pytest.mark.parametrize("family", FAMILIES)
def test_a_pair_reaches_both_devices_and_comes_back(run: Run, put: Put, family: str) -> None:
    """As one, though either file names the other only by its address; alone, it is half known."""
    after = ", after: 2h" if LIBRARY.sheet(family).mentions("pool", "after") else ""
    put("plan.yaml", plan_of(family, served=f"{{pair: [one, two]{after}}}"))
    assert run("check", "plan.yaml").out.startswith("No findings"), run("check", "plan.yaml").out
    assert run("write", "plan.yaml", "-o", "made").code == 0
    files = sorted(str(path) for path in (put("made/x", "").parent).glob(f"*.{family}"))
    read = run("read", *files).out
    assert f"served_by: {{pair: [one, two]{after}}}" in read
    alone = run("read", files[1]).out
    assert f"served_by: {{device: two, partner: 10.84.9.1, leads: no{after}}}" in alone
    said = json.loads(run("check", files[1], "--format", "json").out)["findings"]
    assert ("partner-unknown", "advice") in {(f["rule"], f["severity"]) for f in said}
    options = [word for file in files for word in ("--new", file)]
    assert "No difference in 1 network" in run("compare", "plan.yaml", *options).out
    swapped = plan_of(family, served=f"{{pair: [two, one]{after}}}")
    put("swapped.yaml", swapped)
    assert "the pair of two and one" in run("compare", "plan.yaml", "swapped.yaml").out
    differing = run("check", "swapped.yaml", *files).out
    assert "is first of the pair with 10.84.9.2" in " ".join(differing.split())


@pytest.mark.parametrize("family", FAMILIES)
@pytest.mark.parametrize("gone", ["one", "two"])
def test_nobody_loses_an_address_while_one_is_gone(
    run: Run, put: Put, family: str, gone: str
) -> None:
    """The other one knows all leases; new clients are served too, and all go on afterwards."""
    put("plan.yaml", plan_of(family))
    ended = run("rehearse", "plan.yaml", "--without", gone, "--format", "json")
    assert ended.code == 0, ended.out
    (crew,) = json.loads(ended.out)["outage"]["networks"]
    assert (crew["lost"], crew["kept"], crew["back"]) == (0, 30, 30)
    assert crew["newcomer_served"]
    assert crew["newcomer"].endswith(f"from {'two' if gone == 'one' else 'one'}")
    sized = json.loads(run("size", "plan.yaml", "--without", gone, "--format", "json").out)
    by_halves = FAMILIES[family] == "halves"  # without a time, the other's are never taken over
    assert sized["networks"][0]["assignable"] == (20 if by_halves else 40)
    assert sized["networks"][0]["kept_for"] is None


@pytest.mark.parametrize(("one", "two"), [("larkspur", "larkspur"), ("fulmar", "tamarack")])
def test_what_cannot_be_a_pair_is_told_and_rehearsed_as_it_is(
    run: Run, put: Put, one: str, two: str
) -> None:
    """Two servers that know nothing of each other: from the plan, and from what was written."""
    put("plan.yaml", plan_of(one, two).replace("30.59]", "30.199]"))
    checked = run("check", "plan.yaml", "--prove")
    assert (checked.code, checked.out.count("not-expressible")) == (1, 2)
    why = "has no line for it" if one == two else f"it is a {one}, and two a {two}"
    assert why in " ".join(checked.out.split())
    assert run("write", "plan.yaml", "--despite-errors", "-o", "made").code == 0
    for source in ("plan.yaml", "made"):
        found = json.loads(run("rehearse", source, "--clients", "90", "--format", "json").out)
        (crew,) = found["networks"]
        assert crew["failure"]["rule"] in ("not-expressible", "pools-overlap")


@given(
    st.sampled_from(sorted(FAMILIES)),
    st.lists(st.sampled_from(["come", "leave", "one", "two", "between", "all"]), max_size=14),
)
@settings(max_examples=examples(60), deadline=None)
def test_two_in_step_never_assign_an_address_twice(family: str, steps: list[str]) -> None:
    """Whatever fails in between; who comes while one is reached knows of all leases.

    Only while both are on and don't reach each other may two clients get one address: each
    remembers what it did, and none forgets a lease when they meet again.
    """
    wires, pools = wired(plan_of(family))
    present: list[Client] = []
    number, were_apart = 0, False
    for step in steps:
        if step == "come":
            number += 1
            client = switched_on(wires, number)
            client.keeps = True
            present.append(client)
        elif step == "leave" and present:
            present.pop(0).leave(releases=True)
        else:
            names = (
                ()
                if step in ("all", "leave")
                else (f"one.{step}",)
                if step == "between"
                else (step,)
            )
            wires.switch_off(Off.of(names, pools.plan))
            were_apart |= step == "between"
        wires.clock.run(wires.clock.now + 200)
        held = [client.address for client in present if client.is_online]
        assert were_apart or len({*held}) == len(held), (family, steps)
    wires.switch_off(Off())
    known = [
        {address for leases in device.server.leases.values() for address in leases.by_address}
        for device in wires.devices.values()
        if device.server is not None and device.server.leases
    ]
    assert known[0] == known[1]
    assert {client.address for client in present if client.is_online} <= known[0]


def test_a_half_is_taken_over_only_after_its_time() -> None:
    """Before, the one that is left assigns its own half; each has one address more at most."""
    served = "{pair: [one, two], after: 30m}"
    wires, pools = wired(plan_of("tamarack", served=served))
    lower, upper = halves_of(pools[0].assignable)
    assert len(lower) == len(upper) == 20
    wires.switch_off(Off.of(["one"], pools.plan))
    first = [switched_on(wires, number) for number in range(16)]
    assert all(client.address in upper for client in first)
    wires.clock.run(wires.clock.now + 1800)
    later = [switched_on(wires, number) for number in range(20, 44)]
    got = {client.address for client in (*first, *later) if client.is_online}
    assert len(got) == 40
    assert got & {*lower.addresses().tolist()}


@pytest.mark.parametrize(
    ("two", "said"),
    [
        ("{device: two, partner: 10.84.1.10}", "both are the first"),
        ("{device: two, partner: 10.84.1.99}", "is 10.84.1.99"),
        ("{device: two}", "two names none"),
        ("", "two doesn't serve it"),
        ("{device: two, partner: 10.84.1.10, leads: no, after: 1h}", "they don't agree"),
        (
            "{device: two, partner: 10.84.1.10, leads: no, ranges: [10.84.30.20-50]}",
            "only one of them assigns 10.84.30.51-10.84.30.59",
        ),
    ],
)
def test_what_is_not_mutual_is_told(run: Run, put: Put, two: str, said: str) -> None:
    """With why; two servers that follow from it are folded."""
    served = ", ".join(filter(None, ("{device: one, partner: 10.84.2.10}", two)))
    text = plan_of("tamarack", served=f"[{served}]")
    put("plan.yaml", text)
    assert not wired(text)[0].in_step
    assert wired(plan_of("tamarack"))[0].in_step
    found = json.loads(run("check", "plan.yaml", "--format", "json").out)["findings"]
    (mutual,) = [f for f in found if f["rule"] == "pair-not-mutual" and said in f["message"]]
    assert mutual["cause"] is None
    others = [f for f in found if f["rule"] in ("two-servers", "pools-overlap")]
    assert all(f["cause"] is not None for f in others)


def test_a_pair_without_a_way_between_is_told(run: Run, put: Put) -> None:
    """Both go on alone, and both answer."""
    text = plan_of("tamarack")
    put("plan.yaml", text.replace("{address: 10.84.9.2/30", "{enabled: no, address: 10.84.9.2/30"))
    ended = json.loads(run("check", "plan.yaml", "--prove", "--format", "json").out)
    found = [f for f in ended["findings"] if f["rule"] == "partner-not-reached"]
    assert found
    put("fine.yaml", text)
    cut = run("rehearse", "fine.yaml", "--without", "one.between", "--format", "json")
    assert json.loads(cut.out)["outage"]["apart"] == [["one", "two"]]
    assert cut.code == 1
    assert run("check", "fine.yaml").out.startswith("No findings")


@pytest.mark.parametrize("family", FAMILIES)
def test_changes_of_a_pair_have_notices_and_stages(run: Run, put: Put, family: str) -> None:
    """Nobody notices a split that becomes a pair, nor who is left; one of both serves meanwhile."""
    split = "[{device: one, ranges: [10.84.30.20-39]}, {device: two, ranges: [10.84.30.40-59]}]"
    put("pair.yaml", plan_of(family))
    put(
        "split.yaml",
        plan_of(family, served=split).replace("    ranges: [10.84.30.20-10.84.30.59]\n", ""),
    )
    put("single.yaml", plan_of(family, served="one").replace(", 10.84.2.10]", "]"))
    put("later.yaml", plan_of(family).replace("lease: 8h", "lease: 6h"))
    begins = [
        "one names two as its partner, and goes on alone",
        "two begins, as the partner of one",
    ]
    ends = [
        "two stops; one, which knows the leases of both, goes on alone",
        "one no longer names two as its partner",
    ]
    changes = {
        ("single", "pair"): begins,
        ("pair", "single"): ends,
        ("split", "pair"): ["crew moves from one and two to one", *begins],
        ("pair", "split"): [*ends, "crew moves from one to two"],
    }
    for (old, new), told in changes.items():
        folder = f"{old}-{new}"
        ended = run("compare", f"{old}.yaml", f"{new}.yaml", "--script", folder)
        assert "what clients notice at worst: 1 none" in ended.out, ended.out
        assert ended.code == 0, ended.err
        steps = put(f"{folder}/x", "").parent.joinpath("steps.txt").read_text()
        places = [steps.index(sentence) for sentence in told]
        assert places == sorted(places)
    assert run("compare", "pair.yaml", "later.yaml", "--script", "change").code == 0
    assert not put("change/x", "").parent.joinpath("steps.txt").exists()


def test_a_pair_in_stages_needs_both_and_a_plan(run: Run, put: Put) -> None:
    """What isn't there can't be stopped; a new server is loaded from what is written."""
    put("pair.yaml", plan_of("tamarack"))
    put("single.yaml", plan_of("tamarack", served="one").replace(", 10.84.2.10]", "]"))
    for name in ("pair", "single"):
        assert run("write", f"{name}.yaml", "--despite-errors", "-o", name).code == 0
    sides = "--old", "single/one.tamarack"
    joined = run("compare", *sides, "--new", "pair.yaml", "--script", "a")
    assert "two begins, as the partner of one; load what `reservoir write` gives" in joined.err
    single = plan_of("tamarack", served="one").replace(", 10.84.2.10]", "]")
    put("before.yaml", single[: single.index("  two:")] + single[single.index("networks:") :])
    new = run("compare", "before.yaml", "pair.yaml", "--script", "d")
    assert (new.code, new.err.count("two begins, as the partner of one; load")) == (0, 1)
    assert "Without a script" not in new.err
    files = "pair/one.tamarack", "pair/two.tamarack"
    put("renamed.yaml", single.replace("  crew:", "  mess:"))
    old = "--old", files[0], "--old", files[1]
    renamed = run("compare", *old, "--new", "renamed.yaml", "--script", "f")
    assert (renamed.code, renamed.err.count("crew: two stops; one, which knows")) == (0, 1)
    gone = run(
        "compare", "--old", files[0], "--old", files[1], "--new", "before.yaml", "--script", "e"
    )
    assert (gone.code, gone.err.count("two stops; one, which knows the leases of both")) == (0, 1)
    assert "goes on doing what it does" not in gone.err
    alone = run("compare", "--old", files[0], "--new", "single.yaml", "--script", "c")
    assert alone.code == 1
    assert "one is in a pair with 10.84.9.2, and nothing that was given serves it" in alone.err
    both = run("compare", *sides, "--new", files[0], "--new", files[1], "--script", "b")
    assert both.code == 1
    assert "the servers of crew change; give the new side as a plan" in both.err


@pytest.mark.parametrize(
    ("served", "said"),
    [
        ("{pair: [one]}", "a pair is two devices"),
        ("{pair: [one, one]}", "a pair is two devices"),
        ("{pair: [one, two], partner: 10.84.2.10}", "a pair names both of its devices"),
        ("{device: one, after: 1h}", "after goes with pair"),
        ("{device: one, leads: no}", "leads goes with partner"),
        ("{pair: [one, two], after: $}", "'$' is not a duration"),
        ("{device: one, partner: two}", "'two' is not an IPv4 address"),
        ("{pair: [one, three]}", "three"),
    ],
)
def test_what_is_no_pair_is_refused(run: Run, put: Put, served: str, said: str) -> None:
    """With its place, found and expected."""
    put("plan.yaml", plan_of("tamarack", served=served))
    ended = run("check", "plan.yaml")
    assert ended.code == 2
    assert said in ended.err
