"""Measures each dialect's reading and writing by the line, and `write --into` as a whole.

As ratios to a bare loop that splits the same text into lines and each line into words.
"""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
import time
from pathlib import Path
from typing import Any

from lines import best

from reservoir import configuration_text
from reservoir.dialects.parse.reader import read_configuration
from reservoir.dialects.render.writer import write_configuration
from reservoir.dialects.sheet.library import Library

PROGRAM = Path(sys.executable).parent / "reservoir"
DIALECTS = ("fulmar", "larkspur", "linux-host", "merganser", "mortise", "quillon", "tamarack")
NETWORKS = 1_000


def plan(dialect: str, networks: int) -> dict[str, Any]:
    """A plan of networks with a range, an exclusion and a binding each, at one device."""
    bases = [f"10.{100 + number // 250}.{number % 250}" for number in range(networks)]
    ports = {f"port{number}": {"address": f"{base}.1/24"} for number, base in enumerate(bases)}
    named = {
        f"net-{number}": {
            "subnet": f"{base}.0/24",
            "gateway": f"{base}.1",
            "dns": ["10.84.0.53"],
            "lease": "8h",
            "served_by": ["pier"],
            "ranges": [f"{base}.20-{base}.99"],
            "exclusions": [] if dialect == "linux-host" else [f"{base}.40-{base}.44"],
            "bindings": [{"mac": f"00005e{number:06x}", "address": f"{base}.10"}],
        }
        for number, base in enumerate(bases)
    }
    device = {"dialect": dialect, "interfaces": ports}
    return {"reservoir": 1, "devices": {"pier": device}, "networks": named}


def measure(dialect: str, folder: Path) -> None:
    """Print one line of the table."""
    (folder / "plan.yaml").write_text(json.dumps(plan(dialect, NETWORKS)))
    write = [str(PROGRAM), "write", "plan.yaml"]
    subprocess.run([*write, "--out", "out"], cwd=folder, check=True, capture_output=True)
    file = folder / "out" / f"pier.{dialect}"
    text, sheet = configuration_text(str(file)), Library().sheet(dialect)
    bare = best(lambda: [line.split(" ") for line in text.split("\n")])
    reading = best(lambda: read_configuration(text, sheet))
    device = read_configuration(text, sheet).device
    writing = best(lambda: write_configuration(device, sheet))
    begun = time.perf_counter()
    subprocess.run(
        [*write, "--into", str(file), "--out", "new"], cwd=folder, check=True, capture_output=True
    )
    into = time.perf_counter() - begun
    lines = text.count("\n")
    print(
        f"{dialect:<10} {lines:>7,} {bare * 1e3:8.1f} ms   {reading / bare:6.0f}   "
        f"{writing / bare:7.0f}   {into / bare:7.0f}   {lines / reading:>9,.0f}"
    )


def main() -> None:
    """Print a table."""
    print("dialect      lines   bare loop   read   write   write --into   lines/s read")
    for dialect in DIALECTS:
        with tempfile.TemporaryDirectory() as folder:
            measure(dialect, Path(folder))


if __name__ == "__main__":
    main()
