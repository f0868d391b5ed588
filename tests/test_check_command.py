"""``reservoir check`` and ``explain`` as a user meets them."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest
from click import unstyle
from click.testing import CliRunner

import reservoir
from conftest import Run
from reservoir.cli.commands import reservoir as command_line
from reservoir.core.checks import rules, suggestions
from reservoir.core.findings import Severity
from reservoir.core.subject import Subject
from reservoir.reports.formats import pieces

Put = Callable[[str, str], Path]

MANUAL = Path(__file__).parents[1] / "docs/checks.md"
"""Every rule as `explain --all` prints it, which another test makes sure of."""

CREW = """\
devices:
  pier: {dialect: larkspur, interfaces: {deck: {address: 10.84.30.1/24}}}
networks:
  crew:
    subnet: 10.84.30.0/24
    gateway: 10.84.30.1
    served_by: pier
    dns: []
    demand: {devices: 40}
    ranges: [10.84.30.1-10.84.30.99]   # too early
"""


@pytest.mark.parametrize("name", sorted(rules()))
def test_every_rule_keeps_its_manual(name: str, put: Put) -> None:
    """The failing example is reported, the passing one isn't, and the manual shows both.

    Asked in the process: what the program says of findings, the tests below see.
    """
    rule = rules()[name]
    ending = "txt" if rule.dialect else "yaml"

    def subject_of(kind: str, example: str) -> Subject:
        *others, text = example.split("---\n")
        file = str(put(f"{kind}.{ending}", text + "\n"))
        if not rule.dialect:
            return reservoir.load(file)
        plans = [reservoir.load(put("plan.yaml", other)) for other in others if ": {" in other]
        devices = [str(put("other.txt", other)) for other in others if not plans]
        return reservoir.combine(reservoir.read([*devices, file], rule.dialect), *plans)

    failing = subject_of("failing", rule.failing)
    shown = "".join(pieces("text", reservoir.check(failing, select=[name]), failing, 100))
    assert f"{rule.severity.word:<8} {name}" in unstyle(shown)
    assert f"failing.{ending}:" in shown
    if rule.severity > Severity.ADVICE:
        assert "example " in shown, "a finding that nothing shows is advice at most"
    passing = subject_of("passing", rule.passing)
    assert not reservoir.check(passing, select=[name]).findings
    manual = MANUAL.read_text().partition(f"### {name}\n")[2].partition("\n### ")[0]
    assert manual.count("```") == 4
    for example in (rule.failing, rule.passing):
        assert all(line.strip() in manual for line in example.strip().splitlines())


def test_explain_says_what_why_and_how(run: Run) -> None:
    """The manual of one rule; a name that is none gets the nearest."""
    explained = run("explain", "gateway-in-pool").out
    assert explained.startswith("gateway-in-pool  error, family gateways\n\nThe gateway's address")
    assert "\nWhy: " in explained
    assert "\nRemedy: " in explained
    assert "\nReported:\n\n    networks:\n" in explained
    assert "did you mean pool-empty?" in run("explain", "pool-emty").err


def test_a_finding_says_where_what_why_and_how(run: Run, put: Put) -> None:
    """Place, message with the values, the case that shows it, the edit that puts it right."""
    put("plan.yaml", CREW)
    found = run("check", "plan.yaml")
    assert found.code == 1
    assert found.out == (
        "crew  10.84.30.0/24, served by pier\n"
        "error    gateway-in-pool"
        "                                                             plan.yaml:11:14\n"
        "         the gateway 10.84.30.1 is in the pool (range 10.84.30.1-10.84.30.99)\n"
        "         example  a client of crew can get 10.84.30.1, the gateway's address\n"
        "         fix      - 10.84.30.1-10.84.30.99  + 10.84.30.2-10.84.30.99\n\n"
        "1 error in 1 network on 1 device; 99 assignable addresses.\n"
    )
    assert "reservoir explain gateway-in-pool" in found.err


def test_json_has_every_field(run: Run, put: Put) -> None:
    """The fields that scripts rely on, with their values."""
    put("plan.yaml", CREW)
    report = json.loads(run("check", "plan.yaml", "--format", "json").out)
    assert report["command"] == "check"
    assert report["inputs"] == ["plan.yaml"]
    assert report["findings"] == [
        {
            "rule": "gateway-in-pool",
            "family": "gateways",
            "severity": "error",
            "message": "the gateway 10.84.30.1 is in the pool (range 10.84.30.1-10.84.30.99)",
            "at": "networks.crew.ranges[0]",
            "file": "plan.yaml",
            "line": 11,
            "column": 14,
            "witness": {
                "kind": "assigned",
                "network": "crew",
                "address": "10.84.30.1",
                "also": "gateway",
                "because": "gateway",
            },
            "suggestions": [
                {
                    "path": "networks.crew.ranges[0]",
                    "old": "10.84.30.1-10.84.30.99",
                    "new": "10.84.30.2-10.84.30.99",
                    "tried": True,
                }
            ],
            "proof": None,
            "cause": None,
            "accepted": None,
        }
    ]
    assert report["summary"] == {
        "errors": 1,
        "warnings": 0,
        "advice": 0,
        "accepted": 0,
        "networks": 1,
        "devices": 1,
        "assignable": 99,
    }


def test_one_mistake_is_one_finding(run: Run, put: Put) -> None:
    """What follows from a range in the wrong network is folded under it, with the likely typo."""
    plan = CREW.replace("10.84.30.1-10.84.30.99", "10.84.3.20-10.84.3.99")
    put("plan.yaml", plan)
    found = run("check", "plan.yaml")
    assert found.out.count("error    ") == 1
    assert "10.84.30.20-10.84.30.99 would be" in " ".join(found.out.split())
    assert "3 errors (2 caused by others) in 1 network" in found.out
    assert "causes   pool-undersized, pool-empty" in found.out
    causes = {
        f["rule"]: f["cause"] and f["cause"]["rule"]
        for f in json.loads(run("check", "plan.yaml", "--format", "json").out)["findings"]
    }
    assert causes == {
        "range-outside-subnet": None,
        "pool-empty": "range-outside-subnet",
        "pool-undersized": "range-outside-subnet",
    }


def test_one_wrong_end_of_a_range_is_one_finding(run: Run, put: Put) -> None:
    """It runs over the gateway and the network address; mending the end is all there is to do."""
    put("plan.yaml", CREW.replace("10.84.30.1-10.84.30.99", "10.84.3.20-10.84.30.99"))
    found = run("check", "plan.yaml")
    assert found.out.count("error    ") == 1
    assert "has 6,892 addresses outside 10.84.30.0/24" in found.out
    assert "causes   gateway-in-pool, range-takes-edge-address" in found.out
    mended = run("mend", "plan.yaml")
    assert "1 finding can be fixed" in mended.err
    assert "exclusions" not in mended.out


@pytest.mark.parametrize(
    ("options", "code", "mentions"),
    [
        (["--ignore", "gateways"], 0, "No findings"),
        (["--ignore", "gateway-in-pool"], 0, "No findings"),
        (["--select", "ranges"], 0, "No findings"),
        (["--at", "networks.cr*"], 1, "gateway-in-pool"),
        (["--at", "networks.crew.ranges[0]"], 1, "gateway-in-pool"),
        (["--at", "devices.pier"], 0, "No findings in the part that was checked"),
        (["--at", "networks.shop"], 2, "--at networks.shop matches nothing in the plan"),
        (["--at", "crew"], 2, "did you mean networks.crew?"),
        (["--fail-on", "never"], 0, "gateway-in-pool"),
        (["--select", "gatewais"], 2, "did you mean gateways?"),
    ],
)
def test_choosing_findings(
    options: list[str], code: int, mentions: str, run: Run, put: Put
) -> None:
    """Rules, families and paths choose; the exit status follows what is left."""
    put("plan.yaml", CREW)
    ended = run("check", "plan.yaml", *options)
    assert ended.code == code
    assert mentions in ended.out + ended.err


def test_what_is_in_a_table_is_found_under_its_network(run: Run, put: Put) -> None:
    """Each finding at a row of it, and none at the rows of another network."""
    put("plan.yaml", (
        'reservoir: 1\nchecks: {names: {bindings: "[a-z]+"}}\nbindings_from: [bound.csv]\n'
        "networks:\n  crew: {subnet: 10.84.30.0/24}\n  shop: {subnet: 10.84.31.0/24}\n"
    ))  # fmt: skip
    put("bound.csv", (
        "network,name,mac,address\ncrew,bell,00:00:5e:00:53:01,10.84.30.9\n"
        "shop,till 2,02:00:5e:00:53:02,10.84.3.9\nshop,till-2,02:00:5e:00:53:02,10.84.31.8\n"
    ))  # fmt: skip

    def at(*options: str) -> list[dict[str, Any]]:
        ended = run("check", "plan.yaml", "--format", "json", *options)
        found = json.loads(ended.out)["findings"]
        return [one for one in found if one["at"].startswith("bindings_from")]

    assert len(at()) > 5
    assert at("--at", "networks.shop") == at()
    assert at("--at", "networks.crew") == []


@pytest.mark.parametrize(
    ("lines", "code", "summary"),
    [
        ("accept: [{rule: gateway-in-pool, at: networks.crew, because: agreed}]", 0, "1 accepted"),
        (
            "accept: [{rule: gateway-in-pool, at: networks.crew, because: x, until: 2020-01-31}]",
            1,
            "1 error",
        ),
        ("checks: {severity: {gateway-in-pool: advice}}", 0, "1 piece of advice"),
    ],
)
def test_a_plan_may_accept_and_grade(
    lines: str, code: int, summary: str, run: Run, put: Put
) -> None:
    """An acceptance counts until its day is over; a severity may be another."""
    put("plan.yaml", CREW + lines + "\n")
    ended = run("check", "plan.yaml")
    assert ended.code == code
    assert summary in ended.out


def test_rows_of_tables_have_their_places(run: Run, put: Put) -> None:
    """A finding in a CSV row points to the cell, behind quoted cells and line ends too."""
    put(
        "plan.yaml",
        CREW.replace("10.84.30.1-", "10.84.30.20-")
        + "bindings_from: [tables/bindings.csv]\nstatic_from: [tables/static.csv]\n",
    )
    put(
        "tables/bindings.csv",
        "network,name,mac,address\n"
        'crew,"a ""long"", name",00:00:5e:00:53:01,10.84.30.40\n\n'
        "crew,second,0000.5e00.5302,10.84.30.40\n"
        "crew,third,00005E-005303,10.84.31.41\n",
    )
    put("tables/static.csv", "address,network,name\n10.84.30.50,crew,plotter\n")
    ended = run("check", "plan.yaml")
    assert "tables/bindings.csv:4:28" in ended.out
    assert "tables/bindings.csv:5:26" in ended.out
    assert "10.84.30.41 would be" in ended.out
    assert "tables/static.csv:2:13" in ended.out


def test_a_plan_in_several_files_and_from_a_pipe(run: Run, put: Put) -> None:
    """Findings in an included file point there; `-` is standard input."""
    devices, _, networks = CREW.partition("networks:\n")
    put("plan.yaml", devices + "include: [parts/networks.yaml]\n")
    put("parts/networks.yaml", "networks:\n" + networks)
    assert "parts/networks.yaml:9:14" in run("check", "plan.yaml").out
    piped = run("check", "-", stdin="reservoir: 1\n" + CREW)
    assert piped.code == 1
    assert "-:11:14" in piped.out


def test_colour_is_for_terminals(run: Run, put: Put) -> None:
    """A pipe gets none unless it is asked for; files never do; NO_COLOR is obeyed."""
    put("plan.yaml", CREW)
    assert "\x1b[" not in run("check", "plan.yaml").out
    assert "\x1b[" in run("check", "plan.yaml", "--color", "always").out
    assert "\x1b[" not in run("check", "plan.yaml", NO_COLOR="1").out
    run("check", "plan.yaml", "--color", "always", "--out", "found.txt")
    assert "\x1b[" not in (put("other.yaml", CREW).parent / "found.txt").read_text()
    assert run("check", "plan.yaml", "--quiet").err == ""


BOTH_WAYS = """\
defaults: {dns: [], lease: 8h}
devices: {pier: {interfaces: {deck: {address: 10.84.30.1/23}}}}
networks:
  crew:
    subnet: 10.84.30.0/24
    gateway: none
    served_by: pier
    ranges: [10.84.30.20-10.84.30.99]
    demand: {devices: 20}
