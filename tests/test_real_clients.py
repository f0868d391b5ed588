"""The operating system's own DHCP clients against a stand-in: each gets what was predicted."""

from __future__ import annotations

from pathlib import Path

import pytest

from real_clients import Told, malformed, predicted, told

pytestmark = pytest.mark.usefixtures("dhcp_clients")

NETWORK = """\
networks:
  crew:
    subnet: 10.84.30.0/24
    gateway: 10.84.30.1
    served_by: DEVICE
    ranges: [10.84.30.20-10.84.30.22]
    bindings: [{name: bell, mac: 00:00:5e:00:53:61, address: 10.84.30.99}]
"""

DIRECT = """\
reservoir: 1
defaults: {dns: [10.84.0.53, 10.84.1.53], domain: sable.example, lease: 20m}
devices: {pier: {dialect: tamarack, interfaces: {deck: {address: 10.84.30.1/24}}}}
""" + NETWORK.replace("DEVICE", "pier")

RELAYED = """\
reservoir: 1
defaults: {dns: [10.84.0.53, 10.84.1.53], domain: sable.example, lease: 20m}
devices:
  pier: {interfaces: {deck: {address: 10.84.30.1/24, relay_to: [10.84.0.10]},
    trunk: {address: 10.84.0.1/24}}}
  office: {dialect: larkspur, interfaces: {srv: {address: 10.84.0.10/24}}}
""" + NETWORK.replace("DEVICE", "office")

CLIENTS = [
    ("udhcpc", "02:00:00:00:53:01"),
    ("dhclient", "02:00:00:00:53:02"),
    ("dhcpcd", "02:00:00:00:53:03"),
    ("udhcpc", "00:00:5e:00:53:61"),
]
LATE = ("udhcpc", "02:00:00:00:53:04")


@pytest.mark.parametrize(
    ("mode", "plan", "device"), [("direct", DIRECT, "pier"), ("relay", RELAYED, "office")]
)
def test_real_clients_get_what_was_predicted(
    mode: str, plan: str, device: str, tmp_path: Path
) -> None:
    """They renew; the bound one gets its own, one too many nothing; no message is malformed."""
    file = tmp_path / "plan.yaml"
    file.write_text(plan)
    found = told(file, device, [*CLIENTS, LATE], mode, release=False)
    macs = [mac for _, mac in (*CLIENTS, LATE)]
    assert [one.values for one in found] == predicted(file, macs, "crew")
    assert [one.renewed for one in found] == [True] * 4 + [False]
    assert found[3].values["ip"] == "10.84.30.99"
    assert found[4].values == {}
    count, wrong = malformed(tmp_path / "seen.pcapng")
    assert wrong == ""
    assert count >= 4 * 6
    remembered = (tmp_path / "leases.csv").read_text().splitlines()
    assert [row.split(",")[0] for row in remembered[1:]] == [
        one.mac for one in sorted(found[:4], key=_address)
    ]


def _address(one: Told) -> tuple[int, ...]:
    return tuple(map(int, one.values["ip"].split(".")))


def test_what_real_clients_release_others_get(tmp_path: Path) -> None:
    """Each gives its address back; the stand-in remembers nobody, and serves on after a stop."""
    file = tmp_path / "plan.yaml"
    file.write_text(DIRECT.replace("20-10.84.30.22", "20-10.84.30.20"))
    found = told(file, "pier", CLIENTS[:3], "direct", release=True)
    assert [one.values["ip"] for one in found] == ["10.84.30.20"] * 3
    assert (tmp_path / "leases.csv").read_text().splitlines()[1:] == []
