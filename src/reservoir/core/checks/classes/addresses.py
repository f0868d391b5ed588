"""Classes and addresses: whose ranges are shared, who is left without one."""

from __future__ import annotations

from collections.abc import Iterator
from functools import reduce
from itertools import combinations

from reservoir.core.by_class import ClassPool
from reservoir.core.checks.classes.members import told_apart
from reservoir.core.checks.rule import Rule, Site
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.pools import Pool
from reservoir.core.values.address_set import EMPTY, AddressSet
from reservoir.core.values.addresses import format_address
from reservoir.core.values.client_classes import nobody_says


class ClassRangesOverlap(Rule):
    """Two classes have addresses of their own in common.

    Why: A range of a class is for its members alone; here clients of both may get the address, so a
    rule for one kind, in a firewall or a log, meets the other.

    Remedy: Give each class its own range, or both none.
    """

    severity = Severity.WARNING
    rests_on = ("range",)
    example = """
          classes: {phones: {vendor_class: "harbour-phone*"}, cameras: {mac: "00:00:5e:*"}}
          networks:
            deck:
              subnet: 10.84.30.0/24
              ranges: [10.84.30.20-10.84.30.99]
              by_class:
                phones: {ranges: [10.84.30.100-10.84.30.149]}
        -       cameras: {ranges: [10.84.30.140-10.84.30.199]}
        +       cameras: {ranges: [10.84.30.150-10.84.30.199]}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for pools, by_class in told_apart(site):
            own = [its for its in by_class.classes if its.ranges is not None]
            for one, other in combinations(own, 2):
                shared = (one.ranges or EMPTY) & (other.ranges or EMPTY)
                if shared:
                    yield self.finding(
                        f"the ranges of classes {one.name} and {other.name} in {pools[0].name} "
                        f"share {shared}",
                        (*other.path, "ranges"),
                        Witness(
                            "assigned",
                            pools[0].name,
                            shared.first,
                            member_of=other.name,
                            because="class-too",
                            also=one.name,
                        ),
                    )


class ClassWithoutAddresses(Rule):
    """A network admits a class and has no address for its members.

    Why: They ask, and no server has an address for them.

    Remedy: Give the class a range, or leave its ranges out: then it gets what the others get.
    """

    severity = Severity.ERROR
    rests_on = ("range", "exclusion", "subnet", "server")
    follows = ("pool-empty", "exclusion-swallows-range", "range-outside-subnet")
    example = """
          classes: {phones: {vendor_class: "harbour-phone*"}}
          networks:
            deck:
              subnet: 10.84.30.0/24
              ranges: [10.84.30.20-10.84.30.99]
        -     by_class: {phones: {ranges: [10.84.30.20-10.84.30.29]}}
        +     by_class: {phones: {ranges: [10.84.30.40-10.84.30.49]}}
              exclusions: [10.84.30.20-10.84.30.39]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for pools, by_class in told_apart(site):
            for place, its in enumerate(by_class.classes):
                there = reduce(AddressSet.__or__, (_at(pool, place).assignable for pool in pools))
                if not its.is_admitted or there:
                    continue
                reason = (
                    "it has no range of its own, and all of the network's are other classes'"
                    if its.ranges is None
                    else "every address of its ranges is excluded, bound or no server's"
                )
                yield self.finding(
                    f"{pools[0].name} has no address for clients of class {its.name}: {reason}",
                    its.path,
                    Witness("refused", pools[0].name, count=1, member_of=its.name),
                )


def _at(pool: Pool, place: int) -> ClassPool:
    assert pool.by_class is not None  # the pools of a network tell the same classes apart
    return pool.by_class.classes[place]


class OthersWithoutAddresses(Rule):
    """All addresses of a network are some class's, and it admits everybody.

    Why: Clients of no class ask, and no server has an address for them.

    Remedy: Give the network a range beside its classes', or name in `admits` whom it serves.
    """

    severity = Severity.WARNING
    rests_on = ("range", "exclusion")
    follows = ("pool-empty",)
    example = """
          classes: {phones: {vendor_class: "harbour-phone*"}}
          networks:
            deck:
              subnet: 10.84.30.0/24
              ranges: [10.84.30.20-10.84.30.99]
              by_class: {phones: {ranges: [10.84.30.20-10.84.30.99]}}
        +     admits: [phones]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for pools, by_class in told_apart(site):
            served = reduce(AddressSet.__or__, (pool.assignable for pool in pools))
            common = reduce(AddressSet.__or__, (pool.common for pool in pools))
            words = [its.words for its in by_class.classes]
            if not by_class.admits_others or common or not served or nobody_says(words) is None:
                continue
            some = format_address(served.first)
            yield self.finding(
                f"clients of no class get no address in {pools[0].name}: all that it assigns, from "
                f"{some} on, is for its classes",
                (*pools[0].path, "by_class"),
                Witness("refused", pools[0].name, count=1),
            )
