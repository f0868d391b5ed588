"""Whether a finding's witness holds in a small plan, by walking it."""

from __future__ import annotations

from ipaddress import IPv4Interface
from typing import Any

from oracle import Walked, number_of, walk
from oracle_findings import machine
from reservoir.core.findings import Witness
from reservoir.core.values.clients import format_client


def holds(witness: Witness, walked: Walked) -> bool:
    """Whether the case really is as the witness says."""
    case = {"assigned": assigned, "in-range": in_range, "in-both": in_both, "refused": refused}
    case |= {"offered": offered, "offered-none": offered_none, "excluded-anyway": excluded_anyway}
    case |= {"answered-twice": answered_twice, "unanswered": unanswered, "has": has}
    case |= {"bound": bound, "bound-to-two": bound_to_two, "names-equal": names_equal}
    case |= {"held-twice": held, "masks-differ": masks_differ, "empty-range": empty_range}
    case |= {"in-subnet": in_subnet}
    return case[witness.kind](witness, walked) and witness.sentence != ""


def network_of(witness: Witness, walked: Walked) -> dict[str, Any]:
    network: dict[str, Any] = walked.networks[str(witness.network)]
    return network


def pools_of(witness: Witness, walked: Walked) -> list[Any]:
    return [pool for pool in walked.pools if pool.network == witness.network]


def assigned(witness: Witness, walked: Walked) -> bool:
    """A server may assign the address, and it is taken, or was meant to be excluded."""
    name = str(witness.network)
    if not any(witness.address in pool.assignable for pool in pools_of(witness, walked)):
        return False
    if witness.because == "meant-excluded":
        exclusions = network_of(witness, walked)["exclusions"]
        meant = {a for text in exclusions for a in walk("-".join(reversed(text.split("-"))))}
        # An end with a typo could be anything.
        return witness.address in meant or bool(meant - walked.addresses(name))
    servers = {number_of(a) for n in walked.networks.values() for a in n.get("dns", ())}
    servers |= {
        number_of(route["via"])
        for device in walked.plan["devices"].values()
        for route in device.get("routes", ())
    }
    return witness.address in walked.taken(name) | servers


def in_range(witness: Witness, walked: Walked) -> bool:
    """A range has the address, and it is what the reason says."""
    name = str(witness.network)
    lists = [pool.named for pool in pools_of(witness, walked) if pool.named != "all"]
    ranges = {address for texts in lists for text in texts for address in walk(text)}
    if witness.because == "outside-subnet":
        return witness.address in ranges - walked.addresses(name)
    if witness.because in ("network-address", "broadcast-address"):
        return witness.address in ranges - walked.hosts(name)
    return witness.address in ranges


def in_subnet(witness: Witness, walked: Walked) -> bool:
    """The network's subnet has the address."""
    return witness.address in walked.addresses(str(witness.network))


def offered(witness: Witness, walked: Walked) -> bool:
    """Clients are offered the value, and it is what the reason says."""
    network, name = network_of(witness, walked), str(witness.network)
    if witness.option == "DNS server":
        return witness.value in network["dns"]
    if witness.value != network.get("gateway"):
        return False
    address = number_of(witness.value)
    if witness.because == "outside-subnet":
        return address not in walked.addresses(name)
    return (address in walked.hosts(name)) == (witness.because == "not-held")


def offered_none(witness: Witness, walked: Walked) -> bool:
    key = {"DNS server": "dns", "gateway": "gateway"}[witness.option]
    return not network_of(witness, walked).get(key)


def empty_range(witness: Witness, walked: Walked) -> bool:
    """A range of the network that ends before it begins."""
    first, _, last = witness.value.partition("-")
    lists = [pool.named for pool in pools_of(witness, walked) if pool.named != "all"]
    return number_of(last) < number_of(first) and any(witness.value in texts for texts in lists)


