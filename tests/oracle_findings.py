"""What is wrong in a small plan, found by walking its addresses: rule and path of every finding."""

from __future__ import annotations

import math
from collections import Counter
from collections.abc import Callable, Iterator
from ipaddress import IPv4Address, IPv4Interface, IPv4Network
from itertools import combinations
from typing import Any

from oracle import Walked, number_of, walk

DIGITS = "0123456789"
Found = Iterator[tuple[str, ...]]
"""Rule and path; with what it says besides where that is told once only, not for each server."""


def findings(walked: Walked) -> Counter[tuple[str, str]]:
    """Rule and path of everything that is wrong, as often as it is."""
    found: Counter[tuple[str, str]] = Counter()
    families: list[Callable[[Walked], Found]] = [
        *(
            of_ranges,
            of_moved_subnets,
            of_exclusions,
            of_pools,
            of_subnets,
            of_gateways,
            of_capacity,
        ),
        *(of_held_addresses, of_placed_hosts, of_bindings, of_clients, of_static, of_servers),
        *(of_dns, of_bound_infrastructure, of_virtual_addresses),
    ]
    for family in families:
        each = list(family(walked))
        once = dict.fromkeys(one for one in each if len(one) > 2)
        found.update((rule, at) for rule, at, *_ in (*once, *(o for o in each if len(o) == 2)))
    return found


def of_ranges(w: Walked) -> Found:
    lists = {pool.path: pool for pool in w.pools if pool.named != "all"}
    for path, pool in lists.items():
        inside, hosts = w.addresses(pool.network), w.hosts(pool.network)
        for i, text in enumerate(pool.named):
            first, _, last = text.partition("-")
            at = f"{path}[{i}]"
            if IPv4Address(first) > IPv4Address(last):
                yield "range-reversed", at
            if walk(text) - inside:
                yield "range-outside-subnet", at
                if any(IPv4Address(a).is_loopback for a in walk(text) - inside):
                    yield "range-special-use", at
            for _ in walk(text) & (inside - hosts):
                yield "range-takes-edge-address", at
            for earlier in pool.named[:i]:
                if walk(text) & walk(earlier):
                    yield "ranges-overlap", at, f"{earlier} {text}"


def of_moved_subnets(w: Walked) -> Found:
    for name, network in w.networks.items():
        lists = {p.path: p.named for p in w.pools if p.network == name and p.named != "all"}
        hosts, inside = w.hosts(name), w.addresses(name)
        things = [walk(text) for texts in lists.values() for text in texts]
        things = [thing for thing in things if not hosts <= thing <= inside]
        things += [walk(text) for text in network["exclusions"]]
        things += [{number_of(row["address"])} for row in network["bindings"]]
        gateway = w.gateway(name)
        things += [] if gateway is None else [{gateway}]
        static = [{number_of(row["address"])} for row in network["static"]]
        if is_moved(w, name, [*things, *static]) or is_moved(w, name, things):
            yield "subnet-differs", f"networks.{name}.subnet"


def is_moved(w: Walked, name: str, things: list[set[int]]) -> bool:
    """Whether all that a network names is in one other subnet: of its size, or an interface's."""
    bits, gateway = IPv4Interface(w.networks[name]["subnet"]), w.gateway(name)
    things = [thing for thing in things if thing]
    named = set().union(*things)
    there = {IPv4Interface((address, bits.network.prefixlen)).network for address in named}
    at_gateway = [i for i in w.interfaces(w.vrf(name)) if i[1] == gateway]
    first, askew = bits.ip, bits.ip != bits.network.network_address
    begin = [i for i in w.interfaces(w.vrf(name)) if IPv4Interface(i[1:]).network[0] == first]
    attached = {IPv4Interface((a, b)).network for _, a, b in (*begin, *at_gateway)}
    one = attached.pop() if len(attached) == 1 else None
    larger = (
        one is not None and one.prefixlen < bits.network.prefixlen and named - w.addresses(name)
    )
    agreed = one is not None and one.prefixlen != bits.network.prefixlen and askew and things
    held = (larger or agreed) and {IPv4Address(address) for address in named} <= set(one or ())
    serves = any(pool.server == "a" for pool in w.pools if pool.network == name)
    own = {IPv4Interface((a, b)).network for _, a, b in w.interfaces(w.vrf(name))}
    stands_there = serves and not w.attached(name) and there <= own
    elsewhere = len(there) == 1 and bits.network not in there
    return bool(
        (elsewhere and (len(things) > 1 or stands_there))
        or (held and one is not None and first in one)
    )


