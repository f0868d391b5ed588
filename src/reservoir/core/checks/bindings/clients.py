"""Clients with bindings: each one real, and bound once per network."""

from __future__ import annotations

from collections.abc import Iterator

import numpy as np

from reservoir.core.checks.rule import Obstructed, Rule, Site
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.plan.hosts import FIRST_IDENTIFIER, as_machines, repeated
from reservoir.core.values.addresses import format_address
from reservoir.core.values.clients import Mac

GROUP_BIT, LOCAL_BIT = 1 << 40, 1 << 41
"""In a MAC address's first byte: group address; locally administered (IEEE 802, clause 8)."""


class BindingClientTwice(Rule):
    """One client is bound to two addresses in one network.

    Why: It gets one of them, unpredictably; the other is never used.

    Remedy: Remove one of the bindings, or correct the MAC address, which may have been copied from
    the wrong place.
    """

    severity = Severity.ERROR
    example = """
          networks:
            crew:
              subnet: 10.84.30.0/24
              bindings:
                - {name: printer, mac: 00:00:5e:00:53:01, address: 10.84.30.9}
        -       - {name: scanner, mac: 00:00:5e:00:53:01, address: 10.84.30.10}
        +       - {name: scanner, mac: 00:00:5e:00:53:02, address: 10.84.30.10}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        pools, table = site.pools, site.pools.bindings
        for group in repeated(table.network, as_machines(table.client, table.identifiers)):
            first = int(group[0])
            for row in group[1:].tolist():
                one, other = int(table.address[first]), int(table.address[row])
                if one == other:
                    continue  # binding-address-twice reports it
                names = [table.name[r] or "the client" for r in (first, row)]
                who = names[0] if names[0] == names[1] else f"{names[0]} and {names[1]}"
                yield self.finding(
                    f"{table.client_text(row)} is bound to {format_address(one)} and to "
                    f"{format_address(other)} ({who})",
                    table.path(row),
                    Witness(
                        "bound-to-two",
                        pools.names[table.network[row]],
                        other,
                        client=table.client_at(row),
                        expected=format_address(one),
                    ),
                )


class BindingNameTwice(Rule):
    """Two bindings in one network have the same name.

    Why: People who look for the machine find the wrong one; some devices refuse the second
    binding.

    Remedy: Give each binding its own name.
    """

    severity = Severity.WARNING
    follows_here = ("binding-client-twice",)
    example = """
          networks:
            crew:
              subnet: 10.84.30.0/24
              bindings:
                - {name: printer, mac: 00:00:5e:00:53:01, address: 10.84.30.9}
        -       - {name: printer, mac: 00:00:5e:00:53:02, address: 10.84.30.10}
        +       - {name: printer-2, mac: 00:00:5e:00:53:02, address: 10.84.30.10}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        pools, table = site.pools, site.pools.bindings
        numbers = table.name.hashes().view(np.int64)
        for group in repeated(table.network, numbers):
            first: dict[str, int] = {}
            for row in group.tolist():
                name = table.name[row]
                if not name or first.setdefault(name, row) == row:
                    continue
                one, other = (int(table.address[r]) for r in (first[name], row))
                if one == other:
                    continue  # binding-address-twice reports it
                yield self.finding(
                    f"two clients are named {name}, at {format_address(one)} and "
                    f"{format_address(other)}",
                    table.path(row),
                    Witness(
                        "names-equal",
                        pools.names[table.network[row]],
                        client=table.client_at(first[name]),
                        name=name,
                        also=table.client_text(row),
                    ),
                )


