"""``reservoir write`` and ``reservoir read`` as a user meets them."""

from __future__ import annotations

from collections.abc import Callable
from importlib import resources
from pathlib import Path

import pytest

import reservoir
from conftest import Run
from reservoir.core.pools import Pools
from reservoir.core.values.address_set import AddressSet
from reservoir.dialects.converting import convert_read
from reservoir.dialects.reading import read_device
from reservoir.dialects.sheet.library import Library

Put = Callable[[str, str], Path]

DIALECTS = Library().names

PLAN = """\
defaults: {dns: [10.84.0.53, 10.84.1.53], domain: sable.example, lease: 12h}
devices:
  pier:
    dialect: larkspur
    interfaces:
      deck: {}
      deck.30: {parent: deck, vlan: 30, address: 10.84.30.1/24, relay_to: [10.84.50.1]}
      deck.31: {parent: deck, vlan: 31, address: 10.84.31.1/24}
      spare: {address: 10.84.32.1/24, enabled: no}
    routes: [{to: 0.0.0.0/0, via: 10.84.0.1}]
  office:
    dialect: merganser
    interfaces:
      lan: {address: 10.84.50.1/24, zone: staff, members: [port3, port4]}
      port3: {}
      port4: {}
    zones: {staff: {admits: [dhcp, ping]}}
networks:
  cameras:
    subnet: 10.84.31.0/24
    vlan: 31
    gateway: 10.84.31.1
    served_by: pier
    ranges: [10.84.31.20-10.84.31.90]
    lease: infinite
    bindings:
      - {name: gate, mac: 00:00:5e:00:53:01, address: 10.84.31.30}
      - {client_id: hex:ff001122, address: 10.84.31.10}
  crew:
    subnet: 10.84.30.0/24
    gateway: 10.84.30.1
    served_by: office
    ranges: all
  staff:
    subnet: 10.84.50.0/24
    gateway: 10.84.50.1
    served_by: office
    ranges: [10.84.50.20-10.84.50.90]
    exclusions: [{range: 10.84.50.40-10.84.50.44, for: file servers}]
    lease: 90m
    bindings: [{name: "till \\"2\\"", mac: 00:00:5e:00:53:02, address: 10.84.50.60}]
"""

LARKSPUR = """\
unit pier

berth deck

berth deck.30
  rides deck tag 30
  holds 10.84.30.1/24
  carries to 10.84.50.1

berth deck.31
  rides deck tag 31
  holds 10.84.31.1/24

berth spare
  idle
  holds 10.84.32.1/24

way 0.0.0.0/0 by 10.84.0.1

pool cameras
  withhold 10.84.31.1 to 10.84.31.19
  withhold 10.84.31.30
  withhold 10.84.31.91 to 10.84.31.254
  gateway 10.84.31.1
  resolvers 10.84.0.53 10.84.1.53
  domain sable.example
  lease forever
  subnet 10.84.31.0/24

pin 10.84.31.30 to 01.00005e.005301 as gate
pin 10.84.31.10 to id ff001122
"""

MERGANSER_LOT = """\
lot staff:
    leg lan
    net 10.84.50.0 mask 255.255.255.0
    gateway 10.84.50.1
    dns 10.84.0.53, 10.84.1.53
    domain sable.example
    term 0 days 1 hours 30 minutes
    lend 10.84.50.20 through 10.84.50.59
    lend 10.84.50.61 through 10.84.50.90
done
"""


