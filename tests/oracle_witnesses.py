"""Whether a finding's witness holds in a small plan, by walking it."""

from __future__ import annotations

from ipaddress import IPv4Interface
from typing import Any

from oracle import Walked, number_of, walk
from oracle_findings import machine
from reservoir.core.findings import Witness


def holds(witness: Witness, walked: Walked) -> bool:
    """Whether the case really is as the witness says."""
    case = {"named": named, "misled": misled, "refused": refused, "lent": lent, "spared": spared}
    case |= {"has": has, "claimed": claimed, "answered-twice": answered, "unanswered": unanswered}
    case |= {"bound": bound, "misplaced": bound, "bound-twice": bound, "held-twice": held}
    case |= {"told-otherwise": told, "idle-range": backwards, "named-alike": alike}
    return case[witness.kind](witness, walked)


def told(witness: Witness, walked: Walked) -> bool:
    """Clients are told, or not told, just what the words say."""
    assert witness.network is not None
    network, words = walked.networks[witness.network], str(witness.also)
    if words.startswith("asks "):
        return words.split()[1].rstrip(",") in network["dns"]
    if words.startswith("has a mask of "):
        mask = IPv4Interface(network["subnet"]).network.prefixlen
        return words.split()[4] == str(mask)
    if words == "finds nobody by name":
        return not network.get("dns")
    subnet = IPv4Interface(network["subnet"]).network
    return words == f"reaches nothing beyond {subnet}" and "gateway" not in network


def backwards(witness: Witness, walked: Walked) -> bool:
    """A range of the network that ends before it begins."""
    first, _, last = str(witness.also).partition("-")
    lists = [pool.named for pool in pools_of(witness, walked) if pool.named != "all"]
    return number_of(last) < number_of(first) and any(witness.also in texts for texts in lists)


def alike(witness: Witness, walked: Walked) -> bool:
    """Two clients of the network have one name."""
    assert witness.network is not None
    rows = walked.networks[witness.network]["bindings"]
    one, other = (
        {row["name"] for row in rows if machine(row) == machine({"mac": client})}
        for client in (witness.client, witness.also)
    )
    return bool((one & other) - {""})


def pools_of(witness: Witness, walked: Walked) -> list[Any]:
    return [pool for pool in walked.pools if pool.network == witness.network]


def lent(witness: Witness, walked: Walked) -> bool:
    """A server may lend the address, and somebody else has it or it should be kept out."""
    assert witness.network is not None
    servers = {number_of(a) for n in walked.networks.values() for a in n.get("dns", ())}
    servers |= {
        number_of(route["via"])
        for device in walked.plan["devices"].values()
        for route in device.get("routes", ())
    }
    others = walked.taken(witness.network) | servers
    meant_out = {
        address
        for text in walked.networks[witness.network]["exclusions"]
        for address in walk("-".join(reversed(text.split("-"))))
    }
    if meant_out - walked.addresses(witness.network):  # an end with a slip, which could be anything
        meant_out |= walked.hosts(witness.network)
    pools = pools_of(witness, walked)
    return any(witness.address in p.lent for p in pools) and witness.address in others | meant_out


def named(witness: Witness, walked: Walked) -> bool:
    """A range or the subnet has the address."""
    assert witness.network is not None
    lists = [pool.named for pool in pools_of(witness, walked) if pool.named != "all"]
    ranges = {address for texts in lists for text in texts for address in walk(text)}
    return witness.address in ranges | walked.addresses(witness.network)


def misled(witness: Witness, walked: Walked) -> bool:
    return witness.network is not None and walked.gateway(witness.network) == witness.address


def refused(witness: Witness, walked: Walked) -> bool:
    """Before this client all addresses are taken, of the pool or of the subnet as a whole."""
    assert witness.network is not None
    assert witness.count is not None
    everything = set().union(*(pool.lent for pool in pools_of(witness, walked)))
    bound_there = len(walked.networks[witness.network]["bindings"])
    hosts = walked.hosts(witness.network)
    rooms = {len(everything), len(everything) + bound_there, len(hosts)}
    rooms |= {len(hosts - walked.taken(witness.network)), len(hosts) - 1, 0}
    return witness.count - 1 in rooms


def spared(witness: Witness, walked: Walked) -> bool:
    return all(witness.address not in pool.lent for pool in pools_of(witness, walked))


def claimed(witness: Witness, walked: Walked) -> bool:
    """Both networks, ranges, subnets or servers have the address."""
    assert witness.address is not None
    for one in (str(witness.network).removeprefix("the range "), str(witness.also)):
        if one in walked.networks:
            there = walked.addresses(one)
        elif one in walked.plan["devices"]:
            there = {a for pool in walked.pools if pool.server == one for a in pool.lent}
        elif "/" in one:
            continue
        else:
            first, _, last = one.partition("-")
            there = walk(f"{first}-{last or first}")
        if witness.address not in there:
            return False
    return True


def answered(witness: Witness, walked: Walked) -> bool:
    lending = [p for p in pools_of(witness, walked) if p.served and witness.address in p.lent]
    return len(lending) > 1


def unanswered(witness: Witness, walked: Walked) -> bool:
    assert witness.network is not None
    servers = walked.networks[witness.network]["served_by"]
    named_servers = [s["device"] if isinstance(s, dict) else s for s in servers]
    return not named_servers or "b" in named_servers or not walked.attached(witness.network)


def bound(witness: Witness, walked: Walked) -> bool:
    """Some binding has the address, or the client if there is no address."""
    rows = [row for network in walked.networks.values() for row in network["bindings"]]
    return witness.address in {number_of(row["address"]) for row in rows}


def has(witness: Witness, walked: Walked) -> bool:
    """Somebody has an address that is no host's there: outside the network, or at an edge."""
    holders = {
        a for vrf in ("", "other") for _, a, _ in (*walked.static(vrf), *walked.interfaces(vrf))
    }
    own = {IPv4Interface((a, 26)).network for a in holders}
    edges = {int(edge) for net in own for edge in (net.network_address, net.broadcast_address)}
    there = walked.hosts(witness.network) if witness.network else set()
    return witness.address in holders and (witness.address in edges or witness.address not in there)


def held(witness: Witness, walked: Walked) -> bool:
    """At least two interfaces or static hosts have the address."""
    holders = [
        address
        for vrf in ("", "other")
        for _, address, _ in (*walked.static(vrf), *walked.interfaces(vrf))
    ]
    return holders.count(witness.address or 0) > 1
