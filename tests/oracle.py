"""Small random plans, and what is wrong in them, found by walking every single address.

Shares no code with the program: addresses are the standard library's, sets are Python's.
"""

from __future__ import annotations

import json
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
    bits = draw(st.sampled_from([25, 26, 26, 27, 27, 28, 29, 30, 31, 32]))
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


MACS = [
    *(f"00:00:5e:00:53:{number:02x}" for number in range(5)),
    *("02:00:5e:00:53:01", "01:00:5e:00:53:01", "00:00:00:00:00:00", "ff:ff:ff:ff:ff:ff"),
]
names = st.sampled_from(["", "", "till", "gate", "lathe"])
hosts = names | st.sampled_from(["a", "a-deck", "a.sable.example", "alarm", "a-printer"])
owners = st.sampled_from([{}, {}, {}, {"owner": "a"}, {"owner": "b"}])


@st.composite
def clients(draw: st.DrawFn) -> dict[str, str]:
    """A client by its MAC, or by a client identifier that may be made of one."""
    mac = draw(st.sampled_from(MACS))
    if draw(st.integers(0, 5)):
        return {"mac": mac}
    identifier = "01" + mac.replace(":", "") if draw(st.booleans()) else "ff0102"
    return {"client_id": f"hex:{identifier}"}


@st.composite
def networks(draw: st.DrawFn) -> dict[str, Any]:
    """A network with anything wrong that sets decide."""
    network: dict[str, Any] = {"subnet": draw(subnets()), "ranges": draw(range_lists)}
    if draw(st.integers(0, 5)):  # else the only device there is meant
        network["served_by"] = draw(
            st.sampled_from([[], ["a"], ["a", "b"], [{"pair": ["a", "b"]}]])
            | st.builds(lambda r: [{"device": "a", "ranges": r}, "b"], range_lists)
        )
    network["exclusions"] = draw(st.lists(ranges(), max_size=2))
    network["static"] = [
        {"name": draw(hosts), "address": a, **draw(owners)}
        for a in draw(st.lists(addresses, max_size=2))
    ]
    network["bindings"] = [
        {"name": draw(names), **draw(clients()), "address": a}
        for a in draw(st.lists(addresses, max_size=3))
    ]
    if draw(st.integers(0, 2)):
        network["dns"] = draw(st.lists(addresses, max_size=2))
    if not draw(st.integers(0, 5)):
        network["lease"] = "infinite"
    if draw(st.booleans()):
        network["gateway"] = draw(addresses | st.just("none"))
    if draw(st.booleans()):
        network["demand"] = {"devices": draw(st.integers(0, 60)), "growth": "10%/year"}
        network["demand"]["horizon"] = f"{draw(st.integers(0, 3))} years"
        if draw(st.booleans()):
            network["demand"]["headroom"] = f"{draw(st.integers(0, 60))}%"
    if not draw(st.integers(0, 4)):
        network["vrf"] = "other"
    return network


@st.composite
def apart(draw: st.DrawFn, third: int) -> dict[str, Any]:
    """A network with room for all that it names, and none of it another's."""
    network = {**draw(networks()), "subnet": f"{IPv4Address(WORLD)}/25"}
    moved: dict[str, Any] = json.loads(json.dumps(network).replace("10.84.0.", f"10.84.{third}."))
    return moved


@st.composite
def plans(draw: st.DrawFn) -> dict[str, Any]:
    """A whole plan: up to three networks, two servers, an interface of theirs somewhere."""
    number = draw(st.integers(1, 3))
    crowded = draw(st.integers(0, 2))
    devices: dict[str, Any] = {"a": {"interfaces": {}}, "b": {}}
    for name in draw(st.lists(st.sampled_from(["deck", "hold"]), unique=True, min_size=1)):
        deck: dict[str, Any] = {"address": f"{draw(addresses)}/26"}
        if not draw(st.integers(0, 3)):
            deck["address"] = [deck["address"], f"{draw(addresses)}/26"]
        if not draw(st.integers(0, 3)):
            deck["virtual"] = draw(addresses)
        if not draw(st.integers(0, 3)):
            deck["vrf"] = "other"
        devices["a"]["interfaces"][name] = deck
    if draw(st.booleans()):
        devices["b"]["routes"] = [{"to": "0.0.0.0/0", "via": draw(addresses)}]
    plan = {
        "reservoir": 1,
        "devices": devices,
        "networks": {f"n{i}": draw(networks() if crowded else apart(i)) for i in range(number)},
    }
    if not draw(st.integers(0, 3)):
        plan["anycast"] = draw(st.lists(addresses, max_size=2))
    elsewhere = draw(st.sampled_from(["10.84.0.", "10.84.0.", "10.84.0.", "11.84.0.", "127.0.0."]))
    moved: dict[str, Any] = json.loads(json.dumps(plan).replace("10.84.0.", elsewhere))
    return moved


def text_of(plan: dict[str, Any]) -> str:
    """The plan as a file: JSON is YAML."""
    return json.dumps(plan, indent=1, ensure_ascii=False)


