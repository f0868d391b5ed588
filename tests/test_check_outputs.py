"""What `check` gives to other programs, and what it says of configuration."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from pathlib import Path
from xml.etree import ElementTree as ET

import jsonschema
import pytest

from conftest import Run
from reservoir.core.checks import rules

Put = Callable[[str, str], Path]

PLAN = """\
defaults: {dns: [10.84.0.53]}
devices:
  pier: {interfaces: {deck: {address: 10.84.30.1/24}, hold: {address: 10.84.31.1/24}}}
networks:
  crew & co:
    subnet: 10.84.30.0/24
    gateway: 10.84.3.1
    served_by: pier
    ranges: [10.84.31.20-10.84.31.99]
    demand: {devices: 40}
    static: [{name: "]]>&<b>`|*x*", address: 10.84.30.9}, {name: "@ops", address: 10.84.30.9}]
  shop:
    subnet: 10.84.31.0/24
    gateway: 10.84.31.1
    served_by: pier
    ranges: [10.84.31.1-10.84.31.99]
    lease: 90s
    demand: {devices: 40}
accept: [{rule: gateway-in-pool, at: networks.shop, because: "agreed | in *May*, see https://desk.example/#12"}]
"""

STANDARDS = Path(__file__).parent / "standards"


@pytest.fixture
def found(run: Run, put: Put) -> Callable[[str], str]:
    """The findings of the plan in one of the formats."""
    put("plan.yaml", PLAN)

    def in_format(form: str) -> str:
        ended = run("check", "plan.yaml", "--format", form)
        assert ended.code == 1
        assert ended.err == ""
        return ended.out

    return in_format


def test_sarif_is_what_the_standard_says(found: Callable[[str], str]) -> None:
    """The published schema holds; rules, places, causes, acceptances are where viewers look."""
    log = json.loads(found("sarif"))
    schema = json.loads((STANDARDS / "sarif-2.1.0.json").read_text())
    jsonschema.validate(log, schema, jsonschema.Draft202012Validator)
    with pytest.raises(jsonschema.ValidationError):
        jsonschema.validate({**log, "runs": [{}]}, schema, jsonschema.Draft202012Validator)
    (run,) = log["runs"]
    names = [rule["id"] for rule in run["tool"]["driver"]["rules"]]
    by_rule = {result["ruleId"]: result for result in run["results"]}
    for result in run["results"]:
        assert names[result["ruleIndex"]] == result["ruleId"]
    assert by_rule["gateway-outside-subnet"]["level"] == "error"
    assert by_rule["lease-too-short"]["level"] == "note"
    region = by_rule["gateway-outside-subnet"]["locations"][0]["physicalLocation"]["region"]
    assert region == {"startLine": 8, "startColumn": 14}
    related = by_rule["pool-empty"]["relatedLocations"][0]["message"]["text"]
    assert related.startswith("caused by range-outside-subnet")
    accepted = by_rule["gateway-in-pool"]["suppressions"]
    assert accepted == [
        {"kind": "external", "justification": "agreed | in *May*, see https://desk.example/#12"}
    ]


def test_junit_has_a_case_for_each_network_and_family(found: Callable[[str], str]) -> None:
    """Errors and warnings fail their case; advice and what is accepted don't."""
    root = ET.fromstring(found("junit"))  # noqa: S314 - our own output
    families = sorted({rule.family for rule in rules().values()})
    suites = {suite.get("name"): suite for suite in root}
    assert list(suites) == ["crew & co", "shop", "(plan)"]
    for suite in suites.values():
        assert sorted(str(case.get("name")) for case in suite) == families
    failed = {
        (suite.get("name"), case.get("name"))
        for suite in root
        for case in suite
        if case.find("failure") is not None
    }
    assert ("crew & co", "gateways") in failed
    assert ("shop", "gateways") not in failed
    assert ("shop", "capacity") not in failed
    assert root.get("failures") == str(len(failed))
    assert "lease-too-short" in "".join(root.itertext())
    assert "accepted: agreed | in *May*" in "".join(root.itertext())


def test_markdown_shows_texts_as_they_are(found: Callable[[str], str]) -> None:
    """No name becomes a heading, tag, bar, link or a message; consequences are indented."""
    text = found("markdown")
    assert "## crew \\& co 10.84.30.0/24" in text
    assert "\n  - **error** `pool-empty`" in text
    assert "\\]\\]\\>\\&\\<b\\>\\`\\|\\*x\\*" in text
    assert "## Accepted\n\n- `gateway-in-pool`" in text
    assert not re.search(r"(?<!\\)<", text)
    assert "`@ops`" in text
    assert "see `https://desk.example/#12`)" in text
    assert not re.search("@|://", re.sub(r"(?<!\\)`.*?`", "", text))


