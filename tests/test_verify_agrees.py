"""``verify`` on the wire agrees with the rehearsal: random plans, on stand-ins and on the service.

Half of the devices were configured by another plan. Whether what they offer differs is told from
two rehearsals, without anything that judges.
"""

from __future__ import annotations

import ipaddress
import json
import random
import subprocess
import sys
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import pytest
import yaml

import many_verified
import real_host
from conftest import examples, program

pytestmark = pytest.mark.usefixtures("dhcp_clients")

DIALECTS = ("tamarack", "larkspur", "thimble", "fulmar", "capstan", "merganser", "mortise",
            "quillon", "linux-host")  # fmt: skip
OF_THE_PROTOCOL = {"54", "58", "59", "61"}


def random_plan(chance: random.Random, dialect: str) -> dict[str, Any]:
    """A plan with one network, which a device of this dialect serves."""
    starts = sorted(chance.sample(range(20, 200), 4))
    names = ["bell", "helm", "winch", "chart"][: chance.randrange(5)]
    free = chance.sample(range(201, 250), 4)
    crew: dict[str, Any] = {
        "subnet": "10.84.30.0/24",
        "gateway": many_verified.GATEWAY,
        "served_by": "pier",
        "ranges": [f"10.84.30.{starts[0]}-10.84.30.{starts[1] - 1}"],
        "bindings": [
            {"name": name, "mac": f"00:00:5e:00:53:{number:02x}", "address": f"10.84.30.{at}"}
            for number, (name, at) in enumerate(zip(names, free, strict=False), start=0x61)
        ],
    }
    is_host = dialect == "linux-host"  # which has one range
    port = "srv" if is_host else "deck"  # where the service is tried
    if chance.random() < 0.4 and not is_host:
        crew["ranges"].append(f"10.84.30.{starts[2]}-10.84.30.{starts[3]}")
    if chance.random() < 0.4 and not is_host:
        crew["exclusions"] = [f"10.84.30.{starts[0]}"]
    if chance.random() < 0.4 and dialect not in ("thimble", "merganser"):
        crew["options"] = {"ntp": ["10.84.0.123"]}
    if dialect == "fulmar" and chance.random() < 0.7:
        crew["by_class"] = {"phones": {"lease": chance.choice(["1h", "3h"])}}
    return {
        "reservoir": 1,
        "defaults": {
            "dns": chance.sample(["10.84.0.53", "10.84.1.53"], chance.choice([1, 2])),
            "domain": "sable.example",
            "lease": chance.choice(["20m", "1h", "12h"]),
        },
        "classes": {"phones": {"vendor_class": "harbour-phone*"}},
        "devices": {
            "pier": {
                "dialect": dialect,
                "interfaces": {port: {"address": f"{many_verified.GATEWAY}/24", "zone": "core"}},
                "zones": {"core": {"admits": ["dhcp"]}},
            }
        },
        "networks": {"crew": crew},
    }


def changed(chance: random.Random, plan: dict[str, Any]) -> dict[str, Any]:
    """The same with one thing otherwise; often nothing that a client is told."""
    other: dict[str, Any] = json.loads(json.dumps(plan))
    crew, defaults = other["networks"]["crew"], other["defaults"]
    what = chance.choice(["dns", "lease", "domain", "ranges", "exclude", "move", "lose", "name"])
    if what == "dns":
        defaults["dns"] = ["10.84.9.53"]
    elif what == "lease":
        defaults["lease"] = "5h"
    elif what == "domain":
        defaults["domain"] = "other.example"
    elif what == "ranges":
        crew["ranges"] = ["10.84.30.5-10.84.30.9"]
    elif what == "exclude" and plan["devices"]["pier"]["dialect"] != "linux-host":
        crew["exclusions"] = [crew["ranges"][0].split("-")[0]]
    elif crew["bindings"] and what == "move":
        crew["bindings"][-1]["address"] = "10.84.30.251"
    elif crew["bindings"] and what == "lose":
        del crew["bindings"][0]
    elif crew["bindings"]:
        crew["bindings"][0]["name"] = "renamed"
    return other


def assignable(plan: dict[str, Any]) -> set[str]:
    """What a client without a binding may get."""
    crew = plan["networks"]["crew"]
    found: set[str] = set()
    for text in crew["ranges"]:
        first, last = (int(ipaddress.ip_address(end)) for end in text.split("-"))
        found |= {str(ipaddress.ip_address(number)) for number in range(first, last + 1)}
    return found - set(crew.get("exclusions", [])) - {b["address"] for b in crew["bindings"]}