def of_exclusions(w: Walked) -> Found:
    for name, network in w.networks.items():
        hosts, assignable = w.hosts(name), set()
        for pool in w.pools:
            if pool.network == name:
                assignable |= hosts if pool.named == "all" else walk_all(pool.named) & hosts
        for i, text in enumerate(network["exclusions"]):
            at = f"networks.{name}.exclusions[{i}].range"
            kept = walk(text)
            if not kept:
                yield "range-reversed", at
                continue
            if kept - w.addresses(name):
                yield "exclusion-outside-subnet", at
            if not kept & assignable:
                yield "exclusion-idle", at
            for earlier in network["exclusions"][:i]:
                if walk(earlier) & kept:
                    yield "exclusions-overlap", at, f"{earlier} {text}"


def walk_all(texts: list[str]) -> set[int]:
    return {address for text in texts for address in walk(text)}


def of_pools(w: Walked) -> Found:
    for i, pool in enumerate(w.pools):
        network = w.networks[pool.network]
        if not pool.assignable and (pool.named or (pool.served and not network["bindings"])):
            at = pool.path if pool.named else f"networks.{pool.network}"
            yield "pool-empty", at, str(pool.server)
        if w.gateway(pool.network) in pool.assignable and pool.named != "all":
            yield "gateway-in-pool", range_of(pool, w.gateway(pool.network)), ""
        for other in w.pools[:i]:
            if other.vrf == pool.vrf and other.assignable & pool.assignable:
                same = other.network == pool.network
                if same and pool.is_paired and other.is_paired:
                    continue
                at = f"networks.{pool.network}.served_by" if same else pool.path
                who = f"{other.server} {pool.server}" if same else f"{other.network}"
                yield "pools-overlap", at, who, str(sorted(other.assignable & pool.assignable))
    for name in w.networks:
        sharing = [p for p in w.pools if p.network == name and p.served and p.assignable]
        unsplit = [p for p in sharing if p.path == f"networks.{name}.ranges"]
        if len(unsplit) > 1 and not all(pool.is_paired for pool in unsplit):
            yield "two-servers", f"networks.{name}.served_by"


def range_of(pool: Any, address: int | None) -> str:
    """The path of the first range that names an address."""
    if pool.named == "all":
        return str(pool.path)
    place = next(n for n, text in enumerate(pool.named) if address in walk(text))
    return f"{pool.path}[{place}]"


def of_subnets(w: Walked) -> Found:
    for i, (name, network) in enumerate(w.networks.items()):
        inside, at = w.addresses(name), f"networks.{name}"
        written = IPv4Interface(network["subnet"])
        if written.ip != written.network.network_address:
            yield "subnet-has-host-bits", f"{at}.subnet"
        if written.network.is_loopback:
            yield "range-special-use", f"{at}.subnet"
        elif written.network.is_global:
            yield "range-public", f"{at}.subnet"
        if len(inside) < 4:
            yield "subnet-too-small", f"{at}.subnet"
        for other in list(w.networks)[:i]:
            if w.vrf(other) == w.vrf(name) and w.addresses(other) & inside:
                yield "networks-overlap", f"{at}.subnet"
        if not w.servers(name) and (
            network["ranges"] or "demand" in network or network["bindings"]
        ):
            yield "network-unserved", at
        for device, place, *_ in w.servers(name):
            if device == "b" or not w.attached(name):
                astray = near_the_gateway(w, name) if device == "a" else []
                wrong = astray[0] if len(astray) == 1 else None
                yield "server-not-reached", wrong or place


