"""What machines that start over the network are offered."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from reservoir.core.checks.classes.members import told_apart
from reservoir.core.checks.rule import Rule, Site
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.offers import Offer
from reservoir.core.plan.model import PlanPath
from reservoir.core.plan.offered import SHORT_FOR
from reservoir.core.values.clients import Client
from reservoir.core.values.options import REGISTRY, decode

BOOT_FILE = SHORT_FOR["boot_file"]
_SERVERS = tuple(REGISTRY[name].code for name in ("tftp_server_name", "tftp_server_addresses"))

BY_WEB = frozenset((15, 16, 17, 18, 19, 20, 24, 26, 28, 30, 32, 34, 36))
"""Architectures that fetch their boot file from a web server (IANA's registry of RFC 5970)."""


class _Booting(NamedTuple):
    """Clients that are offered a boot file, where the plan says so."""

    label: str
    path: PlanPath
    network: str
    offer: Offer
    member_of: str = ""
    client: Client | None = None

    @property
    def file(self) -> str:
        return decode(BOOT_FILE, self.offer.options[BOOT_FILE])[1]


def _booting(site: Site) -> Iterator[_Booting]:
    """Networks, classes and bound clients that set what is booted."""
    pools = site.pools
    for index, (name, network) in enumerate(site.plan.networks.items()):
        offer = pools.offers[index]
        path: PlanPath = ("networks", name)
        if BOOT_FILE in offer.options:
            yield _Booting(f"clients of {name}", path, name, offer)
        for row, own in pools.own_in(index).items():
            if own.options.get(BOOT_FILE):
                table = pools.bindings
                whose = offer.with_own(own)
                at, client = table.path(row), table.client_at(row)
                yield _Booting(table.label(row), at, name, whose, client=client)
        del network
    for group, by_class in told_apart(site):
        for its in by_class.classes:
            own_values = group[0].network.by_class.get(its.name)
            if own_values is not None and BOOT_FILE in its.offer.options:
                label = f"clients of class {its.name} in {group[0].name}"
                yield _Booting(label, its.path, group[0].name, its.offer, its.name)


class BootServerMissing(Rule):
    """Clients are offered a boot file, and no server to fetch it from.

    Why: What they do then differs: some ask the DHCP server itself, which rarely has the file.

    Remedy: Set `next_server`, or write the whole address into `boot_file`.
    """

    severity = Severity.WARNING
    example = """
          networks:
            deck:
              subnet: 10.84.30.0/24
              ranges: [10.84.30.20-10.84.30.99]
              boot_file: boot/kiosk.img
        +     next_server: 10.84.0.69
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for each in _booting(site):
            is_whole = "://" in each.file
            named = any(code in each.offer.options for code in _SERVERS)
            if is_whole or named or each.offer.values["next_server"]:
                continue
            yield self.finding(
                f"{each.label} are offered the boot file {each.file} but no boot server"
                if each.client is None
                else f"{each.label} is offered the boot file {each.file} but no boot server",
                (*each.path, "boot_file"),
                Witness(
                    "offered-none",
                    each.network,
                    client=each.client,
                    name=each.label if each.client is not None else "",
                    option="boot server",
                    member_of=each.member_of,
                ),
            )


class BootFileIgnored(Rule):
    """A boot file is of a kind that the machines of a class don't take.

    Why: Machines that start from a web server need its whole address; the others take a path, and
    can't fetch a web address. They ignore what doesn't fit, and don't start.

    Remedy: Write `http://…` for the architectures that start from a web server, else a path.
    """

    severity = Severity.WARNING
    rests_on = ("class",)
    example = """
          classes: {web-booters: {architecture: [16]}}
          networks:
            deck:
              subnet: 10.84.30.0/24
              ranges: [10.84.30.20-10.84.30.99]
              next_server: 10.84.0.69
        -     by_class: {web-booters: {boot_file: boot/efi.img}}
        +     by_class: {web-booters: {boot_file: "http://10.84.0.69/boot/efi.img"}}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for each in _booting(site):
            kin = site.plan.classes.get(each.member_of)
            numbers = kin.words.architecture if kin is not None else None
            if not numbers:
                continue
            is_web = each.file.lower().startswith(("http://", "https://"))
            if numbers <= BY_WEB and not is_web:
                why = "start from a web server, and it is no web address"
            elif not numbers & BY_WEB and is_web:
                why = "can't fetch from a web server"
            else:
                continue
            yield self.finding(
                f"{each.label} are offered the boot file {each.file}, but they {why}",
                (*each.path, "boot_file"),
                Witness(
                    "offered",
                    each.network,
                    option="boot file",
                    value=each.file,
                    because="invalid",
                    member_of=each.member_of,
                ),
            )