def test_both_dialects_and_back(run: Run, put: Put, tmp_path: Path) -> None:
    """The texts of a plan, and the plan of the texts: all that clients notice is the same."""
    put("plan.yaml", PLAN)
    written = run("write", "plan.yaml")
    assert written.code == 0, written.err
    assert (
        "Each file was read back and matches the plan: pools, bindings and options." in written.err
    )
    folder = tmp_path / "configuration"
    assert (folder / "pier.larkspur").read_text() == LARKSPUR
    office = (folder / "office.merganser").read_text()
    assert MERGANSER_LOT in office
    assert 'never lend 10.84.50.40 through 10.84.50.44 for "file servers"\n' in office
    assert 'lot "till ""2""":\n' in office

    read = run("read", "configuration/pier.larkspur", "configuration/office.merganser")
    assert read.code == 0, read.err
    again = read.out
    for line in (
        "domain: sable.example",
        "spare: {address: 10.84.32.1/24, enabled: no}",
        "ranges: [10.84.31.20-10.84.31.90]",
        "lease: infinite",
        "{client_id: hex:ff001122, address: 10.84.31.10}",
        "ranges: [10.84.30.2-10.84.30.254]",
        "ranges: [10.84.50.20-10.84.50.90]",
        "{range: 10.84.50.40-10.84.50.44, for: file servers}",
        r'{name: "till \"2\"", mac: 00:00:5e:00:53:02, address: 10.84.50.60}',
        "lease: 1h30m",
    ):
        assert line in again, again
    put("again.yaml", again)
    assert run("check", "again.yaml").code == 0
    rewritten = run("write", "again.yaml", "--out", "again")
    assert rewritten.code == 0, rewritten.err
    assert (tmp_path / "again/pier.larkspur").read_text() == LARKSPUR
    assert (tmp_path / "again/office.merganser").read_text() == office


def test_a_plan_with_errors_is_not_written_unless_told(run: Run, put: Put, tmp_path: Path) -> None:
    """Nor is anything else written then."""
    put("plan.yaml", PLAN.replace("10.84.31.20-", "10.84.31.1-"))
    refused = run("write", "plan.yaml")
    assert refused.code == 1
    assert "plan.yaml:25:14: gateway-in-pool" in refused.err
    assert not (tmp_path / "configuration").exists()
    assert run("write", "plan.yaml", "--despite-errors").code == 0
    assert "withhold 10.84.31.1\n" not in (tmp_path / "configuration/pier.larkspur").read_text()


def test_what_a_device_cannot_hold_is_said(run: Run, put: Put, tmp_path: Path) -> None:
    """A client identifier on a device that knows MAC addresses only; nothing is written."""
    put("plan.yaml", PLAN.replace("mac: 00:00:5e:00:53:02", "client_id: hex:ff0011"))
    refused = run("write", "plan.yaml")
    assert refused.code == 1
    assert "plan.yaml:42:16: not-expressible: office can't be given the client" in refused.err
    assert refused.err.count("office") == 1
    assert not (tmp_path / "configuration").exists()


def test_edited_files_are_not_lost(run: Run, put: Put, tmp_path: Path) -> None:
    """A file that was edited, or that somebody else wrote, stays; --force overwrites it."""
    put("plan.yaml", PLAN)
    assert run("write", "plan.yaml").err.count("  new\n") == 2
    assert run("write", "plan.yaml").err.count("  unchanged\n") == 2
    changed = PLAN.replace("10.84.31.90", "10.84.31.91")
    put("plan.yaml", changed)
    assert run("write", "plan.yaml").err.count("  changed\n") == 1
    file = tmp_path / "configuration/pier.larkspur"
    file.write_text(file.read_text() + "-- by hand\n")
    put("plan.yaml", PLAN)
    refused = run("write", "plan.yaml")
    assert refused.code == 2
    assert "configuration/pier.larkspur:1:1: the file was edited since" in refused.err
    assert file.read_text().endswith("-- by hand\n")
    assert run("write", "plan.yaml", "--force").code == 0
    assert file.read_text() == LARKSPUR


def test_one_device_on_standard_output(run: Run, put: Put, tmp_path: Path) -> None:
    """For a pipe; unknown devices are named; names that a device doesn't take are made fit."""
    put("plan.yaml", PLAN.replace("  cameras:", '  "cameras on deck":'))
    printed = run("write", "plan.yaml", "--device", "pier", "--out", "-")
    assert printed.out == LARKSPUR.replace("pool cameras", "pool cameras-on-deck")
    assert not (tmp_path / "configuration").exists()
    assert "did you mean pier?" in run("write", "plan.yaml", "--device", "pie").err


DAMAGED = """\
unit pier
log everything
berth deck
  holds 10.84.31.1/24
  mtu 1400
pool cameras
  withhold 10.84.31.300
  gatewy 10.84.31.1
  lease soon
  resolvers 10.84.0.53
  subnet 10.84.31.0/24
  subnet 10.84.32.0/24
pool crew
  gateway 10.84.30.1
pol shop
  subnet 10.84.33.0/24
pin 10.84.31.30 00005e
pin 10.84.31.31 to 01.00005e.005301
pin 10.84.31.32 to id 02
"""