def near_the_gateway(w: Walked, name: str) -> list[str]:
    """The interfaces in no network that a slip kept from being the network's gateway."""
    gateway, vrf = w.gateway(name), w.vrf(name)
    everywhere = {a for other in ("", "other") for _, a, _ in w.interfaces(other)}
    everywhere |= w.virtual("") | w.virtual("other")
    if gateway not in w.hosts(name) or gateway in everywhere:
        return []
    inhabited = set().union(*(w.addresses(n) for n in w.networks if w.vrf(n) == vrf))
    return [
        interface
        for interface, address, _ in w.interfaces(vrf)
        if address not in inhabited and meant_by(address, w.hosts(name)) == gateway
    ]


def meant_by(typed: int, hosts: set[int]) -> int | None:
    """The one host of a network that a slip makes of an address: swapped digits before others."""
    text = str(IPv4Address(typed))
    digits = [text[:i] + d + text[j:] for i in range(len(text)) for j in (i, i + 1) for d in DIGITS]
    digits += [text + d for d in DIGITS] + [text[:i] + text[i + 1 :] for i in range(len(text))]
    for slips in (swapped(text), digits):
        fitting = {number_of(slip) for slip in slips if is_address(slip)} & hosts
        if fitting:
            return fitting.pop() if len(fitting) == 1 else None
    return None


def of_gateways(w: Walked) -> Found:
    hops = {number_of(r["via"]) for d in w.plan["devices"].values() for r in d.get("routes", ())}
    serving = {pool.network for pool in w.pools if pool.assignable}
    with_clients = [n for n, its in w.networks.items() if n in serving or its["bindings"]]
    nobody_names = not any(its.get("dns") for its in w.networks.values())
    without_dns = [n for n in with_clients if "dns" not in w.networks[n]]
    for name, network in w.networks.items():
        gateway, at = w.gateway(name), f"networks.{name}.gateway"
        assignable = name in serving
        if "gateway" not in network and (assignable or network["bindings"]):
            yield "gateway-missing", f"networks.{name}"
        if name in without_dns:
            together = nobody_names and len(without_dns) > 2
            yield "dns-missing", "defaults.dns" if together else f"networks.{name}"
        if gateway is None:
            continue
        if gateway not in w.addresses(name):
            yield "gateway-outside-subnet", at
            continue
        if gateway not in w.hosts(name):
            yield "gateway-edge-address", at
            continue
        held = hops | {address for _, address, _ in w.static(w.vrf(name))}
        held |= w.virtual(w.vrf(name))
        if w.attached(name) and gateway not in held | {a for _, a, _ in w.attached(name)}:
            yield "gateway-unattended", at


