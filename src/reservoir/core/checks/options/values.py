"""Options and domains: values that follow the standards."""

from __future__ import annotations

from collections.abc import Iterator

from reservoir.core.checks.options.written import options_as_written, values_as_written
from reservoir.core.checks.rule import Obstructed, Rule, Site
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.plan.offered import SHORT_FOR
from reservoir.core.values import options as dhcp_options
from reservoir.core.values.addresses import MalformedValueError
from reservoir.core.values.domains import why_no_domain


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
        for option in options_as_written(site):
            kind = dhcp_options.kind_of(option.code)
            if kind is None or not option.data:
                continue
            try:
                dhcp_options.KINDS[kind][1](option.data)
            except (MalformedValueError, UnicodeDecodeError) as error:
                name, meaning = dhcp_options.name_of(option.code), dhcp_options.MEANINGS[kind]
                yield self.finding(
                    f"option {option.code} ({name}) should be {meaning}: {error}",
                    option.path,
                    option.witness(
                        next(iter(option.networks), first),
                        option=f"option {name}",
                        value=option.data.hex(),
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
        for written in values_as_written(site, "domain"):
            reason = why_no_domain(written.value)
            if reason:
                yield self.finding(
                    f"{written.value!r} is not a domain name: {reason}",
                    written.path,
                    written.whose.witness(
                        Witness(
                            "offered",
                            written.network,
                            option="domain",
                            value=written.value,
                            because="invalid",
                        )
                    ),
                )


class HostNameInvalid(Rule):
    """The host name that a client is offered is not a valid one (RFC 1123 section 2.1).

    Why: Strict clients ignore it, or use it in part; a name server refuses it.

    Remedy: Write letters, digits and hyphens; a domain may follow, after a dot.
    """

    severity = Severity.ERROR
    example = """
          networks:
            crew:
              subnet: 10.84.30.0/24
              bindings:
        -       - {mac: 00:00:5e:00:53:01, address: 10.84.30.9, hostname: chart_plotter}
        +       - {mac: 00:00:5e:00:53:01, address: 10.84.30.9, hostname: chart-plotter}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for option in options_as_written(site):
            if option.code != HOST_NAME or not option.networks:
                continue
            kind, text = dhcp_options.decode(option.code, option.data)
            reason = why_no_domain(text) if kind == "text" else None
            if reason:
                yield self.finding(
                    f"{text!r} is not a host name: {reason}",
                    option.path,
                    option.witness(
                        option="host name",
                        value=text,
                        because="invalid",
                    ),
                    concerns=option.networks[1:],
                )


class HostNameTwice(Rule):
    """Two clients of one domain are offered the same host name.

    Why: A name stands for one machine; which of the two answers to it is chance.

    Remedy: Give each its own name.
    """

    severity = Severity.WARNING
    example = """
          networks:
            crew:
              subnet: 10.84.30.0/24
              bindings:
                - {mac: 00:00:5e:00:53:01, address: 10.84.30.9, hostname: plotter}
        -       - {mac: 00:00:5e:00:53:02, address: 10.84.30.8, hostname: plotter}
        +       - {mac: 00:00:5e:00:53:02, address: 10.84.30.8, hostname: plotter-2}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        table, pools = site.pools.bindings, site.pools
        first: dict[tuple[str, str], int] = {}
        for row, own in table.own.items():
            name = own.options.get(HOST_NAME, b"").decode("utf-8", "replace")
            offer = pools.offers[int(table.network[row])].with_own(own)
            known = first.setdefault((name.lower(), str(offer.values["domain"])), row)
            if name and known != row and table.client_at(known) != table.client_at(row):
                label, other = table.labels(row, known)
                network = pools.names[int(table.network[row])]
                yield self.finding(
                    f"{label} and {other} are both offered the host name {name}",
                    (*table.path(row), "hostname"),
                    Witness(
                        "offered",
                        network,
                        client=table.client_at(row),
                        option="host name",
                        value=name,
                    ),
                )


HOST_NAME = SHORT_FOR["hostname"]
