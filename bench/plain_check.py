"""The yardstick for `check`: what sets decide in a plan, asked with `ipaddress` in plain loops.

A script as an engineer writes it in an afternoon: it loads the same files and counts the findings
of some thirty rules, less than half of all, for plans with one VRF, one server a network and
ranges of their own. It names no place, no witness and no remedy. That it counts what Reservoir
counts, ``agreement.py`` shows on plans full of mistakes.
"""

from __future__ import annotations

import csv
import json
import sys
import time
from collections import Counter, defaultdict
from collections.abc import Generator, Iterator
from dataclasses import dataclass, field
from ipaddress import IPv4Address, IPv4Interface, IPv4Network
from itertools import combinations
from pathlib import Path
from typing import Any

import yaml

Pair = tuple[IPv4Address, IPv4Address]


@dataclass(frozen=True)
class Port:
    """An interface of a device."""

    device: str
    address: IPv4Interface
    relay_to: list[IPv4Address]


@dataclass
class Net:
    """A network, and what is in it."""

    name: str
    subnet: IPv4Network
    gateway: IPv4Address | None
    server: str | None
    ranges: list[Pair]
    exclusions: list[Pair]
    static: list[tuple[str, IPv4Address]]
    wanted: int
    dns: list[IPv4Address]
    bindings: list[tuple[str, bytes, IPv4Address]] = field(default_factory=list)
    assignable: set[IPv4Address] = field(default_factory=set)
    ports: list[Port] = field(default_factory=list)

    def is_host(self, address: IPv4Address) -> bool:
        """Whether a machine can have the address."""
        edges = (self.subnet.network_address, self.subnet.broadcast_address)
        return address in self.subnet and address not in edges


def load(file: str) -> tuple[list[Net], list[Port]]:
    """The networks and the devices' interfaces of a plan."""
    plan = yaml.load(Path(file).read_text(), Loader=yaml.CSafeLoader)
    dns = plan.get("defaults", {}).get("dns", [])
    networks = {name: network(name, told, dns) for name, told in plan["networks"].items()}
    for table in plan.get("bindings_from", []):
        with Path(file).with_name(table).open() as stream:
            for row in csv.DictReader(stream):
                client = bytes.fromhex(row["mac"].replace(":", ""))
                bound = row["name"], client, IPv4Address(row["address"])
                networks[row["network"]].bindings.append(bound)
    ports = [
        Port(name, IPv4Interface(it["address"]), [*map(IPv4Address, it.get("relay_to", []))])
        for name, device in plan["devices"].items()
        for it in device["interfaces"].values()
    ]
    return list(networks.values()), ports


def network(name: str, told: dict[str, Any], dns: list[str]) -> Net:
    """One network as the plan tells of it."""
    return Net(
        name,
        IPv4Network(told["subnet"]),
        IPv4Address(told["gateway"]) if "gateway" in told else None,
        told.get("served_by"),
        [pair(text) for text in told.get("ranges", [])],
        [pair(text) for text in told.get("exclusions", [])],
        [(host["name"], IPv4Address(host["address"])) for host in told.get("static", [])],
        told.get("demand", {}).get("devices", 0),
        [IPv4Address(text) for text in told.get("dns", dns)],
    )


def pair(text: str) -> Pair:
    """First and last address of a range."""
    first, _, last = text.partition("-")
    return IPv4Address(first), IPv4Address(last or first)


def addresses(some: Pair) -> Iterator[IPv4Address]:
    """Every address of a range."""
    first, last = some
    while first <= last:
        yield first
        first += 1


def of_ranges(net: Net) -> Iterator[str]:
    """What is wrong with ranges and exclusions; fills in what can be assigned."""
    hosts: set[IPv4Address] = set()
    for some in net.ranges:
        every = list(addresses(some))
        if not every:
            yield "range-reversed"
        if any(address not in net.subnet for address in every):
            yield "range-outside-subnet"
        for address in every:
            if net.is_host(address):
                hosts.add(address)
            elif address in net.subnet:
                yield "range-takes-edge-address"
    filled = [some for some in net.ranges if some[0] <= some[1]]
    for one, other in combinations(filled, 2):
        if one[0] <= other[1] and other[0] <= one[1]:
            yield "ranges-overlap"
    excluded = yield from of_exclusions(net, hosts)
    net.assignable = hosts - excluded - {address for _, _, address in net.bindings}
    if not net.assignable and (net.ranges or (net.server and not net.bindings)):
        yield "pool-empty"


def of_exclusions(net: Net, hosts: set[IPv4Address]) -> Generator[str, None, set[IPv4Address]]:
    """What is wrong with exclusions; returns what they keep out."""
    excluded: set[IPv4Address] = set()
    for position, some in enumerate(net.exclusions):
        kept = set(addresses(some))
        if not kept:
            yield "range-reversed"
            continue
        if any(address not in net.subnet for address in kept):
            yield "exclusion-outside-subnet"
        if not kept & hosts:
            yield "exclusion-idle"
        for other in net.exclusions[:position]:
            if not kept.isdisjoint(addresses(other)):
                yield "exclusions-overlap"
        excluded |= kept
    return excluded


