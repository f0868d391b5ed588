"""The operating system's own DHCP clients against a stand-in: each gets what was predicted."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import pytest

from real_clients import Told, malformed, predicted, told
from reservoir.core.values.client_classes import Said
from reservoir.core.values.clients import parse_mac

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


KINDS = """\
reservoir: 1
defaults: {dns: [10.84.0.53], domain: sable.example, lease: 20m}
classes:
  phones: {vendor_class: "harbour-phone*"}
  kiosks: {user_class: kiosk}
  efi: {architecture: [7, 9]}
devices: {pier: {dialect: fulmar, interfaces: {deck: {address: 10.84.30.1/24}}}}
networks:
  crew:
    subnet: 10.84.30.0/24
    gateway: 10.84.30.1
    served_by: pier
    ranges: [10.84.30.20-10.84.30.29]
    by_class:
      phones: {ranges: [10.84.30.40-10.84.30.49], lease: 30m}
      kiosks: {domain: kiosk.example, boot_file: kiosk.img, next_server: 10.84.0.69}
      efi: {boot_file: boot/efi.img, next_server: 10.84.0.69}
    bindings:
      - {mac: 00:00:5e:00:53:61, address: 10.84.30.99, hostname: bell, boot_file: boot/bell.img}
"""

OF_KINDS: dict[tuple[str, str], dict[str, Any]] = {
    ("udhcpc", "02:00:00:00:53:11"): {"vendor_class": ("harbour-phone-2",)},
    ("udhcpc", "02:00:00:00:53:12"): {"architecture": (7,)},
    ("udhcpc", "02:00:00:00:53:13"): {"user_class": ("kiosk",)},
    ("dhclient", "02:00:00:00:53:14"): {"vendor_class": ("harbour-phone",)},
    ("dhclient", "02:00:00:00:53:15"): {"architecture": (9,)},
    ("dhclient", "02:00:00:00:53:16"): {"user_class": ("kiosk",)},
    ("dhcpcd", "02:00:00:00:53:17"): {"vendor_class": ("harbour-phone-3",)},
    ("dhcpcd", "02:00:00:00:53:18"): {"user_class": ("kiosk",)},
    ("dhcpcd", "02:00:00:00:53:19"): {},
    ("udhcpc", "00:00:5e:00:53:61"): {"architecture": (7,)},
}


def test_real_clients_of_each_class_get_what_was_predicted(tmp_path: Path) -> None:
    """By the words that their options set; the bound one has values of its own over its class's."""
    file = tmp_path / "plan.yaml"
    file.write_text(KINDS)
    says = {mac: Said(parse_mac(mac), **words) for (_, mac), words in OF_KINDS.items()}
    found = told(file, "pier", list(OF_KINDS), "direct", release=False, says=says)
    assert [one.values for one in found] == predicted(file, list(says), "crew", says)
    leases = [one.values["lease"] for one in found]
    assert leases == ["1800", "1200", "1200"] * 2 + ["1800", "1200", "1200", "1200"]
    assert [one.values.get("bootfile") for one in found[:3]] == [None, "boot/efi.img", "kiosk.img"]
    assert found[-1].values["hostname"] == "bell"
    assert found[-1].values["bootfile"] == "boot/bell.img"
    # One of the clients sends a user class against RFC 3004, which an analyser minds.
    count, wrong = malformed(tmp_path / "seen.pcapng", "10.84.30.1")
    assert (count >= 2 * len(found), wrong) == (True, "")
