"""The yardstick: what a script does with the standard library alone, one address at a time.

``plain.py check networks.csv bindings.csv`` asks of each binding whether it lies in its subnet and
can be used, and whether its address, client or name is there twice; of the networks which overlap,
and how many addresses can be lent: a tenth of the questions of ``reservoir check``.
``plain.py read FILE`` takes pools, exclusions and bindings out of a larkspur configuration.
"""

from __future__ import annotations

import csv
import sys
from ipaddress import IPv4Address, IPv4Network
from pathlib import Path


def check(networks_file: str, bindings_file: str) -> str:
    """Count what is wrong, and what can be lent."""
    networks = {}
    with Path(networks_file).open() as stream:
        for row in csv.DictReader(stream):
            first, last = IPv4Address(row["first"]), IPv4Address(row["last"])
            networks[row["network"]] = (IPv4Network(row["subnet"]), first, last)
    subnets = [subnet for subnet, _, _ in networks.values()]
    wrong = sum(
        one.overlaps(other) for place, one in enumerate(subnets) for other in subnets[:place]
    )
    bound: dict[IPv4Address, str] = {}
    clients: dict[tuple[str, bytes], IPv4Address] = {}
    named: set[tuple[str, str]] = set()
    taken: dict[str, set[IPv4Address]] = {name: set() for name in networks}
    with Path(bindings_file).open() as stream:
        for row in csv.DictReader(stream):
            name, address = row["network"], IPv4Address(row["address"])
            client = bytes.fromhex(row["mac"].replace(":", ""))
            subnet = networks[name][0]
            wrong += address not in subnet
            wrong += address in (subnet.network_address, subnet.broadcast_address)
            wrong += bound.setdefault(address, row["name"]) != row["name"]
            wrong += clients.setdefault((name, client), address) != address
            wrong += (name, row["name"]) in named
            wrong += bool(client[0] & 1) or not any(client)
            named.add((name, row["name"]))
            taken[name].add(address)
    lendable = 0
    for name, (subnet, first, last) in networks.items():
        for address in subnet.hosts():
            lendable += first <= address <= last and address not in taken[name]
    return f"{wrong} wrong, {lendable} lendable"


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
    print(check(*sys.argv[2:4]) if sys.argv[1] == "check" else read(sys.argv[2]))
