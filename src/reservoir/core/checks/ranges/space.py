"""Subnets: which part of the address space they use, and how large they are."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

from reservoir.core.checks.ranges.within import written_ranges
from reservoir.core.checks.rule import Rule, Site, replaced
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.plan.model import PlanPath
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import Span, format_address, parse_prefix

SPECIAL_USE = {
    parse_prefix(prefix).span: purpose
    for prefix, purpose in (
        ("0.0.0.0/8", "this host on this network (RFC 1122 section 3.2.1.3)"),
        ("127.0.0.0/8", "loopback (RFC 1122 section 3.2.1.3)"),
        ("169.254.0.0/16", "link-local addresses (RFC 3927)"),
        ("192.88.99.0/24", "6to4 relay anycast, deprecated (RFC 7526)"),
        ("224.0.0.0/4", "multicast (RFC 5771)"),
        ("240.0.0.0/4", "future use (RFC 1112 section 4)"),
    )
}
"""Blocks that no client may have an address from (RFC 6890), and what they are for."""

NOT_PUBLIC = tuple(
    parse_prefix(prefix).span
    for prefix in (
        *("10.0.0.0/8", "172.16.0.0/12", "192.168.0.0/16"),  # private (RFC 1918)
        "100.64.0.0/10",  # shared (RFC 6598)
        *("192.0.2.0/24", "198.51.100.0/24", "203.0.113.0/24"),  # documentation (RFC 5737)
        "198.18.0.0/15",  # benchmarks (RFC 2544)
        "192.0.0.0/24",  # protocol assignments (RFC 6890 section 2.1)
    )
)
"""Blocks that anybody may use inside their own network."""

CROWD = 2_048
"""Clients in one broadcast domain beyond which broadcasts become a burden."""


class SubnetHasHostBits(Rule):
    """A network's subnet has host bits set.

    Why: It isn't clear which subnet is meant, and most devices refuse it.

    Remedy: Write the network address, or correct the prefix length.
    """

    severity = Severity.ERROR
    blames = ("subnet",)
    follows_here = ("subnet-differs",)
    example = """
          networks:
        -   crew: {subnet: 10.84.30.1/24, ranges: [10.84.30.20-10.84.30.200]}
        +   crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20-10.84.30.200]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for name, network in site.plan.networks.items():
            written = network.subnet
            if written != written.subnet:
                path = ("networks", name, "subnet")
                yield self.finding(
                    f"{written} is an address inside {written.subnet}, not a subnet",
                    path,
                    Witness(
                        "in-both",
                        name,
                        written.address,
                        name=str(written),
                        also=str(written.subnet),
                    ),
                    replaced(path, written, written.subnet),
                )


class RangeSpecialUse(Rule):
    """A subnet or a range is in a special-use block that is not for clients.

    Why: Hosts refuse such an address or treat it differently: loopback, link-local, multicast.

    Remedy: Use a private block (RFC 1918), or correct the wrong octet.
    """

    severity = Severity.ERROR
    rests_here = ("range", "subnet")
    example = """
          networks:
        -   crew: {subnet: 169.254.30.0/24, ranges: [169.254.30.20-169.254.30.200]}
        +   crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20-10.84.30.200]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        special = AddressSet(SPECIAL_USE)
        for name, network in site.plan.networks.items():
            if not _meets(network.subnet.span, SPECIAL_USE):
                continue
            yield self._inside(network.subnet.span, f"{network.subnet}", name, "subnet")
        for pool, path, span in written_ranges(site):
            if not _meets(span, SPECIAL_USE):
                continue
            named = AddressSet([span]) - AddressSet([pool.network.subnet.span])
            if not named.isdisjoint(special):
                yield self._inside(span, f"the range {span}", pool.name, *path[2:])

    def _inside(self, span: Span, what: str, network: str, *path: str | int) -> Finding:
        block = next(b for b in SPECIAL_USE if _meets(span, [b]))
        address = max(span.first, block.first)
        return self.finding(
            f"{what} is in {_as_prefix(block)}, which is reserved for {SPECIAL_USE[block]}",
            ("networks", network, *path),
            Witness(
                "in-subnet" if path == ("subnet",) else "in-range",
                network,
                address,
                because="not-for-clients",
            ),
        )


def _meets(span: Span, blocks: Iterable[Span]) -> bool:
    """Whether a span has addresses of any of the blocks."""
    return any(block.first <= span.last and span.first <= block.last for block in blocks)


def _as_prefix(block: Span) -> str:
    bits = 32 - (block.size - 1).bit_length()
    return f"{format_address(block.first)}/{bits}"


class RangePublic(Rule):
    """A subnet uses public addresses.

    Why: If they belong to someone else, clients can't reach that part of the internet; a mistyped
    octet often makes a private address public.

    Remedy: Use a private block (RFC 1918). If the addresses are yours, accept the finding.
    """

    severity = Severity.WARNING
    rests_here = ("subnet",)
    follows_here = ("range-special-use",)
    example = """
          networks:
        -   crew: {subnet: 11.84.30.0/24, ranges: [11.84.30.20-11.84.30.200]}
        +   crew: {subnet: 10.84.30.0/24, ranges: [10.84.30.20-10.84.30.200]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        known = AddressSet([*NOT_PUBLIC, *SPECIAL_USE])
        for name, network in site.plan.networks.items():
            span = network.subnet.span
            if any(block.holds(span.first) and block.holds(span.last) for block in NOT_PUBLIC):
                continue
            public = AddressSet([network.subnet.hosts]) - known
            if public:
                yield self.finding(
                    f"{network.subnet} is public address space, which is right only if it is yours",
                    ("networks", name, "subnet"),
                    Witness("in-subnet", name, public.first, because="public"),
                )


class SubnetTooSmall(Rule):
    """A client network's subnet has no room for clients: /31 or /32.

    Why: With a gateway, one address or none is left, and many clients refuse such a mask.

    Remedy: Correct the prefix length; a /30 is the smallest with room for a gateway and a client.
    """

    severity = Severity.ERROR
    blames = ("size",)
    follows_here = ("range-special-use", "subnet-differs")
    example = """
          networks:
        -   crew: {subnet: 10.84.30.0/31, ranges: [10.84.30.0]}
        +   crew: {subnet: 10.84.30.0/30, ranges: [10.84.30.2]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for name, network in site.plan.networks.items():
            if network.subnet.bits < 31:
                continue
            path: PlanPath = ("networks", name, "subnet")
            hosts = network.subnet.hosts
            held = network.gateway is not None and hosts.holds(network.gateway)
            yield self.finding(
                f"{network.subnet} is a point-to-point link or a single address, "
                "not a network for clients",
                path,
                Witness("refused", name, count=hosts.size - held + 1),
            )


class SubnetVeryLarge(Rule):
    """A network may have more clients than one broadcast domain handles well.

    Why: Each client's broadcasts reach all others; with thousands of them, wireless suffers most.

    Remedy: Split the network into several VLANs with a pool each.
    """

    severity = Severity.ADVICE
    example = """
          networks:
        -   crew: {subnet: 10.84.0.0/20, ranges: [10.84.0.20-10.84.15.200]}
        +   crew: {subnet: 10.84.0.0/20, ranges: [10.84.0.20-10.84.7.200]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for index, name in enumerate(site.pools.names):
            assignable = len(site.pools.assignable_in(index))
            bound = len(site.pools.bound_rows(index))
            if assignable + bound > CROWD:
                yield self.finding(
                    f"up to {assignable + bound:,} clients in one broadcast domain, "
                    f"more than {CROWD:,}",
                    ("networks", name),
                )
