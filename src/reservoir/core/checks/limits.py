"""Device limits: what the plan's devices can't hold, as found by fitting the plan to them."""

from __future__ import annotations

from reservoir.core.checks.rule import SUBNET_WRONG, Obstructed
from reservoir.core.findings import Severity


class NotExpressible(Obstructed):
    """A device has no way to do what the plan wants of it.

    Why: Written as far as it goes, the device would lend or tell clients something else.

    Remedy: Change the plan to the nearest that the device can do, or let another device serve.
    """

    severity = Severity.ERROR
    follows = (*SUBNET_WRONG, "server-not-reached")
    rests_on = ("address", "interface")
    failing = """
        devices: {depot: {dialect: quillon, interfaces: {lan: {address: 10.85.10.1/24}}}}
        networks:
          workshop:
            {subnet: 10.85.10.0/24, served_by: depot, ranges: [10.85.10.20], lease: infinite}
    """
    passing = """
        devices: {depot: {dialect: quillon, interfaces: {lan: {address: 10.85.10.1/24}}}}
        networks:
          workshop: {subnet: 10.85.10.0/24, served_by: depot, ranges: [10.85.10.20], lease: 7d}
    """


class TooMany(Obstructed):
    """A device has no room for as many as the plan gives it.

    Why: It refuses the ones beyond its limit, silently or not.

    Remedy: Give it fewer, or let another device serve.
    """

    severity = Severity.ERROR
    follows = ("binding-placement",)
    failing = """
        devices:
          pier: {dialect: larkspur, interfaces: {deck: {address: 10.84.30.1/24}}}
        networks:
          crew:
            subnet: 10.84.30.0/24
            gateway: 10.84.30.1
            served_by: pier
            ranges: [10.84.30.20-10.84.30.99]
            dns: [10.84.0.1, 10.84.0.2, 10.84.0.3, 10.84.0.4, 10.84.0.5,
                  10.84.0.6, 10.84.0.7, 10.84.0.8, 10.84.0.9]
    """
    passing = """
        devices:
          pier: {dialect: larkspur, interfaces: {deck: {address: 10.84.30.1/24}}}
        networks:
          crew:
            subnet: 10.84.30.0/24
            gateway: 10.84.30.1
            served_by: pier
            ranges: [10.84.30.20-10.84.30.99]
            dns: [10.84.0.1, 10.84.0.2]
    """


class LeaseRounded(Obstructed):
    """A device counts its lease times in larger steps than the plan's.

    Why: Clients get a slightly other lease time than planned.

    Remedy: Write a lease time that the device can say.
    """

    severity = Severity.WARNING
    failing = """
        devices:
          office:
            dialect: merganser
            interfaces: {lan: {address: 10.84.50.1/24, zone: staff}}
            zones: {staff: {admits: [dhcp]}}
        networks:
          staff:
            subnet: 10.84.50.0/24
            gateway: 10.84.50.1
            dns: 10.84.0.53
            lease: 90s
            served_by: office
            ranges: [10.84.50.20-10.84.50.99]
    """
    passing = """
        devices:
          office:
            dialect: merganser
            interfaces: {lan: {address: 10.84.50.1/24, zone: staff}}
            zones: {staff: {admits: [dhcp]}}
        networks:
          staff:
            subnet: 10.84.50.0/24
            gateway: 10.84.50.1
            dns: 10.84.0.53
            lease: 2m
            served_by: office
            ranges: [10.84.50.20-10.84.50.99]
    """


class GoesLiveBeforeExclusions(Obstructed):
    """A pool lends before what must not be lent is excluded.

    Why: A device that lends from the factory answers as soon as a pool has a subnet. Whoever asks
    before the exclusions follow may be lent an address that somebody else has.

    Remedy: Let the exclusions stand before the line that opens the pool; `reservoir write` does.
    """

    severity = Severity.ERROR
    dialect = "larkspur"
    failing = """
        pool crew
          subnet 10.84.30.0/24
          withhold 10.84.30.1 to 10.84.30.19
          gateway 10.84.30.1
    """
    passing = """
        pool crew
          withhold 10.84.30.1 to 10.84.30.19
          gateway 10.84.30.1
          subnet 10.84.30.0/24
    """