def test_lines_that_are_not_understood_are_listed(run: Run, put: Put) -> None:
    """With place, reason and the nearest word; the rest is read, other matters are counted."""
    put("pier.larkspur", DAMAGED)
    read = run("read", "pier.larkspur")
    assert read.code == 1
    assert read.err.splitlines()[:9] == [
        "pier.larkspur:7:12: '10.84.31.300' is not an IPv4 address: 300 is above 255, "
        "in: withhold …",
        "pier.larkspur:8:3: not understood, inside pool cameras (line 6): 'gatewy 10.84.31.1' "
        "(did you mean 'gateway'?)",
        "pier.larkspur:9:9: 'soon' is not a lease time, such as 1, in: lease …",
        "pier.larkspur:12:3: pool cameras already has its subnet (line 11)",
        "pier.larkspur:13:1: pool crew is missing its line: subnet {subnet}",
        "pier.larkspur:15:1: not understood: 'pol shop' (did you mean 'pool'?); "
        "1 more line skipped because of it",
        "pier.larkspur:17:1: not understood: 'pin 10.84.31.30 00005e'; expected a line like: "
        "pin {address} to {mac}[ as {name}]",
        "pier.larkspur:19:23: '02' has 1 byte; a client identifier has 2 to 255, in: pin …",
        "pier.larkspur: pier, larkspur (48% of it understood); "
        "1 network from 19 lines, 2 not about DHCP, "
        "9 not understood",
    ]
    assert "10.84.31.31" in read.out
    assert "subnet: 10.84.31.0/24" in read.out
    assert "10.84.32.0" not in read.out


@pytest.mark.parametrize(
    ("name", "text", "said"),
    [
        (
            "x.larkspur",
            "hello\nworld\n",
            "x.larkspur:1:1: neither a plan nor configuration in a known dialect",
        ),
        ("x.larkspur", "", "neither a plan nor configuration in a known dialect"),
        ("none", None, "there is no such file"),
    ],
)
def test_what_cannot_be_read(name: str, text: str | None, said: str, run: Run, put: Put) -> None:
    """Exit status 2, and no plan."""
    if text is not None:
        put(name, text)
    ended = run("read", name)
    assert ended.code == 2
    assert said in ended.err
    assert ended.out == ""


def test_switches_and_defaults_are_made_explicit(run: Run, put: Put) -> None:
    """What the device does by itself stands in the plan; what is switched off isn't served."""
    put(
        "office.merganser",
        "appliance office\nlending ready\nleg lan:\n  address 10.84.50.1 mask 255.255.255.0\ndone\n"
        "lot staff:\n  leg lan\n  net 10.84.50.0 mask 255.255.255.0\n  dns 10.84.0.53\n"
        "  lend 10.84.50.1 through 10.84.50.9\ndone\n",
    )
    read = run("read", "office.merganser")
    assert "the DHCP service is off on lan" in read.err
    assert "served_by: []" in read.out, "nobody, though left out it would be the office"
    assert "gateway: 10.84.50.1" in read.out
    assert "lease: 1d" in read.out
    assert "10.84.50.2-10.84.50.9" in read.out or "exclusions: [10.84.50.1]" in read.out


SPLIT = """\
devices:
  pier:
    dialect: larkspur
    interfaces:
      deck.30: {parent: deck, vlan: 30, address: 10.84.30.1/24, relay_to: [10.84.50.1]}
      deck: {}
  office:
    dialect: merganser
    interfaces: {lan: {address: 10.84.50.1/24, zone: staff}}
    zones: {staff: {admits: [dhcp]}}
networks:
  crew:
    subnet: 10.84.30.0/24
    vlan: 30
    gateway: 10.84.30.1
    dns: 10.84.0.53
    lease: 1h
    served_by:
      - {device: pier, ranges: [10.84.30.20-10.84.30.59]}
      - {device: office, ranges: [10.84.30.60-10.84.30.99]}
    exclusions: [10.84.30.70-10.84.30.74]
    bindings: [{name: bell, mac: 00:00:5e:00:53:01, address: 10.84.30.25}]
  mess: {subnet: 10.84.50.0/24, gateway: 10.84.50.1, dns: 10.84.0.53, lease: 1h,
    served_by: office, ranges: [10.84.50.20-10.84.50.90]}
"""


