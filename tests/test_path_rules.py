"""Rules about interfaces and routes, against looking at every pair and every hop."""

from __future__ import annotations

import datetime
from itertools import permutations, product

from hypothesis import given, settings

from conftest import examples
from met import meets, met
from reservoir.core.checks import Site, rules
from reservoir.core.findings import Finding
from reservoir.core.plan.model import Plan
from reservoir.core.pools import Pools
from reservoir.core.topology import Attachment
from reservoir.core.values.addresses import address_or_none
from test_topology import plans


def site_of(plan: Plan) -> Site:
    return Site(Pools(plan), datetime.date(2026, 11, 25))


def found_by(rule: str, site: Site) -> list[Finding]:
    return list(rules()[rule].check(site))


def is_fitting(site: Site, attachment: Attachment) -> bool:
    """Whether an interface is on, has more than one address, and the mask of its network."""
    home = site.topology.home_of(attachment)
    mask = attachment.bits if home is None else site.plan.networks[home].subnet.bits
    return attachment.bits == mask and site.topology.interface(attachment).enabled


@meets("an overlap", "none", "a pair with a home each")
@given(plan=plans())
@settings(max_examples=examples(100))
def test_interfaces_overlap_if_any_two_do(plan: Plan) -> None:
    """In one VRF, one of them in no network; the case is an address that only one subnet has."""
    site = site_of(plan)
    fitting = [a for a in site.topology.addressed if is_fitting(site, a)]
    by_name: dict[str, list[Attachment]] = {}
    for attachment in fitting:
        by_name.setdefault(str(attachment), []).append(attachment)
    pairs = {
        (str(inner), str(outer))
        for inner, outer in permutations(fitting, 2)
        if site.topology.interface(inner).vrf == site.topology.interface(outer).vrf
        if outer.prefix.span.holds(inner.address) and outer.bits < inner.bits
    }
    homeless = {str(a) for a in fitting if site.topology.home_of(a) is None}
    doubtful = {pair for pair in pairs if homeless.intersection(pair)}
    found = found_by("interfaces-overlap", site)
    assert bool(found) == bool(doubtful)
    met("an overlap" if found else "none")
    met("a pair with a home each", len(pairs - doubtful) > 0)
    for finding in found:
        witness = finding.witness
        assert witness is not None
        assert witness.address is not None
        assert (witness.also, witness.name) in doubtful
        assert any(
            outer.prefix.hosts.holds(witness.address)
            and not inner.prefix.span.holds(witness.address)
            for outer, inner in product(by_name[witness.name], by_name[witness.also])
        )
        assert f"{finding.at[1]} {finding.at[3]}" in homeless & {witness.name, witness.also}


def is_astray(site: Site, device: str, hop: int) -> bool:
    """Whether a device can't send to a next hop, as it is described."""
    own = site.topology.attachments_of(device)
    near = [attachment.prefix for attachment in own if attachment.prefix.span.holds(hop)]
    if any(attachment.address == hop for attachment in own):
        return True
    if near:
        return not any(prefix.hosts.holds(hop) for prefix in near)
    routes = site.plan.devices[device].routes
    return not any(r.via != hop and r.to.bits and r.to.span.holds(hop) for r in routes)


@given(plan=plans())
@settings(max_examples=examples(100))
def test_next_hops_are_astray_if_the_device_cannot_send_there(plan: Plan) -> None:
    """Unless an interface without an address may lead there; every such hop is named once."""
    site = site_of(plan)
    expected = sorted(
        (name, hop)
        for name, device in plan.devices.items()
        if site.topology.attachments_of(name)
        if all(interface.addresses for interface in device.interfaces.values())
        for hop in {route.via for route in device.routes}
        if is_astray(site, name, hop)
    )
    named = []
    for finding in found_by("next-hop-unreachable", site):
        device = str(finding.at[1])
        listing = finding.message.partition(f" of {device} ")[0].replace(",", " ")
        hops = [address_or_none(word) for word in listing.split()]
        named += [(device, hop) for hop in hops if hop is not None]
    assert sorted(named) == expected
