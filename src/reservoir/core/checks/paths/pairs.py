"""Pairs of servers: both know of each other, mean the same, and reach each other."""

from __future__ import annotations

from collections.abc import Iterator

from reservoir.core.checks.rule import Rule, Site
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.pairing import PairEnd, pairing_of, why_out_of_step
from reservoir.core.pools import Pool
from reservoir.core.values.address_set import AddressSet
from reservoir.core.values.addresses import format_address


class PairNotMutual(Rule):
    """A server names another one as its partner, and the other doesn't mean the same.

    Why: Servers keep their leases in step only if each names the other, one is the first, and both
    assign the same addresses. Otherwise each goes on alone, and sooner or later two clients get the
    same address.

    Remedy: Name both in one pair: `served_by: {pair: [pier, depot]}`. On devices, let each name an
    address of the other, with the same ranges.
    """

    severity = Severity.ERROR
    rests_on = ("partner", "leads", "after", "range", "exclusion", "subnet")
    example = """
          devices:
            pier: {interfaces: {deck: {address: 10.84.30.2/24}}}
            depot: {interfaces: {deck: {address: 10.84.30.3/24}}}
          networks:
            crew:
              subnet: 10.84.30.0/24
        -     served_by: [{device: pier, partner: 10.84.30.3}]
        +     served_by: {pair: [pier, depot]}
              ranges: [10.84.30.20-10.84.30.99]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for pool in site.pools:
            other = _partner_named(site, pool)
            if other is None or pool.serving is None:
                continue
            why = self._why_not(site, pool, other)
            if not why:
                continue
            yield self.finding(
                f"{pool.server} names {other} as its partner in {pool.name}, but {why}",
                pool.server_path,
                Witness(
                    "answered-twice",
                    pool.name,
                    pool.assignable.first if pool.assignable else None,
                    servers=(str(pool.server), other),
                ),
            )

    def _why_not(self, site: Site, pool: Pool, other: str) -> str:
        """Why they are not in step, though one names the other; empty if the other tells."""
        its = next((p for p in site.pools.of(pool.name) if p.server == other), None)
        if its is None or its.serving is None or pool.serving is None:
            return f"{other} doesn't serve it"
        ends = [
            PairEnd(
                str(end.server),
                pairing_of(end, site.topology),
                AddressSet.of_addresses([*site.topology.addresses_of(str(end.server))]),
                end.assignable,
            )
            for end in (pool, its)
        ]
        back = its.serving.partner_at
        is_told = back is not None and back in ends[0].addresses
        if is_told and its.serving.path < pool.serving.path:
            return ""  # it has been said of the other one
        return why_out_of_step(*ends) or "they are not written as a pair"


class PartnerUnknown(Rule):
    """A server's partner is at an address that no known device holds.

    Why: Whether the partner serves the network alike, names this server back and reaches it can't
    be known. Where devices' configuration is read, give the partner's too.

    Remedy: Name both devices in a pair, or correct the address.
    """

    severity = Severity.ADVICE
    rests_on = ("partner", "address", "interface")
    example = """
          devices:
            pier: {interfaces: {deck: {address: 10.84.30.2/24}}}
            depot: {interfaces: {deck: {address: 10.84.30.3/24}}}
          networks:
            crew:
              subnet: 10.84.30.0/24
        -     served_by: [{device: pier, partner: 10.84.30.13}]
        +     served_by: {pair: [pier, depot]}
              ranges: [10.84.30.20-10.84.30.99]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for pool in site.pools:
            partner = pool.serving.partner_at if pool.serving else None
            if partner is None or site.topology.holders(partner):
                continue
            where = "the plan" if site.complete else "what was read"
            yield self.finding(
                f"the partner of {pool.server} in {pool.name} is {format_address(partner)}, which "
                f"no device in {where} holds: whether both serve it alike is not known",
                pool.server_path,
            )


class PartnerNotReached(Rule):
    """A server doesn't reach its partner.

    Why: They can't tell each other of their leases. Each goes on as if the other were down, and
    sooner or later two clients get the same address.

    Remedy: Give both a route to each other, and enable the interfaces between them.
    """

    severity = Severity.ERROR
    rests_on = ("partner", "route", "address", "interface")
    example = """
          devices:
            pier: {interfaces: {deck: {address: 10.84.30.2/24}}, routes: []}
            depot:
              interfaces: {deck: {address: 10.84.30.3/24}}
              routes: []
            office:
              interfaces: {lan: {address: 10.84.0.10/24}}
              routes: []
          networks:
            crew:
              subnet: 10.84.30.0/24
        -     served_by: {pair: [pier, office]}
        +     served_by: {pair: [pier, depot]}
              ranges: [10.84.30.20-10.84.30.99]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for pool in site.pools:
            pairing = pairing_of(pool, site.topology)
            if pairing is None or not site.topology.holders(pairing.partner):
                continue
            way = site.routing.way(str(pool.server), pairing.partner)
            if way.is_lost:
                partner = site.topology.holders(pairing.partner)[0].device
                yield self.finding(
                    f"{pool.server} doesn't reach {partner}, its partner in {pool.name}, at "
                    f"{format_address(pairing.partner)}: {way.why(pairing.partner)}",
                    pool.server_path,
                    Witness(
                        "answered-twice",
                        pool.name,
                        pool.assignable.first if pool.assignable else None,
                        servers=(str(pool.server), partner),
                    ),
                )


def _partner_named(site: Site, pool: Pool) -> str | None:
    """The known device that a pool's server names as its partner by an address."""
    partner = pool.serving.partner_at if pool.serving else None
    holders = site.topology.holders(partner) if partner is not None else ()
    return next((holder.device for holder in holders), None)