def of_bindings(net: Net) -> Iterator[str]:
    """What is wrong with the bindings of one network."""
    clients: dict[bytes, IPv4Address] = {}
    names: dict[str, IPv4Address] = {}
    for name, client, address in net.bindings:
        if address not in net.subnet:
            yield "binding-outside-subnet"
        elif not net.is_host(address):
            yield "binding-edge-address"
        if clients.setdefault(client, address) != address:
            yield "binding-client-twice"
        if name and names.setdefault(name, address) != address:
            yield "binding-name-twice"
        if client[0] & 1 or not any(client):
            yield "client-invalid"
        elif client[0] & 2:
            yield "client-randomised"


def of_capacity(net: Net, static: set[IPv4Address]) -> Iterator[str]:
    """Whether the addresses suffice, with a fifth to spare."""
    capacity, needed = len(net.assignable) + len(net.bindings), -(-net.wanted * 6 // 5)
    if net.wanted > capacity:
        yield "pool-undersized"
    elif needed > capacity:
        yield "pool-tight"
    taken = static.union(port.address.ip for port in net.ports)
    taken |= {net.gateway} if net.gateway else set()
    if needed > net.subnet.num_addresses - 2 - sum(net.is_host(address) for address in taken):
        yield "subnet-outgrown"
    if len(net.assignable) > max(8 * net.wanted, 254):
        yield "pool-oversized"


def of_subnets(networks: list[Net]) -> Iterator[str]:
    """Each subnet beside each other."""
    for one, other in combinations(networks, 2):
        if one.subnet.overlaps(other.subnet):
            yield "networks-overlap"


def of_paths(networks: list[Net], ports: list[Port]) -> Iterator[str]:
    """Whether servers hear their clients; fills in which interfaces stand in each network."""
    held = {(port.device, port.address.ip) for port in ports}
    for port in ports:
        here = [net for net in networks if port.address.ip in net.subnet]
        for net in here:
            net.ports.append(port)
        if here and port.address.network.prefixlen not in [net.subnet.prefixlen for net in here]:
            yield "interface-mask-differs"
        if port.relay_to and not here:
            yield "relay-misplaced"
    for net in networks:
        if net.server is None:
            yield "network-unserved"
        elif not any(
            port.device == net.server or any((net.server, to) in held for to in port.relay_to)
            for port in net.ports
        ):
            yield "server-not-reached"


def of_plan(networks: list[Net], ports: list[Port]) -> Iterator[str]:
    """What is wrong between networks, and with the addresses that somebody holds."""
    assignable: defaultdict[IPv4Address, list[Net]] = defaultdict(list)
    bound: Counter[IPv4Address | None] = Counter()
    shared = set()
    for net in networks:
        for address in net.assignable:
            shared |= {(other.name, net.name) for other in assignable[address]}
            assignable[address].append(net)
        for _, _, address in net.bindings:
            if address in bound:
                yield "binding-address-twice"
            bound[address] += 1
    yield from ["pools-overlap"] * len(shared)
    static = [address for net in networks for _, address in net.static]
    yield from ("binding-on-static" for address in static if address in bound)
    yield from of_gateways(networks, set(static), bound)
    for address in static:
        yield from in_pools(assignable, address, "static-in-pool")
    held = {port.address.ip for port in ports}
    for port in ports:
        yield from in_pools(assignable, port.address.ip, "interface-in-pool")
    for address in {address for net in networks for address in net.dns} - held.union(static):
        yield from in_pools(assignable, address, "infrastructure-in-pool")


def in_pools(
    assignable: dict[IPv4Address, list[Net]], address: IPv4Address, rule: str
) -> Iterator[str]:
    """The rule, once for each network that may assign an address, unless it is its gateway."""
    if address in assignable:
        yield from (rule for net in assignable[address] if net.gateway != address)


def of_gateways(
    networks: list[Net],
    static: set[IPv4Address],
    bound: Counter[IPv4Address | None],
) -> Iterator[str]:
    """What is wrong with the gateways."""
    for net in networks:
        if net.gateway is None:
            if net.assignable or net.bindings:
                yield "gateway-missing"
            continue
        if net.gateway not in net.subnet:
            yield "gateway-outside-subnet"
        elif not net.is_host(net.gateway):
            yield "gateway-edge-address"
        elif net.ports and net.gateway not in static.union(p.address.ip for p in net.ports):
            yield "gateway-unattended"
        if net.gateway in net.assignable:
            yield "gateway-in-pool"
        yield from ["gateway-bound"] * bound[net.gateway]


def check(file: str) -> tuple[Counter[str], float]:
    """How many findings there are of each rule, and the seconds that went into each with each."""
    networks, ports = load(file)
    begun = time.perf_counter()
    found = Counter([*of_subnets(networks), *of_paths(networks, ports)])
    pairwise = time.perf_counter() - begun
    static = {address for net in networks for _, address in net.static}
    for net in networks:
        found.update(of_ranges(net))
        found.update(of_bindings(net))
        found.update(of_capacity(net, static))
    found.update(of_plan(networks, ports))
    return found, pairwise


if __name__ == "__main__":
    counted, seconds = check(sys.argv[1])
    print(json.dumps(counted, sort_keys=True))
    print(f"{seconds:.1f} s of it comparing each network with each other and each interface")
