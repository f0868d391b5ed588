"""Clients that are bound: each a machine's own, and once in a network."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np
from numpy.typing import NDArray

from reservoir.core.checks.rule import EXCLUSION_WRONG, SUBNET_WRONG, Obstructed, Rule, Site
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.plan.hosts import FIRST_IDENTIFIER, HostTable, repeated
from reservoir.core.values.addresses import format_address
from reservoir.core.values.clients import ETHERNET, Mac

GROUP_BIT, LOCAL_BIT = 1 << 40, 1 << 41
"""In a MAC address's first byte: sent to many; set by the machine itself (IEEE 802, clause 8)."""


class BindingClientTwice(Rule):
    """One client is bound to two addresses in one network.

    Why: It gets one of them, nobody knows which; the other lies idle.

    Remedy: Leave one of the bindings out, or correct the MAC address: often it was copied from the
    wrong window.
    """

    severity = Severity.ERROR
    failing = """
        networks:
          crew:
            subnet: 10.84.30.0/24
            bindings:
              - {name: printer, mac: 00:00:5e:00:53:01, address: 10.84.30.9}
              - {name: scanner, mac: 00:00:5e:00:53:01, address: 10.84.30.10}
    """
    passing = """
        networks:
          crew:
            subnet: 10.84.30.0/24
            bindings:
              - {name: printer, mac: 00:00:5e:00:53:01, address: 10.84.30.9}
              - {name: scanner, mac: 00:00:5e:00:53:02, address: 10.84.30.10}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        lending, table = site.lending, site.lending.bindings
        for group in repeated(table.network, machines(table)):
            first = int(group[0])
            for row in group[1:].tolist():
                one, other = int(table.address[first]), int(table.address[row])
                if one == other:
                    continue  # the rule about addresses that are bound twice says so
                names = [table.name[r] or "the client" for r in (first, row)]
                who = names[0] if names[0] == names[1] else f"{names[0]} and {names[1]}"
                yield self.finding(
                    f"{table.client_text(row)} is bound to {format_address(one)} and to "
                    f"{format_address(other)} ({who})",
                    table.path(row),
                    Witness(
                        "bound",
                        lending.names[table.network[row]],
                        other,
                        client=table.client_text(row),
                        also=f"and always {format_address(one)}",
                    ),
                )


def machines(table: HostTable) -> NDArray[np.int64]:
    """The clients of a table, shape (n,), a MAC and the identifier made from it as one number."""
    same = {
        FIRST_IDENTIFIER + place: int.from_bytes(identifier[1:], "big")
        for place, identifier in enumerate(table.identifiers)
        if len(identifier) == 7 and identifier[0] == ETHERNET
    }
    if not same:
        return table.client
    clients = table.client.copy()
    for row in np.flatnonzero(clients >= FIRST_IDENTIFIER).tolist():
        clients[row] = same.get(int(clients[row]), clients[row])
    return clients


class BindingNameTwice(Rule):
    """Two clients of one network are bound under one name.

    Why: Whoever looks for the machine finds the wrong one; some devices refuse the second.

    Remedy: Give each a name of its own.
    """

    severity = Severity.WARNING
    follows_here = ("binding-client-twice",)
    failing = """
        networks:
          crew:
            subnet: 10.84.30.0/24
            bindings:
              - {name: printer, mac: 00:00:5e:00:53:01, address: 10.84.30.9}
              - {name: printer, mac: 00:00:5e:00:53:02, address: 10.84.30.10}
    """
    passing = """
        networks:
          crew:
            subnet: 10.84.30.0/24
            bindings:
              - {name: printer, mac: 00:00:5e:00:53:01, address: 10.84.30.9}
              - {name: printer-2, mac: 00:00:5e:00:53:02, address: 10.84.30.10}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        lending, table = site.lending, site.lending.bindings
        numbers = table.name.hashes().view(np.int64)
        for group in repeated(table.network, numbers):
            first: dict[str, int] = {}
            for row in group.tolist():
                name = table.name[row]
                if not name or first.setdefault(name, row) == row:
                    continue
                one, other = (int(table.address[r]) for r in (first[name], row))
                if one == other:
                    continue  # the rule about addresses that are bound twice says so
                yield self.finding(
                    f"{name} is the name of two clients, at {format_address(one)} and "
                    f"{format_address(other)}",
                    table.path(row),
                    Witness(
                        "named-alike",
                        lending.names[table.network[row]],
                        client=table.client_text(first[name]),
                        also=table.client_text(row),
                    ),
                )


