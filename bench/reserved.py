"""Measures `check` on address space that is reserved to the last address: bindings by the million.

Whole processes on one core, start-up included, the better of two, beside the plain script of
``plain_check.py``. `reserved.py all` adds ten million bindings and all of the private IPv4 space
(17.9 million), which take minutes and some gigabytes. The last column leaves out what the script
takes to compare each network with each other and with each interface, as one writes it at first.
"""

from __future__ import annotations

import os
import resource
import subprocess
import sys
import tempfile
import time
from collections.abc import Iterator
from ipaddress import IPv4Address, IPv4Network
from pathlib import Path

PROGRAM = Path(sys.executable).parent / "reservoir"
PLAIN = Path(__file__).with_name("plain_check.py")
PRIVATE = ("10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16")


def networks(bindings: int, count: int) -> list[tuple[IPv4Network, int]]:
    """So many networks in 10.0.0.0/8 that hold the bindings, with the bindings of each."""
    each = -(-bindings // count)
    bits = 32 - (each + 40).bit_length()
    subnets = IPv4Network("10.0.0.0/8").subnets(new_prefix=bits)
    return [(next(subnets), min(each, bindings - n * each)) for n in range(count)]


def whole_space() -> list[tuple[IPv4Network, int]]:
    """All private space in /19, every address but router and edges bound."""
    blocks = [IPv4Network(prefix) for prefix in PRIVATE]
    subnets = [subnet for block in blocks for subnet in block.subnets(new_prefix=19)]
    return [(subnet, subnet.num_addresses - 3) for subnet in subnets]


def make(folder: Path, sizes: list[tuple[IPv4Network, int]]) -> int:
    """A plan of these networks, and its table of bindings.

    A network whose addresses are all bound assigns nothing besides.
    """
    plan = ["reservoir: 1", "defaults: {dns: [198.18.0.53], lease: 12h}", "devices:", "  server:"]
    plan += ["    interfaces: {uplink: {address: 198.18.0.1/24}}"]
    plan += ["    routes: [{to: 0.0.0.0/0, via: 198.18.0.2}]", "  relay:", "    interfaces:"]
    body = ["networks:"]
    for number, (subnet, bound) in enumerate(sizes):
        router = subnet[1]
        plan.append(f"      p{number}: {{address: {router}/{subnet.prefixlen},")
        plan.append("        relay_to: [198.18.0.1]}")
        body += [f"  n{number}:", f"    subnet: {subnet}", f"    gateway: {router}"]
        body.append("    served_by: server")
        if bound < subnet.num_addresses - 3:
            body.append(f"    ranges: [{subnet[2]}-{subnet[-2]}]")
        body += [f"    demand: {{devices: {bound // 2}}}"]
    plan += [*body, "bindings_from: [bindings.csv]"]
    (folder / "plan.yaml").write_text("\n".join(plan) + "\n")
    with (folder / "bindings.csv").open("w") as stream:
        stream.write("network,name,mac,address\n")
        for number, (subnet, bound) in enumerate(sizes):
            stream.writelines(rows(number, subnet, bound))
    return sum(bound for _, bound in sizes)


def rows(number: int, subnet: IPv4Network, bound: int) -> Iterator[str]:
    """The bindings of one network; MAC addresses follow the addresses."""
    first = int(subnet[2])
    for address in range(first, first + bound):
        mac = f"00005e{address & 0xFFFFFF:06x}"
        mac = ":".join(mac[at : at + 2] for at in range(0, 12, 2))
        yield f"n{number},host-{address:08x},{mac},{IPv4Address(address)}\n"


def measured(folder: Path, *command: str | Path) -> tuple[float, float, str]:
    """Seconds and gigabytes of a command on one core, the better of two runs, and what it said."""
    return min(_once(folder, *command) for _ in range(2))


def _once(folder: Path, *command: str | Path) -> tuple[float, float, str]:
    start = time.perf_counter()
    with tempfile.TemporaryFile("w+") as said:
        ended = subprocess.Popen(
            command,
            cwd=folder,
            stdout=said,
            stderr=subprocess.DEVNULL,
            preexec_fn=lambda: os.sched_setaffinity(0, {0}),  # noqa: PLW1509 - nothing else runs
        )
        _, status, used = os.wait4(ended.pid, 0)
        taken = time.perf_counter() - start
        if status:
            raise SystemExit(f"{command} ended with {status}")
        said.seek(0)
        kilobytes: float = used.ru_maxrss
        return taken, kilobytes / 1e6, said.read()


def main() -> None:
    """Print one table."""
    resource.setrlimit(resource.RLIMIT_CORE, (0, 0))
    cases = [networks(100_000, 500), networks(1_000_000, 5_000)]
    if sys.argv[1:] == ["all"]:
        cases += [networks(10_000_000, 5_000), whole_space()]
    elif sys.argv[1:] == ["whole"]:
        cases = [whole_space()]
    print("  bindings   networks   check        memory     plain script   plain / check   no pairs")
    for case in cases:
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            count = make(folder, case)
            ours, memory, _ = measured(folder, PROGRAM, "check", "plan.yaml")
            line = f"{count:10,}   {len(case):8,}   {ours:6.1f} s   {memory:6.2f} GB"
            if count <= 10_000_000:
                script = (sys.executable, PLAIN, "plan.yaml")
                theirs, _, said = measured(folder, *script)
                pairs = float(said.splitlines()[-1].split()[0])  # as plain_check.py says last
                line += (
                    f"   {theirs:9.1f} s   {theirs / ours:10.1f}   {(theirs - pairs) / ours:13.1f}"
                )
            print(line, flush=True)


if __name__ == "__main__":
    main()
