"""The yardstick for `read`: what a script does with `ipaddress`, one line at a time.

It takes pools, exclusions and bindings out of a larkspur configuration, and counts them.
"""

from __future__ import annotations

import sys
from ipaddress import IPv4Address, IPv4Network
from pathlib import Path


def read(file: str) -> str:
    """Count pools, excluded addresses and bindings."""
    pools, excluded, bindings = 0, 0, 0
    with Path(file).open() as stream:
        for line in stream:
            words = line.split()
            if not words:
                continue
            if words[0] == "subnet":
                IPv4Network(words[1])
                pools += 1
            elif words[0] == "withhold":
                first, last = IPv4Address(words[1]), IPv4Address(words[-1])
                excluded += int(last) - int(first) + 1
            elif words[0] in ("gateway", "resolvers"):
                [IPv4Address(word) for word in words[1:]]
            elif words[0] == "pin":
                IPv4Address(words[1])
                bytes.fromhex(words[3].replace(".", ""))
                bindings += 1
    return f"{pools} pools, {excluded} excluded, {bindings} bindings"


if __name__ == "__main__":
    print(read(sys.argv[1]))
