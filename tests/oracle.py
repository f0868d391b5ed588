"""Small random plans, and what is wrong in them, found by walking every single address.

Shares no code with the program: addresses are the standard library's, sets are Python's.
"""

from __future__ import annotations

import json
import math
from collections import Counter
from dataclasses import dataclass
from ipaddress import IPv4Address, IPv4Interface, IPv4Network
from typing import Any

from hypothesis import strategies as st

WORLD = int(IPv4Address("10.84.0.0"))
SIZE = 128

numbers = st.integers(0, SIZE - 1)
addresses = numbers.map(lambda n: str(IPv4Address(WORLD + n)))


@st.composite
def subnets(draw: st.DrawFn) -> str:
    """A small subnet, now and then with host bits."""
    bits = draw(st.sampled_from([25, 26, 27, 28, 29]))
    at = draw(numbers)
    if draw(st.integers(0, 9)):
        return str(IPv4Network((WORLD + at, bits), strict=False))
    return f"{IPv4Address(WORLD + at)}/{bits}"


@st.composite
def ranges(draw: st.DrawFn) -> str:
    """A range, a single address, or now and then a reversed range."""
    first = draw(numbers)
    last = min(first + draw(st.integers(-2, 40)), SIZE - 1)
    return f"{IPv4Address(WORLD + first)}-{IPv4Address(WORLD + max(last, 0))}"


range_lists = st.lists(ranges(), max_size=3) | st.just("all")


@st.composite
def networks(draw: st.DrawFn) -> dict[str, Any]:
    """A network with anything wrong that sets decide."""
    network: dict[str, Any] = {"subnet": draw(subnets()), "ranges": draw(range_lists)}
    network["served_by"] = draw(
        st.sampled_from([[], ["a"], ["a", "b"]])
        | st.builds(lambda r: [{"device": "a", "ranges": r}, "b"], range_lists)
    )
    network["exclusions"] = draw(st.lists(ranges(), max_size=2))
    network["static"] = [{"address": a} for a in draw(st.lists(addresses, max_size=2))]
    network["bindings"] = [
        {"mac": f"00:00:5e:00:53:{i:02x}", "address": a}
        for i, a in enumerate(draw(st.lists(addresses, max_size=3)))
    ]
    if draw(st.booleans()):
        network["gateway"] = draw(addresses)
    if draw(st.booleans()):
        network["demand"] = {"devices": draw(st.integers(0, 60)), "growth": "10%/year"}
        network["demand"]["horizon"] = f"{draw(st.integers(0, 3))} years"
    if not draw(st.integers(0, 4)):
        network["vrf"] = "other"
    return network


@st.composite
def plans(draw: st.DrawFn) -> dict[str, Any]:
    """A whole plan: up to three networks, two servers, an interface of theirs somewhere."""
    number = draw(st.integers(1, 3))
    deck = {"address": f"{draw(addresses)}/26"}
    return {
        "reservoir": 1,
        "devices": {"a": {"interfaces": {"deck": deck}}, "b": {}},
        "networks": {f"n{i}": draw(networks()) for i in range(number)},
    }


def text_of(plan: dict[str, Any]) -> str:
    """The plan as a file: JSON is YAML."""
    return json.dumps(plan, indent=1, ensure_ascii=False)


@dataclass
class WalkedPool:
    """What one server lends to one network, address by address."""

    network: str
    vrf: str
    path: str
    named: Any
    served: bool
    lent: set[int]


