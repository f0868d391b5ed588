"""Device limits: what the plan's devices can't do, as found by fitting the plan to them."""

from __future__ import annotations

from reservoir.core.checks.rule import Obstructed
from reservoir.core.findings import Severity


class NotExpressible(Obstructed):
    """A device can't be configured to do what the plan wants.

    Why: Configured as far as possible, it would assign or offer something else.

    Remedy: Change the plan to the nearest that the device can do, or let another device serve.
    """

    severity = Severity.ERROR
    rests_on = ("subnet", "address", "interface")
    follows = ("server-not-reached",)
    example = """
          devices: {depot: {dialect: quillon, interfaces: {lan: {address: 10.85.10.1/24}}}}
          networks:
        -   workshop:
        -     {subnet: 10.85.10.0/24, served_by: depot, ranges: [10.85.10.20], lease: infinite}
        +   workshop: {subnet: 10.85.10.0/24, served_by: depot, ranges: [10.85.10.20], lease: 7d}
    """


class TooMany(Obstructed):
    """The plan exceeds a limit of the device.

    Why: The device refuses what is beyond its limit, silently or not.

    Remedy: Stay within the limit, or let another device serve.
    """

    severity = Severity.ERROR
    follows = ("binding-placement",)
    example = """
          devices:
            pier: {dialect: larkspur, interfaces: {deck: {address: 10.84.30.1/24}}}
          networks:
            crew:
              subnet: 10.84.30.0/24
              gateway: 10.84.30.1
              served_by: pier
              ranges: [10.84.30.20-10.84.30.99]
        -     dns: [10.84.0.1, 10.84.0.2, 10.84.0.3, 10.84.0.4, 10.84.0.5,
        -           10.84.0.6, 10.84.0.7, 10.84.0.8, 10.84.0.9]
        +     dns: [10.84.0.1, 10.84.0.2]
    """


class LeaseRounded(Obstructed):
    """A device rounds the lease time.

    Why: Clients get a slightly different lease time than planned.

    Remedy: Use a lease time that the device supports.
    """

    severity = Severity.WARNING
    example = """
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
        -     lease: 90s
        +     lease: 2m
              served_by: office
              ranges: [10.84.50.20-10.84.50.99]
    """


class GoesLiveBeforeExclusions(Obstructed):
    """A pool goes live before its exclusions are in place.

    Why: A device whose DHCP server is on by default answers as soon as a pool has a subnet. A
    client that asks before the exclusions follow may get an address that another machine has.

    Remedy: Put the exclusions before the line that makes the pool live; `reservoir write` does.
    """

    severity = Severity.ERROR
    dialect = "larkspur"
    example = """
          pool crew
        -   subnet 10.84.30.0/24
            withhold 10.84.30.1 to 10.84.30.19
            gateway 10.84.30.1
        +   subnet 10.84.30.0/24
    """
