"""Measures reading and writing of configuration by the line, as ratios to a bare loop.

The bare loop splits the same text into lines and each line into words: what any reader has to do.
"""

from __future__ import annotations

import resource
import sys
import time
from collections.abc import Callable

from reservoir.dialects.parse.reader import read_configuration
from reservoir.dialects.render.writer import write_configuration
from reservoir.dialects.sheet.library import Library

LINES = 1_000_000


def configuration(lines: int) -> str:
    """Larkspur: nearly half pools of nine lines, the rest bindings, as a large site has them."""
    made = ["unit big", ""]
    pools = 0
    while len(made) < lines * 0.45:
        pools += 1
        net = f"{10 + (pools >> 16)}.{pools >> 8 & 255}.{pools & 255}"
        made += [
            f"pool net-{pools}",
            f"  withhold {net}.1 to {net}.19",
            f"  withhold {net}.200 to {net}.254",
            f"  gateway {net}.1",
            "  resolvers 10.84.0.53 10.84.1.53",
            "  domain sable.example",
            "  lease 43200",
            f"  subnet {net}.0/24",
            "",
        ]
    for number in range(lines - len(made)):
        pool = number % pools
        address = f"10.{pool >> 8 & 255}.{pool & 255}.{20 + number % 180}"
        identifier = f"01.{number >> 24:06x}.{number & 0xFFFFFF:06x}"
        made.append(f"pin {address} to {identifier} as host-{number}")
    return "\n".join(made) + "\n"


def best(work: Callable[[], object], times: int = 3) -> float:
    """The least of several times, in seconds: the machine's other work only ever adds."""
    taken = []
    for _ in range(times):
        begun = time.perf_counter()
        work()
        taken.append(time.perf_counter() - begun)
    return min(taken)


def main() -> None:
    """Print a line for each way."""
    text = configuration(int(sys.argv[1]) if len(sys.argv) > 1 else LINES)
    lines = text.count("\n")
    sheet = Library().sheet("larkspur")
    bare = best(lambda: [line.split(" ") for line in text.split("\n")])
    read = best(lambda: read_configuration(text, sheet))
    device = read_configuration(text, sheet).device
    write = best(lambda: write_configuration(device, sheet))
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1e6
    for what, seconds in (("bare loop", bare), ("read", read), ("write", write)):
        print(
            f"{what:<10} {seconds:6.2f} s  {lines / seconds:>10,.0f} lines/s  x{seconds / bare:.1f}"
        )
    print(f"{lines:,} lines, {peak:.2f} GB at most")


if __name__ == "__main__":
    main()