class ClientInvalid(Rule):
    """A binding's MAC address can't be a machine's.

    Why: No client ever asks with it: all zeros, all ones, or a group address that stands for many.

    Remedy: Copy the MAC address from the machine or from its lease.
    """

    severity = Severity.ERROR
    failing = """
        networks:
          crew:
            subnet: 10.84.30.0/24
            bindings: [{name: printer, mac: 00:00:00:00:00:00, address: 10.84.30.9}]
    """
    passing = """
        networks:
          crew:
            subnet: 10.84.30.0/24
            bindings: [{name: printer, mac: 00:00:5e:00:53:01, address: 10.84.30.9}]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        lending, table = site.lending, site.lending.bindings
        clients = machines(table)
        wrong = ((clients & GROUP_BIT) != 0) | (clients == 0)
        for row in np.flatnonzero(wrong & (clients < FIRST_IDENTIFIER)).tolist():
            number = int(clients[row])
            reason = "is the broadcast address" if number == (1 << 48) - 1 else "stands for many"
            reason = "is all zeros" if number == 0 else reason
            yield self.finding(
                f"{Mac(number)} {reason}, so no client has it",
                (*table.path(row), "mac"),
                Witness(
                    "bound",
                    lending.names[table.network[row]],
                    int(table.address[row]),
                    client=str(Mac(number)),
                    also="and never asks",
                ),
            )


class ClientRandomised(Rule):
    """A binding's MAC address was made up by the machine itself.

    Why: Phones and laptops make up another one for each network, or now and then: the binding
    will miss its client. Virtual machines keep theirs.

    Remedy: Switch private addresses off on the machine for this network and bind the MAC address
    that it has then, or bind its client identifier.
    """

    severity = Severity.ADVICE
    failing = """
        networks:
          crew:
            subnet: 10.84.30.0/24
            bindings: [{name: tablet, mac: 02:00:5e:00:53:01, address: 10.84.30.9}]
    """
    passing = """
        networks:
          crew:
            subnet: 10.84.30.0/24
            bindings: [{name: tablet, mac: 00:00:5e:00:53:01, address: 10.84.30.9}]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        table = site.lending.bindings
        clients = machines(table)
        local = (clients & (GROUP_BIT | LOCAL_BIT)) == LOCAL_BIT
        for row in np.flatnonzero(local & (clients < FIRST_IDENTIFIER)).tolist():
            yield self.finding(
                f"{table.label(row)} has {Mac(int(clients[row]))}, which a machine gives itself: "
                "it may change",
                (*table.path(row), "mac"),
            )


class BindingPlacement(Obstructed):
    """A device has bound an address where it doesn't heed the binding.

    Why: Families differ: one wants bound addresses among the excluded, one inside a range, one
    outside every range. The client gets another address, or none, or its address is lent.

    Remedy: Move the address to where the device wants it; `reservoir write` does so by itself.
    """

    severity = Severity.ERROR
    follows = (
        *EXCLUSION_WRONG,
        "range-outside-subnet",
        "binding-placement",  # a line that is missing is missed by all that it would hold
    )
    dialect = "larkspur"
    rests_on = ("exclusion", "range")
    failing = """
        pool crew
          withhold 10.84.30.1 to 10.84.30.19
          subnet 10.84.30.0/24
        pin 10.84.30.40 to 01.00005e-005301 as printer
    """
    passing = """
        pool crew
          withhold 10.84.30.1 to 10.84.30.19
          subnet 10.84.30.0/24
        pin 10.84.30.9 to 01.00005e-005301 as printer
    """


class BindingToldOtherwise(Obstructed):
    """A bound client is told something else than the other clients of its network.

    Why: Where a device's dialect says of each binding again what its network says, one of the two
    is easily mistyped or forgotten; a client that is moved to a bound address then behaves
    otherwise.

    Remedy: Say the same of both, or accept that this client is an exception.
    """

    severity = Severity.ADVICE
    follows = (
        *SUBNET_WRONG,
        "gateway-outside-subnet",
        "gateway-unattended",
        "dns-transposed",
        "binding-told-otherwise",
    )
    rests_on = ("gateway", "dns", "domain", "lease", "option")
    dialect = "merganser"
    failing = """
        lending ready
        leg deck:
            address 10.84.30.1 mask 255.255.255.0
            lending ready
        done
        lot crew:
            leg deck
            net 10.84.30.0 mask 255.255.255.0
            dns 10.84.0.53
            lend 10.84.30.20 through 10.84.30.99
        done
        lot purser:
            leg deck
            net 10.84.30.0 mask 255.255.255.0
            dns 10.48.0.53
            lend only 10.84.30.10 to 00005e-005301
        done
    """
    passing = """
        lending ready
        leg deck:
            address 10.84.30.1 mask 255.255.255.0
            lending ready
        done
        lot crew:
            leg deck
            net 10.84.30.0 mask 255.255.255.0
            dns 10.84.0.53
            lend 10.84.30.20 through 10.84.30.99
        done
        lot purser:
            leg deck
            net 10.84.30.0 mask 255.255.255.0
            dns 10.84.0.53
            lend only 10.84.30.10 to 00005e-005301
        done
    """