class ClientInvalid(Rule):
    """A binding's MAC address can't belong to a client.

    Why: No client ever uses all zeros, the broadcast address or a group address.

    Remedy: Copy the MAC address from the machine or from its lease.
    """

    severity = Severity.ERROR
    example = """
          networks:
            crew:
              subnet: 10.84.30.0/24
        -     bindings: [{name: printer, mac: 00:00:00:00:00:00, address: 10.84.30.9}]
        +     bindings: [{name: printer, mac: 00:00:5e:00:53:01, address: 10.84.30.9}]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        pools, table = site.pools, site.pools.bindings
        clients = as_machines(table.client, table.identifiers)
        wrong = ((clients & GROUP_BIT) != 0) | (clients == 0)
        for row in np.flatnonzero(wrong & (clients < FIRST_IDENTIFIER)).tolist():
            number = int(clients[row])
            reason = "the broadcast address" if number == (1 << 48) - 1 else "a group address"
            reason = "all zeros" if number == 0 else reason
            yield self.finding(
                f"{Mac(number)} is {reason}, so no client can have it",
                (*table.path(row), "mac"),
                Witness(
                    "bound",
                    pools.names[table.network[row]],
                    int(table.address[row]),
                    **table.who(row),
                    because="never-asks",
                ),
            )


class ClientRandomised(Rule):
    """A binding's MAC address is locally administered (randomised).

    Why: Phones and laptops use a different random MAC address on each network, or change it from
    time to time, and the binding stops matching. Virtual machines keep theirs.

    Remedy: Turn off private (random) MAC addresses on the machine for this network and bind the MAC
    address it has then, or bind its client identifier.
    """

    severity = Severity.ADVICE
    example = """
          networks:
            crew:
              subnet: 10.84.30.0/24
        -     bindings: [{name: tablet, mac: 02:00:5e:00:53:01, address: 10.84.30.9}]
        +     bindings: [{name: tablet, mac: 00:00:5e:00:53:01, address: 10.84.30.9}]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        table, names = site.pools.bindings, site.pools.names
        clients = as_machines(table.client, table.identifiers)
        local = (clients & (GROUP_BIT | LOCAL_BIT)) == LOCAL_BIT
        for row in np.flatnonzero(local & (clients < FIRST_IDENTIFIER)).tolist():
            yield self.finding(
                f"{table.label(row)} has {Mac(int(clients[row]))}, a locally administered MAC "
                "address, which may change",
                (*table.path(row), "mac"),
                concerns=(names[table.network[row]],),
            )


class BindingPlacement(Obstructed):
    """A bound address is where the device ignores the binding.

    Why: Device families differ: one requires bound addresses to be excluded, one inside a range,
    one outside every range. Otherwise the client gets another address or none, or its address is
    assigned to another client.

    Remedy: Put the address where the device requires it; `reservoir write` does so on its own.
    """

    severity = Severity.ERROR
    rests_on = ("exclusion", "range")
    follows_itself = "network"
    dialect = "larkspur"
    example = """
          pool crew
            withhold 10.84.30.1 to 10.84.30.19
            subnet 10.84.30.0/24
        - pin 10.84.30.40 to 01.00005e-005301 as printer
        + pin 10.84.30.9 to 01.00005e-005301 as printer
    """


class BindingMissing(Obstructed):
    """One of a network's servers lacks a binding that another one has.

    Why: It doesn't know the client and offers it any free address; the client takes whichever
    offer comes first.

    Remedy: Give all servers of a network the same bindings; a plan writes them to each.
    """

    severity = Severity.ERROR
    rests_on = ("subnet",)
    dialect = "larkspur"
    example = """
          unit pier
          berth deck
            holds 10.84.30.1/24
          pool crew
            withhold 10.84.30.1 to 10.84.30.99
            gateway 10.84.30.1
            subnet 10.84.30.0/24
          pin 10.84.30.9 to 01.00005e-005301 as printer
          ---
          unit bow
          berth deck
            holds 10.84.30.2/24
          pool crew
            withhold 10.84.30.1 to 10.84.30.19
            withhold 10.84.30.100 to 10.84.30.254
            gateway 10.84.30.1
            subnet 10.84.30.0/24
        + pin 10.84.30.9 to 01.00005e-005301 as printer
    """


class BindingOptionsDiffer(Obstructed):
    """A bound client is offered different options than the rest of its network.

    Why: Where a dialect repeats the network's options in each binding, one of the copies is easily
    mistyped or forgotten, and the client behaves differently once it is bound.

    Remedy: Make both the same, or accept the finding if the difference is intended.
    """

    severity = Severity.ADVICE
    rests_on = ("subnet", "gateway", "dns", "domain", "lease", "option")
    follows = ("gateway-outside-subnet", "gateway-unattended")
    follows_itself = "network"
    dialect = "merganser"
    example = """
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
        -     dns 10.48.0.53
        +     dns 10.84.0.53
              lend only 10.84.30.10 to 00005e-005301
          done
    """