def masks_differ(witness: Witness, walked: Walked) -> bool:
    mask = IPv4Interface(network_of(witness, walked)["subnet"]).network.prefixlen
    return witness.value == f"/{mask}" != witness.expected


def refused(witness: Witness, walked: Walked) -> bool:
    """Before this client all addresses are taken, of the pool or of the subnet as a whole."""
    name = str(witness.network)
    assert witness.count is not None
    everything = set().union(*(pool.assignable for pool in pools_of(witness, walked)))
    bindings = len(network_of(witness, walked)["bindings"])
    hosts = walked.hosts(name)
    rooms = {len(everything), len(everything) + bindings, len(hosts)}
    rooms |= {len(hosts - walked.taken(name)), len(hosts) - 1, 0}
    return witness.count - 1 in rooms


def excluded_anyway(witness: Witness, walked: Walked) -> bool:
    return all(witness.address not in pool.assignable for pool in pools_of(witness, walked))


def in_both(witness: Witness, walked: Walked) -> bool:
    """Both networks, ranges, subnets or pools have the address."""
    assert witness.address is not None
    for one in (witness.name, witness.also):
        pool = one.removeprefix("the pool of ")
        if pool != one:
            mine = (p for p in walked.pools if pool in (p.server, p.network))
            there = {address for p in mine for address in p.assignable}
        elif one in walked.networks:
            there = walked.addresses(one)
        elif "/" in one:
            there = set(map(int, IPv4Interface(one).network))
        else:
            there = walk(one if "-" in one else f"{one}-{one}")
        if witness.address not in there:
            return False
    return True


def answered_twice(witness: Witness, walked: Walked) -> bool:
    """Each of the servers may assign the address."""
    serving = [p.server for p in pools_of(witness, walked) if witness.address in p.assignable]
    return len(witness.servers) > 1 and set(witness.servers) <= set(serving)


def unanswered(witness: Witness, walked: Walked) -> bool:
    serving = [server for server, *_ in walked.servers(str(witness.network))]
    return not serving or "b" in serving or not walked.attached(str(witness.network))


def bound(witness: Witness, walked: Walked) -> bool:
    """The client has a binding of the address in the network, and the reason is right."""
    name = str(witness.network)
    rows = [r for r in network_of(witness, walked)["bindings"] if is_row(r, witness)]
    if witness.because == "outside-subnet":
        return bool(rows) and witness.address not in walked.addresses(name)
    if witness.because in ("network-address", "broadcast-address"):
        return bool(rows) and witness.address not in walked.hosts(name)
    return bool(rows)


def is_row(row: dict[str, Any], witness: Witness) -> bool:
    assert witness.client is not None
    same = machine(row) == machine({"mac": format_client(witness.client)})
    return same and number_of(row["address"]) == witness.address


def bound_to_two(witness: Witness, walked: Walked) -> bool:
    """The client has bindings of both addresses."""
    assert witness.client is not None
    client = machine({"mac": format_client(witness.client)})
    rows = [row for row in network_of(witness, walked)["bindings"] if machine(row) == client]
    return {witness.address, number_of(witness.expected)} <= {
        number_of(row["address"]) for row in rows
    }


def names_equal(witness: Witness, walked: Walked) -> bool:
    """Both clients of the network have the name."""
    assert witness.client is not None
    rows = network_of(witness, walked)["bindings"]
    return all(
        any(machine(r) == machine({"mac": client}) and r["name"] == witness.name for r in rows)
        for client in (format_client(witness.client), witness.also)
    )


def has(witness: Witness, walked: Walked) -> bool:
    """Somebody has an address that is no host's there: outside the network, or at an edge."""
    shared = [at for vrf in ("", "other") for at in walked.shared(vrf)]
    if witness.because == "outside-subnet" and witness.name in ("a deck", "a hold"):
        return (f"devices.a.interfaces.{witness.name[2:]}", witness.address) in shared
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
    holders += [address for vrf in ("", "other") for address in walked.virtual(vrf)]
    return holders.count(witness.address or 0) > 1