@dataclass
class WalkedPool:
    """What one server assigns in one network, address by address."""

    network: str
    vrf: str
    path: str
    named: Any
    server: str | None
    at: str
    """Where the server is named."""
    is_paired: bool
    assignable: set[int]

    @property
    def served(self) -> bool:
        return self.server is not None


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
        inside = sorted(self.addresses(name))
        return set(inside[1:-1] if len(inside) > 2 else inside)

    def vrf(self, name: str) -> str:
        return str(self.networks[name].get("vrf", ""))

    def gateway(self, name: str) -> int | None:
        text = self.networks[name].get("gateway", "none")
        return None if text == "none" else number_of(text)

    def interfaces(self, vrf: str) -> list[tuple[str, int, int]]:
        """Path, address and prefix length of the interfaces' addresses in a VRF."""
        found = []
        for name, interface in self.plan["devices"]["a"]["interfaces"].items():
            if interface.get("vrf", "") == vrf:
                path, held = f"devices.a.interfaces.{name}.address", interface["address"]
                for place, text in enumerate(held if isinstance(held, list) else [held]):
                    written = IPv4Interface(text)
                    at = f"{path}[{place}]" if isinstance(held, list) else path
                    found.append((at, int(written.ip), written.network.prefixlen))
        return found

    def virtual(self, vrf: str) -> set[int]:
        """The virtual addresses in a VRF."""
        return {address for _, address in self.shared(vrf)}

    def shared(self, vrf: str) -> list[tuple[str, int]]:
        """The virtual addresses in a VRF, each with the path of its interface."""
        return [
            (f"devices.a.interfaces.{name}", number_of(interface["virtual"]))
            for name, interface in self.plan["devices"]["a"]["interfaces"].items()
            if "virtual" in interface and interface.get("vrf", "") == vrf
        ]

    def servers(self, name: str) -> list[tuple[str | None, str, Any, bool]]:
        """Who serves a network: the device, where it is named, its own ranges, if it is paired."""
        network, at = self.networks[name], f"networks.{name}"
        if "served_by" not in network:
            clients = network["ranges"] or network["bindings"] or "demand" in network
            return [("a", at, None, False)] if clients and self.attached(name) else []
        found: list[tuple[str | None, str, Any, bool]] = []
        for place, service in enumerate(network["served_by"]):
            here = f"{at}.served_by[{place}]"
            if isinstance(service, str):
                found.append((service, f"{here}.device", None, False))
            elif "device" in service:
                found.append((service["device"], f"{here}.device", service["ranges"], False))
            else:
                pair = enumerate(service["pair"])
                found += [(device, f"{here}.pair[{n}]", None, True) for n, device in pair]
        return found

    def anycast(self) -> set[int]:
        return set(map(number_of, self.plan.get("anycast", ())))

    def attached(self, name: str) -> list[tuple[str, int, int]]:
        """The interfaces in a network's subnet, by address."""
        inside = self.addresses(name)
        found = [entry for entry in self.interfaces(self.vrf(name)) if entry[1] in inside]
        return sorted(found, key=lambda entry: entry[1:2])

    def naming(self, server: str) -> list[str]:
        """The networks that name a DNS server."""
        return [name for name in self.networks if server in self.networks[name].get("dns", ())]

    def static(self, vrf: str) -> list[tuple[str, int, str]]:
        """Path, address and name of the static hosts in a VRF."""
        return [
            (f"networks.{name}.static[{i}]", number_of(host["address"]), who(host))
            for name in self.networks
            if self.vrf(name) == vrf
            for i, host in enumerate(self.networks[name]["static"])
        ]

    def is_device(self, name: str, owner: str) -> bool:
        """Whether a static host of this name and owner is the device with interfaces."""
        if owner:
            return owner == "a"
        ports = {f"a-{port}" for port in self.plan["devices"]["a"]["interfaces"]}
        return name in {"a", "a.sable.example", *ports}

    def taken(self, name: str) -> set[int]:
        gateway = self.gateway(name)
        taken = set() if gateway is None else {gateway}
        taken |= {address for _, address, _ in self.static(self.vrf(name))}
        taken |= self.virtual(self.vrf(name))
        return taken | {address for _, address, _ in self.interfaces(self.vrf(name))}

    def _pools(self, name: str) -> list[WalkedPool]:
        network = self.networks[name]
        kept = {a for text in network["exclusions"] for a in walk(text)}
        kept |= {number_of(binding["address"]) for binding in network["bindings"]}
        pools = []
        for server, at, own, paired in self.servers(name) or [(None, "", None, False)]:
            named = network["ranges"] if own is None else own
            if named == "all":
                meant = self.hosts(name) - self.taken(name)
            else:
                meant = {a for text in named for a in walk(text)}
            above = f"networks.{name}" if own is None else at.removesuffix(".device")
            assignable = (meant & self.hosts(name)) - kept
            place = f"{above}.ranges", named, server, at, paired
            pools.append(WalkedPool(name, self.vrf(name), *place, assignable))
        return pools


def who(host: dict[str, Any]) -> str:
    """What machine a static host is, behind its name: that of its owner, if it has one."""
    return f"{host['name']} of {host['owner']}" if "owner" in host else str(host.get("name", ""))


def walk(text: str) -> set[int]:
    """Every address of a written range."""
    first, _, last = text.partition("-")
    return set(range(int(IPv4Address(first)), int(IPv4Address(last)) + 1))


def number_of(text: str) -> int:
    """An address as a number."""
    return int(IPv4Address(text))
