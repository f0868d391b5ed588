"""The plan to enter on a device whose sheet is to be drafted.

No two values are the same, so that each shows where it stands; there are two of everything, so that
what repeats can be told from what doesn't; each switch is off somewhere.
"""

from __future__ import annotations

from reservoir.core.plan.classes import Agent, ClassAnswers, ClientClass
from reservoir.core.plan.model import (
    Binding,
    Device,
    Exclusion,
    Interface,
    Network,
    Plan,
    Route,
    Service,
    Zone,
)
from reservoir.core.values.addresses import parse_address, parse_prefix, parse_span
from reservoir.core.values.clients import parse_identifier, parse_mac

SAMPLE_DEVICE = "quay-box"


def plan_for_sample() -> Plan:
    """The plan."""
    device = Device(
        interfaces={
            "berth1": _interface("10.84.61.1/24", zone="crew"),
            "berth2": Interface(
                addresses=tuple(map(parse_prefix, ("10.84.62.1/25", "10.84.66.1/28"))),
                zone="guest",
            ),
            "berth3": Interface(),
            "berth3.731": _interface("10.84.63.1/26", parent="berth3", vlan=731),
            "berth3.732": _interface(
                "10.84.64.1/27",
                parent="berth3",
                vlan=732,
                relay_to=tuple(map(parse_address, ("10.84.9.11", "10.84.9.12"))),
            ),
            "berth4": Interface(enabled=False),
            "berth5": Interface(),
            "berth6": Interface(),
            "bridge": _interface("10.84.67.1/29", members=("berth5", "berth6")),
        },
        zones={"crew": Zone(admits=("dhcp", "ping")), "guest": Zone(admits=("dhcp",))},
        routes=(
            Route(to=parse_prefix("10.84.70.0/23"), via=parse_address("10.84.63.5")),
            Route(to=parse_prefix("10.84.72.0/22"), via=parse_address("10.84.63.6")),
        ),
    )
    mess = Network(
        subnet=parse_prefix("10.84.61.0/24"),
        served_by=(_of_pair("10.84.61.3", after=25 * 60),),
        gateway=parse_address("10.84.61.2"),
        ranges=(parse_span("10.84.61.20-10.84.61.119"), parse_span("10.84.61.140-10.84.61.199")),
        exclusions=(
            Exclusion(range=parse_span("10.84.61.50-10.84.61.54"), reason="printers"),
            Exclusion(range=parse_span("10.84.61.70-10.84.61.77"), reason="deck cameras"),
        ),
        dns=(parse_address("10.84.9.53"), parse_address("10.84.9.54")),
        domain="mess.example",
        lease=7 * 3_600,
        next_server=parse_address("10.84.9.66"),
        options={42: bytes((10, 84, 9, 123)), 114: b"https://mess.example/hello"},
        bindings=(
            Binding(
                name="galley-till",
                mac=parse_mac("00:00:5e:00:53:a1"),
                address=parse_address("10.84.61.30"),
                hostname="till-one",
                options={100: b"UTC-1"},
            ),
            Binding(
                name="bridge-clock",
                mac=parse_mac("00:00:5e:00:53:b2"),
                address=parse_address("10.84.61.31"),
                hostname="clock-two",
            ),
            Binding(
                name="stoker",
                mac=parse_mac("00:00:5e:00:53:d4"),
                address=parse_address("10.84.61.32"),
            ),
        ),
        by_class={
            "phones": ClassAnswers(
                ranges=(parse_span("10.84.61.210-10.84.61.219"),),
                lease=11 * 3_600,
                options={66: b"phones.mess.example"},
            ),
            "starters": ClassAnswers(
                next_server=parse_address("10.84.9.68"), options={67: b"quay.start"}
            ),
        },
    )
    lounge = Network(
        subnet=parse_prefix("10.84.62.0/25"),
        served_by=(_of_pair("10.84.62.4", leads=False, after=40 * 60),),
        gateway=parse_address("10.84.62.3"),
        ranges=(parse_span("10.84.62.40-10.84.62.90"),),
        exclusions=(
            Exclusion(range=parse_span("10.84.62.60"), reason="kiosk"),
            Exclusion(range=parse_span("10.84.62.64-10.84.62.68")),
        ),
        dns=(parse_address("10.84.8.53"),),
        domain="lounge.example",
        lease=53 * 3_600,
        next_server=parse_address("10.84.8.67"),
        options={26: (1400).to_bytes(2, "big")},
        bindings=(
            Binding(
                name="purser",
                client_id=parse_identifier("hex:01a2b3c4d5e6"),
                address=parse_address("10.84.62.45"),
                lease=17 * 3_600,
            ),
            Binding(mac=parse_mac("00:00:5e:00:53:c3"), address=parse_address("10.84.62.48")),
        ),
        by_class={
            "kiosks": ClassAnswers(
                ranges=(parse_span("10.84.62.100-10.84.62.109"),),
                gateway=parse_address("10.84.62.5"),
                dns=(parse_address("10.84.8.54"),),
            ),
            "phones": ClassAnswers(domain="calls.example", options={66: b"phones.lounge.example"}),
        },
    )
    locker = Network(
        subnet=parse_prefix("10.84.63.0/26"),
        served_by=(Service(device=SAMPLE_DEVICE),),
        gateway=parse_address("10.84.63.2"),
        ranges=(parse_span("10.84.63.10-10.84.63.33"),),
        dns=(parse_address("10.84.7.53"),),
        lease=5_400,
        by_class={"scales": ClassAnswers(ranges=(parse_span("10.84.63.40-10.84.63.49"),))},
        admits=("scales", "gates", "lamps"),
    )
    return Plan(
        name="Sample",
        devices={SAMPLE_DEVICE: device},
        classes=_classes(),
        networks={"mess": mess, "lounge": lounge, "locker": locker},
    )


def _of_pair(partner: str, *, after: int, leads: bool = True) -> Service:
    """The device as one of a pair with what has an address."""
    return Service(device=SAMPLE_DEVICE, partner=parse_address(partner), leads=leads, after=after)


def _classes() -> dict[str, ClientClass]:
    """Classes, of which each word is said by some."""
    return {
        "phones": ClientClass(vendor_class="quay-phone*"),
        "starters": ClientClass(vendor_class="quay-start*", architecture=(7, 9)),
        "kiosks": ClientClass(user_class="deck-kiosk", architecture=(16,)),
        "scales": ClientClass(mac=bytes.fromhex("00005e11")),
        "gates": ClientClass(mac=bytes.fromhex("00005e22"), agent=Agent(circuit="berth-7*")),
        "lamps": ClientClass(user_class="deck-lamp*", agent=Agent(remote="quay-switch*")),
    }


def _interface(address: str, **others: object) -> Interface:
    return Interface(addresses=(parse_prefix(address),), **others)
