"""Classes: that somebody can be in, that no other takes first, whose members are served."""

from __future__ import annotations

from collections.abc import Iterator, Sequence

from reservoir.core.by_class import ByClass, ClassPool
from reservoir.core.checks.rule import Rule, Site
from reservoir.core.findings import Finding, Severity, Witness
from reservoir.core.pools import Pool
from reservoir.core.values.client_classes import member_of
from reservoir.core.wording import listed


def told_apart(site: Site) -> Iterator[tuple[list[Pool], ByClass]]:
    """The pools of each network that tells classes apart, and what its first server does."""
    for pools in site.pools.by_network:
        if pools[0].by_class is not None:
            yield pools, pools[0].by_class


class ClassNeverMatches(Rule):
    """No client can be in a class.

    Why: What the plan says of its members is for nobody; the machines that were meant are served as
    all others.

    Remedy: Correct the words: the MAC address of a machine begins with an even byte.
    """

    severity = Severity.ERROR
    blames = ("class",)
    example = """
        - classes: {cameras: {mac: "01:00:5e:*"}}
        + classes: {cameras: {mac: "00:00:5e:*"}}
          networks:
            deck:
              subnet: 10.84.30.0/24
              ranges: [10.84.30.20-10.84.30.99]
              by_class: {cameras: {lease: 7d}}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for name, kin in site.plan.classes.items():
            if member_of(kin.words, ()) is None:
                networks = [n for n, network in site.plan.networks.items() if network.knows(name)]
                yield self.finding(
                    f"no client can be in class {name}: its MAC address would be that of a group",
                    ("classes", name, "mac"),
                    Witness("never-a-member", next(iter(networks), None), value=name),
                    concerns=tuple(networks),
                )


class ClassShadowed(Rule):
    """The members of a class are all taken for those of a class before it.

    Why: A client is of the first class that it matches; what the later one gets, nobody ever does.

    Remedy: Put the narrower class first.
    """

    severity = Severity.WARNING
    rests_on = ("class",)
    example = """
          classes:
            phones: {vendor_class: "harbour-*"}
            desk-phones: {vendor_class: "harbour-desk*"}
          networks:
            deck:
              subnet: 10.84.30.0/24
              ranges: [10.84.30.20-10.84.30.99]
        -     by_class: {phones: {lease: 2d}, desk-phones: {lease: 7d}}
        +     by_class: {desk-phones: {lease: 7d}, phones: {lease: 2d}}
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for pools, by_class in told_apart(site):
            for place, its in enumerate(by_class.classes):
                alone = member_of(its.words, ())
                if alone is None or member_of(its.words, by_class.before(place)) is not None:
                    continue
                first = next(other for other in by_class.classes if other.words.matches(alone))
                takers = _takers(by_class.classes[:place], its)
                yield self.finding(
                    f"every client of class {its.name} is taken for one of {listed(takers)}, "
                    f"which {pools[0].name} tries first",
                    its.path,
                    Witness("other-class", pools[0].name, also=first.name, member_of=its.name),
                )


def _takers(before: Sequence[ClassPool], its: ClassPool) -> list[str]:
    """The classes that together take all members of one: those without which some would be left."""
    needed = [
        other.name
        for other in before
        if member_of(its.words, [c.words for c in before if c is not other]) is not None
    ]
    alone = member_of(its.words, ())
    first = (other.name for other in before if alone is not None and other.words.matches(alone))
    return needed or [*first][:1]


class ClassNotAdmitted(Rule):
    """A network says what members of a class get, and doesn't admit them.

    Why: They are not served there, so nobody gets it.

    Remedy: Add the class to `admits`, or remove it from `by_class`.
    """

    severity = Severity.WARNING
    example = """
          classes: {phones: {vendor_class: "harbour-phone*"}, efi: {architecture: [7]}}
          networks:
            deck:
              subnet: 10.84.30.0/24
              ranges: [10.84.30.20-10.84.30.99]
              by_class: {phones: {lease: 2d}, efi: {lease: 1h}}
        -     admits: [phones]
        +     admits: [phones, efi]
    """

    def check(self, site: Site) -> Iterator[Finding]:
        for pools, by_class in told_apart(site):
            for its in by_class.classes:
                if not its.is_admitted:
                    yield self.finding(
                        f"{pools[0].name} says what clients of class {its.name} get, and doesn't "
                        "admit them",
                        its.path,
                        Witness("unanswered", pools[0].name, member_of=its.name),
                    )