class Walked:
    """The plan, walked."""

    def __init__(self, plan: dict[str, Any]) -> None:
        """Walk every pool of the plan."""
        self.plan = plan
        self.networks = plan["networks"]
        self.pools = [pool for name in self.networks for pool in self._pools(name)]

    def addresses(self, name: str) -> set[int]:
        network = IPv4Interface(self.networks[name]["subnet"]).network
        return {int(address) for address in network}

    def hosts(self, name: str) -> set[int]:
        return set(sorted(self.addresses(name))[1:-1])

    def vrf(self, name: str) -> str:
        return str(self.networks[name].get("vrf", ""))

    def _taken(self, name: str) -> set[int]:
        network = self.networks[name]
        taken = {int(IPv4Address(network["gateway"]))} if "gateway" in network else set()
        for other in self.networks:
            if self.vrf(other) == self.vrf(name):
                hosts = self.networks[other]["static"]
                taken |= {int(IPv4Address(host["address"])) for host in hosts}
        if self.vrf(name) == "":
            deck = self.plan["devices"]["a"]["interfaces"]["deck"]["address"]
            taken.add(int(IPv4Interface(deck).ip))
        return taken

    def _pools(self, name: str) -> list[WalkedPool]:
        network = self.networks[name]
        kept = {a for text in network["exclusions"] for a in walk(text)}
        kept |= {int(IPv4Address(binding["address"])) for binding in network["bindings"]}
        pools = []
        for number, service in enumerate(network["served_by"] or [None]):
            own = isinstance(service, dict)
            named = service["ranges"] if own else network["ranges"]
            if named == "all":
                meant = self.hosts(name) - self._taken(name)
            else:
                meant = {a for text in named for a in walk(text)}
            path = f"networks.{name}" + (f".served_by[{number}]" if own else "") + ".ranges"
            lent = (meant & self.hosts(name)) - kept
            pools.append(WalkedPool(name, self.vrf(name), path, named, service is not None, lent))
        return pools

    def findings(self) -> Counter[tuple[str, str]]:
        """Rule and path of everything that is wrong, as often as it is."""
        found: Counter[tuple[str, str]] = Counter()
        for walk_one in (self._of_ranges, self._of_pools, self._of_networks, self._of_hosts):
            found.update(walk_one())
        return found

    def _of_ranges(self) -> list[tuple[str, str]]:
        found = []
        lists = {pool.path: pool for pool in self.pools if pool.named != "all"}
        for path, pool in lists.items():
            inside, hosts = self.addresses(pool.network), self.hosts(pool.network)
            for i, text in enumerate(pool.named):
                first, _, last = text.partition("-")
                at = f"{path}[{i}]"
                if IPv4Address(first) > IPv4Address(last):
                    found.append(("range-reversed", at))
                if walk(text) - inside:
                    found.append(("range-outside-subnet", at))
                found += [("range-takes-edge-address", at)] * len(walk(text) & (inside - hosts))
                for earlier in pool.named[:i]:
                    if walk(text) & walk(earlier):
                        found.append(("ranges-overlap", at))
        return found

    def _of_pools(self) -> list[tuple[str, str]]:
        found = []
        for i, pool in enumerate(self.pools):
            network = self.networks[pool.network]
            if not pool.lent and (pool.named or (pool.served and not network["bindings"])):
                at = pool.path if pool.named else f"networks.{pool.network}"
                found.append(("pool-empty", at))
            gateway = network.get("gateway")
            if gateway and pool.named != "all" and int(IPv4Address(gateway)) in pool.lent:
                place = next(
                    n
                    for n, text in enumerate(pool.named)
                    if int(IPv4Address(gateway)) in walk(text)
                )
                found.append(("gateway-lendable", f"{pool.path}[{place}]"))
            for other in self.pools[:i]:
                if other.vrf == pool.vrf and other.lent & pool.lent:
                    same = other.network == pool.network
                    at = f"networks.{pool.network}.served_by" if same else pool.path
                    found.append(("pools-overlap", at))
        return found

    def _of_networks(self) -> list[tuple[str, str]]:
        found = []
        for i, (name, network) in enumerate(self.networks.items()):
            inside, at = self.addresses(name), f"networks.{name}"
            written = IPv4Interface(network["subnet"])
            if written.ip != written.network.network_address:
                found.append(("subnet-has-host-bits", f"{at}.subnet"))
            for other in list(self.networks)[:i]:
                if self.vrf(other) == self.vrf(name) and self.addresses(other) & inside:
                    found.append(("networks-overlap", f"{at}.subnet"))
            if "gateway" in network:
                gateway = int(IPv4Address(network["gateway"]))
                if gateway not in inside:
                    found.append(("gateway-outside-subnet", f"{at}.gateway"))
                elif gateway not in self.hosts(name):
                    found.append(("gateway-edge-address", f"{at}.gateway"))
            if "demand" in network and self._short(name, network):
                found.append(("pool-undersized", f"{at}.demand"))
            wants = network["ranges"] or "demand" in network or network["bindings"]
            if not network["served_by"] and wants:
                found.append(("network-unserved", at))
        return found

    def _short(self, name: str, network: dict[str, Any]) -> bool:
        years = int(network["demand"]["horizon"].split()[0])
        peak = math.ceil(round(network["demand"]["devices"] * 1.1**years, 6))
        lent = set().union(*(pool.lent for pool in self.pools if pool.network == name))
        return bool(peak > len(lent) + len(network["bindings"]))

    def _of_hosts(self) -> list[tuple[str, str]]:
        found = []
        bound: set[tuple[str, str]] = set()
        for name, network in self.networks.items():
            for i, binding in enumerate(network["bindings"]):
                at = f"networks.{name}.bindings[{i}].address"
                if int(IPv4Address(binding["address"])) not in self.addresses(name):
                    found.append(("binding-outside-subnet", at))
                if (self.vrf(name), binding["address"]) in bound:
                    found.append(("binding-address-twice", at))
                bound.add((self.vrf(name), binding["address"]))
            for i, host in enumerate(network["static"]):
                for pool in self.pools:
                    lent = int(IPv4Address(host["address"])) in pool.lent
                    if pool.vrf == self.vrf(name) and lent:
                        found.append(("static-lendable", f"networks.{name}.static[{i}]"))
        return found


def walk(text: str) -> set[int]:
    """Every address of a written range."""
    first, _, last = text.partition("-")
    return set(range(int(IPv4Address(first)), int(IPv4Address(last)) + 1))
