"""Measures `compare --script`: the statements that change each network of a device, and back.

Each is applied, what the device then does is read and judged, and so is the way back. Ten times the
networks should take ten times as long, beside a comparison without a script.
"""

from __future__ import annotations

import json
import subprocess
import sys
import tempfile
import time
from pathlib import Path

from dialects import plan

PROGRAM = Path(sys.executable).parent / "reservoir"
DIALECTS = ("larkspur", "merganser", "mortise", "tamarack")
"""Those that can undo a line."""


def seconds(folder: Path, *arguments: str) -> float:
    """How long a run of the program takes."""
    begun = time.perf_counter()
    subprocess.run([str(PROGRAM), *arguments], cwd=folder, capture_output=True, check=True)
    return time.perf_counter() - begun


def main() -> None:
    """Print a table."""
    print("dialect     networks   statements   compare   with script   ms a statement")
    for dialect in DIALECTS:
        for networks in (100, 1_000):
            with tempfile.TemporaryDirectory() as name:
                folder = Path(name)
                text = json.dumps(plan(dialect, networks))
                (folder / "old.yaml").write_text(text)
                (folder / "new.yaml").write_text(text.replace('"8h"', '"4h"'))
                alone = seconds(folder, "compare", "old.yaml", "new.yaml")
                taken = seconds(folder, "compare", "old.yaml", "new.yaml", "--script", "change")
                [script] = (folder / "change").glob(f"pier.{dialect}")
                said = script.read_text().splitlines()[0]
                count = int(said.split(" statement")[0].split()[-1].replace(",", ""))
            each = (taken - alone) / count * 1e3
            counts = f"{dialect:<10} {networks:>9,} {count:>12,}"
            print(f"{counts} {alone:7.1f} s {taken:11.1f} s {each:16.1f}")


if __name__ == "__main__":
    main()
