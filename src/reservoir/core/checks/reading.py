"""What was read: lines that were not understood, acceptances that no longer apply."""

from __future__ import annotations

from collections.abc import Iterator

from reservoir.core.checks.acceptance import accepts
from reservoir.core.checks.rule import Obstructed, Rule, Site
from reservoir.core.findings import Finding, Severity, Witness


class LineNotUnderstood(Obstructed):
    """A line about DHCP in a device's configuration was not understood.

    Why: The other findings don't take it into account; the device may behave differently, and
    nothing that is said of it is certain.

    Remedy: Correct the line, or add it to the dialect's sheet.
    """

    severity = Severity.ERROR
    dialect = "larkspur"
    example = """
          pool crew
        -   withold 10.84.30.1 to 10.84.30.19
        +   withhold 10.84.30.1 to 10.84.30.19
            subnet 10.84.30.0/24
    """


class RunningDiffers(Obstructed):
    """A device runs a network otherwise than planned.

    Why: Its clients get what somebody changed on the device, or what was planned never arrived
    there; the next time that the plan is written, it changes under them.

    Remedy: Write the plan into the device's configuration, or put what it does into the plan.
    """

    severity = Severity.WARNING
    dialect = "larkspur"
    example = """
          devices:
            pier: {dialect: larkspur, interfaces: {deck: {address: 10.84.30.1/24}}}
          networks:
            crew:
              subnet: 10.84.30.0/24
              gateway: 10.84.30.1
              lease: 8h
              served_by: pier
              ranges: [10.84.30.20-10.84.30.99]
          ---
          unit pier
          berth deck
            holds 10.84.30.1/24
          pool crew
            withhold 10.84.30.1 to 10.84.30.19
            withhold 10.84.30.100 to 10.84.30.254
            gateway 10.84.30.1
        -   lease 3600
        +   lease 28800
            subnet 10.84.30.0/24
    """


class AcceptanceIdle(Rule):
    """An acceptance matches no finding.

    Why: The problem has been fixed, or the path is mistyped. If the problem comes back, the
    acceptance hides it.

    Remedy: Remove the acceptance, or correct its rule or path.
    """

    severity = Severity.WARNING
    comes_last = True
    example = """
          networks:
        -   crew: {subnet: 10.84.30.0/24, gateway: 10.84.30.1}
        +   crew: {subnet: 10.84.30.0/24, gateway: 10.84.30.255}
          accept: [{rule: gateway-edge-address, at: networks.crew, because: "agreed in March"}]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for position, acceptance in enumerate(site.plan.accept):
            if not any(accepts(acceptance, finding) for finding in site.found):
                yield self.finding(
                    f"there is no {acceptance.rule} at {acceptance.at} to accept",
                    ("accept", position),
                    Witness("unused"),
                )


class AcceptanceExpired(Rule):
    """An acceptance has expired, and its finding is still there.

    Why: The problem was to be fixed by that date, and wasn't.

    Remedy: Fix the problem, or set another date.
    """

    severity = Severity.WARNING
    comes_last = True
    example = """
          networks:
            crew: {subnet: 10.84.30.0/24, gateway: 10.84.30.255}
          accept:
        -   - {rule: gateway-edge-address, at: networks.crew, because: "moves", until: 2020-03-31}
        +   - {rule: gateway-edge-address, at: networks.crew, because: "moves", until: 2999-03-31}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for position, acceptance in enumerate(site.plan.accept):
            if acceptance.holds_on(site.today):
                continue
            if any(accepts(acceptance, finding) for finding in site.found):
                yield self.finding(
                    f"the acceptance of {acceptance.rule} at {acceptance.at} expired on "
                    f"{acceptance.until}",
                    ("accept", position),
                    Witness("expired", value=str(acceptance.until)),
                )
