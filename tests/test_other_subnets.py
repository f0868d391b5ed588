"""Networks that are widened, narrowed or renumbered: the commonest change of what runs."""

from __future__ import annotations

from ipaddress import IPv4Network
from pathlib import Path
from typing import Any, NamedTuple

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

import reservoir
from conftest import examples
from met import meets, met
from oracle import text_of
from reservoir import Severity
from reservoir.dialects.sheet.library import Library
from reservoir.files.lease_list import read_leases

NOW = 1_000_000
LEASE = 28_800


class Subnet(NamedTuple):
    """A subnet of one LAN, and what is where in it."""

    subnet: IPv4Network
    gateway: int
    first: int
    """The range's first and last place."""
    last: int
    bound: int

    def address(self, place: int) -> str:
        return str(self.subnet[place])

    def plan(self, dialect: str) -> dict[str, Any]:
        bits = self.subnet.prefixlen
        port = {"parent": "p1", "vlan": 20, "zone": "in"}
        crew = {
            "subnet": str(self.subnet),
            "vlan": 20,
            "gateway": self.address(self.gateway),
            "served_by": "pier",
            "ranges": [f"{self.address(self.first)}-{self.address(self.last)}"],
            "bindings": [
                {"mac": "00:00:5e:00:53:01", "address": self.address(self.bound), "name": "plotter"}
            ],
        }
        pier = {
            "dialect": dialect,
            "zones": {"in": {"admits": ["dhcp"]}},
            "interfaces": {
                "p1": {},
                "p1.20": {**port, "address": f"{self.address(self.gateway)}/{bits}"},
                "p1.60": {"parent": "p1", "vlan": 60, "address": "10.132.60.1/24", "zone": "in"},
            },
        }
        defaults = {"dns": ["10.132.60.53"], "domain": "quay.example", "lease": "8h"}
        return {
            "reservoir": 1,
            "defaults": defaults,
            "devices": {"pier": pier},
            "networks": {"crew": crew},
        }


@st.composite
def subnets(draw: st.DrawFn, around: str, bits: int) -> Subnet:
    subnet = draw(st.sampled_from(list(IPv4Network(around).subnets(new_prefix=bits))))
    size = subnet.num_addresses
    gateway, bound = draw(st.sampled_from([(1, 2), (2, 3), (size - 2, 1)]))
    first = draw(st.integers(4, size - 8))
    return Subnet(subnet, gateway, first, draw(st.integers(first, size - 4)), bound)


def leases(old: Subnet) -> str:
    """A few clients of the range, and the bound one."""
    places = sorted({old.first, (old.first + old.last) // 2, old.last})
    rows = [(f"00:00:5e:00:53:{0x30 + n:02x}", place) for n, place in enumerate(places)]
    rows.append(("00:00:5e:00:53:01", old.bound))
    lines = [f"{mac},{old.address(place)},{NOW - 600},{NOW + LEASE - 600}\n" for mac, place in rows]
    return "".join(["mac,address,starts,expires\n", *lines])


def running_as(folder: Path, text: str, dialect: str) -> Any:
    """What a device runs, read."""
    place = folder / "pier"
    place.write_text(text)
    return reservoir.combine(reservoir.read(place, dialect))


@pytest.fixture(scope="module")
def folder(tmp_path_factory: pytest.TempPathFactory) -> Path:
    return tmp_path_factory.mktemp("subnets")


@pytest.mark.parametrize("dialect", Library().names)
@meets("wider", "narrower", "renumbered")
@given(data=st.data())
@settings(max_examples=examples(45))
def test_it_is_one_network_that_changes(folder: Path, dialect: str, data: st.DataObject) -> None:
    """What runs is compared, written into and led over as the plan of it would be."""
    near, far = "10.132.20.0/23", "10.132.44.0/22"
    old = data.draw(subnets(near, 24))
    where = [(near, 23), (near, 24), (str(old.subnet), 25), (far, 24)]
    new = data.draw(subnets(*data.draw(st.sampled_from(where))))
    plans = []
    for name, subnet in (("old", old), ("new", new)):
        (folder / f"{name}.yaml").write_text(text_of(subnet.plan(dialect)))
        plans.append(reservoir.load(folder / f"{name}.yaml"))
    (written,) = reservoir.write(plans[0])
    running = running_as(folder, written.text, dialect)
    (folder / "leases.csv").write_text(leases(old))
    present = read_leases(str(folder / "leases.csv")).leases
    told = [
        [(each.row, each.notice) for each in reservoir.notices(before, plans[1], present, now=NOW)]
        for before in (plans[0], running)
    ]
    assert told[0] == told[1]
    assert None not in dict(told[0]).values()
    beside = reservoir.combine(running.reads, plans[1])
    severe = {each.rule for each in reservoir.check(beside) if each.severity > Severity.ADVICE}
    differs = not reservoir.compare(running, plans[1]).is_same
    assert severe == ({"running-differs"} if differs else set())
    met("wider", new.subnet != old.subnet and old.subnet.subnet_of(new.subnet))
    met("narrower", new.subnet != old.subnet and new.subnet.subnet_of(old.subnet))
    met("renumbered", not new.subnet.overlaps(old.subnet))
    (into,) = reservoir.write(plans[1], into={"pier": written.text})
    assert not into.faults
    assert reservoir.compare(running_as(folder, into.text, dialect), plans[1]).is_same
    for made in reservoir.scripts(running, plans[1]):
        sheet = Library().sheet(dialect)
        end = made.script.given_to(made.old, sheet) if made.script is not None else made.new
        assert reservoir.compare(running_as(folder, end, dialect), plans[1]).is_same