"""


def test_what_is_said_to_be_none_is_not_missing(run: Run, put: Put) -> None:
    """No DNS servers by default and no gateway are the plan's word; two remedies are two ways."""
    put("plan.yaml", BOTH_WAYS)
    checked = run("check", "plan.yaml").out
    assert "1 error in 1 network" in checked
    assert "fix      - 10.84.30.1/23  + 10.84.30.1/24\n         or       networks.crew" in checked
    assert run("mend", "plan.yaml").err.startswith("Nothing to mend")


def test_what_follows_from_what_was_not_asked_for_names_it(run: Run, put: Put) -> None:
    """A cause that is left out is named with its place, so that the rest is not a riddle."""
    wrong = BOTH_WAYS.replace("10.84.30.1/23", "10.84.30.255/24")
    put("plan.yaml", wrong.replace("gateway: none", "gateway: 10.84.30.1"))
    assert "interface-edge-address" in run("check", "plan.yaml").out
    rest = run("check", "plan.yaml", "--ignore", "paths").out
    assert "gateway-unattended" in rest
    assert "due to   interface-edge-address, plan.yaml:3:47" in rest


def test_many_networks_with_one_subnet_are_each_reported_in_few_lines(run: Run, put: Put) -> None:
    """Five of the others are named, the rest counted: none is left out, none fills the screen."""
    networks = [f"  n{number}: {{subnet: 10.84.30.0/24}}" for number in range(8)]
    put("plan.yaml", "\n".join(["networks:", *networks]))
    checked = run("check", "plan.yaml", "--select", "networks-overlap", "--format", "json")
    by_network: dict[str, list[str]] = {}
    for finding in json.loads(checked.out)["findings"]:
        by_network.setdefault(finding["at"].split(".")[1], []).append(finding["message"])
    for number in range(1, 8):
        messages = by_network[f"n{number}"]
        assert len(messages) == min(number, 5)
        counts = re.findall(r"10.84.30.0 is in (\d) more network", " ".join(messages))
        assert counts == ([str(number - 5)] if number > 5 else [])


def test_suggestions_that_would_take_too_long_to_try_are_shown_as_such(
    put: Put, monkeypatch: pytest.MonkeyPatch
) -> None:
    """In each format: an engineer must not take for proven what nobody tried."""
    plan = put("plan.yaml", "networks: {crew: {subnet: 10.84.30.9/24, ranges: all}}\n")
    only = ("check", str(plan), "--select", "subnet-has-host-bits", "--format")

    def told(form: str) -> str:
        return CliRunner().invoke(command_line, [*only, form]).stdout

    forms = ("text", "markdown", "sarif", "json")
    tried = [told(form) for form in forms]
    monkeypatch.setattr(suggestions, "MOST_WORK", 0)
    for form, before in zip(forms, tried, strict=True):
        now = told(form)
        assert now.count("10.84.30.0/24") == before.count("10.84.30.0/24")
        sign = '"tried": false' if form == "json" else "(not tried"
        assert (before.count(sign), now.count(sign)) == (0, 1)