def of_capacity(w: Walked) -> Found:
    told = any("demand" in network for network in w.networks.values())
    if not told and any(pool.assignable for pool in w.pools):
        yield "demand-unknown", "networks"
    for name, network in w.networks.items():
        at = f"networks.{name}"
        pools = [pool for pool in w.pools if pool.network == name]
        assignable = set().union(*(pool.assignable for pool in pools))
        if assignable and network.get("lease") == "infinite":
            yield "lease-infinite", f"{at}.lease"
        demand = network.get("demand")
        if demand is None:
            if assignable and told:
                yield "demand-unknown", at
            continue
        years = int(demand["horizon"].split()[0])
        peak = math.ceil(round(demand["devices"] * 1.1**years, 6))
        usual = "0%" if len(w.addresses(name)) <= 4 else "20%"  # a link has nothing to keep free
        share = int(demand.get("headroom", usual)[:-1])
        needed = -(-peak * (100 + share) // 100)
        capacity = len(assignable) + len(network["bindings"])
        if peak > capacity:
            yield "pool-undersized", f"{at}.demand"
            yield from of_swallowed_ranges(w, name, pools, peak - capacity)
        elif needed > capacity:
            yield "pool-tight", f"{at}.demand"
        if needed > len(w.hosts(name) - w.taken(name)):
            yield "subnet-outgrown", f"{at}.demand"


def of_swallowed_ranges(w: Walked, name: str, pools: list[Any], short: int) -> Found:
    """The exclusion that takes what is missing, of several the one that takes most."""
    network, whole = w.networks[name], w.hosts(name) - w.taken(name)
    named = [whole if pool.named == "all" else walk_all(pool.named) for pool in pools]
    ranges = set().union(*named) & w.hosts(name)
    ranges -= {number_of(binding["address"]) for binding in network["bindings"]}
    kept = [walk(text) for text in network["exclusions"]]
    alone = [
        len((own & ranges) - set().union(*kept[:place], *kept[place + 1 :]))
        for place, own in enumerate(kept)
    ]
    if alone and max(alone) >= short:
        sizes = [(-taken, -len(kept[place]), place) for place, taken in enumerate(alone)]
        yield "exclusion-swallows-range", f"networks.{name}.exclusions[{min(sizes)[2]}].range"


def of_held_addresses(w: Walked) -> Found:
    for vrf in sorted({w.vrf(name) for name in w.networks} | {"", "other"}):
        holders: dict[int, list[str]] = {}
        for name, address, _ in w.interfaces(vrf):
            if address in w.anycast():
                continue
            if holders.setdefault(address, []):
                yield "address-held-twice", name
            holders[address].append(name)
        first: dict[int, str] = {}
        for path, address, called in w.static(vrf):
            name, _, owner = called.partition(" of ")
            if name and not w.is_device(name, owner):
                ports = {port.partition(".address")[0] for port in holders.get(address, ())}
                shared = [address] if address in w.virtual(vrf) and not ports else []
                for _ in (*ports, *shared):  # one that lists its address twice says the same twice
                    yield "address-held-twice", f"{path}.address"
            machine = owner or name
            if address in w.anycast():
                continue
            if address in first and (first[address] != machine or not machine):
                yield "address-held-twice", f"{path}.address"
            first.setdefault(address, machine)
    for vrf in ("", "other"):
        for interface, address, bits in w.interfaces(vrf):
            there = [n for n in w.networks if w.vrf(n) == vrf and address in w.addresses(n)]
            masks = {IPv4Interface(w.networks[n]["subnet"]).network.prefixlen for n in there}
            if masks and bits not in masks:
                yield "interface-mask-differs", interface


def of_virtual_addresses(w: Walked) -> Found:
    for name, interface in w.plan["devices"]["a"]["interfaces"].items():
        held = interface["address"]
        near = [
            IPv4Interface(text).network for text in (held if isinstance(held, list) else [held])
        ]
        virtual = interface.get("virtual")
        if virtual is not None and not any(IPv4Address(virtual) in network for network in near):
            yield "virtual-outside-subnet", f"devices.a.interfaces.{name}.virtual"


def of_placed_hosts(w: Walked) -> Found:
    for vrf in ("", "other"):
        for name, address, bits in w.interfaces(vrf):
            own = IPv4Interface((address, bits)).network
            if IPv4Address(address) in (own.network_address, own.broadcast_address):
                yield "interface-edge-address", name
    for name, network in w.networks.items():
        for i, host in enumerate(network["static"]):
            at, address = f"networks.{name}.static[{i}].address", number_of(host["address"])
            if address not in w.addresses(name):
                yield "static-outside-subnet", at
            elif address not in w.hosts(name):
                yield "static-edge-address", at


def of_static(w: Walked) -> Found:
    hops = {number_of(r["via"]) for d in w.plan["devices"].values() for r in d.get("routes", ())}
    for pool in w.pools:
        gateway = w.gateway(pool.network)
        known = {address for _, address, _ in w.static(pool.vrf)}
        if pool.named != "all":
            for path, address, _ in w.static(pool.vrf):
                if address in pool.assignable and address != gateway:
                    yield "static-in-pool", path, pool.network
            interfaces = [(at, address) for at, address, _ in w.attached(pool.network)]
            for at, address in (*interfaces, *w.shared(pool.vrf)):
                if address in pool.assignable and address != gateway:
                    name = at.partition(".address")[0]
                    yield "interface-in-pool", range_of(pool, address), f"{name} {address}"
        known |= {address for _, address, _ in w.attached(pool.network)} | w.virtual(pool.vrf)
        named = set(hops) if pool.vrf == "" else set()
        for name in w.networks:
            if w.vrf(name) == pool.vrf:
                named |= set(map(number_of, w.networks[name].get("dns", ())))
        for address in (named & pool.assignable) - known - {gateway}:
            yield "infrastructure-in-pool", range_of(pool, address), str(address)


def of_servers(w: Walked) -> Found:
    for name, network in w.networks.items():
        for i, text in enumerate(network.get("dns", ())):
            others = [o for o in w.networks if w.vrf(o) == w.vrf(name)]
            edges = set().union(*(w.addresses(o) - w.hosts(o) for o in others))
            if number_of(text) in edges or IPv4Address(text).is_loopback:
                yield "dns-invalid", f"networks.{name}.dns[{i}]"
            alike = [other for other in swapped(text) if len(w.naming(other)) > 1]
            vrfs = {w.vrf(other) for other in w.networks} | {""}
            held = {there[1] for vrf in vrfs for there in (*w.interfaces(vrf), *w.static(vrf))}
            held |= w.virtual("") | w.virtual("other")
            at, alone = f"networks.{name}.dns[{i}]", w.naming(text) == [name]
            if number_of(text) in held:
                continue
            if alone and len(set(alike) - set(network["dns"])) == 1:
                yield "dns-digits-swapped", at
            elif number_of(text) not in known_subnets(w):
                hosts = map(number_of, swapped(text) - set(network["dns"]))
                if sum(host in known_subnets(w) for host in hosts) == 1:
                    yield "dns-digits-swapped", at


def of_dns(w: Walked) -> Found:
    """DNS servers listed twice, and those in a network where nobody has them."""
    for name, network in w.networks.items():
        dns = network.get("dns", [])
        for text in dict.fromkeys(dns) if network.get("gateway") == "none" else ():
            if number_of(text) not in w.addresses(name):
                yield "dns-unreachable", f"networks.{name}.dns"
        for i, text in enumerate(dns):
            if text in dns[:i]:
                yield "dns-twice", f"networks.{name}.dns[{i}]"
                continue
            address, vrf = number_of(text), w.vrf(name)
            alike = [other for other in w.networks if w.vrf(other) == vrf]
            homes = [other for other in alike if address in w.addresses(other)]
            edges = set().union(*(w.addresses(other) - w.hosts(other) for other in alike))
            if not homes and astray(w, address, vrf, {number_of(server) for server in dns}):
                yield "dns-not-held", f"networks.{name}.dns[{i}]"
            if not homes or address in edges or IPv4Address(text).is_loopback:
                continue
            held = {a for _, a, _ in (*w.interfaces(vrf), *w.static(vrf))} | w.virtual(vrf)
            bound = {number_of(b["address"]) for n in alike for b in w.networks[n]["bindings"]}
            pools = [pool.assignable for pool in w.pools if pool.network in homes]
            known = held | bound | w.anycast() | {w.gateway(home) for home in homes}
            known |= set().union(*pools)
            if address not in known:
                yield "dns-not-held", f"networks.{name}.dns[{i}]"


def astray(w: Walked, typed: int, vrf: str, offered: set[int]) -> bool:
    """Whether an address is nowhere, and one static host a slip away that isn't offered too."""
    vrfs = {"", *map(w.vrf, w.networks)}
    vrfs |= {each.get("vrf", "") for each in w.plan["devices"]["a"]["interfaces"].values()}
    held = [(address, bits) for v in vrfs for _, address, bits in w.interfaces(v)]
    spaces = [IPv4Interface(one).network for one in held]
    spaces += [IPv4Network(n["subnet"], strict=False) for n in w.networks.values()]
    if any(IPv4Address(typed) in space for space in spaces):
        return False
    hosts = {address for _, address, _ in w.static(vrf)}
    if typed in hosts | w.anycast() or any(typed in w.virtual(v) for v in vrfs):
        return False
    near = {host for host in hosts if any(IPv4Address(host) in space for space in spaces)}
    near &= slips_of(typed)
    return len(near) == 1 and not near & offered


def slips_of(typed: int) -> set[int]:
    """The addresses that one slip makes of another: of its digits, or of two octets."""
    text, octets = str(IPv4Address(typed)), str(IPv4Address(typed)).split(".")
    digits = [text[:i] + d + text[j:] for i in range(len(text)) for j in (i, i + 1) for d in DIGITS]
    digits += [text + d for d in DIGITS] + [text[:i] + text[i + 1 :] for i in range(len(text))]
    for one, other in combinations(range(4), 2):
        moved = octets.copy()
        moved[one], moved[other] = octets[other], octets[one]
        digits.append(".".join(moved))
    return {number_of(slip) for slip in {*digits, *swapped(text)} if is_address(slip)} - {typed}


def of_bound_infrastructure(w: Walked) -> Found:
    """Bindings to the addresses of interfaces, DNS servers and next hops."""
    hops = {number_of(r["via"]) for d in w.plan["devices"].values() for r in d.get("routes", ())}
    for vrf in sorted({w.vrf(name) for name in w.networks}):
        alike = [name for name in w.networks if w.vrf(name) == vrf]
        used = {a for _, a, _ in w.interfaces(vrf)} | w.virtual(vrf)
        used |= {number_of(s) for name in alike for s in w.networks[name].get("dns", ())}
        used |= hops if vrf == "" else set()
        used -= {a for _, a, _ in w.static(vrf)} | {w.gateway(name) or 0 for name in alike}
        said: set[int] = set()
        for name in alike:
            for i, binding in enumerate(w.networks[name]["bindings"]):
                address = number_of(binding["address"])
                if address in used - said:
                    yield "infrastructure-bound", f"networks.{name}.bindings[{i}].address"
                    said.add(address)


def known_subnets(w: Walked) -> set[int]:
    """Every address near an interface or in a network."""
    near = set().union(*map(w.addresses, w.networks))
    for vrf in ("", "other"):
        for _, address, bits in w.interfaces(vrf):
            near |= set(map(int, IPv4Interface((address, bits)).network))
    for route in w.plan["devices"]["b"].get("routes", ()):
        near |= set(map(int, IPv4Interface(f"{route['via']}/24").network))
    return near


def swapped(address: str) -> set[str]:
    """The addresses that it becomes when two of its neighbouring digits change places."""
    pairs = [(i, address[i : i + 2]) for i in range(len(address) - 1)]
    texts = {
        address[:i] + pair[::-1] + address[i + 2 :] for i, pair in pairs if pair.isdecimal()
    } - {address}
    return {text for text in texts if is_address(text)}


def is_address(text: str) -> bool:
    """Whether the standard library reads it as an address."""
    try:
        IPv4Address(text)
    except ValueError:
        return False
    return True


def of_bindings(w: Walked) -> Found:
    bound: dict[tuple[str, int], str] = {}
    for name, network in w.networks.items():
        for i, binding in enumerate(network["bindings"]):
            address, at = number_of(binding["address"]), f"networks.{name}.bindings[{i}].address"
            if address not in w.addresses(name):
                yield "binding-outside-subnet", at
            elif address not in w.hosts(name):
                yield "binding-edge-address", at
            for other in w.networks:
                if w.vrf(other) == w.vrf(name) and w.gateway(other) == address:
                    yield "gateway-bound", at
            if (w.vrf(name), address) in bound:
                yield "binding-address-twice", at
            bound.setdefault((w.vrf(name), address), at)
    for vrf in sorted({w.vrf(name) for name in w.networks}):
        for _, address, called in w.static(vrf):
            if (vrf, address) in bound:
                name = called.partition(" of ")[0]
                yield "binding-on-static", bound[vrf, address], name


def machine(binding: dict[str, Any]) -> str:
    """Who a binding is for: a MAC, however it is written."""
    digits = str(binding.get("mac", binding.get("client_id"))).replace(":", "")
    return digits.removeprefix("hex01") if len(digits) == 17 else digits


def of_clients(w: Walked) -> Found:
    for name, network in w.networks.items():
        first: dict[str, int] = {}
        called: dict[str, int] = {}
        for i, binding in enumerate(network["bindings"]):
            at, client = f"networks.{name}.bindings[{i}]", machine(binding)
            address = number_of(binding["address"])
            if first.setdefault(client, address) != address:
                yield "binding-client-twice", at
            if binding["name"] and called.setdefault(binding["name"], address) != address:
                yield "binding-name-twice", at
            if len(client) == 12:
                first_byte = int(client[:2], 16)
                if first_byte & 1 or not int(client, 16):
                    yield "client-invalid", f"{at}.mac"
                elif first_byte & 2:
                    yield "client-randomised", f"{at}.mac"