def differs(planned: dict[str, Any], running: dict[str, Any], free: set[str]) -> bool:
    """Whether a client is offered by one device what it isn't to be by the plan of the other."""
    if (planned["address"] is None) != (running["address"] is None):
        return True
    if planned["address"] is None:
        return False
    if running["address"] != planned["address"] and (
        planned["bound"] or running["address"] not in free
    ):
        return True
    its, others = (
        {code: data for code, data in one["options"].items() if code not in OF_THE_PROTOCOL}
        for one in (planned, running)
    )
    return bool(its != others) or planned["next_server"] != running["next_server"]


def test_random_plans_on_stand_ins() -> None:
    """What is seen is what was predicted; what isn't as planned is told, and nothing else is."""
    chance = random.Random(29)  # noqa: S311 - the same each time
    plans = []
    for number in range(examples(100)):
        plan = random_plan(chance, DIALECTS[number % len(DIALECTS)])
        plans.append((plan, changed(chance, plan) if number % 2 else plan))
    given = json.dumps([[yaml.safe_dump(one) for one in pair] for pair in plans])
    done = subprocess.run(
        ["unshare", "-n", sys.executable, many_verified.__file__],
        input=given,
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 0, done.stderr
    told = set()
    for (plan, running), one in zip(plans, json.loads(done.stdout), strict=True):
        planned, seen = one["found"]["planned"], one["found"]["seen"]
        expected = [f["reason"] for f in planned["failures"]]
        new = [f["reason"] for f in seen["failures"] if f["reason"] not in expected]
        free = assignable(plan)
        is_other = any(
            differs(its, other, free) for its, other in zip(*one["offered"], strict=True)
        )
        assert bool(new) == is_other, (plan, running, new, one["offered"])
        told.add(is_other)
        if not is_other:
            for key in ("clients", "served", "bindings_right", "gateway", "dns", "lease"):
                assert seen[key] == planned[key], (plan, key)
            assert [s["planned"] for s in one["found"]["servers"]] == [True] * bool(seen["served"])
    assert told == {True, False}


ASKING = """
ip netns exec client ip link set cli up
for _ in $(seq 50); do
  ip netns exec client ip link show cli | grep -q LOWER_UP && break; sleep 0.1
done
ip netns exec client "$PROGRAM" verify "$PLAN" --on cli --network crew --yes --format json || true
"""


@pytest.mark.usefixtures("network_service")
def test_random_plans_on_the_real_service(tmp_path: Path) -> None:
    """The operating system's own service, on what was written of one plan, asked about another."""
    chance = random.Random(30)  # noqa: S311 - the same each time
    pairs: list[tuple[dict[str, Any], dict[str, Any]]] = []
    folders = [tmp_path / str(number) for number in range(examples(12))]
    for folder in folders:  # one after the other: the program that is forked is no threads' matter
        folder.mkdir()
        plan = random_plan(chance, "linux-host")
        pairs.append((plan, changed(chance, plan) if len(pairs) % 2 else plan))
        for name, one in zip(("plan.yaml", "running.yaml"), pairs[-1], strict=True):
            (folder / name).write_text(yaml.safe_dump(one))
        ended = program(folder, "write", "running.yaml")
        assert ended.code == 0, ended.err
    with ThreadPoolExecutor(6) as threads:
        outcomes = list(threads.map(asked_of_service, folders))
    for found, pair in zip(outcomes, pairs, strict=True):
        seen = [f["reason"] for f in found["seen"]["failures"]]
        if pair[0] == pair[1]:
            assert seen == [], (pair, seen)
            for key in ("clients", "served", "bindings_right", "gateway", "dns", "lease"):
                assert found["seen"][key] == found["planned"][key], (pair, key)
        elif pair[0]["defaults"] != pair[1]["defaults"]:
            assert any("planned: " in reason for reason in seen), (pair, seen)


def asked_of_service(folder: Path) -> dict[str, Any]:
    """What ``verify`` finds of the plan where the service was configured by the other one."""
    configuration = folder / "configuration" / "pier.linux-host"
    installed = str(Path(sys.executable).parent / "reservoir")
    told = {"PROGRAM": installed, "PLAN": str(folder / "plan.yaml")}
    found = json.loads(real_host.run_beside(configuration, folder, ASKING, **told))
    network: dict[str, Any] = found["networks"][0]
    return network