def test_two_servers_of_one_subnet_are_one_network(run: Run, put: Put) -> None:
    """Each with its share; the relayed network's tag is the relay's; what all tell is a default."""
    put("plan.yaml", SPLIT)
    assert run("write", "plan.yaml").code == 0
    read = run("read", "configuration/pier.larkspur", "configuration/office.merganser")
    assert read.out.count("subnet: 10.84.30.0/24") == 1
    assert "- {device: pier, ranges: [10.84.30.20-10.84.30.59]}" in read.out
    assert (
        "- {device: office, ranges: [10.84.30.60-10.84.30.69, 10.84.30.75-10.84.30.99]}" in read.out
    )
    assert "vlan: 30" in read.out
    assert read.out.count("lease: 1h") == 1
    put("again.yaml", read.out)
    checked = run("check", "again.yaml", "--fail-on", "warning")
    assert checked.code == 0, checked.out
    summary = "2 networks on 2 devices; 145 assignable addresses."
    assert summary in checked.out
    assert summary in run("check", "plan.yaml").out


def held(text: str, dialect: str) -> dict[str, tuple[object, object]]:
    """By subnet, what a configuration assigns, its own addresses aside, and whom it binds."""
    pools = Pools(read_device(text, "device.txt", Library(), dialect).lifted.plan())
    found: dict[str, tuple[object, object]] = {}
    for pool in pools:
        attachments = pools.topology.attachments(pool.network)
        own = AddressSet.of_addresses([attachment.address for attachment in attachments])
        bound = frozenset(pools.clients_bound(pool))
        found[str(pool.network.subnet)] = (pool.assignable - own, bound)
    return found


@pytest.mark.parametrize("source", DIALECTS)
def test_the_demos_devices_are_carried_from_any_dialect_to_any(source: str) -> None:
    """Pools and static bindings stay as they are, or the loss is reported."""
    with resources.as_file(resources.files("reservoir.demo") / "right") as folder:
        written = reservoir.write(reservoir.load(str(folder / "ferry-line.yaml")))
    library, carried = Library(), 0
    for device in written:
        first = read_device(device.text, "device.txt", library, device.dialect)
        there = convert_read(first, library.sheet(source))
        read = read_device(there.text, "device.txt", library, source)
        for target in DIALECTS:
            result = convert_read(read, library.sheet(target))
            assert result.losses or not result.faults
            if not result.losses and not result.obstacles:
                assert held(result.text, target) == held(there.text, source)
                carried += 1
    assert carried >= len(written)  # to its own dialect at the least


def test_what_a_plan_has_no_word_for_is_kept(run: Run, put: Put) -> None:
    """With the device, in the plan; written back as it was; what can't be put back is said."""
    gate = (
        '<appliance>\n  <called>gate</called>\n  <sides>\n    <side name="a" '
        'address="10.85.61.1/24"/>\n  </sides>\n  <lending open="yes">\n    <scope name="cranes" '
        'subnet="10.85.61.0/24" side="a">\n      <entry low="10.85.61.20" high="10.85.61.30"/>\n'
        "      <exit>10.85.61.1</exit>\n      <ask>10.84.0.53</ask>\n"
        '      <stay usual="3600" longest="7200"/>\n      <knock/>\n'
        "    </scope>\n  </lending>\n</appliance>\n"
    )
    put("gate.quillon", gate)
    read = run("read", "gate.quillon", "--out", "plan.yaml")
    assert read.code == 0, read.err
    assert run("write", "plan.yaml", "--out", "-").out == gate
    plan = put("plan.yaml", "").parent / "plan.yaml"
    run("read", "gate.quillon", "--out", "plan.yaml")
    text = plan.read_text()
    assert 'pool cranes: {longest: 2h, probe: "yes"}' in text
    for was, instead, said in [
        ("probe", "prob", "'prob' can't be kept for a pool (did you mean probe?)"),
        ("pool cranes", "pool crane", "there is no 'pool crane' (did you mean pool cranes?)"),
        ("2h", "2 o'clock", "longest of pool cranes: "),
    ]:
        put("plan.yaml", text.replace(was, instead, 1))
        refused = run("check", "plan.yaml")
        assert refused.code == 1
        assert said in " ".join(refused.out.split())
    carried = run("convert", "gate.quillon", "--to", "larkspur")
    assert "lost: the probe of pool cranes" in carried.err
