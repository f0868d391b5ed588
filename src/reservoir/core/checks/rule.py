"""What a rule is, what it sees, and how the rules are found."""

from __future__ import annotations

import datetime
import importlib
import inspect
import pkgutil
import re
from abc import ABC, abstractmethod
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from functools import cache, cached_property
from typing import ClassVar, Literal

from reservoir.core.behaviour import DeviceBehaviour, never_assigned
from reservoir.core.findings import Finding, Obstacle, Severity, Witness
from reservoir.core.plan.edits import Edit
from reservoir.core.plan.model import Plan, PlanPath
from reservoir.core.pools import Pool, Pools
from reservoir.core.routing import Routing
from reservoir.core.topology import Topology
from reservoir.core.values.address_set import AddressSet
from reservoir.core.wording import hint, shown


@dataclass(frozen=True, eq=False)
class Site:
    """What the rules look at: the plan, its pools and topology, how the devices behave.

    Compared by identity, so that what several rules derive from it can be cached.
    """

    pools: Pools
    today: datetime.date
    obstacles: tuple[Obstacle, ...] = ()
    behaviours: Mapping[str, DeviceBehaviour] = field(default_factory=dict)
    """How each device behaves whose dialect is known."""
    complete: bool = True
    """Whether all relevant devices are known; else a missing device may just be unknown."""
    found: tuple[Finding, ...] = ()
    """What the other rules have found; only rules that come last see it."""

    @property
    def plan(self) -> Plan:
        """The plan itself."""
        return self.pools.plan

    @property
    def topology(self) -> Topology:
        """Who reaches whom."""
        return self.pools.topology

    @cached_property
    def routing(self) -> Routing:
        """Where packets go by the devices' routes."""
        return Routing(self.pools, is_complete=self.complete)

    def never_assigned(self, pool: Pool) -> AddressSet:
        """Addresses in a network that its server holds, and so never assigns."""
        return never_assigned(pool, self.topology, self.behaviours)

    def behaviour(self, device: str | None) -> DeviceBehaviour | None:
        """How a device behaves; None if its dialect isn't known."""
        return self.behaviours.get(device or "")


class Rule(ABC):
    """One rule. Its name is its class's name; its family is that of its file or folder.

    The docstring is its manual: the first line says what is wrong, ``Why:`` why that matters,
    ``Remedy:`` how to fix it. The example is a plan (without the line ``reservoir: 1``), or a
    device's configuration where ``dialect`` says in which; before that may stand a plan, or another
    device's configuration, with ``---`` between. It is written as a difference: the rule reports it
    with the lines that begin with ``-``, and not with those that begin with ``+``. The tests check
    both, ``explain`` shows them.
    """

    severity: ClassVar[Severity]
    example: ClassVar[str]
    dialect: ClassVar[str] = ""
    """The dialect of the example, if it is configuration and no plan."""
    # Cause and consequence, mostly in the vocabulary :data:`WRONG` of things that may be wrong.
    blames: ClassVar[tuple[str, ...]] = ()
    """What its findings say is wrong."""
    rests_on: ClassVar[tuple[str, ...]] = ()
    """What it takes for known: if that is blamed on the same network, or a line about it was not
    understood, that is the cause of its findings."""
    rests_here: ClassVar[tuple[str, ...]] = ()
    """The same of what is blamed at the same place or interface."""
    rests_at: ClassVar[tuple[str, ...]] = ()
    """The same of what is blamed with the same address as witness."""
    follows: ClassVar[tuple[str, ...]] = ()
    """Rules whose finding on the same network is the cause of this one's, where no word says it."""
    follows_here: ClassVar[tuple[str, ...]] = ()
    """The same of findings at the same place or interface."""
    follows_itself: ClassVar[Literal["", "network", "place"]] = ""
    """Where further findings of the rule follow from the first."""
    is_certain: ClassVar[bool] = False
    """Whether its suggestion, where there is one only, changes what must be wrong to what must have
    been meant, so that ``mend`` may apply it. Not where the manual names two ways, where something
    would be deleted, or where it may as well be another object that is wrong."""
    comes_last: ClassVar[bool] = False
    """Whether it looks at what the other rules have found."""

    @abstractmethod
    def check(self, site: Site) -> Iterator[Finding]:
        """Every place where the rule is broken, in the plan's order."""

    @cached_property
    def name(self) -> str:
        """The rule's name: ``GatewayInPool`` is ``gateway-in-pool``."""
        return re.sub("(?<!^)(?=[A-Z])", "-", type(self).__name__).lower()

    @cached_property
    def family(self) -> str:
        """The family: the name of the file, or of the folder of files, that the rule is in."""
        return type(self).__module__.removeprefix(f"{PACKAGE}.").partition(".")[0]

    @cached_property
    def failing(self) -> str:
        """The example that the rule reports."""
        return self._example_without("+")

    @cached_property
    def passing(self) -> str:
        """The same example, correct."""
        return self._example_without("-")

    def _example_without(self, sign: str) -> str:
        lines = inspect.cleandoc(self.example).split("\n")
        return "\n".join(line[2:] for line in lines if not line.startswith(sign))

    @property
    def manual(self) -> Mapping[str, str]:
        """The docstring's parts: ``summary``, ``why`` and ``remedy``, each one paragraph."""
        text = inspect.cleandoc(type(self).__doc__ or "")
        parts = re.split(r"\n\s*\n(?:(Why|Remedy): )", text)
        named = {"summary": parts[0]} | dict(zip(parts[1::2], parts[2::2], strict=True))
        return {key.lower(): " ".join(part.split()) for key, part in named.items()}

    def finding(
        self,
        message: str,
        at: PlanPath,
        witness: Witness | None = None,
        suggestions: tuple[Edit, ...] = (),
        *,
        severity: Severity | None = None,
        concerns: tuple[str, ...] = (),
        rests_at: PlanPath = (),
        is_certain: bool = True,
    ) -> Finding:
        """A finding of this rule; as severe, and as certain at most, as the rule."""
        return Finding(
            self.name,
            self.family,
            self.severity if severity is None else severity,
            shown(message),
            at,
            witness,
            suggestions,
            concerns=concerns,
            rests_at=rests_at,
            is_certain=self.is_certain and is_certain,
        )


