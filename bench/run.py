"""Measures check, write and read as ratios to a plain script, in one run on one machine.

Whole processes are timed, start-up included: what a user waits for.
"""

from __future__ import annotations

import subprocess
import sys
import tempfile
import time
from pathlib import Path

PROGRAM = Path(sys.executable).parent / "reservoir"
PLAIN_CHECK = Path(__file__).with_name("plain_check.py")
PLAIN_READ = Path(__file__).with_name("plain_read.py")
SIZES = (1_000, 10_000, 100_000)
PER_NETWORK = 20
ENOUGH = 10
"""Seconds after which a command isn't run again."""


def make_plan(folder: Path, bindings: int) -> None:
    """A plan with so many bindings, twenty a network, without mistakes."""
    plan = ["reservoir: 1", "defaults: {dns: [10.255.0.53], lease: 12h}", "devices:", "  server:"]
    plan += ["    dialect: larkspur", "    interfaces:", "      uplink: {address: 10.255.0.1/24}"]
    relay = ["  relay:", "    interfaces:"]
    networks, rows = ["networks:"], ["network,name,mac,address"]
    for number in range(bindings // PER_NETWORK):
        base = f"10.{number >> 8}.{number & 255}"
        relay.append(f"      p{number}: {{address: {base}.1/24, relay_to: [10.255.0.1]}}")
        networks += [
            f"  n{number}:",
            f"    subnet: {base}.0/24",
            f"    gateway: {base}.1",
            "    served_by: server",
            f"    ranges: [{base}.20-{base}.250]",
        ]
        for i in range(PER_NETWORK):
            mac = f"00:00:5e:{number >> 8:02x}:{number & 255:02x}:{i:02x}"
            rows.append(f"n{number},host-{number}-{i},{mac},{base}.{100 + 2 * i}")
    plan += [*relay, *networks, "bindings_from: [bindings.csv]"]
    (folder / "plan.yaml").write_text("\n".join(plan) + "\n")
    (folder / "bindings.csv").write_text("\n".join(rows) + "\n")


def seconds(folder: Path, *command: str | Path) -> float:
    """The best of three runs, or of as many as fit into some seconds."""
    taken: list[float] = []
    while len(taken) < 3 and sum(taken) < ENOUGH:
        start = time.perf_counter()
        subprocess.run(command, cwd=folder, check=True, capture_output=True)
        taken.append(time.perf_counter() - start)
    return min(taken)


def start_up(folder: Path) -> None:
    """What the program costs before it does anything."""
    bare = seconds(folder, sys.executable, "-c", "pass")
    print("command                    seconds   times `python -c pass`")
    for arguments in (["--version"], ["--help"]):
        taken = seconds(folder, PROGRAM, *arguments)
        print(f"reservoir {arguments[0]:<15} {taken:8.3f}   {taken / bare:8.1f}")
    click = seconds(folder, sys.executable, "-c", "import click")
    print(f"import click, alone       {click:8.3f}   {click / bare:8.1f}\n")


def main() -> None:
    """Print one table."""
    with tempfile.TemporaryDirectory() as name:
        start_up(Path(name))
    print("bindings   work     reservoir   plain script   plain / reservoir")
    for size in SIZES:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            make_plan(folder, size)
            ours = seconds(folder, PROGRAM, "check", "plan.yaml")
            theirs = seconds(folder, sys.executable, PLAIN_CHECK, "plan.yaml")
            print(f"{size:8,}   check   {ours:8.2f} s   {theirs:10.2f} s   {theirs / ours:10.2f}")
            ours = seconds(folder, PROGRAM, "write", "plan.yaml", "--force")
            print(f"{size:8,}   write   {ours:8.2f} s   {'-':>10}     {'-':>10}")
            file = "configuration/server.larkspur"
            ours = seconds(folder, PROGRAM, "read", file, "--out", "read.yaml")
            theirs = seconds(folder, sys.executable, PLAIN_READ, file)
            print(f"{size:8,}   read    {ours:8.2f} s   {theirs:10.2f} s   {theirs / ours:10.2f}")


if __name__ == "__main__":
    main()
