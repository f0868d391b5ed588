"""What was read: lines that nobody understood, acceptances that have had their day."""

from __future__ import annotations

from collections.abc import Iterator

from reservoir.core.checks.acceptance import accepts
from reservoir.core.checks.rule import Obstructed, Rule, Site
from reservoir.core.findings import Finding, Severity, Witness


class LineUnread(Obstructed):
    """A line of a configuration that concerns lending was not understood.

    Why: What it says is in none of the other findings; the device may lend otherwise.

    Remedy: Correct the line, or teach it to the dialect's sheet.
    """

    severity = Severity.WARNING
    dialect = "larkspur"
    failing = """
        pool crew
          withold 10.84.30.1 to 10.84.30.19
          subnet 10.84.30.0/24
    """
    passing = """
        pool crew
          withhold 10.84.30.1 to 10.84.30.19
          subnet 10.84.30.0/24
    """


class AcceptanceIdle(Rule):
    """An acceptance accepts nothing: there is no such finding.

    Why: What it was about has been put right, or its path is mistyped; should the mistake come
    back, nobody would hear of it.

    Remedy: Take the acceptance out, or correct its rule or path.
    """

    severity = Severity.WARNING
    comes_last = True
    failing = """
        networks:
          crew: {subnet: 10.84.30.0/24, gateway: 10.84.30.1}
        accept: [{rule: gateway-edge-address, at: networks.crew, because: "agreed in March"}]
    """
    passing = """
        networks:
          crew: {subnet: 10.84.30.0/24, gateway: 10.84.30.255}
        accept: [{rule: gateway-edge-address, at: networks.crew, because: "agreed in March"}]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for position, acceptance in enumerate(site.plan.accept):
            if not any(accepts(acceptance, finding) for finding in site.found):
                yield self.finding(
                    f"there is no {acceptance.rule} at {acceptance.at} to accept",
                    ("accept", position),
                    Witness("unneeded"),
                )


class AcceptanceExpired(Rule):
    """An acceptance has run out, and its finding is still there.

    Why: What was to be put right by that day hasn't been.

    Remedy: Put the finding right, or agree on another day.
    """

    severity = Severity.WARNING
    comes_last = True
    failing = """
        networks:
          crew: {subnet: 10.84.30.0/24, gateway: 10.84.30.255}
        accept:
          - {rule: gateway-edge-address, at: networks.crew, because: "moves", until: 2020-03-31}
    """
    passing = """
        networks:
          crew: {subnet: 10.84.30.0/24, gateway: 10.84.30.255}
        accept:
          - {rule: gateway-edge-address, at: networks.crew, because: "moves", until: 2999-03-31}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for position, acceptance in enumerate(site.plan.accept):
            if acceptance.holds_on(site.today):
                continue
            if any(accepts(acceptance, finding) for finding in site.found):
                yield self.finding(
                    f"the acceptance of {acceptance.rule} at {acceptance.at} ran out on "
                    f"{acceptance.until}",
                    ("accept", position),
                    Witness("ends", also=str(acceptance.until)),
                )
