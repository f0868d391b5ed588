"""Measures compare on two plans with many networks, bindings and leases; beside loading them alone.

All in one process, one after the other, so that the ratios hold on any machine.
"""

from __future__ import annotations

import resource
import tempfile
import time
from pathlib import Path

import reservoir
from reservoir.files.lease_list import read_leases

NETWORKS = 5_000
BINDINGS = 1_000_000
EACH = BINDINGS // NETWORKS


def written(folder: Path, name: str, dns: str, moved: int) -> Path:
    """A plan with its table; each so many bindings' address is another."""
    plan = ["reservoir: 1", f"defaults: {{dns: [{dns}], lease: 8h}}", "devices:"]
    networks, rows = ["networks:"], ["network,name,mac,address"]
    for number in range(NETWORKS):
        base = (10 << 24) + (number << 10)
        front = f"{base >> 24}.{base >> 16 & 255}"
        third = base >> 8 & 255
        if number % 50 == 0:
            plan.append(f"  core-{number // 50}: {{interfaces: {{")
        plan[-1] += f"p{number}: {{address: {front}.{third}.1/22}}, "
        if number % 50 == 49:
            plan[-1] += "}}"
        networks.append(
            f"  n{number}: {{subnet: {front}.{third}.0/22, gateway: {front}.{third}.1, "
            f"served_by: core-{number // 50}, "
            f"ranges: [{front}.{third + 1}.0-{front}.{third + 3}.200]}}"
        )
        for binding in range(EACH):
            serial = number * EACH + binding
            last = binding + 2 if serial % moved else 250
            mac = f"02:00:{serial >> 24:02x}:{serial >> 16 & 255:02x}"
            mac += f":{serial >> 8 & 255:02x}:{serial & 255:02x}"
            rows.append(f"n{number},host-{serial},{mac},{front}.{third}.{last}")
    file = folder / f"{name}.yaml"
    (folder / f"{name}.csv").write_text("\n".join(rows) + "\n")
    text = "\n".join([*plan, *networks, f"bindings_from: [{name}.csv]"]) + "\n"
    file.write_text(text)
    return file


def lease_list(folder: Path) -> Path:
    """As many leases as there are bindings, one in ten of them of a bound client."""
    rows = ["mac,address,expires"]
    for serial in range(BINDINGS):
        number, client = divmod(serial, EACH)
        address = (10 << 24) + (number << 10) + 256 + client
        front = f"{address >> 24}.{address >> 16 & 255}.{address >> 8 & 255}.{address & 255}"
        mac = f"04:00:{serial >> 24:02x}:{serial >> 16 & 255:02x}"
        mac += f":{serial >> 8 & 255:02x}:{serial & 255:02x}"
        rows.append(f"{mac},{front},2027-01-01T{serial % 24:02}:00:00+00:00")
    file = folder / "leases.csv"
    file.write_text("\n".join(rows) + "\n")
    return file


def main() -> None:
    """Print seconds and shares."""
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        files = [
            written(folder, "old", "10.255.0.53", 7),
            written(folder, "new", "10.255.0.54", 11),
        ]
        listed = lease_list(folder)
        start = time.perf_counter()
        old, new = (reservoir.load(file) for file in files)
        loaded = time.perf_counter()
        found = reservoir.compare(old, new)
        compared = time.perf_counter()
        leases = read_leases(str(listed)).leases
        noticed = reservoir.notices(old, new, leases, now=1_798_000_000)
        end = time.perf_counter()
    memory = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss // 1024
    changes = sum(len(network.changes) for network in found.networks)
    print(f"loading two plans         {loaded - start:6.1f} s")
    print(f"comparing them            {compared - loaded:6.1f} s   {changes:,} changes")
    print(f"{len(noticed):,} leases against  {end - compared:6.1f} s")
    print(f"as much as loading        {(end - loaded) / (loaded - start):6.1f} times")
    print(f"memory                    {memory:6,} MB")


if __name__ == "__main__":
    main()
