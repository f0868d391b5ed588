"""What a rule is, what it sees, and how the rules are found."""

from __future__ import annotations

import importlib
import inspect
import pkgutil
import re
from abc import ABC, abstractmethod
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from functools import cache
from typing import ClassVar

from reservoir.core.findings import Finding, Obstacle, Severity, Suggestion, Witness
from reservoir.core.lending import Lending
from reservoir.core.plan import Plan, PlanPath


@dataclass(frozen=True)
class Site:
    """What the rules look at: the plan, what follows from it, what the devices can't hold."""

    lending: Lending
    obstacles: tuple[Obstacle, ...] = ()

    @property
    def plan(self) -> Plan:
        """The plan itself."""
        return self.lending.plan


class Rule(ABC):
    """One rule. Its name is its class's name; its family is its file's; its docstring its manual.

    The docstring's first line says what is wrong, ``Why:`` why that matters, ``Remedy:`` how to
    put it right. ``failing`` and ``passing`` are plans (without the line ``reservoir: 1``); the
    tests check both, ``explain`` shows them.
    """

    severity: ClassVar[Severity]
    failing: ClassVar[str]
    passing: ClassVar[str]
    follows: ClassVar[tuple[str, ...]] = ()
    """Rules whose finding on the same network is the cause of this one's."""
    follows_here: ClassVar[tuple[str, ...]] = ()
    """Rules whose finding at the very same place is the cause of this one's."""

    @abstractmethod
    def check(self, site: Site) -> Iterator[Finding]:
        """Every place where the rule is broken, in the plan's order."""

    @property
    def name(self) -> str:
        """The rule's name: ``GatewayLendable`` is ``gateway-lendable``."""
        return re.sub("(?<!^)(?=[A-Z])", "-", type(self).__name__).lower()

    @property
    def family(self) -> str:
        """The family: the name of the file that the rule stands in."""
        return type(self).__module__.rpartition(".")[2]

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
        suggestions: tuple[Suggestion, ...] = (),
    ) -> Finding:
        """A finding of this rule."""
        return Finding(self.name, self.family, self.severity, message, at, witness, suggestions)


@cache
def rules() -> Mapping[str, Rule]:
    """Every rule by name: all concrete rules in the files of this folder."""
    found: dict[str, Rule] = {}
    package = importlib.import_module("reservoir.core.checks")
    for module_info in pkgutil.iter_modules(package.__path__):
        module = importlib.import_module(f"{package.__name__}.{module_info.name}")
        for kind in vars(module).values():
            if (
                isinstance(kind, type)
                and issubclass(kind, Rule)
                and hasattr(kind, "severity")  # a base of rules has none
                and kind.__module__ == module.__name__
            ):
                rule = kind()
                found[rule.name] = rule
    return found