def test_many_findings_of_a_rule_are_counted(run: Run, put: Put) -> None:
    """Ten are shown one by one, the rest is counted, JSON has all of them."""
    put("plan.yaml", "networks: {crew: {subnet: 10.84.0.0/16}}\nbindings_from: [b.csv]\n")
    rows = [f"crew,h{n},00:00:5e:00:53:{n:02x},10.85.0.{n}" for n in range(1, 40)]
    put("b.csv", "network,name,mac,address\n" + "\n".join(rows) + "\n")
    shown = run("check", "plan.yaml", "--select", "binding-outside-subnet").out
    assert shown.count("error    ") == 10
    assert "And 29 more of binding-outside-subnet" in shown
    report = json.loads(run("check", "plan.yaml", "--format", "json").out)
    lines = [f["line"] for f in report["findings"] if f["rule"] == "binding-outside-subnet"]
    assert lines == list(range(2, 41))


def test_the_manual_of_all_rules_is_current(run: Run) -> None:
    """docs/checks.md is what `explain --all --format markdown` prints."""
    written = Path(__file__).parents[1] / "docs/checks.md"
    assert run("explain", "--all", "--format", "markdown").out == written.read_text()
    listed = run("explain").out.splitlines()
    assert [line.split()[1] for line in listed] == list(rules())
    assert run("explain", "--format", "markdown").code == 2


RUNNING = """\
unit pier
berth deck
  holds 10.84.30.1/24
pool crew
  withhold 10.84.30.1 to 10.84.30.19
  withhold 10.84.30.100 to 10.84.30.254
  gateway 10.84.3.1
  resolvers 10.84.0.53
  subnet 10.84.30.0/24
pin 10.84.30.9 to 01.00005e-005301 as printer
pin 10.84.30.9 to 01.00005e-005302 as scanner
"""


def test_configuration_is_checked_like_a_plan(run: Run, put: Put) -> None:
    """Each finding points to the line that says so, in the file of the device."""
    put("running/pier.cfg", RUNNING)
    checked = run("check", "running/pier.cfg")
    assert checked.code == 1
    assert "running/pier.cfg:7:1" in checked.out
    assert "gateway-outside-subnet" in checked.out
    assert re.search(r"binding-address-twice +running/pier\.cfg:11:1", checked.out)
    assert "mend" not in checked.err, "only a plan's file can be mended"
    piped = run("check", "-", "--dialect", "larkspur", stdin=RUNNING)
    assert re.search(r"gateway-outside-subnet +-:7:1", piped.out)


def test_a_device_that_is_not_given_is_no_mistake(run: Run, put: Put) -> None:
    """A server's configuration alone: the relays are unknown, not missing; in a plan they miss."""
    put("server.cfg", RUNNING.replace("berth deck\n  holds 10.84.30.1/24\n", ""))
    rules_found = ["--select", "paths", "--select", "gateway-unattended"]
    assert "No findings" in run("check", "server.cfg", *rules_found).out
    put("plan.yaml", run("read", "server.cfg").out)
    assert "server-not-reached" in run("check", "plan.yaml", *rules_found).out
    put("copy.cfg", RUNNING)
    both = run("check", "server.cfg", "copy.cfg")
    assert both.code == 2
    assert (
        "this is the configuration of pier, and so is copy.cfg; give only one of them" in both.err
    )


def test_what_runs_is_looked_at_beside_what_is_planned(run: Run, put: Put) -> None:
    """A device that serves a planned network is its second server; a plan's word counts."""
    put(
        "plan.yaml",
        "defaults: {dns: [10.84.0.53]}\n"
        "devices: {depot: {interfaces: {lan: {address: 10.84.30.2/24}}}}\nnetworks:\n  crew-new:\n"
        "    {subnet: 10.84.30.0/24, gateway: 10.84.30.1, served_by: depot, dns: [10.84.0.53],\n"
        "     ranges: [10.84.30.50-10.84.30.150], demand: {devices: 9}}\n",
    )
    put("pier.cfg", RUNNING.replace("10.84.3.1", "10.84.30.1"))
    alone = run("check", "plan.yaml", "--select", "pools-overlap")
    assert alone.code == 0
    both = run("check", "plan.yaml", "pier.cfg", "--select", "pools-overlap")
    assert both.code == 1
    assert "depot and pier may both assign 10.84.30.50-10.84.30.99" in both.out
    assert "crew-new  10.84.30.0/24, served by depot, pier" in both.out
    put("other.yaml", "networks: {}\n")
    assert "are both plans" in run("check", "plan.yaml", "other.yaml").err


def test_the_shell_completes_rules_and_networks(run: Run, put: Put) -> None:
    """Rules and families after --select; networks and devices of the plan after --at."""
    put("plan.yaml", PLAN)

    def completed(words: str, position: int) -> list[str]:
        ended = run(_RESERVOIR_COMPLETE="bash_complete", COMP_WORDS=words, COMP_CWORD=str(position))
        return [line.partition(",")[2] for line in ended.out.splitlines()]

    assert completed("reservoir check --select gateway-in", 3) == ["gateway-in-pool"]
    assert "networks.shop" in completed("reservoir check plan.yaml --at networks.", 4)
    assert completed("reservoir explain pool-e", 2) == ["pool-empty"]
