"""What follows from what: one mistake, and all that it leads to."""

from __future__ import annotations

from itertools import permutations

import pytest
from hypothesis import given
from hypothesis import strategies as st

from met import meets, met
from reservoir.core.checks.causes import causes
from reservoir.core.checks.rule import Rule, rules
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.plan.model import PlanPath

BASE = 0x0A540000

SOME_RULES = [
    rule
    for rule in rules().values()
    if (rule.follows or rule.follows_here or rule.follows_itself)
    or (rule.rests_on or rule.rests_here or rule.rests_at)
]
NETWORKS = ("crew", "shop")
ABOUT = st.sampled_from(
    [("networks", name) for name in NETWORKS] + [("devices", "pier", "interfaces", "deck")]
)


@st.composite
def findings(draw: st.DrawFn) -> Finding:
    """Findings of rules that name causes, and of those causes."""
    rule: Rule = draw(st.sampled_from(SOME_RULES))
    rests = {*rule.rests_on, *rule.rests_here}
    blaming = [other.name for other in rules().values() if rests.intersection(other.blames)]
    names = [rule.name, *rule.follows, *rule.follows_here, *blaming]
    witness = Witness("refused", draw(st.sampled_from(NETWORKS) | st.none()), address=BASE)
    concerns = draw(st.lists(st.sampled_from(NETWORKS), max_size=2)).copy()
    named, states = draw(st.sampled_from(names)), draw(st.sampled_from([(), ("range", "gateway")]))
    return Finding(
        named,
        "",
        Severity.ERROR,
        "",
        draw(ABOUT),
        witness,
        concerns=tuple(concerns),
        states=frozenset(states),
    )


@meets("one that follows", "two of one cause")
@given(st.lists(findings(), max_size=12))
def test_what_follows_has_a_cause_that_follows_from_nothing(found: list[Finding]) -> None:
    """Each has one or none, and something is always left to put right."""
    roots = causes(found, rules(), lambda _: ["pier"])
    assert len(roots) == len(found)
    assert (None in roots) == bool(found)
    follow = [root for root in roots if root is not None]
    met("one that follows", len(follow) > 0)
    met("two of one cause", len(set(follow)) < len(follow))
    for finding, root in zip(found, roots, strict=True):
        if root is not None:
            assert roots[root] is None
            assert rules()[finding.rule] in SOME_RULES


def of(rule: str, at: PlanPath, network: str | None = None, *states: str) -> Finding:
    """A finding of a rule, perhaps one of a line that was not understood."""
    witness = Witness("told-otherwise", network, also="may be")
    return Finding(rule, "", Severity.ERROR, "", at, witness, states=frozenset(states))


LINE: PlanPath = ("devices", "pier", "configuration", 7, 1)
EMPTY = of("pool-empty", ("networks", "crew"))


@pytest.mark.parametrize(
    ("unread", "follows"),
    [
        (of("line-not-understood", LINE, "crew", "range"), True),
        (of("line-not-understood", LINE, "shop", "range"), False),
        (of("line-not-understood", LINE, "crew", "gateway"), False),
        (of("line-not-understood", LINE, "crew"), False),
        (of("line-not-understood", LINE, None, "range"), True),
        (of("line-not-understood", ("devices", "depot", *LINE[2:]), None, "range"), False),
    ],
)
def test_a_line_that_was_not_understood_explains_what_it_may_have_said(
    unread: Finding, follows: bool
) -> None:
    """What rests on such a line: of the network, or of a device that touches it."""
    touching = {"crew": ["pier"], "shop": ["depot"]}
    for order in ([unread, EMPTY], [EMPTY, unread]):
        roots = causes(order, rules(), touching.__getitem__)
        root = roots[order.index(EMPTY)]
        assert (root == order.index(unread)) == follows


def a_rule(name: str, **words: tuple[str, ...]) -> Rule:
    """A rule of its own, which blames one thing and rests on another."""
    made = type(name, (Rule,), {"check": lambda _self, _site: iter(()), **words})
    return made()  # type: ignore[no-any-return]


BLAMES, RESTS = (a_rule("Blames", blames=("subnet",)), a_rule("Rests", rests_on=("subnet",)))
ITS_OWN = {"blames": BLAMES, "rests": RESTS}


def about(rule: str, network: str, *others: str) -> Finding:
    """A finding on one network, perhaps about others too."""
    at: PlanPath = ("networks", network)
    return Finding(rule, "", Severity.ERROR, "", at, None, concerns=tuple(others))


@pytest.mark.parametrize(
    ("blamed", "follower", "root"),
    [
        ([about("blames", "crew")], about("rests", "crew"), 0),
        ([about("blames", "shop")], about("rests", "crew"), None),
        # What is wrong between two networks explains only what concerns both of them.
        ([about("blames", "crew", "shop")], about("rests", "crew"), None),
        ([about("blames", "shop", "crew")], about("rests", "crew", "shop"), 0),
        # What concerns both follows from what is wrong with one, whichever it is,
        ([about("blames", "crew")], about("rests", "shop", "crew"), 0),
        ([about("blames", "shop")], about("rests", "shop", "crew"), 0),
        # but first from what is wrong between them.
        ([about("blames", "crew"), about("blames", "crew", "shop")],
         about("rests", "shop", "crew"), 1),
    ],
)  # fmt: skip
def test_a_cause_concerns_the_same_networks(
    blamed: list[Finding], follower: Finding, root: int | None
) -> None:
    """Or one of them, where nothing is blamed on both."""
    roots = causes([*blamed, follower], ITS_OWN, lambda _: [])
    assert roots == [None] * len(blamed) + [root]


def test_of_a_circle_the_first_is_the_cause_of_all() -> None:
    """Whichever it is that the walk begins with, and what hangs on the circle follows it too."""
    one = a_rule("One", blames=("subnet",), rests_on=("range",))
    two = a_rule("Two", blames=("range",), rests_on=("gateway",))
    three = a_rule("Three", blames=("gateway",), rests_on=("subnet",))
    known = {rule.name: rule for rule in (one, two, three, RESTS)}
    for order in permutations(known):
        roots = causes([about(name, "crew") for name in order], known, lambda _: [])
        first = next(number for number, name in enumerate(order) if name != "rests")
        assert roots == [None if number == first else first for number in range(len(order))]
