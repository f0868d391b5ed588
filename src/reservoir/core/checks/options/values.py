"""Options and domains: values that follow the standards."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping

from reservoir.core.checks.rule import Obstructed, Rule, Site
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.plan.model import PlanPath
from reservoir.core.values import options as dhcp_options
from reservoir.core.values.addresses import MalformedValueError


class OptionInvalid(Rule):
    """An option's value doesn't have the registered type.

    Why: Clients ignore it, or misread it.

    Remedy: Use the option's registered name, which implies its type.
    """

    severity = Severity.ERROR
    example = """
          networks:
        -   crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20], options: {42: {hex: 0a5400}}}
        +   crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20], options: {ntp: [10.84.0.123]}}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        first = next(iter(site.plan.networks), None)
        yield from self._in(site.plan.defaults.options, ("defaults",), first)
        for name, network in site.plan.networks.items():
            yield from self._in(network.options, ("networks", name), name)

    def _in(
        self, options: Mapping[int, bytes], path: PlanPath, network: str | None
    ) -> Iterator[Finding]:
        for code, data in options.items():
            kind = dhcp_options.kind_of(code)
            if kind is None or not data:
                continue
            try:
                dhcp_options.KINDS[kind][1](data)
            except (MalformedValueError, UnicodeDecodeError) as error:
                name = dhcp_options.name_of(code)
                yield self.finding(
                    f"option {code} ({name}) should be {dhcp_options.MEANINGS[kind]}: {error}",
                    (*path, "options", name),
                    Witness(
                        "offered",
                        network,
                        option=f"option {name}",
                        value=data.hex(),
                        because="invalid",
                    ),
                )


class PoolOptionsDiffer(Obstructed):
    """Pools of one network, on one device, offer different things.

    Why: What a client is offered depends on which pool its address is from.

    Remedy: Make them the same.
    """

    severity = Severity.WARNING
    rests_on = ("subnet", "gateway", "dns", "domain", "lease", "option", "next_server")
    dialect = "thimble"
    example = """
          [socket 1]
          label: deck
          address: 10.84.30.1
          mask: 255.255.255.0

          [shelf 1]
          label: crew
          network: 10.84.30.0/24
          first: 10.84.30.20
          last: 10.84.30.39
          dns: 10.84.0.53

          [shelf 2]
          label: crew-2
          network: 10.84.30.0/24
          first: 10.84.30.60
          last: 10.84.30.79
        - dns: 10.84.1.53
        + dns: 10.84.0.53
    """


class OptionTwice(Obstructed):
    """A device's configuration sets the same thing twice: by option number and by its own keyword.

    Why: Which of the two clients are offered depends on the device.

    Remedy: Remove the option that is set by number.
    """

    severity = Severity.WARNING
    dialect = "larkspur"
    example = """
          pool crew
            resolvers 10.84.0.53
        -   option 6 ip 10.84.1.53
            subnet 10.84.30.0/24
    """


_LABEL = re.compile("[A-Za-z0-9]([A-Za-z0-9-]{0,61}[A-Za-z0-9])?")


class DomainInvalid(Rule):
    """A domain is not a valid domain name (RFC 1035 section 2.3.4, RFC 1123 section 2.1).

    Why: Strict clients ignore it; others build names from it that nobody can resolve.

    Remedy: Write labels of letters, digits and hyphens, separated by dots.
    """

    severity = Severity.ERROR
    example = """
          networks:
        -   crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20], domain: crew_deck..example}
        +   crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20], domain: crew-deck.example}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        first = next(iter(site.plan.networks), None)
        owners: list[tuple[PlanPath, str | None, str | None]] = [
            (("defaults", "domain"), site.plan.defaults.domain, first)
        ]
        owners += [
            (("networks", name, "domain"), network.domain, name)
            for name, network in site.plan.networks.items()
        ]
        for path, domain, network in owners:
            reason = _why_no_domain(domain) if domain else None
            if reason:
                yield self.finding(
                    f"{domain!r} is not a domain name: {reason}",
                    path,
                    Witness(
                        "offered", network, option="domain", value=str(domain), because="invalid"
                    ),
                )


def _why_no_domain(domain: str) -> str | None:
    if len(domain.removesuffix(".")) > 253:
        return f"it has {len(domain)} characters, more than 253"
    for label in domain.removesuffix(".").split("."):
        if len(label) > 63:
            return f"{label[:20]}… has {len(label)} characters, more than 63"
        if not _LABEL.fullmatch(label):
            return (
                f"{label!r} is not a label of letters, digits and hyphens"
                if label
                else "there is nothing between two dots"
            )
    return None