class Obstructed(Rule, ABC):
    """Makes findings of the obstacles that bear its name."""

    def check(self, site: Site) -> Iterator[Finding]:
        for obstacle in site.obstacles:
            if obstacle.rule == self.name:
                found = self.finding(
                    obstacle.message,
                    obstacle.at,
                    obstacle.witness,
                    obstacle.suggestions,
                    severity=obstacle.severity,
                )
                yield found._replace(states=obstacle.states)


def replaced(path: PlanPath, old: object, new: object | None) -> tuple[Edit, ...]:
    """The suggestion to write ``new`` for ``old``; none without a new value."""
    return () if new is None else (Edit(path, str(old), str(new)),)


PACKAGE = "reservoir.core.checks"

WRONG = frozenset((
    # Fields and kinds of what is configured:
    "active", "address", "admits", "binding", "dns", "domain", "exclusion", "gateway", "interface",
    "lease", "next_server", "option", "pool", "range", "relay_to", "resolvers", "route", "service",
    "subnet", "vlan", "zone", "class", "partner", "leads", "after",
    # Networks that overlap, an interface in the wrong network, an address with two holders, no
    # server, the size of the subnet:
    "networks", "placement", "holder", "server", "size",
))  # fmt: skip
"""What rules can blame, and rest on."""

FIRST = (
    "ranges", "gateways", "statics", "bindings", "classes", "paths", "options", "capacity",
    "limits",
)  # fmt: skip
"""The families in the order in which a person would fix things; others come after these."""


@cache
def families() -> tuple[str, ...]:
    """The families that there are, in the order in which a person would fix things."""
    there = dict.fromkeys(sorted(rule.family for rule in rules().values()))
    return (*(f for f in FIRST if f in there), *(f for f in there if f not in FIRST))


def _require_known_words(rule: Rule, known: Mapping[str, Rule]) -> None:
    """Refuse a rule whose cause nobody could ever find.

    Raises:
        ValueError: it names a rule that there isn't, or a word that isn't in :data:`WRONG`.
    """
    words = (*rule.blames, *rule.rests_on, *rule.rests_here, *rule.rests_at)
    for word, among in (
        *((word, WRONG) for word in words),
        *((name, known) for name in (*rule.follows, *rule.follows_here)),
    ):
        if word not in among:
            raise ValueError(f"{rule.name} names {word!r}, which is not known{hint(word, among)}")


@cache
def rules() -> Mapping[str, Rule]:
    """Every rule by name: all concrete rules in the files of this folder and below.

    Raises:
        ValueError: a rule names a cause that there can't be.
    """
    found: dict[str, Rule] = {}
    package = importlib.import_module(PACKAGE)
    for module_info in pkgutil.walk_packages(package.__path__, f"{PACKAGE}."):
        module = importlib.import_module(module_info.name)
        for kind in vars(module).values():
            if (
                isinstance(kind, type)
                and issubclass(kind, Rule)
                and hasattr(kind, "severity")  # a base of rules has none
                and kind.__module__ == module.__name__
            ):
                rule = kind()
                found[rule.name] = rule
    for rule in found.values():
        _require_known_words(rule, found)
    return found
