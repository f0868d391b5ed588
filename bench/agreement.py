"""Shows that the yardstick counts what Reservoir counts: on plans full of planted mistakes.

A yardstick that asked less, or answered wrongly, would measure nothing.
"""

from __future__ import annotations

import json
import random
import subprocess
import sys
import tempfile
from collections import Counter
from ipaddress import IPv4Address
from pathlib import Path
from typing import Any

from plain_check import check

PROGRAM = Path(sys.executable).parent / "reservoir"
PLANS, NETWORKS = 20, 60
MACS = ["00005e005301", "01005e005301", "02005e005301", "000000000000"]


def plan(chance: random.Random) -> tuple[dict[str, Any], str]:
    """A plan, and its table of bindings: /28 networks, most with something wrong."""

    def near(base: int) -> str:
        return str(IPv4Address(base + chance.choice([*range(16), -2, 17])))

    def span(base: int) -> str:
        return f"{near(base)}-{near(base)}"

    networks, interfaces, rows = {}, {}, ["network,name,mac,address"]
    for number in range(NETWORKS):
        base = int(IPv4Address("10.84.0.0")) + 16 * chance.choice([number, number, number, 3])
        network: dict[str, Any] = {
            "subnet": f"{IPv4Address(base)}/28",
            "ranges": [span(base) for _ in range(chance.randint(0, 2))],
            "exclusions": [span(base) for _ in range(chance.randint(0, 2))],
            "static": [{"name": f"s{number}", "address": near(base)}] * chance.randint(0, 1),
            "demand": {"devices": chance.randint(0, 12)},
        }
        if chance.random() < 0.9:
            network["served_by"] = "server"
        if chance.random() < 0.8:
            network["gateway"] = near(base)
        if chance.random() < 0.3:
            network["dns"] = [near(base)]
        networks[f"n{number}"] = network
        port: dict[str, Any] = {"address": f"{near(base)}/{chance.choice([28, 28, 27])}"}
        if chance.random() < 0.8:
            port["relay_to"] = ["198.18.0.1"]
        interfaces[f"p{number}"] = port
        for _ in range(chance.randint(0, 3)):
            mac = chance.choice([*MACS, f"00005e{chance.randrange(1 << 24):06x}"])
            name = chance.choice(["", "till", f"host-{number}"])
            rows.append(f"n{number},{name},{mac},{near(base)}")
    devices = {
        "server": {"interfaces": {"uplink": {"address": "198.18.0.1/24"}}},
        "relay": {"interfaces": interfaces},
    }
    told = {"reservoir": 1, "defaults": {"dns": ["198.18.0.1"]}, "devices": devices}
    told |= {"networks": networks, "bindings_from": ["bindings.csv"]}
    return told, "\n".join(rows) + "\n"


def main() -> None:
    """Compare the counts of each rule; end with 1 where they differ."""
    counted: Counter[str] = Counter()
    for seed in range(PLANS):
        told, table = plan(random.Random(seed))  # noqa: S311 - the same plans each time
        with tempfile.TemporaryDirectory() as name:
            file = Path(name) / "plan.yaml"
            file.write_text(json.dumps(told))
            file.with_name("bindings.csv").write_text(table)
            theirs, _ = check(str(file))
            command = (PROGRAM, "check", "plan.yaml", "--format", "json")
            done = subprocess.run(command, cwd=name, capture_output=True, text=True, check=False)
        findings = json.loads(done.stdout)["findings"]
        ours = Counter(finding["rule"] for finding in findings)
        differing = [rule for rule in theirs if theirs[rule] != ours[rule]]
        for rule in differing:
            print(f"plan {seed}: {rule}: the script {theirs[rule]}, reservoir {ours[rule]}")
        if differing:
            sys.exit(1)
        counted += theirs
    print(f"the plain script agrees: {counted.total():,} findings of {len(counted)} rules\n")


if __name__ == "__main__":
    main()
